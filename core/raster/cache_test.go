package raster

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// counted counts the reads of blocks.
type counted struct {
	*Func
	reads map[Window]int
}

func (c *counted) NewReader() Reader { return c }

func (c *counted) Read(w Window, dst *Cells) error {
	c.reads[w]++
	return c.Func.Read(w, dst)
}

func TestCacheReadsEachBlockOnceAndForgets(t *testing.T) {
	g := utmHere(t, 160, 160)
	s := &counted{tileHere(g, "s", Uint8, Window{0, 0, 160, 160}, 32, nil, patternHere), map[Window]int{}}
	c := Cached(s, 1<<20)
	want := allHere(t, s.Func, 160)
	assert.Equal(t, want, allHere(t, c, 50))
	assert.Len(t, s.reads, 25)
	for w, n := range s.reads {
		assert.Equal(t, 1, n, "%v", w)
	}
	small := Cached(s, 3*32*32).(*cached)
	assert.Equal(t, want, allHere(t, small, 50))
	assert.LessOrEqual(t, small.pool.used, 4*32*32)
	assert.Len(t, small.pool.blocks, small.pool.used/(32*32))
}

func TestSummariseAndBorder(t *testing.T) {
	g := utmHere(t, 100, 50)
	none := 0.0
	s := tileHere(g, "s", Int16, Window{0, 0, 100, 50}, 16, &none, func(c, r int) float64 {
		if c == 0 {
			return 0
		}
		return float64(r)
	})
	got, err := Summarise(context.Background(), s, 3, nil)
	require.NoError(t, err)
	assert.Equal(t, Summary{Cells: 99 * 49, NoData: 100 + 49, Least: 1, Most: 49, Mean: 25}, got)
	rim, err := Border(s, false)
	require.NoError(t, err)
	assert.EqualValues(t, 100+49, rim[0])
	corners, err := Border(s, true)
	require.NoError(t, err)
	assert.Equal(t, map[float64]int64{0: 3, 49: 1}, corners)
}

func utmHere(t testing.TB, w, h int) Grid { return Grid{w, h, 500000, 6500000, 30, -30, crs(t, 32633)} }

func tileHere(g Grid, name string, typ CellType, w Window, block int, nodata *float64, f func(c, r int) float64) *Func {
	g.X0, g.Y0 = g.Point(float64(w.Col), float64(w.Row))
	g.Width, g.Height = w.Width, w.Height
	s := NewFunc(Header{Name: name, Grid: g, Type: typ, NoData: nodata}, func(c, r int) float64 { return f(c+w.Col, r+w.Row) })
	s.Block = block
	return s
}

func allHere(t testing.TB, s Source, step int) [][]float64 {
	t.Helper()
	g := s.Header().Grid
	out := make([][]float64, g.Height)
	for i := range out {
		out[i] = make([]float64, g.Width)
	}
	r := s.NewReader()
	var c Cells
	for y := 0; y < g.Height; y += step {
		for x := 0; x < g.Width; x += step {
			w := Window{x, y, min(step, g.Width-x), min(step, g.Height-y)}
			require.NoError(t, r.Read(w, &c))
			for i := range w.Height {
				for k := range w.Width {
					out[y+i][x+k] = c.At(k, i)
				}
			}
		}
	}
	return out
}

func patternHere(c, r int) float64 { return float64((c*7+r*13)%23 + 1) }
