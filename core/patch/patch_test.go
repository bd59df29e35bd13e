package patch

import (
	"context"
	"iter"
	"math"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/spill"
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

// traced is a patch whose outline has been read.
type traced struct {
	Patch
	Polygons [][]ring
}

type ring = [][2]int32

func find(t *testing.T, s raster.Source, eight bool) []*traced {
	t.Helper()
	return findAs(t, Request{Source: s, Eight: eight})
}

func findAs(t *testing.T, req Request) (out []*traced) {
	t.Helper()
	req.Keep = func(float64) bool { return true }
	req.Found = func(p *Patch) error {
		q := &traced{Patch: *p}
		require.NoError(t, p.Rings(func(shell bool, n int64, points iter.Seq[[2]int32]) error {
			r := slices.Collect(points)
			require.Len(t, r, int(n))
			if shell {
				q.Polygons = append(q.Polygons, nil)
			}
			k := len(q.Polygons) - 1
			q.Polygons[k] = append(q.Polygons[k], r)
			return nil
		}))
		require.Len(t, q.Polygons, p.Polygons)
		out = append(out, q)
		return nil
	}
	_, err := Find(context.Background(), req)
	require.NoError(t, err)
	return out
}

// holds reports whether a cell lies in the patch: whether a line from it to the right crosses its border an odd
// number of times.
func (p *traced) holds(col, row int) bool {
	inside := false
	for _, polygon := range p.Polygons {
		for _, r := range polygon {
			for i, a := range r {
				b := r[(i+1)%len(r)]
				if a[0] == b[0] && int(a[0]) > col && int(min(a[1], b[1])) <= row && row < int(max(a[1], b[1])) {
					inside = !inside
				}
			}
		}
	}
	return inside
}

// twiceArea is twice the area of a ring, positive when it runs clockwise on the screen, as shells do.
func twiceArea(r ring) (sum int64) {
	for i, p := range r {
		q := r[(i+1)%len(r)]
		sum += int64(p[0])*int64(q[1]) - int64(q[0])*int64(p[1])
	}
	return sum
}

func by(list []*traced, col, row int) *traced {
	for _, p := range list {
		if p.holds(col, row) {
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
	assert.Equal(t, []ring{
		{{0, 0}, {5, 0}, {5, 2}, {7, 2}, {7, 4}, {5, 4}, {5, 5}, {0, 5}},
		{{1, 1}, {1, 4}, {4, 4}, {4, 1}},
	}, canonical(frame.Polygons[0]))
	assert.EqualValues(t, 4, by(got, 6, 1).Cells)
	assert.Nil(t, by(got, 1, 1))
}

// canonical begins each ring at its least point.
func canonical(p []ring) []ring {
	for i, r := range p {
		k := 0
		for j, q := range r {
			if q[1] < r[k][1] || q[1] == r[k][1] && q[0] < r[k][0] {
				k = j
			}
		}
		p[i] = append(append(ring{}, r[k:]...), r[:k]...)
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
		for _, way := range []struct{ eight, reversed, spilt bool }{{false, false, false}, {true, true, false}, {false, true, true}, {true, false, true}} {
			label := flood(rows, way.eight)
			if way.spilt {
				little(t)
			}
			got := findAs(t, Request{Source: s, Eight: way.eight, Reversed: way.reversed, Dir: t.TempDir(), Room: 100})
			names := map[*traced]int{}
			sum, cells := 0.0, int64(0)
			for _, p := range got {
				names[p] = label[p.First[1]][p.First[0]]
				sum += p.Area
				cells += p.Cells
				enclosed := int64(0)
				for _, polygon := range p.Polygons {
					for i, r := range polygon {
						a := twiceArea(r)
						if way.reversed {
							a = -a
						}
						require.Equal(t, i == 0, a > 0)
						enclosed += a / 2
						seen := map[[2]int32]bool{}
						for _, q := range r {
							require.False(t, seen[q], "a ring touches itself")
							seen[q] = true
						}
						for k, q := range r { // every point is a corner
							b, e := r[(k+len(r)-1)%len(r)], r[(k+1)%len(r)]
							require.True(t, (b[0] == q[0]) == (e[1] == q[1]) && (b[1] == q[1]) == (e[0] == q[0]))
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

// little makes nearly everything wait in pieces of ropes, and edges be sorted in parts.
func little(t *testing.T) {
	piece, sorted, linked := ropePiece, sortedAtOnce, linkedAtOnce
	t.Cleanup(func() { ropePiece, sortedAtOnce, linkedAtOnce = piece, sorted, linked })
	ropePiece, sortedAtOnce, linkedAtOnce = 3, 7, 3
}

// Outlines that are linked in memory are those that are traced, ring by ring and point by point.
func TestLinkedIsTraced(t *testing.T) {
	rng := rand.New(rand.NewPCG(9, 1))
	for trial := range 40 {
		w, h := 2+rng.IntN(60), 2+rng.IntN(60)
		var rows []string
		for range h {
			var b strings.Builder
			for range w {
				b.WriteByte("0011111"[rng.IntN(2+trial%6)])
			}
			rows = append(rows, b.String())
		}
		s := source(t, 3035, rows...)
		req := Request{Source: s, Eight: trial%2 == 0, Reversed: trial%4 < 2}
		linked := findAs(t, req)
		before := linkedAtOnce
		linkedAtOnce = 0
		traced := findAs(t, req)
		linkedAtOnce = before
		require.Equal(t, len(traced), len(linked))
		for i, p := range traced {
			require.Equal(t, p.ID, linked[i].ID)
			require.Equal(t, p.Polygons, linked[i].Polygons)
			require.Zero(t, p.Edges())
		}
	}
}

// A rope is the list that the same steps make of a slice.
func TestRopes(t *testing.T) {
	little(t)
	rng := rand.New(rand.NewPCG(5, 5))
	s := &ropes{store: spill.Store{Dir: t.TempDir(), Room: 64}}
	defer s.store.Close()
	ropes, lists := make([]rope, 6), make([][]point, 6)
	for step := range int32(4000) {
		i, j := rng.IntN(6), rng.IntN(6)
		switch rng.IntN(8) {
		case 0, 1, 2:
			require.NoError(t, s.push(&ropes[i], point{step, -step}))
			lists[i] = append(lists[i], point{step, -step})
		case 3, 4, 5:
			require.NoError(t, s.unshift(&ropes[i], point{step, 7}))
			lists[i] = slices.Insert(lists[i], 0, point{step, 7})
		case 6:
			if i != j {
				require.NoError(t, s.join(&ropes[i], &ropes[j]))
				lists[i], lists[j] = append(lists[i], lists[j]...), nil
			}
		case 7:
			var got []point
			r := s.read(&ropes[i])
			for p, ok, err := r.get(); ok; p, ok, err = r.get() {
				require.NoError(t, err)
				got = append(got, p)
			}
			require.Equal(t, lists[i], got)
			require.EqualValues(t, len(lists[i]), ropes[i].n)
		}
	}
}

// What the temporary file cannot take is an error, and what has been written is removed.
func TestWithoutRoom(t *testing.T) {
	little(t)
	s := source(t, 3035, "10101", "11111", "10101")
	_, err := Find(context.Background(), Request{Source: s, Keep: func(float64) bool { return true }, Dir: t.TempDir() + "/none", Room: 1, Found: func(*Patch) error { return nil }})
	assert.ErrorContains(t, err, "no such file")
	dir := t.TempDir()
	findAs(t, Request{Source: s, Dir: dir, Room: 1})
	left, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Empty(t, left)
}

func TestOnlyThePatchAtAPlace(t *testing.T) {
	s := source(t, 3035, "1101", "0001", "2221")
	rows := 0
	s.Block = 1
	got := findAs(t, Request{Source: s, At: &[2]int{3, 0}})
	require.Len(t, got, 1)
	assert.EqualValues(t, 3, got[0].Cells)
	assert.Equal(t, raster.Window{Col: 3, Row: 0, Width: 1, Height: 3}, got[0].Bounds)
	assert.Empty(t, findAs(t, Request{Source: s, At: &[2]int{2, 0}}))
	small, err := Find(context.Background(), Request{Source: s, Least: 201, Keep: func(float64) bool { return true }, Found: func(p *Patch) error {
		rows++
		return nil
	}})
	require.NoError(t, err)
	assert.Equal(t, 1, small)
	assert.Equal(t, 2, rows)
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
	smooth := slices.Collect(Smooth(slices.Values(canonical(got[0].Polygons[0])[0])))
	assert.Equal(t, [][2]float64{{0.5, 0}, {1.5, 0}, {2, 0.5}, {2, 1.5}, {1.5, 2}, {0.5, 2}, {0, 1.5}, {0, 0.5}}, smooth)
	for _, p := range smooth {
		assert.False(t, math.IsNaN(p[0]))
	}
}

func TestStopping(t *testing.T) {
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	_, err := Find(ctx, Request{Source: source(t, 3035, "11", "11"), Keep: func(float64) bool { return true }, Found: func(*Patch) error { return nil }})
	assert.ErrorIs(t, err, context.Canceled)
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

// A small piece whose neighbour is small too joins it; what they are together is folded again while it is too small.
func TestFoldUntilNoneIsLeft(t *testing.T) {
	for _, c := range []struct {
		name       string
		rows, want []string
		found      int
	}{
		{"two that would swap", []string{"00000", "01200", "00000"}, []string{"00000", "02200", "00000"}, 1},
		{"a chain", []string{"111111", "123411", "111111"}, []string{"111111", "111111", "111111"}, 3},
		{"together large enough", []string{"0000000", "0122200", "0000000"}, []string{"0000000", "0222200", "0000000"}, 1},
		{"folded twice", []string{"000000", "213333", "000000"}, []string{"000000", "333333", "000000"}, 2},
	} {
		f, err := Fold(context.Background(), source(t, 3035, c.rows...), 390, nil) // under four cells
		require.NoError(t, err)
		var cells raster.Cells
		require.NoError(t, f.NewReader().Read(raster.Window{Width: len(c.rows[0]), Height: len(c.rows)}, &cells))
		var got []string
		for r := range c.rows {
			line := ""
			for k := range c.rows[0] {
				line += string(rune('0' + int(cells.At(k, r))))
			}
			got = append(got, line)
		}
		assert.Equal(t, c.want, got, c.name)
		assert.Equal(t, c.found, f.Found, c.name)
	}
}

// Borders are compared by neighbour, not by class: two pieces of class 2 that touch on either side are no longer than each of them, unless
// they are one further away.
func TestFoldByNeighbourInMetres(t *testing.T) {
	fold := func(code int, rows ...string) string {
		f, err := Fold(context.Background(), source(t, code, rows...), 150, nil)
		require.NoError(t, err)
		var c raster.Cells
		require.NoError(t, f.NewReader().Read(raster.Window{Width: len(rows[0]), Height: len(rows)}, &c))
		out := ""
		for r := range rows {
			for k := range rows[0] {
				out += string(rune('0' + int(c.At(k, r))))
			}
			out += "\n"
		}
		return out
	}
	// Left and right of the 5 lie two pieces of 2, of one side each; a third piece, of 3, has two sides. By class both have two, and the
	// lower code would win.
	assert.Equal(t, "22322\n22322\n22322\n33333\n22322\n", fold(3035, "22322", "22322", "22522", "33333", "22322"))
	// The same, but the pieces of 2 are one around the 3: now they have two sides, and the lower code wins.
	assert.Equal(t, "2222222\n2233322\n2222222\n2233322\n2222222\n", fold(3035, "2222222", "2233322", "2225222", "2233322", "2222222"))
	// In degrees the upright side of a cell at 60° north is twice as long as the level one, towards the lower code.
	wgs, err := earth.Lookup(4326)
	require.NoError(t, err)
	g := raster.Grid{Width: 5, Height: 3, X0: 12, Y0: 60, DX: 1e-4, DY: -1e-4, CRS: wgs}
	rows := []string{"11111", "22544", "11111"}
	f, err := Fold(context.Background(), raster.NewFunc(raster.Header{Grid: g, Type: raster.Uint8}, func(c, r int) float64 { return float64(rows[r][c] - '0') }), 100, nil)
	require.NoError(t, err)
	var c raster.Cells
	require.NoError(t, f.NewReader().Read(raster.Window{Row: 1, Width: 5, Height: 1}, &c))
	assert.Equal(t, []uint8{2, 2, 2, 4, 4}, c.U8[:5])
}
