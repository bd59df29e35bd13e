package view

import (
	"math"
	"math/rand/v2"
	"testing"

	"github.com/verdex-land/verdex/core/raster"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func utm(t testing.TB, w, h int) raster.Grid {
	return raster.Grid{Width: w, Height: h, X0: 500000, Y0: 6500000, DX: 30, DY: -30, CRS: byCode(t, 32633)}
}

// tile is a part of a grid with the values that f has there.
func tile(g raster.Grid, name string, typ raster.CellType, w raster.Window, block int, nodata *float64, f func(c, r int) float64) *raster.Func {
	g.X0, g.Y0 = g.Point(float64(w.Col), float64(w.Row))
	g.Width, g.Height = w.Width, w.Height
	s := raster.NewFunc(raster.Header{Name: name, Grid: g, Type: typ, NoData: nodata}, func(c, r int) float64 { return f(c+w.Col, r+w.Row) })
	s.Block = block
	return s
}

// all reads a raster in windows that do not lie on its blocks.
func all(t testing.TB, s raster.Source, step int) [][]float64 {
	t.Helper()
	g := s.Header().Grid
	out := make([][]float64, g.Height)
	for i := range out {
		out[i] = make([]float64, g.Width)
	}
	r := s.NewReader()
	var c raster.Cells
	for y := 0; y < g.Height; y += step {
		for x := 0; x < g.Width; x += step {
			w := raster.Window{Col: x, Row: y, Width: min(step, g.Width-x), Height: min(step, g.Height-y)}
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
	for _, typ := range []raster.CellType{raster.Uint8, raster.Int8, raster.Int16, raster.Uint32, raster.Float32} {
		for trial := range 8 {
			g := utm(t, 150+rng.IntN(60), 120+rng.IntN(60))
			nodata := 0.0
			var tiles []raster.Source
			for y := 0; y < g.Height; {
				h := 20 + rng.IntN(60)
				for x := 0; x < g.Width; {
					w := 20 + rng.IntN(60)
					win := raster.Window{Col: x, Row: y, Width: min(w+rng.IntN(9), g.Width-x), Height: min(h+9, g.Height-y)}
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
	a := tile(g, "a", raster.Uint8, raster.Window{Col: 0, Row: 0, Width: 8, Height: 8}, 8, &none, func(c, r int) float64 {
		if c == 3 {
			return 9
		}
		return 1
	})
	b := tile(g, "b", raster.Uint8, raster.Window{Col: 2, Row: 0, Width: 6, Height: 8}, 8, &none, constant(2))
	c := tile(g, "c", raster.Uint8, raster.Window{Col: 2, Row: 0, Width: 2, Height: 8}, 8, &none, constant(1))
	for o, want := range map[Overlap][4]float64{ // at columns 0, 2, 3 and 7
		Last: {1, 1, 1, 2}, First: {1, 1, 2, 1}, Majority: {1, 1, 1, 2}, Min: {1, 1, 1, 1}, Max: {1, 2, 2, 2}, Mean: {1, 4. / 3, 1.5, 1.5},
	} {
		src := []raster.Source{a, b, c}
		if o == Mean {
			for i, s := range src {
				f := *s.(*raster.Func)
				f.About.Type = raster.Float64
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
	a := tile(g, "a", raster.Uint8, raster.Window{Col: 0, Row: 0, Width: 4, Height: 8}, 8, &zero, func(c, r int) float64 { return float64(c % 2) })
	b := tile(g, "b", raster.Uint8, raster.Window{Col: 4, Row: 0, Width: 4, Height: 8}, 8, &top, func(c, r int) float64 { return []float64{255, 3}[c%2] })
	m, err := Mosaic([]raster.Source{a, b}, MosaicOptions{})
	require.NoError(t, err)
	assert.Contains(t, m.Notes[0], "nodata is 0 in a and 255 in b")
	assert.Equal(t, []float64{65535, 1, 65535, 1, 65535, 3, 65535, 3}, all(t, m, 8)[0])
	// 0 is data in b, and 255 in a: both stay what they are.
	a.ValueF = func(c, r int) float64 { return []float64{0, 255}[c%2] }
	b.ValueF = func(c, r int) float64 { return []float64{255, 0}[c%2] }
	m, err = Mosaic([]raster.Source{a, b}, MosaicOptions{})
	require.NoError(t, err)
	assert.Equal(t, []float64{65535, 255, 65535, 255, 65535, 0, 65535, 0}, all(t, m, 8)[0])
	a.ValueF = func(c, r int) float64 { return float64(c % 2) }
	b.ValueF = constant(0)
	// One that declares none takes the other's.
	b.About.NoData = nil
	m, err = Mosaic([]raster.Source{a, b}, MosaicOptions{})
	require.NoError(t, err)
	assert.Contains(t, m.Notes[0], "b declares no nodata value; 0 is taken as nodata there too")
	// Types are widened; ground between tiles is nodata even where none is declared.
	a.About.NoData = nil
	b = tile(g, "b", raster.Int16, raster.Window{Col: 6, Row: 0, Width: 2, Height: 8}, 8, nil, constant(-7))
	m, err = Mosaic([]raster.Source{a, b}, MosaicOptions{})
	require.NoError(t, err)
	assert.Equal(t, raster.Int32, m.Header().Type)
	got := all(t, m, 8)[0]
	assert.Equal(t, []float64{0, 1, 0, 1, *m.Header().NoData, *m.Header().NoData, -7, -7}, got)
	// Palettes that disagree are pointed out.
	a.About.Palette, b.About.Palette = []raster.Color{{}, {R: 1, G: 1, B: 1}}, []raster.Color{{}, {R: 2, G: 2, B: 2}}
	m, err = Mosaic([]raster.Source{a, b}, MosaicOptions{})
	require.NoError(t, err)
	assert.Contains(t, m.Warnings[0], "the value 1 is #010101 in a and #020202 in b")
	for _, o := range []struct {
		change func(*raster.Func)
		want   string
	}{
		{func(f *raster.Func) { f.About.Type = raster.Float32 }, "whole numbers and measurements"},
		{func(f *raster.Func) { f.About.Grid.CRS = byCode(t, 32632) }, "a is in EPSG:32633"},
		{func(f *raster.Func) { f.About.Grid.DX = 31 }, "cells of"},
		{func(f *raster.Func) { f.About.Grid.DY = 30 }, "a has its first row in the north and odd in the south"},
		{func(f *raster.Func) { f.About.Grid.X0 += 6 }, "0.200 columns and 0.000 rows off"},
	} {
		odd := tile(g, "odd", raster.Uint8, raster.Window{Col: 4, Row: 0, Width: 4, Height: 8}, 8, nil, constant(1))
		o.change(odd)
		_, err := Mosaic([]raster.Source{a, odd}, MosaicOptions{})
		assert.ErrorContains(t, err, o.want)
	}
	near := tile(g, "near", raster.Uint8, raster.Window{Col: 4, Row: 0, Width: 4, Height: 8}, 8, nil, constant(1))
	near.About.Grid.X0 += 0.1
	m, err = Mosaic([]raster.Source{a, near}, MosaicOptions{})
	require.NoError(t, err)
	assert.Contains(t, m.Notes[0], "near and perhaps others lie off the grid of a by up to 0.003")
	near.About.Grid.X0 += 11.9
	m, err = Mosaic([]raster.Source{a, near}, MosaicOptions{Resample: true})
	require.NoError(t, err)
	assert.Contains(t, m.Notes[0], "moved to the nearest ones, by up to 0.40 of a cell")
	assert.Equal(t, 1.0, all(t, m, 8)[3][5])
}

func TestExtentCutsAndWidens(t *testing.T) {
	g := utm(t, 40, 30)
	none := 99.0
	s := tile(g, "s", raster.Uint8, raster.Window{Col: 0, Row: 0, Width: 40, Height: 30}, 16, &none, pattern)
	h := g
	h.X0, h.Y0 = g.Point(-5, 20)
	h.Width, h.Height = 20, 20
	v, err := Crop(s, h)
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
	s := tile(g, "s", raster.Uint8, raster.Window{Col: 0, Row: 0, Width: 70, Height: 50}, 16, &none, pattern)
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
	src := raster.Grid{Width: 400, Height: 300, X0: 12.3, Y0: 58.4, DX: 0.0004, DY: -0.0002, CRS: byCode(t, 4326)}
	none := 99.0
	s := tile(src, "s", raster.Uint8, raster.Window{Col: 0, Row: 0, Width: 400, Height: 300}, 64, &none, pattern)
	g := raster.Grid{Width: 330, Height: 250, X0: 344000, Y0: 6476000, DX: 29, DY: -29, CRS: byCode(t, 32633)}
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
	s := tile(g, "s", raster.Uint8, raster.Window{Col: 0, Row: 0, Width: 6, Height: 6}, 6, &none, func(c, r int) float64 { return values[r][c] })
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
	s = tile(row, "row", raster.Uint8, raster.Window{Col: 0, Row: 0, Width: 3, Height: 1}, 6, &none, func(c, _ int) float64 { return []float64{9, 7, 7}[c] })
	row.X0, row.Y0, row.DY = row.X0+15.9, row.Y0-3, -33
	a, err = Align(s, row, Heaviest)
	require.NoError(t, err)
	assert.Equal(t, [][]float64{{9, 7, 9}}, all(t, a, 2))
}

// A plane is interpolated exactly; nodata is neither spread nor taken in.
func TestBilinear(t *testing.T) {
	g := utm(t, 20, 20)
	none := -1.0
	s := tile(g, "s", raster.Float64, raster.Window{Col: 0, Row: 0, Width: 20, Height: 20}, 16, &none, func(c, r int) float64 {
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
	a := tile(g, "a", raster.Uint8, raster.Window{Col: 0, Row: 0, Width: 20, Height: 20}, 16, &none, pattern)
	b := tile(g, "b", raster.Uint8, raster.Window{Col: -3, Row: 2, Width: 20, Height: 20}, 16, &none, pattern)
	out, moved, err := Together([]raster.Source{a, b}, false)
	require.NoError(t, err)
	assert.Empty(t, moved)
	require.NoError(t, out[0].Header().Grid.Aligned(out[1].Header().Grid))
	assert.Equal(t, 23, out[0].Header().Grid.Width)
	assert.Equal(t, 22, out[0].Header().Grid.Height)
	assert.Equal(t, none, all(t, out[0], 9)[0][0])
	assert.Equal(t, pattern(5, 6), all(t, out[0], 9)[6][8])
	assert.Equal(t, pattern(5, 6), all(t, out[1], 9)[6][8])
	b.About.Grid.X0 += 10
	_, _, err = Together([]raster.Source{a, b}, false)
	assert.ErrorContains(t, err, "the option resample nearest")
	_, moved, err = Together([]raster.Source{a, b}, true)
	require.NoError(t, err)
	assert.Len(t, moved, 1)
}
