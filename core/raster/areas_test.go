package raster

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/earth/ellipsoid"
)

func crs(t testing.TB, code int) *earth.CRS {
	t.Helper()
	c, err := earth.Lookup(code)
	require.NoError(t, err)
	return c
}

// outline is the area of a cell by the line integral around it: another route than density.
// Around the smallest cells the integral itself loses digits, so that it is taken around a
// square of more cells with the same centre.
func outline(t *testing.T, g Grid, col, row int) float64 {
	t.Helper()
	k := 0.0
	if !g.CRS.Geographic() && g.DX < 10 {
		k = 20
	}
	c, r := float64(col), float64(row)
	var ring [][2]float64
	for _, p := range [][2]float64{{c - k, r - k}, {c - k, r + 1 + k}, {c + 1 + k, r + 1 + k}, {c + 1 + k, r - k}} {
		x, y := g.Point(p[0], p[1])
		ring = append(ring, [2]float64{x, y})
	}
	a, ok := g.CRS.OutlineArea(ring)
	require.True(t, ok)
	return math.Abs(a) / (2*k + 1) / (2*k + 1)
}

func TestCellAreasAreThoseOfTheirOutlines(t *testing.T) {
	grids := map[string]Grid{
		"degrees, fine":      {4000, 3000, 12, 59, 0.0003, -0.0003, crs(t, 4326)},
		"degrees, coarse":    {720, 360, -180, 90, 0.5, -0.5, crs(t, 4326)},
		"degrees, south up":  {720, 360, -180, -90, 0.5, 0.5, crs(t, 4326)},
		"UTM 30 m":           {9000, 9000, 380000, 6600000, 30, -30, crs(t, 32633)},
		"UTM 1 km, far east": {800, 1200, 700000, 7400000, 1000, -1000, crs(t, 32633)},
		"UTM 0.5 m":          {20000, 20000, 300000, 6500000, 0.5, -0.5, crs(t, 25833)},
		"equal area":         {500, 500, 4300000, 3900000, 100, -100, crs(t, 3035)},
		"Mercator":           {3000, 3000, 1300000, 8300000, 250, -250, crs(t, 3395)},
		"web":                {3000, 3000, 1300000, 8300000, 250, -250, crs(t, 3857)},
	}
	for name, g := range grids {
		t.Run(name, func(t *testing.T) {
			a, err := NewAreas(g)
			require.NoError(t, err)
			for _, fc := range []float64{0, 0.1, 0.37, 0.5, 0.8, 1} {
				for _, fr := range []float64{0, 0.21, 0.5, 0.77, 1} {
					c, r := int(fc*float64(g.Width-1)), int(fr*float64(g.Height-1))
					got, err := a.Cell(c, r)
					require.NoError(t, err)
					want := outline(t, g, c, r)
					assert.InEpsilon(t, want, got, 1e-9, "cell %d, %d", c, r)
				}
			}
		})
	}
}

func TestWholeEarthInIntegerUnits(t *testing.T) {
	g := Grid{720, 360, -180, 90, 0.5, -0.5, crs(t, 4326)}
	a, err := NewAreas(g)
	require.NoError(t, err)
	var sum int64
	for r := range 360 {
		sum += a.Row(r).A
	}
	assert.InEpsilon(t, ellipsoid.WGS84.Area(), float64(sum)*720*a.Quantum, 1e-12)
}

// methods are a place and a cell size for each projection method that is read.
var methods = map[string]struct {
	code     int
	lon, lat float64
	cell     float64
}{
	"UTM":                       {32633, 13, 58, 30},
	"UTM, far east":             {32633, 40, 70, 500},
	"transverse Mercator south": {2053, 29, -26, 30},
	"LAEA":                      {3035, 10, 52, 30},
	"Albers":                    {5070, -96, 40, 30},
	"cylindrical equal area":    {6933, 10, 52, 1000},
	"Mercator":                  {3395, 10, 70, 250},
	"pseudo-Mercator":           {3857, 10, 70, 250},
	"conic, two parallels":      {2154, 3, 46, 25},
	"conic, one parallel":       {27572, 3, 46, 25},
	"conic of Belgium":          {31370, 4.5, 50.5, 10},
	"polar stereographic north": {3413, -30, 75, 100},
	"over the pole":             {3413, 0, 90, 25000},
	"polar stereographic south": {3031, 60, -80, 1000},
	"oblique stereographic":     {28992, 5.4, 52.2, 10},
	"Hotine, variant B":         {2056, 8, 47, 10},
	"Hotine, variant A":         {26931, -134, 57, 30},
	"Krovak":                    {5514, 15, 50, 10},
	"Krovak, west and south":    {2065, 15, 50, 10},
	"Cassini-Soldner":           {30200, -61, 10.5, 100},
	"polyconic":                 {5880, -45, -10, 1000},
	"Equal Earth":               {8857, 60, 50, 1000},
	"plate carrée":              {4087, 10, 60, 1000},
	"Colombia Urban":            {6247, -74.1, 4.7, 10},
}

// Cells at both ends of rasters of every width from 1 to 600, and around the lengths of the blocks in which areas are
// interpolated, have the area that the line integral around them has.
func TestAreasInRastersOfAnyWidthInEveryMethod(t *testing.T) {
	var widths []int
	for w := 1; w <= 600; w++ {
		widths = append(widths, w)
	}
	for _, b := range []int{1024, 4096, 8192, 16384} {
		for d := -2; d <= 5; d++ {
			widths = append(widths, b+d)
		}
	}
	for name, m := range methods {
		t.Run(name, func(t *testing.T) {
			c := crs(t, m.code)
			x, y, ok := c.FromGeographic(m.lon*math.Pi/180, m.lat*math.Pi/180)
			require.True(t, ok)
			size := m.cell / c.Unit
			want := map[int]float64{}
			for _, w := range widths {
				if !c.OnEarth(x+float64(w)*size, y) {
					continue
				}
				a, err := NewAreas(Grid{w, 3, x, y, size, -size, c})
				require.NoError(t, err)
				for _, col := range []int{0, w / 2, w - 1} {
					if _, known := want[col]; !known {
						want[col] = outline(t, a.Grid, col, 1)
					}
					got, err := a.Cell(col, 1)
					require.NoError(t, err)
					require.InEpsilon(t, want[col], got, 1e-9, "column %d of %d", col, w)
				}
			}
		})
	}
}

// The row of cells that a cell is in does not matter either.
func TestAreasInRastersOfAnyHeight(t *testing.T) {
	for name, m := range methods {
		c := crs(t, m.code)
		x, y, _ := c.FromGeographic(m.lon*math.Pi/180, m.lat*math.Pi/180)
		size := m.cell / c.Unit
		for _, h := range []int{1, 2, 5, 40, 255, 257, 8193} {
			if !c.OnEarth(x, y-float64(h)*size) {
				continue
			}
			a, err := NewAreas(Grid{2, h, x, y, size, -size, c})
			require.NoError(t, err)
			got, err := a.Cell(1, h-1)
			require.NoError(t, err)
			require.InEpsilon(t, outline(t, a.Grid, 1, h-1), got, 1e-9, "%s, last of %d rows", name, h)
		}
	}
}

// Rasters of a whole country, far from where the scale of the projection is least, have areas all over.
func TestAreasOfACountryInKrovak(t *testing.T) {
	for _, size := range []float64{30, 100, 977, 1000} {
		g := Grid{int(475000 / size), int(300000 / size), -905000, -930000, size, -size, crs(t, 5514)}
		a, err := NewAreas(g)
		require.NoError(t, err)
		for i := range 30 {
			row, col := i*(g.Height-1)/29, (i*7%30)*(g.Width-1)/29
			got, err := a.Cell(col, row)
			require.NoError(t, err)
			require.InEpsilon(t, outline(t, g, col, row), got, 1e-9, "cells of %g: %d, %d", size, col, row)
		}
	}
}

// What lies above a height of a cell is what the closed form gives, in cells of any height up to the poles.
func TestHeightsWithinACell(t *testing.T) {
	for _, size := range []float64{0.0003, 0.1, 1, 5, 30, 90} {
		g := Grid{2, int(180 / size), 0, 90, size, -size, crs(t, 4326)}
		a, err := NewAreas(g)
		require.NoError(t, err)
		for _, row := range []int{0, g.Height / 5, g.Height/2 - 1, g.Height - 1} {
			h := a.Heights(row)
			top := (90 - float64(row)*size) * math.Pi / 180
			height := size * math.Pi / 180
			for _, at := range []float64{0, 0.11, 0.5, 0.83, 1} {
				want := ellipsoid.WGS84.ZoneArea(top-height*at, top, 1) / ellipsoid.WGS84.ZoneArea(top-height, top, 1)
				assert.InDelta(t, want, h.Above(at), 4e-10, "%g°, row %d, height %g", size, row, at)
			}
			steps := 0.0
			for k := range 1000 {
				t0, t1 := float64(k)/1000, float64(k+1)/1000
				steps += (h.Above(t1) - h.Above(t0)) * (1 - (0.2 + 0.5*(t0+t1)/2))
			}
			assert.InDelta(t, steps, h.Right(0, 1, 0.2, 0.7), 2e-7, "%g°, row %d", size, row)
		}
	}
}

func TestAreasRefuseNonsense(t *testing.T) {
	_, err := NewAreas(Grid{10, 10, 0, 0, 1, -1, nil})
	assert.ErrorContains(t, err, "no CRS")
	_, err = NewAreas(Grid{10, 10, 9e7, 9e7, 1, -1, crs(t, 32633)})
	assert.ErrorContains(t, err, "not defined")
}

func TestGridCheck(t *testing.T) {
	ok := Grid{10, 10, 0, 0, 1, -1, nil}
	assert.NoError(t, ok.Check())
	for _, g := range []Grid{
		{0, 10, 0, 0, 1, -1, nil}, {10, 10, math.NaN(), 0, 1, -1, nil}, {10, 10, 0, 0, 0, -1, nil},
		{10, 10, 0, 95, 1, -1, crs(t, 4326)}, {400, 10, 0, 9, 1, -1, crs(t, 4326)},
	} {
		assert.Error(t, g.Check())
	}
}

func TestAligned(t *testing.T) {
	g := Grid{10, 10, 100, 200, 30, -30, crs(t, 32633)}
	h := g
	h.X0 += 1e-9
	assert.NoError(t, g.Aligned(h))
	h.X0 += 3
	assert.ErrorContains(t, g.Aligned(h), "columns")
	h = g
	h.CRS = crs(t, 32632)
	assert.ErrorContains(t, g.Aligned(h), "against")
	h = g
	h.Width = 9
	assert.ErrorContains(t, g.Aligned(h), "9 × 10")
}
