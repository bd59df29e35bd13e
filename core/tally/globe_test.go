package tally

import (
	"context"
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/earth/ellipsoid"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/zone"
)

// sinusoidal is the CRS of a well-known satellite product: computed on a sphere.
const sinusoidal = `PROJCS["sinusoidal",GEOGCS["of a sphere",DATUM["of a sphere",SPHEROID["sphere",6371007.181,0]],PRIMEM["Greenwich",0],UNIT["degree",0.0174532925199433]],PROJECTION["Sinusoidal"],PARAMETER["longitude_of_center",0],PARAMETER["false_easting",0],PARAMETER["false_northing",0],UNIT["metre",1]]`

const mollweide = `PROJCS["Mollweide",GEOGCS["WGS 84",DATUM["WGS_1984",SPHEROID["WGS 84",6378137,298.257223563]],PRIMEM["Greenwich",0],UNIT["degree",0.0174532925199433]],PROJECTION["Mollweide"],PARAMETER["central_meridian",0],UNIT["metre",1]]`

func fromWKT(t *testing.T, text string) *earth.CRS {
	t.Helper()
	c, err := earth.ParseWKT(text)
	require.NoError(t, err)
	return c
}

// globes are grids that hold the whole Earth, most of them with corners or a rim that is not ground.
func globes(t *testing.T) map[string]raster.Grid {
	around := func(c *earth.CRS, halfWidth, halfHeight float64, across, down int) raster.Grid {
		return raster.Grid{Width: across, Height: down, X0: -halfWidth, Y0: halfHeight, DX: 2 * halfWidth / float64(across), DY: -2 * halfHeight / float64(down), CRS: c}
	}
	return map[string]raster.Grid{
		"degrees":               around(crs(t, 4326), 180, 90, 360, 180),
		"degrees, 5 of them":    around(crs(t, 4326), 180, 90, 72, 36),
		"beyond the pole":       around(crs(t, 4326), 180, 90.25, 720, 361),
		"Equal Earth":           around(crs(t, 8857), 17.3e6, 8.5e6, 346, 170),
		"cylindrical, too wide": around(crs(t, 6933), 17.5e6, 7.4e6, 350, 148),
		"cylindrical, twice":    around(crs(t, 6933), 35e6, 9e6, 350, 90),
		"sinusoidal":            around(fromWKT(t, sinusoidal), 20.1e6, 10.1e6, 402, 202),
		"Mollweide":             around(fromWKT(t, mollweide), 18.1e6, 9.1e6, 362, 182),
		"LAEA over the pole":    around(crs(t, 6931), 13e6, 13e6, 260, 260),
		"LAEA":                  {Width: 280, Height: 280, X0: 4321000 - 14e6, Y0: 3210000 + 14e6, DX: 1e5, DY: -1e5, CRS: crs(t, 3035)},
		"plate carrée":          around(crs(t, 4087), 20.1e6, 10.1e6, 402, 202),
	}
}

// The whole Earth is the whole Earth: on every grid that holds it, as a raster, as a box, as a ring around it, and cut into
// belts and slices.
func TestTheEarthIsMeasuredOnce(t *testing.T) {
	want := ellipsoid.WGS84.Area()
	for name, g := range globes(t) {
		cover := fill(g, raster.Uint8, 64, 64, func(c, r int) float64 { return 1 })
		set, place, err := Whole(g)
		require.NoError(t, err, name)
		got := measureOn(t, set, place, cover)
		// The rim of a map is traced to a two-thousandth of a cell with its area kept.
		assert.InEpsilon(t, want, total(got, 0), 2e-7, name)
		assert.InEpsilon(t, place.Outlines[0].Area, total(got, 0), 1e-9, name)
		assert.InDelta(t, 0, place.Outlines[0].Outside/want, 1e-9, name)

		box, err := zone.Box("-180,-90,180,90")
		require.NoError(t, err)
		assert.InEpsilon(t, want, total(measure(t, box, false, 2, cover), 0), 2e-7, "%s, as a box", name)

		var sum float64
		for _, text := range []string{"-180,-90,180,-60", "-180,-60,180,0", "-180,0,-30,90", "-30,0,100,45", "-30,45,100,90", "100,0,-180,90"} {
			part, err := zone.Box(text)
			require.NoError(t, err)
			at, err := part.Place(g)
			require.NoError(t, err)
			got := measureOn(t, part, at, cover)
			assert.InEpsilon(t, at.Outlines[0].Area, total(got, 0)+at.Outlines[0].Outside, 1e-8, "%s, %s", name, text)
			sum += total(got, 0)
		}
		assert.InEpsilon(t, want, sum, 2e-7, "%s, in parts", name)
	}
}

// Ground that a raster does not cover is outside, wherever on the Earth it lies.
func TestOutsideIsWhatIsMissing(t *testing.T) {
	islands := inDegrees(t, zone.Polygon{{{10, 50}, {12, 50}, {12, 52}, {10, 52}}},
		zone.Polygon{{{60, -21}, {61, -21}, {61, -20}, {60, -20}}}, zone.Polygon{{{-62, 15}, {-61, 15}, {-61, 16}, {-62, 16}}})
	for name, g := range map[string]raster.Grid{
		"degrees": {Width: 100, Height: 100, X0: 5, Y0: 55, DX: 0.1, DY: -0.1, CRS: crs(t, 4326)},
		"UTM":     {Width: 1000, Height: 1000, X0: 200000, Y0: 6000000, DX: 1000, DY: -1000, CRS: crs(t, 32632)},
		"LAEA":    {Width: 1000, Height: 1000, X0: 4000000, Y0: 3400000, DX: 1000, DY: -1000, CRS: crs(t, 3035)},
		"polar":   {Width: 1000, Height: 1000, X0: 2000000, Y0: -2700000, DX: 1000, DY: -1000, CRS: crs(t, 3413)},
	} {
		p, err := islands.Place(g)
		require.NoError(t, err, name)
		got := measureOn(t, islands, p, fill(g, raster.Uint8, 64, 64, func(c, r int) float64 { return 1 }))
		o := p.Outlines[0]
		assert.InEpsilon(t, o.Area, total(got, 0)+o.Outside, 1e-9, name)
		far := ellipsoid.WGS84.ZoneArea(-21*math.Pi/180, -20*math.Pi/180, math.Pi/180) + ellipsoid.WGS84.ZoneArea(15*math.Pi/180, 16*math.Pi/180, math.Pi/180)
		assert.GreaterOrEqual(t, o.Outside, far*(1-1e-9), name)
	}
}

// A zone that reaches around half the Earth is cut at the ends of the map, whatever CRS it comes in.
func TestZonesAcrossTheEndsOfAMap(t *testing.T) {
	wide := inDegrees(t, zone.Polygon{{{100, 40}, {150, 42}, {200, 60}, {230, 75}, {150, 78}, {100, 70}}}) // beyond 180°
	antarctica := inDegrees(t, zone.Polygon{{{180, -90}, {180, -75}, {120, -66}, {60, -67}, {0, -70}, {-60, -64}, {-120, -74}, {-180, -75}, {-180, -90}}})
	for name, g := range globes(t) {
		cover := fill(g, raster.Uint8, 64, 64, func(c, r int) float64 { return 1 })
		for what, s := range map[string]*zone.Set{"beyond 180": wide, "Antarctica": antarctica} {
			p, err := s.Place(g)
			require.NoError(t, err, "%s, %s", name, what)
			got := measureOn(t, s, p, cover)
			assert.InEpsilon(t, p.Outlines[0].Area, total(got, 0), 3e-8, "%s, %s", name, what)
			assert.InDelta(t, 0, p.Outlines[0].Outside/p.Outlines[0].Area, 3e-8, "%s, %s", name, what)
			assert.Empty(t, got.Overlaps)
		}
	}
	// A polar zone in a polar CRS, onto degrees and onto the other maps.
	polar := &zone.Set{Source: "test", CRS: crs(t, 3031), Zones: []zone.Zone{{ID: "z", Polygons: []zone.Polygon{{{{-2e6, -2e6}, {1e6, -2.5e6}, {2e6, 1e6}, {-1e6, 2e6}}}}}}}
	for name, g := range globes(t) {
		p, err := polar.Place(g)
		require.NoError(t, err, name)
		got := measureOn(t, polar, p, fill(g, raster.Uint8, 64, 64, func(c, r int) float64 { return 1 }))
		assert.InEpsilon(t, p.Outlines[0].Area, total(got, 0), 1e-7, name)
	}
}

// A sphere's grid gets the areas of the Earth, not of the sphere.
func TestGridsOfASphere(t *testing.T) {
	c := fromWKT(t, sinusoidal)
	for _, lat := range []float64{0, 30, 60, 80} {
		x, y, ok := c.FromGeographic(0.1, lat*math.Pi/180)
		require.True(t, ok)
		g := raster.Grid{Width: 10, Height: 10, X0: x, Y0: y, DX: 463.3127165, DY: -463.3127165, CRS: c}
		a, err := raster.NewAreas(g)
		require.NoError(t, err)
		got, err := a.Cell(3, 4)
		require.NoError(t, err)
		// A strip of the sphere between two parallels, of the same longitudes, on the ellipsoid.
		south, north := (y-5*463.3127165)/6371007.181, (y-4*463.3127165)/6371007.181
		sphere := 463.3127165 * 463.3127165
		want := sphere * ellipsoid.WGS84.ZoneArea(south, north, 1) / (6371007.181 * 6371007.181 * (math.Sin(north) - math.Sin(south)))
		assert.InEpsilon(t, want, got, 1e-9)
		n, m := ellipsoid.WGS84.GroundSpacing(lat * math.Pi / 180)
		assert.InEpsilon(t, m*n/math.Cos(lat*math.Pi/180)/(6371007.181*6371007.181), got/sphere, 1e-5)
	}
	assert.Contains(t, c.Assumed(0), "+0.45 %")
	assert.Contains(t, c.Assumed(80*math.Pi/180), "-0.85 %")
}

func measureOn(t testing.TB, s *zone.Set, p *zone.Placement, layers ...raster.Source) *Tally {
	t.Helper()
	got, err := Measure(context.Background(), Request{Layers: layers, Zones: s, Placement: p, Threads: 2})
	require.NoError(t, err)
	return got
}
