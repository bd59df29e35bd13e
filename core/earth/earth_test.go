package earth

import (
	"encoding/csv"
	"math"
	"math/rand/v2"
	"os"
	"strconv"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/earth/ellipsoid"
	"github.com/verdex-land/verdex/core/planar"
)

func TestProjectionsAgainstIndependentVectors(t *testing.T) {
	for _, v := range vectors(t, "projections.csv") {
		crs, err := Lookup(int(v[0]))
		require.NoError(t, err)
		lon, lat := v[1]*degree, v[2]*degree
		x, y, ok := crs.FromGeographic(lon, lat)
		require.True(t, ok, "%v", v)
		// 2e-7 m: the independent program's own series for the wide transverse Mercator points.
		assert.InDelta(t, v[3], x, 2e-7, "easting %v", v)
		assert.InDelta(t, v[4], y, 2e-7, "northing %v", v)
		gotLon, gotLat, ok := crs.ToGeographic(x, y)
		require.True(t, ok, "%v", v)
		assert.InDelta(t, lon, gotLon, 1e-13/math.Cos(lat), "longitude %v", v)
		assert.InDelta(t, lat, gotLat, 1e-13/math.Max(0.05, math.Cos(lat)), "latitude %v", v)
		density, ok := crs.Density(x, y)
		require.True(t, ok)
		assert.InEpsilon(t, v[5], 1/density, 1e-5, "areal scale %v", v)
	}
}

func TestDensityIsTheRateOfArea(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 2))
	for _, code := range []int{4326, 32633, 3035, 5070, 6933, 3395, 3857} {
		crs, err := Lookup(code)
		require.NoError(t, err)
		for range 20 {
			lon, lat := (10+rng.Float64()*10)*degree, (40+rng.Float64()*25)*degree
			if code == 5070 {
				lon -= 110 * degree
			}
			x, y, ok := crs.FromGeographic(lon, lat)
			require.True(t, ok)
			h := 50 / crs.Unit
			if crs.Geographic() {
				h = 0.0005
			}
			ring := [][2]float64{{x - h, y - h}, {x + h, y - h}, {x + h, y + h}, {x - h, y + h}}
			area, ok := crs.OutlineArea(ring)
			require.True(t, ok)
			density, ok := crs.Density(x, y)
			require.True(t, ok)
			assert.InEpsilon(t, density*4*h*h, area, 2e-10, "%v at %g %g", crs, lon/degree, lat/degree)
		}
	}
}

// The area of a long-edged outline must not depend on the CRS it is traced through.
func TestOutlineAreaSurvivesTracing(t *testing.T) {
	wgs, _ := Lookup(4326)
	utm, _ := Lookup(32633)
	ring := [][2]float64{{12.1, 55.2}, {17.9, 54.8}, {17.2, 59.1}, {13, 58.3}}
	want, ok := wgs.OutlineArea(ring)
	require.True(t, ok)
	project := func(p [2]float64) ([2]float64, bool) {
		x, y, ok := utm.FromGeographic(p[0]*degree, p[1]*degree)
		return [2]float64{x, y}, ok
	}
	traced, ok := TraceRing(ring, project, Tolerance{Longest: 0.1, Absolute: 0.5})
	require.True(t, ok)
	got, ok := utm.OutlineArea(traced)
	require.True(t, ok)
	assert.InEpsilon(t, want, got, 1e-11)
}

func TestTracingIsTheSameInBothDirections(t *testing.T) {
	utm, _ := Lookup(32633)
	project := func(p [2]float64) ([2]float64, bool) {
		x, y, ok := utm.FromGeographic(p[0]*degree, p[1]*degree)
		return [2]float64{x, y}, ok
	}
	ring := [][2]float64{{12.1, 55.2}, {17.9, 54.8}, {17.2, 59.1}}
	back := [][2]float64{ring[0], ring[2], ring[1]}
	tol := Tolerance{Longest: 1, Absolute: 0.03}
	a, _ := TraceRing(ring, project, tol)
	b, _ := TraceRing(back, project, tol)
	require.Equal(t, len(a), len(b))
	for i := 1; i < len(a); i++ {
		assert.Equal(t, a[i], b[len(b)-i])
	}
}

// A ring of short edges, traced with and without prediction, must enclose the same area.
func TestBendPredictsTheRise(t *testing.T) {
	wgs, _ := Lookup(4326)
	for _, code := range []int{32633, 3035, 3857} {
		crs, _ := Lookup(code)
		project := func(p [2]float64) ([2]float64, bool) {
			x, y, ok := crs.FromGeographic(p[0]*degree, p[1]*degree)
			return [2]float64{x / 30, y / 30}, ok
		}
		var ring [][2]float64
		for i := range 300 {
			s, c := math.Sincos(2 * math.Pi * float64(i) / 300)
			ring = append(ring, [2]float64{12 + 0.3*c, 58 + 0.1*s*s*s})
		}
		plain, ok := TraceRing(ring, project, Tolerance{Longest: 1, Absolute: 0.001})
		require.True(t, ok)
		bent, ok := TraceRing(ring, project, Tolerance{Longest: 1, Absolute: 0.001, Bend: NewBend(project, 0.1)})
		require.True(t, ok)
		assert.InEpsilon(t, planar.Area(plain), planar.Area(bent), 1e-12)
		if crs.EqualArea() {
			own, _ := wgs.OutlineArea(ring)
			assert.InEpsilon(t, own, planar.Area(bent)*900, 1e-10)
		}
	}
}

func TestGeographicOutlineHasClosedForms(t *testing.T) {
	wgs, _ := Lookup(4326)
	box := [][2]float64{{12, 57}, {13, 57}, {13, 58}, {12, 58}}
	got, ok := wgs.OutlineArea(box)
	require.True(t, ok)
	assert.InEpsilon(t, ellipsoid.WGS84.ZoneArea(57*degree, 58*degree, degree), got, 1e-14)
	for i, j := 0, len(box)-1; i < j; i, j = i+1, j-1 {
		box[i], box[j] = box[j], box[i]
	}
	got, _ = wgs.OutlineArea(box)
	assert.Negative(t, got)
}

func TestParseCRS(t *testing.T) {
	for text, code := range map[string]int{
		"EPSG:3035": 3035, "epsg:32633": 32633, "3857": 3857,
		"urn:ogc:def:crs:EPSG::25832": 25832, "urn:ogc:def:crs:OGC:1.3:CRS84": 4326,
		"http://www.opengis.net/def/crs/EPSG/0/4258": 4258,
	} {
		crs, err := ParseCRS(text)
		require.NoError(t, err, text)
		assert.Equal(t, code, crs.Code)
	}
	for _, text := range []string{"", "EPSG:", "EPSG:-4", "somewhere", "EPSG:99999", "FOO:4326"} {
		_, err := ParseCRS(text)
		assert.Error(t, err, text)
	}
}

// vectors reads a committed table of numbers; lines that begin with # say where it comes from.
func vectors(t *testing.T, name string) [][]float64 {
	t.Helper()
	f, err := os.Open("testdata/" + name)
	require.NoError(t, err)
	defer f.Close()
	r := csv.NewReader(f)
	r.Comment = '#'
	lines, err := r.ReadAll()
	require.NoError(t, err)
	out := make([][]float64, len(lines))
	for i, line := range lines {
		for _, s := range line {
			v, err := strconv.ParseFloat(s, 64)
			require.NoError(t, err)
			out[i] = append(out[i], v)
		}
	}
	require.NotEmpty(t, out)
	return out
}
