package raster

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/earth"
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
		s, err := a.Row(r)
		require.NoError(t, err)
		sum += s.A
	}
	assert.InEpsilon(t, earth.WGS84.Area(), float64(sum)*720*a.Unit, 1e-12)
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
