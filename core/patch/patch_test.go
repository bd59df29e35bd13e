package patch

import (
	"context"
	"math"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/raster"
)

func source(t *testing.T, code int, rows ...string) *raster.Func {
	t.Helper()
	crs, err := earth.Lookup(code)
	require.NoError(t, err)
	g := raster.Grid{Width: len(rows[0]), Height: len(rows), X0: 4321000, Y0: 3210000, DX: 10, DY: -10, CRS: crs}
	if code == 32633 {
		g.X0, g.Y0 = 700000, 6500000
	}
	none := 0.0
	return raster.NewFunc(raster.Header{Name: "map", Grid: g, Type: raster.Uint8, NoData: &none}, func(c, r int) float64 { return float64(rows[r][c] - '0') })
}

func find(t *testing.T, s raster.Source, eight bool) (out []*Patch) {
	t.Helper()
	require.NoError(t, Find(context.Background(), Request{Source: s, Eight: eight, Keep: func(float64) bool { return true }, Found: func(p *Patch) error {
		out = append(out, p)
		return nil
	}}))
	return out
}

func by(list []*Patch, col, row int) *Patch {
	for _, p := range list {
		if p.Holds(col, row) {
			return p
		}
	}
	return nil
}

func TestPiecesWithHoles(t *testing.T) {
	s := source(t, 3035,
		"1111122",
		"1000122",
		"1020111",
		"1000111",
		"1111100")
	got := find(t, s, false)
	require.Len(t, got, 3)
	frame := by(got, 0, 0)
	assert.EqualValues(t, 1, frame.Class)
	assert.EqualValues(t, 20, frame.Cells)
	assert.InEpsilon(t, 20*100.0, frame.Area, 1e-12)
	require.Len(t, frame.Polygons, 1)
	assert.Equal(t, Polygon{
		{{0, 0}, {5, 0}, {5, 2}, {7, 2}, {7, 4}, {5, 4}, {5, 5}, {0, 5}},
		{{1, 1}, {1, 4}, {4, 4}, {4, 1}},
	}, canonical(frame.Polygons[0]))
	assert.EqualValues(t, 4, by(got, 6, 1).Cells)
	assert.Nil(t, by(got, 1, 1))
}

// canonical begins each ring at its least point.
func canonical(p Polygon) Polygon {
	for i, r := range p {
		k := 0
		for j, q := range r {
			if q[1] < r[k][1] || q[1] == r[k][1] && q[0] < r[k][0] {
				k = j
			}
		}
		p[i] = append(append(Ring{}, r[k:]...), r[:k]...)
	}
	return p
}

// Cells that touch at a corner are neighbours only where that is wanted; then their outlines still do not touch
// themselves.
func TestCorners(t *testing.T) {
	s := source(t, 3035, "10001", "01010", "00100")
	assert.Len(t, find(t, s, false), 5)
	got := find(t, s, true)
	require.Len(t, got, 1)
	assert.Len(t, got[0].Polygons, 5)
	// Two holes that touch at a corner are two holes.
	got = find(t, source(t, 3035, "1111", "1011", "1101", "1111"), false)
	require.Len(t, got, 1)
	require.Len(t, got[0].Polygons, 1)
	assert.Len(t, got[0].Polygons[0], 3)
	// An island in a lake in an island.
	got = find(t, source(t, 3035, "1111111", "1000001", "1011101", "1010101", "1011101", "1000001", "1111111"), false)
	require.Len(t, got, 2)
	for _, p := range got {
		require.Len(t, p.Polygons, 1)
		assert.Len(t, p.Polygons[0], 2)
	}
}

// On random maps: patches agree with flooding cell by cell; their rings enclose as many cells as they count; and
// the areas of all are those of the cells.
func TestAgainstFlooding(t *testing.T) {
	rng := rand.New(rand.NewPCG(8, 1))
	for trial := range 30 {
		w, h := 3+rng.IntN(40), 3+rng.IntN(90)
		var rows []string
		for range h {
			var b strings.Builder
			for range w {
				b.WriteByte("0112"[rng.IntN(4)])
			}
			rows = append(rows, b.String())
		}
		code := []int{3035, 32633}[trial%2]
		s := source(t, code, rows...)
		s.Block = 7
		areas, err := raster.NewAreas(s.About.Grid)
		require.NoError(t, err)
		for _, eight := range []bool{false, true} {
			label := flood(rows, eight)
			got := find(t, s, eight)
			names := map[*Patch]int{}
			sum, cells := 0.0, int64(0)
			for _, p := range got {
				names[p] = label[p.First[1]][p.First[0]]
				sum += p.Area
				cells += p.Cells
				enclosed := int64(0)
				for _, polygon := range p.Polygons {
					for i, r := range polygon {
						a := twiceArea(r)
						require.Equal(t, i == 0, a > 0)
						enclosed += a / 2
						seen := map[[2]int32]bool{}
						for _, q := range r {
							require.False(t, seen[q], "a ring touches itself")
							seen[q] = true
						}
					}
				}
				require.Equal(t, p.Cells, enclosed)
			}
			want := 0.0
			for r := range rows {
				for c := range rows[r] {
					p := by(got, c, r)
					if rows[r][c] == '0' {
						require.Nil(t, p)
						continue
					}
					require.NotNil(t, p)
					require.Equal(t, label[r][c], names[p])
					a, err := areas.Cell(c, r)
					require.NoError(t, err)
					want += a
				}
			}
			assert.InDelta(t, want, sum, want*1e-12)
		}
	}
}

// flood labels pieces by flooding.
func flood(rows []string, eight bool) [][]int {
	label := make([][]int, len(rows))
	for i := range label {
		label[i] = make([]int, len(rows[0]))
	}
	n := 0
	for r := range rows {
		for c := range rows[r] {
			if rows[r][c] == '0' || label[r][c] > 0 {
				continue
			}
			n++
			stack := [][2]int{{c, r}}
			label[r][c] = n
			for len(stack) > 0 {
				p := stack[len(stack)-1]
				stack = stack[:len(stack)-1]
				for dy := -1; dy <= 1; dy++ {
					for dx := -1; dx <= 1; dx++ {
						x, y := p[0]+dx, p[1]+dy
						if dx == 0 && dy == 0 || !eight && dx*dy != 0 || x < 0 || y < 0 || x >= len(rows[0]) || y >= len(rows) {
							continue
						}
						if rows[y][x] == rows[r][c] && label[y][x] == 0 {
							label[y][x] = n
							stack = append(stack, [2]int{x, y})
						}
					}
				}
			}
		}
	}
	return label
}

func TestSmoothOutlinesCutCorners(t *testing.T) {
	got := find(t, source(t, 3035, "1100", "1100"), false)
	ring := got[0].Smooth()[0][0]
	assert.Equal(t, [][2]float64{{0.5, 0}, {1.5, 0}, {2, 0.5}, {2, 1.5}, {1.5, 2}, {0.5, 2}, {0, 1.5}, {0, 0.5}}, ring)
	for _, p := range ring {
		assert.False(t, math.IsNaN(p[0]))
	}
}

func TestStopping(t *testing.T) {
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	err := Find(ctx, Request{Source: source(t, 3035, "11", "11"), Keep: func(float64) bool { return true }, Found: func(*Patch) error { return nil }})
	assert.ErrorContains(t, err, "stopped")
}

func TestFoldIntoTheLongestNeighbour(t *testing.T) {
	s := source(t, 3035,
		"1111333",
		"1211333",
		"1111343",
		"0001333",
		"5000111")
	f, err := Fold(context.Background(), s, 250, nil) // under three cells of 100 m²
	require.NoError(t, err)
	var c raster.Cells
	var got []string
	for _, w := range []raster.Window{{Width: 3, Height: 5}, {Col: 3, Width: 4, Height: 5}} {
		require.NoError(t, f.NewReader().Read(w, &c))
		for r := range w.Height {
			line := ""
			for k := range w.Width {
				line += string(rune('0' + int(c.At(k, r))))
			}
			if w.Col == 0 {
				got = append(got, line)
			} else {
				got[r] += line
			}
		}
	}
	assert.Equal(t, []string{"1111333", "1111333", "1111333", "0001333", "5000111"}, got)
	assert.Equal(t, 2, f.Found)
	assert.Equal(t, 1, f.Alone) // the 5, among nodata
	assert.InDelta(t, 200, f.Area, 1e-6)
}
