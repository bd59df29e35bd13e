package earth

import (
	"math"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/earth/ellipsoid"
	"github.com/verdex-land/verdex/core/earth/projection"
)

// Every method of the registry against an independent program, in the areas in which the CRSs are used.
func TestMethodsAgreeWithVectors(t *testing.T) {
	methods := map[float64]int{}
	for _, v := range vectors(t, "methods.csv") {
		c, err := Lookup(int(v[1]))
		require.NoError(t, err, "%v", v)
		methods[v[0]]++
		x, y, ok := c.FromGeographic(v[2]*degree, v[3]*degree)
		require.True(t, ok, "%v", v)
		bound := 2e-6 / c.Unit
		angle := 1e-12
		if c.Meridian != 0 { // the program knows prime meridians to a few nanodegrees only
			bound, angle = 5e-4, 1e-10
		}
		assert.InDelta(t, v[4], x, bound, "x %v", v)
		assert.InDelta(t, v[5], y, bound, "y %v", v)
		lon, lat, ok := c.ToGeographic(v[4], v[5])
		require.True(t, ok, "%v", v)
		assert.InDelta(t, 0, ellipsoid.WrapLongitude(lon-v[2]*degree)*math.Cos(lat), angle, "lon %v", v)
		assert.InDelta(t, v[3]*degree, lat, angle, "lat %v", v)
		d, ok := c.Density(v[4], v[5])
		require.True(t, ok)
		if c.Meridian == 0 { // the program takes it for Greenwich in its areal scale
			assert.InEpsilon(t, v[6], c.Unit*c.Unit/d, 1e-5, "areal scale %v", v)
		}
	}
	t.Log(methods)
}

// The published parameters, with the ellipsoids and conventions that go with them.
func TestShiftsAgreeWithVectors(t *testing.T) {
	for _, v := range vectors(t, "shifts.csv") {
		from, err := Lookup(int(v[0]))
		require.NoError(t, err)
		to, err := Lookup(int(v[1]))
		require.NoError(t, err)
		s, note, err := NewShift(from, to, v[2], v[3])
		require.NoError(t, err)
		require.NotNil(t, s)
		assert.Contains(t, note, "with a stated accuracy of")
		lon, lat := s.Forward(v[2]*degree, v[3]*degree)
		assert.InDelta(t, v[4], lon/degree, 2e-11, "%v %s", v, note)
		assert.InDelta(t, v[5], lat/degree, 2e-11, "%v %s", v, note)
		lon, lat = s.Back(lon, lat) // heights are dropped on the way, some tens of metres
		assert.InDelta(t, v[2], lon/degree, 3e-8)
		assert.InDelta(t, v[3], lat/degree, 3e-8)
	}
}

func TestShiftsSayWhatTheyAssume(t *testing.T) {
	crs := func(code int) *CRS {
		c, err := Lookup(code)
		require.NoError(t, err)
		return c
	}
	s, note, err := NewShift(crs(32633), crs(4326), 15, 50)
	assert.True(t, s == nil && note == "" && err == nil)
	for _, pair := range [][2]int{{4326, 3035}, {4258, 32633}, {5070, 4326}, {4283, 4326}} {
		s, note, err = NewShift(crs(pair[0]), crs(pair[1]), -100+float64(pair[0]%2), 40)
		if pair[0] == 4283 {
			s, note, err = NewShift(crs(pair[0]), crs(pair[1]), 145, -30)
		} else if pair[0] != 5070 {
			s, note, err = NewShift(crs(pair[0]), crs(pair[1]), 15, 50)
		}
		require.NoError(t, err)
		assert.Nil(t, s, "%v", pair)
		assert.Contains(t, note, "taken to coincide")
	}
	// By a grid where that is better: the note names it.
	s, note, err = NewShift(crs(4277), crs(4258), -2, 52)
	require.NoError(t, err)
	assert.NotNil(t, s)
	assert.Contains(t, note, "is not carried")
	// Another prime meridian is no other datum.
	s, note, err = NewShift(crs(4807), crs(4275), 2, 47)
	assert.True(t, s == nil && note == "" && err == nil)
	// Nothing leads anywhere from a place that no published parameters cover.
	_, _, err = NewShift(crs(4277), crs(4326), 100, 0)
	assert.ErrorContains(t, err, "no published parameters")
	unknown := *crs(4326)
	unknown.Datum = Datum{0, "a sphere"}
	_, note, err = NewShift(&unknown, crs(4326), 0, 0)
	require.NoError(t, err)
	assert.Contains(t, note, "does not state a datum")
}

// Longitudes of a CRS that counts from Paris.
func TestPrimeMeridians(t *testing.T) {
	paris, err := Lookup(4807) // in grads
	require.NoError(t, err)
	lon, lat, ok := paris.ToGeographic(0, 50)
	assert.True(t, ok)
	assert.InDelta(t, 2.33722917, lon/degree, 1e-8)
	assert.InDelta(t, 45, lat/degree, 1e-12)
	// EPSG:27572, by proj of Debian's proj-bin: 2.5° east, 46.9° north.
	c, err := Lookup(27572)
	require.NoError(t, err)
	x, y, ok := c.FromGeographic(2.5*degree, 46.9*degree)
	require.True(t, ok)
	assert.InDelta(t, 612401.846901637, x, 5e-4) // see above
	assert.InDelta(t, 2211128.222336497, y, 1e-6)
}

// EPSG defines method 1028 on the ellipsoid: northings are lengths of the meridian. The length to
// 45° north on WGS 84 is 4984944.377977744 m (GeodSolve of Debian's geographiclib-tools: 0 0 45 0).
func TestEquidistantCylindrical(t *testing.T) {
	c, err := Lookup(4087)
	require.NoError(t, err)
	x, y, ok := c.FromGeographic(math.Pi/2, math.Pi/4)
	require.True(t, ok)
	assert.InDelta(t, ellipsoid.WGS84.A*math.Pi/2, x, 1e-6)
	assert.InDelta(t, 4984944.377977744744, y, 1e-6)
}

// The worked examples of EPSG Guidance Note 7-2 for methods that the program of the vectors lacks.
func TestWorkedExamples(t *testing.T) {
	dms := func(d, m, s float64) float64 { return math.Copysign(math.Abs(d)+m/60+s/3600, d) * degree }
	for _, v := range []struct {
		code                   int
		lat, lon, x, y, within float64
	}{
		{31300, dms(50, 40, 46.461), dms(5, 48, 26.533), 251763.20, 153034.13, 0.01},
		{2985, dms(-66, 36, 18.820), dms(140, 4, 17.040), 303169.52, 244055.72, 0.01},
	} {
		c, err := Lookup(v.code)
		require.NoError(t, err)
		x, y, ok := c.FromGeographic(v.lon, v.lat)
		require.True(t, ok)
		assert.InDelta(t, v.x, x, v.within, "%v", c)
		assert.InDelta(t, v.y, y, v.within, "%v", c)
	}
}

// A method that has no vectors of its own counts to the west what another counts to the east.
func TestWestOrientatedIsTheMirrorImage(t *testing.T) {
	base, err := Lookup(4326)
	require.NoError(t, err)
	params := projection.Params{projection.Lat0: 66, projection.Lon0: -50, projection.Scale: 0.999, projection.East: 0, projection.North: 100}
	east, err := Define(Definition{Name: "east", Base: base, Method: projection.LambertConformal1, Params: params, Unit: 1, UnitName: "metre"})
	require.NoError(t, err)
	west, err := Define(Definition{Name: "west", Base: base, Method: projection.LambertConformalWest, Params: params, Unit: 1, UnitName: "metre"})
	require.NoError(t, err)
	x1, y1, _ := east.FromGeographic(-48*degree, 67*degree)
	x2, y2, _ := west.FromGeographic(-48*degree, 67*degree)
	assert.Equal(t, [2]float64{-x1, y1}, [2]float64{x2, y2})
	lon, lat, ok := west.ToGeographic(x2, y2)
	assert.True(t, ok)
	assert.InDelta(t, -48, lon/degree, 1e-11)
	assert.InDelta(t, 67, lat/degree, 1e-11)
}

// The areal scale of every CRS of the registry is the determinant of its own derivatives, and its inverse
// undoes it, in the middle of its grid.
func TestEveryCRSOfTheRegistry(t *testing.T) {
	known, unknown := 0, 0
	for line := range strings.SplitSeq(crsTable, "\n") {
		cells := strings.Split(line, "\t")
		if len(cells) < 5 || strings.HasPrefix(line, "#") {
			continue
		}
		code, err := strconv.Atoi(cells[0])
		require.NoError(t, err)
		c, err := Lookup(code)
		if err != nil {
			unknown++
			continue
		}
		known++
		if c.Geographic() {
			continue
		}
		p := c.Definition.Params
		lat, lon := p[projection.Lat0], p[projection.Lon0]
		if !p.Has(projection.Lat0) {
			lat = p[projection.Lat1]
		}
		if math.Abs(lat) > 85 {
			lat *= 0.9
		}
		lat, lon = (lat+0.7)*degree, (lon+1.1)*degree
		if c.Definition.Method == projection.Krovak || c.Definition.Method == projection.KrovakNorth {
			lon -= 8 * degree
		}
		x, y, ok := c.Projection.Forward(lon, lat)
		require.True(t, ok, "%v", c)
		gotLon, gotLat, ok := c.Projection.Inverse(x, y)
		require.True(t, ok, "%v", c)
		assert.InDelta(t, lat, gotLat, 1e-11, "%v", c)
		assert.InDelta(t, 0, ellipsoid.WrapLongitude(lon-gotLon), 1e-11, "%v", c)
		assert.InEpsilon(t, projection.ArealByDifference(c.Projection, c.Ellipsoid, lon, lat), c.Projection.ArealScale(lon, lat), 2e-10, "%v", c)
	}
	assert.Less(t, float64(unknown)/float64(known), 0.005, "%d known, %d unknown", known, unknown)
}

func TestProjectionsWithoutCodes(t *testing.T) {
	sphere := ellipsoid.Ellipsoid{Name: "sphere", A: 6371007.181}
	made := func(m *projection.Method, e ellipsoid.Ellipsoid, params projection.Params) projection.Projection {
		p, err := m.New(e, params)
		require.NoError(t, err)
		return p
	}
	moved := projection.Params{projection.Lon0: 17, projection.Lat1: 29, projection.East: 1, projection.North: 2}
	for _, of := range []struct {
		m      *projection.Method
		e      ellipsoid.Ellipsoid
		params projection.Params
	}{
		{projection.Sinusoidal, ellipsoid.WGS84, moved}, {projection.Mollweide, ellipsoid.WGS84, moved}, {projection.EqualEarth, ellipsoid.WGS84, moved},
		{projection.Sinusoidal, sphere, nil}, {projection.Mollweide, sphere, nil}, {projection.EquidistantSpherical, ellipsoid.WGS84, moved},
	} {
		p, e := made(of.m, of.e, of.params), of.e
		for lat := -1.5; lat <= 1.5; lat += 0.25 {
			for lon := -2.0; lon <= 2; lon += 0.5 {
				x, y, ok := p.Forward(lon, lat)
				require.True(t, ok)
				gotLon, gotLat, ok := p.Inverse(x, y)
				require.True(t, ok)
				assert.InDelta(t, lat, gotLat, 1e-9, "%T", p)
				assert.InDelta(t, lon, gotLon, 1e-9, "%T", p)
				assert.InEpsilon(t, projection.ArealByDifference(p, e, lon, lat), p.ArealScale(lon, lat), 1e-8, "%T %g %g", p, lat, lon)
			}
		}
	}
	// Mollweide and sinusoidal on a sphere, by proj of Debian's proj-bin with +R=6371007.181: 40° east, 50° north.
	x, y, _ := made(projection.Mollweide, sphere, nil).Forward(40*degree, 50*degree)
	assert.InDelta(t, 3039131.640762233, x, 1e-6)
	assert.InDelta(t, 5866906.278497963, y, 1e-6)
	x, y, _ = made(projection.Sinusoidal, sphere, nil).Forward(40*degree, 50*degree)
	assert.InDelta(t, 2858992.066761714, x, 1e-6)
	assert.InDelta(t, 5559752.598832616, y, 1e-6)
}

func TestWKT(t *testing.T) {
	laea := `PROJCS["ETRS_1989_LAEA",GEOGCS["GCS_ETRS_1989",DATUM["D_ETRS_1989",SPHEROID["GRS_1980",6378137.0,298.257222101]],PRIMEM["Greenwich",0.0],UNIT["Degree",0.0174532925199433]],PROJECTION["Lambert_Azimuthal_Equal_Area"],PARAMETER["False_Easting",4321000.0],PARAMETER["False_Northing",3210000.0],PARAMETER["Central_Meridian",10.0],PARAMETER["Latitude_Of_Origin",52.0],UNIT["Meter",1.0]]`
	conic := `PROJCRS["NAD83 / Texas",BASEGEOGCRS["NAD83",DATUM["North American Datum 1983",ELLIPSOID["GRS 1980",6378137,298.257222101,LENGTHUNIT["metre",1]]]],CONVERSION["c",METHOD["Lambert Conic Conformal (2SP)",ID["EPSG",9802]],PARAMETER["Latitude of false origin",29.6666666666667,ANGLEUNIT["degree",0.0174532925199433]],PARAMETER["Longitude of false origin",-100.333333333333,ANGLEUNIT["degree",0.0174532925199433]],PARAMETER["Latitude of 1st standard parallel",31.8833333333333,ANGLEUNIT["degree",0.0174532925199433]],PARAMETER["Latitude of 2nd standard parallel",30.1166666666667,ANGLEUNIT["degree",0.0174532925199433]],PARAMETER["Easting at false origin",2296583.333,LENGTHUNIT["US survey foot",0.304800609601219]],PARAMETER["Northing at false origin",9842500,LENGTHUNIT["US survey foot",0.304800609601219]]],CS[Cartesian,2],AXIS["easting (X)",east],AXIS["northing (Y)",north],LENGTHUNIT["US survey foot",0.304800609601219]]`
	for text, like := range map[string]struct {
		code     int
		lon, lat float64
	}{
		laea: {3035, 15, 50}, conic: {2277, -98, 31},
		`GEOGCS["GCS_WGS_1984",DATUM["D_WGS_1984",SPHEROID["WGS_1984",6378137,298.257223563]],PRIMEM["Greenwich",0],UNIT["Degree",0.017453292519943295]]`: {4326, 3, 4},
		`PROJCS["anything",GEOGCS["x",DATUM["y",SPHEROID["z",6378137,298]]],AUTHORITY["EPSG","27700"]]`:                                                   {27700, -2, 53},
		`COMPD_CS["both",PROJCS["WGS 84 / UTM zone 33N",GEOGCS["WGS 84",DATUM["WGS_1984",SPHEROID["WGS 84",6378137,298.257223563]],UNIT["degree",0.0174532925199433]],PROJECTION["Transverse_Mercator"],PARAMETER["latitude_of_origin",0],PARAMETER["central_meridian",15],PARAMETER["scale_factor",0.9996],PARAMETER["false_easting",500000],PARAMETER["false_northing",0],UNIT["metre",1]],VERT_CS["h",VERT_DATUM["d",2005]]]`: {32633, 16, 50},
	} {
		got, err := ParseCRS(text)
		require.NoError(t, err, text)
		want, err := Lookup(like.code)
		require.NoError(t, err)
		assert.Equal(t, want.Datum.Code, got.Datum.Code, text)
		x1, y1, _ := got.FromGeographic(like.lon*degree, like.lat*degree)
		x2, y2, _ := want.FromGeographic(like.lon*degree, like.lat*degree)
		assert.InDelta(t, x2, x1, 2e-3, text)
		assert.InDelta(t, y2, y1, 2e-3, text)
	}
	for text, want := range map[string]string{
		`PROJCS["x"`:    "ends too early",
		`PROJCS["x]`:    "closing quote",
		`PROJCS["x"]`:   "no geographic CRS",
		`LOCAL_CS["x"]`: "neither an EPSG code nor WKT",
		`GEOGCS["x",DATUM["y",SPHEROID["z","a",1]]]`:                           "where a number belongs",
		`GEOGCS["x",DATUM["y",SPHEROID["z",5,1]]]`:                             "semi-major axis",
		strings.Repeat("GEOGCS[", 100):                                         "too deep",
		strings.Replace(laea, "Lambert_Azimuthal_Equal_Area", "Chamberlin", 1): "not known",
	} {
		_, err := ParseCRS(text)
		assert.ErrorContains(t, err, want, text)
	}
}

func FuzzWKT(f *testing.F) {
	f.Add(`PROJCS["a",GEOGCS["b",DATUM["c",SPHEROID["d",6378137,298.2]],PRIMEM["e",0],UNIT["f",0.01745]],PROJECTION["Polar_Stereographic"],PARAMETER["latitude_of_origin",71],UNIT["m",1]]`)
	f.Add(`GEODCRS["a",ENSEMBLE["c",ELLIPSOID["d",6378137,298.2,LENGTHUNIT["m",1]],ID["EPSG",6326]],CS[ellipsoidal,2],AXIS["x",north,ANGLEUNIT["d",0.017]]]`)
	f.Fuzz(func(t *testing.T, text string) {
		c, err := ParseWKT(text)
		if err != nil {
			return
		}
		for _, p := range [][2]float64{{0, 0}, {1e6, 5e6}, {-179, 89}} {
			if lon, lat, ok := c.ToGeographic(p[0], p[1]); ok {
				c.FromGeographic(lon, lat)
			}
			c.Density(p[0], p[1])
		}
	})
}

// Method 1027 is spherical: by proj of Debian's proj-bin with +proj=laea +lat_0=45 +lon_0=-100 +ellps=clrk66 +R_A.
func TestAzimuthalSpherical(t *testing.T) {
	c, err := Lookup(9311)
	require.NoError(t, err)
	x, y, ok := c.FromGeographic(-90*degree, 40*degree)
	require.True(t, ok)
	assert.InDelta(t, 850045.547649337, x, 1e-4) // the program takes the radius from a short series
	assert.InDelta(t, -504360.108327311, y, 1e-4)
	assert.Equal(t, "other", c.Kind())
}
