package earth

import (
	"encoding/json"
	"math"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/earth/projection"
)

// CRSs of the registry, among them one of every method, are written as WKT 2 and as PROJJSON, and read again from their definitions alone, without codes: the
// method and its parameters are the same.
func TestCRSsInEveryText(t *testing.T) {
	wktID := regexp.MustCompile(`,ID\["EPSG",\d+\]`)
	jsonID := regexp.MustCompile(`,?"id":\{"authority":"EPSG","code":\d+\}`)
	n, methods := 0, map[*projection.Method]bool{}
	for line := range strings.Lines(crsTable) {
		code, err := strconv.Atoi(strings.SplitN(line, "\t", 2)[0])
		if err != nil {
			continue
		}
		c, err := Lookup(code)
		if err != nil {
			continue
		}
		if first := !c.Geographic() && !methods[c.Definition.Method]; !first && code%5 != 0 {
			continue // a fifth of them, and one of every method
		} else if first {
			methods[c.Definition.Method] = true
		}
		n++
		text := c.WKT2()
		again, err := ParseWKT(text)
		require.NoError(t, err, text)
		require.Equal(t, code, again.Code, text)
		j := c.PROJJSON()
		require.True(t, json.Valid(j))
		again, err = ParsePROJJSON(j)
		require.NoError(t, err, string(j))
		require.Equal(t, code, again.Code, string(j))

		if !c.Geographic() && c.Definition.Method == projection.Krovak {
			continue // the name alone, without its code, is that of the north orientated one in most files
		}
		plain, err := ParseWKT(wktID.ReplaceAllString(text, ""))
		require.NoError(t, err, "EPSG:%d: %s", code, text)
		same(t, c, plain, text)
		plain, err = ParsePROJJSON([]byte(strings.ReplaceAll(jsonID.ReplaceAllString(string(j), ""), "{,", "{")))
		require.NoError(t, err, "EPSG:%d: %s", code, j)
		same(t, c, plain, string(j))
	}
	assert.Greater(t, n, 1000)
	assert.Greater(t, len(methods), 25)
}

// same holds two CRSs to be one, by their definitions.
func same(t *testing.T, want, got *CRS, text string) {
	t.Helper()
	require.Equal(t, want.Geographic(), got.Geographic(), text)
	require.InDelta(t, want.Ellipsoid.A, got.Ellipsoid.A, 1e-6, text)
	require.InDelta(t, want.Unit, got.Unit, 1e-15*want.Unit+1e-17, text)
	require.InDelta(t, want.Meridian, got.Meridian, 1e-15, text)
	if want.Geographic() {
		return
	}
	d, e := want.Definition, got.Definition
	require.Same(t, d.Method, e.Method, text)
	for _, p := range d.Method.Params {
		v, given := d.Params[p.Role]
		w, again := e.Params[p.Role]
		if !given && p.Role == projection.Scale {
			v = 1
		}
		require.True(t, again, "%s: %s", p.Role, text)
		require.InDelta(t, v, w, 1e-12*math.Max(1, math.Abs(v)), "%s: %s", p.Role, text)
	}
}

func TestTextsOfACRS(t *testing.T) {
	c, err := Lookup(3413)
	require.NoError(t, err)
	assert.Equal(t, `PROJCRS["WGS 84 / NSIDC Sea Ice Polar Stereographic North",BASEGEOGCRS["WGS 84",DATUM["World Geodetic System 1984",ELLIPSOID["WGS 84",6378137,298.257223563,LENGTHUNIT["metre",1]],ID["EPSG",6326]],PRIMEM["Greenwich",0,ANGLEUNIT["degree",0.017453292519943295]],ID["EPSG",4326]],CONVERSION["conversion of WGS 84 / NSIDC Sea Ice Polar Stereographic North",METHOD["Polar Stereographic (variant B)",ID["EPSG",9829]],PARAMETER["Latitude of standard parallel",70,ANGLEUNIT["degree",0.0174532925199433],ID["EPSG",8832]],PARAMETER["Longitude of origin",-45,ANGLEUNIT["degree",0.0174532925199433],ID["EPSG",8833]],PARAMETER["False easting",0,LENGTHUNIT["metre",1],ID["EPSG",8806]],PARAMETER["False northing",0,LENGTHUNIT["metre",1],ID["EPSG",8807]]],CS[Cartesian,2],AXIS["easting (E)",south,ORDER[1]],AXIS["northing (N)",south,ORDER[2]],LENGTHUNIT["metre",1],ID["EPSG",3413]]`, c.WKT2())
	for _, text := range []string{`{`, `{}`, `{"type":"VerticalCRS","name":"h"}`, `{"type":"ProjectedCRS","name":"p","base_crs":{"type":"GeographicCRS"},"conversion":{}}`} {
		_, err := ParsePROJJSON([]byte(text))
		assert.ErrorContains(t, err, "PROJJSON", text)
	}
}
