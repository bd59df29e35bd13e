package raster

import (
	"context"
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func utm(t testing.TB, w, h int) Grid { return Grid{w, h, 500000, 6500000, 30, -30, crs(t, 32633)} }

// tile is a part of a grid with the values that f has there.
func tile(g Grid, name string, typ CellType, w Window, block int, nodata *float64, f func(c, r int) float64) *Func {
	g.X0, g.Y0 = g.Point(float64(w.Col), float64(w.Row))
	g.Width, g.Height = w.Width, w.Height
	s := NewFunc(Header{Name: name, Grid: g, Type: typ, NoData: nodata}, func(c, r int) float64 { return f(c+w.Col, r+w.Row) })
	s.Block = block
	return s
}

// all reads a raster in windows that do not lie on its blocks.
func all(t testing.TB, s Source, step int) [][]float64 {
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

func pattern(c, r int) float64 { return float64((c*7+r*13)%23 + 1) }

// Any set of overlapping tiles of one raster, in blocks of any size, is that raster again.
func TestMosaicOfTilesIsTheWhole(t *testing.T) {
	rng := rand.New(rand.NewPCG(4, 2))
	for _, typ := range []CellType{Uint8, Int8, Int16, Uint32, Float32} {
		for trial := range 8 {
			g := utm(t, 150+rng.IntN(60), 120+rng.IntN(60))
			nodata := 0.0
			var tiles []Source
			for y := 0; y < g.Height; {
				h := 20 + rng.IntN(60)
				for x := 0; x < g.Width; {
					w := 20 + rng.IntN(60)
					win := Window{x, y, min(w+rng.IntN(9), g.Width-x), min(h+9, g.Height-y)}
					tiles = append(tiles, tile(g, "t", typ, win, 16+16*rng.IntN(3), &nodata, pattern))
					x += w
				}
				y += h
			}
			for _, o := range []Overlap{Last, First, Majority} {
				m, err := Mosaic(tiles, MosaicOptions{Overlap: o})
				require.NoError(t, err)
				require.NoError(t, m.Header().Grid.Aligned(g))
				require.Equal(t, typ, m.Header().Type)
				got := all(t, m, 9+rng.IntN(70))
				for r := range got {
					for c := range got[r] {
						require.Equal(t, pattern(c, r), got[r][c], "%v trial %d at %d, %d", typ, trial, c, r)
					}
				}
			}
		}
	}
}

func constant(v float64) func(c, r int) float64 { return func(int, int) float64 { return v } }

func TestOverlaps(t *testing.T) {
	g := utm(t, 8, 8)
	none := 9.0
	a := tile(g, "a", Uint8, Window{0, 0, 8, 8}, 8, &none, func(c, r int) float64 {
		if c == 3 {
			return 9
		}
		return 1
	})
	b := tile(g, "b", Uint8, Window{2, 0, 6, 8}, 8, &none, constant(2))
	c := tile(g, "c", Uint8, Window{2, 0, 2, 8}, 8, &none, constant(1))
	for o, want := range map[Overlap][4]float64{ // at columns 0, 2, 3 and 7
		Last: {1, 1, 1, 2}, First: {1, 1, 2, 1}, Majority: {1, 1, 1, 2}, Min: {1, 1, 1, 1}, Max: {1, 2, 2, 2}, Mean: {1, 4. / 3, 1.5, 1.5},
	} {
		src := []Source{a, b, c}
		if o == Mean {
			for i, s := range src {
				f := *s.(*Func)
				f.About.Type = Float64
				src[i] = &f
			}
		}
		m, err := Mosaic(src, MosaicOptions{Overlap: o})
		require.NoError(t, err)
		got := all(t, m, 8)[4]
		assert.Equal(t, want, [4]float64{got[0], got[2], got[3], got[7]}, "%v", o)
	}
}

func TestMosaicReconcilesOrRefuses(t *testing.T) {
	g := utm(t, 8, 8)
	zero, top := 0.0, 255.0
	a := tile(g, "a", Uint8, Window{0, 0, 4, 8}, 8, &zero, func(c, r int) float64 { return float64(c % 2) })
	b := tile(g, "b", Uint8, Window{4, 0, 4, 8}, 8, &top, func(c, r int) float64 { return []float64{255, 3}[c%2] })
	m, err := Mosaic([]Source{a, b}, MosaicOptions{})
	require.NoError(t, err)
	assert.Contains(t, m.Notes[0], "nodata is 0 in a and 255 in b")
	assert.Equal(t, []float64{65535, 1, 65535, 1, 65535, 3, 65535, 3}, all(t, m, 8)[0])
	// 0 is data in b, and 255 in a: both stay what they are.
	a.ValueF = func(c, r int) float64 { return []float64{0, 255}[c%2] }
	b.ValueF = func(c, r int) float64 { return []float64{255, 0}[c%2] }
	m, err = Mosaic([]Source{a, b}, MosaicOptions{})
	require.NoError(t, err)
	assert.Equal(t, []float64{65535, 255, 65535, 255, 65535, 0, 65535, 0}, all(t, m, 8)[0])
	a.ValueF = func(c, r int) float64 { return float64(c % 2) }
	b.ValueF = constant(0)
	// One that declares none takes the other's.
	b.About.NoData = nil
	m, err = Mosaic([]Source{a, b}, MosaicOptions{})
	require.NoError(t, err)
	assert.Contains(t, m.Notes[0], "b declares no nodata value; 0 is taken as nodata there too")
	// Types are widened; ground between tiles is nodata even where none is declared.
	a.About.NoData = nil
	b = tile(g, "b", Int16, Window{6, 0, 2, 8}, 8, nil, constant(-7))
	m, err = Mosaic([]Source{a, b}, MosaicOptions{})
	require.NoError(t, err)
	assert.Equal(t, Int32, m.Header().Type)
	got := all(t, m, 8)[0]
	assert.Equal(t, []float64{0, 1, 0, 1, *m.Header().NoData, *m.Header().NoData, -7, -7}, got)
	// Palettes that disagree are pointed out.
	a.About.Palette, b.About.Palette = []Color{{}, {1, 1, 1}}, []Color{{}, {2, 2, 2}}
	m, err = Mosaic([]Source{a, b}, MosaicOptions{})
	require.NoError(t, err)
	assert.Contains(t, m.Warnings[0], "the value 1 is #010101 in a and #020202 in b")
	for _, o := range []struct {
		change func(*Func)
		want   string
	}{
		{func(f *Func) { f.About.Type = Float32 }, "whole numbers and measurements"},
		{func(f *Func) { f.About.Grid.CRS = crs(t, 32632) }, "a is in EPSG:32633"},
		{func(f *Func) { f.About.Grid.DX = 31 }, "cells of"},
		{func(f *Func) { f.About.Grid.DY = 30 }, "first row in the north"},
		{func(f *Func) { f.About.Grid.X0 += 6 }, "0.200 columns and 0.000 rows off"},
	} {
		odd := tile(g, "odd", Uint8, Window{4, 0, 4, 8}, 8, nil, constant(1))
		o.change(odd)
		_, err := Mosaic([]Source{a, odd}, MosaicOptions{})
		assert.ErrorContains(t, err, o.want)
	}
	near := tile(g, "near", Uint8, Window{4, 0, 4, 8}, 8, nil, constant(1))
	near.About.Grid.X0 += 0.1
	m, err = Mosaic([]Source{a, near}, MosaicOptions{})
	require.NoError(t, err)
	assert.Contains(t, m.Notes[0], "near and perhaps others lie off the grid of a by up to 0.003")
	near.About.Grid.X0 += 11.9
	m, err = Mosaic([]Source{a, near}, MosaicOptions{Resample: true})
	require.NoError(t, err)
	assert.Contains(t, m.Notes[0], "moved to the nearest ones, by up to 0.40 of a cell")
	assert.Equal(t, 1.0, all(t, m, 8)[3][5])
}

func TestExtentCutsAndWidens(t *testing.T) {
	g := utm(t, 40, 30)
	none := 99.0
	s := tile(g, "s", Uint8, Window{0, 0, 40, 30}, 16, &none, pattern)
	h := g
	h.X0, h.Y0 = g.Point(-5, 20)
	h.Width, h.Height = 20, 20
	v, err := Extent(s, h)
	require.NoError(t, err)
	got := all(t, v, 7)
	for r := range got {
		for c := range got[r] {
			want := none
			if c >= 5 && r < 10 {
				want = pattern(c-5, r+20)
			}
			require.Equal(t, want, got[r][c])
		}
	}
}

// Onto its own grid nothing changes; half a grid's cells off, the cell behind the border is the nearest.
func TestAlignOntoTheSameAndHalfwayGrids(t *testing.T) {
	g := utm(t, 70, 50)
	none := 99.0
	s := tile(g, "s", Uint8, Window{0, 0, 70, 50}, 16, &none, pattern)
	for _, how := range []Resample{Nearest, Heaviest} {
		a, err := Align(s, g, how)
		require.NoError(t, err)
		assert.Equal(t, all(t, s, 64), all(t, a, 33), "%v", how)
		m := a.Moves()
		assert.EqualValues(t, 3500, m.Cells)
		assert.Zero(t, m.Greatest)
	}
	h := g
	h.X0 += 15
	h.Y0 -= 15
	a, err := Align(s, h, Nearest)
	require.NoError(t, err)
	got := all(t, a, 70)
	assert.Equal(t, pattern(11, 21), got[20][10])
	assert.Equal(t, none, got[49][69])
	assert.InDelta(t, math.Sqrt(0.5), a.Moves().Greatest, 1e-12)
}

// Across CRSs each cell is the one that its centre lies in, found point by point; and windows make no
// difference.
func TestAlignAcrossCRSs(t *testing.T) {
	src := Grid{400, 300, 12.3, 58.4, 0.0004, -0.0002, crs(t, 4326)}
	none := 99.0
	s := tile(src, "s", Uint8, Window{0, 0, 400, 300}, 64, &none, pattern)
	g := Grid{330, 250, 344000, 6476000, 29, -29, crs(t, 32633)}
	a, err := Align(s, g, Nearest)
	require.NoError(t, err)
	got := all(t, a, 250)
	assert.Equal(t, got, all(t, a, 37))
	wrong := 0
	for r := range got {
		for c := range got[r] {
			lon, lat, ok := g.CRS.ToGeographic(g.Point(float64(c)+0.5, float64(r)+0.5))
			require.True(t, ok)
			x, y := src.Cell(lon*180/math.Pi, lat*180/math.Pi)
			want := none
			if x >= 0 && y >= 0 && x < 400 && y < 300 {
				want = pattern(int(x), int(y))
			}
			if want != got[r][c] {
				wrong++
			}
		}
	}
	assert.Zero(t, wrong, "of %d cells", 330*250)
}

func TestMajorityByArea(t *testing.T) {
	g := utm(t, 6, 6)
	values := [6][6]float64{{1, 1, 2, 9, 5, 5}, {2, 2, 2, 9, 5, 6}, {3, 3, 1, 1, 6, 6}, {1, 2, 1, 1, 6, 6}, {4, 4, 4, 9, 9, 9}, {4, 4, 4, 9, 9, 9}}
	none := 9.0
	s := tile(g, "s", Uint8, Window{0, 0, 6, 6}, 6, &none, func(c, r int) float64 { return values[r][c] })
	h := g
	h.DX, h.DY, h.Width, h.Height = 90, -90, 2, 2
	a, err := Align(s, h, Heaviest)
	require.NoError(t, err)
	// Upper left: 1 ×3, 2 ×4, 3 ×2. Upper right: 5 ×3, 6 ×3 and the centre is 5; 9 is nodata.
	// Lower left: 4 ×6. Lower right: 6 ×2, 1 ×1 and no data ×6.
	assert.Equal(t, [][]float64{{2, 5}, {4, 9}}, all(t, a, 2))
	// Cells of 1.5: shares of halves and quarters. Column 1 of row 0 covers half of column 1, all of 2.
	h.DX, h.DY, h.Width, h.Height = 45, -45, 4, 4
	a, err = Align(s, h, Heaviest)
	require.NoError(t, err)
	assert.Equal(t, 2.0, all(t, a, 4)[0][1])
	// Cells taller than the raster, half a cell east of its own and 3 m south: of the first, 0.38 have no data and 0.18 lie beyond it.
	row := g
	row.Width, row.Height = 3, 1
	s = tile(row, "row", Uint8, Window{0, 0, 3, 1}, 6, &none, func(c, _ int) float64 { return []float64{9, 7, 7}[c] })
	row.X0, row.Y0, row.DY = row.X0+15.9, row.Y0-3, -33
	a, err = Align(s, row, Heaviest)
	require.NoError(t, err)
	assert.Equal(t, [][]float64{{9, 7, 9}}, all(t, a, 2))
}

// A plane is interpolated exactly; nodata is neither spread nor taken in.
func TestBilinear(t *testing.T) {
	g := utm(t, 20, 20)
	none := -1.0
	s := tile(g, "s", Float64, Window{0, 0, 20, 20}, 16, &none, func(c, r int) float64 {
		if c == 10 && r == 10 {
			return -1
		}
		return 2*float64(c) + 3*float64(r) + 5
	})
	h := g
	h.X0, h.Y0 = g.Point(3.3, 4.7)
	h.Width, h.Height = 10, 10
	a, err := Align(s, h, Bilinear)
	require.NoError(t, err)
	got := all(t, a, 10)
	for r := range 5 {
		for c := range 5 {
			assert.InDelta(t, 2*(float64(c)+3.3)+3*(float64(r)+4.7)+5, got[r][c], 1e-9)
		}
	}
	assert.Equal(t, -1.0, got[5][7]) // column 10.8, row 10.2: nearest is the cell without data
	assert.NotEqual(t, -1.0, got[5][6])
}

func TestTogether(t *testing.T) {
	g := utm(t, 20, 20)
	none := 99.0
	a := tile(g, "a", Uint8, Window{0, 0, 20, 20}, 16, &none, pattern)
	b := tile(g, "b", Uint8, Window{-3, 2, 20, 20}, 16, &none, pattern)
	out, moved, err := Together([]Source{a, b}, false)
	require.NoError(t, err)
	assert.Empty(t, moved)
	require.NoError(t, out[0].Header().Grid.Aligned(out[1].Header().Grid))
	assert.Equal(t, 23, out[0].Header().Grid.Width)
	assert.Equal(t, 22, out[0].Header().Grid.Height)
	assert.Equal(t, none, all(t, out[0], 9)[0][0])
	assert.Equal(t, pattern(5, 6), all(t, out[0], 9)[6][8])
	assert.Equal(t, pattern(5, 6), all(t, out[1], 9)[6][8])
	b.About.Grid.X0 += 10
	_, _, err = Together([]Source{a, b}, false)
	assert.ErrorContains(t, err, "the option resample nearest")
	_, moved, err = Together([]Source{a, b}, true)
	require.NoError(t, err)
	assert.Len(t, moved, 1)
}

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
	g := utm(t, 160, 160)
	s := &counted{tile(g, "s", Uint8, Window{0, 0, 160, 160}, 32, nil, pattern), map[Window]int{}}
	c := Cached(s, 1<<20)
	want := all(t, s.Func, 160)
	assert.Equal(t, want, all(t, c, 50))
	assert.Len(t, s.reads, 25)
	for w, n := range s.reads {
		assert.Equal(t, 1, n, "%v", w)
	}
	small := Cached(s, 3*32*32).(*cached)
	assert.Equal(t, want, all(t, small, 50))
	assert.LessOrEqual(t, small.pool.used, 4*32*32)
	assert.Len(t, small.pool.blocks, small.pool.used/(32*32))
}

func TestSummariseAndBorder(t *testing.T) {
	g := utm(t, 100, 50)
	none := 0.0
	s := tile(g, "s", Int16, Window{0, 0, 100, 50}, 16, &none, func(c, r int) float64 {
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
