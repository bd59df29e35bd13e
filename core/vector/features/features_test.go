package features

import (
	"fmt"
	"math"
	"net/url"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/vector"
)

// server answers as a server of features does; it is a [files.System].
type server struct {
	crs     int  // in which outlines are stored; 0 for longitude and latitude
	swapped bool // it sends the second axis first
	filters bool
	asked   []string
	change  func(address, answer string) string
}

const base = "https://h.example/api/collections/wards"

// squares are features in degrees: code, west, south.
var squares = []struct {
	code  string
	w, s  float64
	count int
}{{"A", 12, 58, 1}, {"B", 12.1, 58, 2}, {"A", 14, 58, 3}, {"C", 15, 58, 4}, {"O'B", 12.2, 58, 5}}

func (s *server) ReadFile(name string) ([]byte, error) {
	s.asked = append(s.asked, name)
	u, err := url.Parse(name)
	if err != nil {
		return nil, err
	}
	answer := ""
	switch u.Path {
	case "/api/collections/wards":
		stored := ""
		if s.crs != 0 {
			stored = fmt.Sprintf(`"storageCrs":"http://www.opengis.net/def/crs/EPSG/0/%d",`, s.crs)
		}
		answer = `{"id":"wards",` + stored + `"links":[{"rel":"items","href":"wards/items","type":"application/geo+json"}]}`
	case "/api/conformance":
		answer = `{"conformsTo":[]}`
		if s.filters {
			answer = `{"conformsTo":["http://www.opengis.net/spec/cql2/1.0/conf/cql2-text","http://www.opengis.net/spec/ogcapi-features-3/1.0/conf/features-filter"]}`
		}
	case "/api/collections/wards/items":
		answer = s.items(u.Query())
	default:
		return files.Memory{}.ReadFile(name)
	}
	if s.change != nil {
		answer = s.change(name, answer)
	}
	return []byte(answer), nil
}

func (s *server) Open(string) (files.File, error) { return nil, fmt.Errorf("it is not opened") }

func (s *server) Local(string) (string, error) { return "", fmt.Errorf("it is not there") }

func (s *server) items(q url.Values) string {
	var list []string
	for i, z := range squares {
		if b := strings.Split(q.Get("bbox"), ","); len(b) == 4 {
			w, _ := strconv.ParseFloat(b[0], 64)
			e, _ := strconv.ParseFloat(b[2], 64)
			if z.w > e || z.w+0.05 < w {
				continue
			}
		}
		if f := q.Get("filter"); strings.Contains(f, " IN (") && !strings.Contains(f, "'"+strings.ReplaceAll(z.code, "'", "''")+"'") || f == "count > 1" && z.count < 2 {
			continue
		}
		var ring []string
		for _, d := range [][2]float64{{0, 0}, {0.05, 0}, {0.05, 0.05}, {0, 0.05}, {0, 0}} {
			x, y := z.w+d[0], z.s+d[1]
			if q.Get("crs") != "" {
				crs, _ := earth.Lookup(s.crs)
				x, y, _ = crs.FromGeographic(x*math.Pi/180, y*math.Pi/180)
				if s.swapped {
					x, y = y, x
				}
			}
			ring = append(ring, fmt.Sprintf("[%.6f,%.6f]", x, y))
		}
		list = append(list, fmt.Sprintf(`{"type":"Feature","id":%d,"properties":{"code":%q,"count":%d},"geometry":{"type":"Polygon","coordinates":[[%s]]}}`, i+1, z.code, z.count, strings.Join(ring, ",")))
	}
	matched := len(list)
	offset, _ := strconv.Atoi(q.Get("offset"))
	list = list[offset:]
	next := ""
	if len(list) > 2 {
		list = list[:2]
		q.Set("offset", strconv.Itoa(offset+2))
		next = fmt.Sprintf(`{"rel":"next","href":"?%s"}`, q.Encode())
	}
	return fmt.Sprintf(`{"type":"FeatureCollection","numberMatched":%d,"features":[%s],"links":[%s]}`, matched, strings.Join(list, ","), next)
}

func codes(l *vector.Layer) string {
	var out []string
	for _, f := range l.Features {
		out = append(out, fmt.Sprint(f.Values[l.Field("code")], f.Values[l.Field("count")]))
	}
	return strings.Join(out, " ")
}

func TestPagesAreOneLayer(t *testing.T) {
	l, err := Read(&server{}, base, Query{})
	require.NoError(t, err)
	assert.Equal(t, "A1 B2 A3 C4 O'B5", codes(l))
	assert.Equal(t, base, l.Source)
	direct, err := Read(&server{}, base+"/items?offset=1", Query{Filter: "count > 2"})
	require.NoError(t, err)
	assert.Equal(t, "B2 A3 C4 O'B5", codes(direct), "what an address asks for is left as it is")
}

// What a box and a condition leave out is not fetched, but for the rest of zones that have several features.
func TestQueriesGoToTheServer(t *testing.T) {
	west := &[4]float64{11.9, 57.9, 12.3, 58.1}
	s := &server{}
	l, err := Read(s, base, Query{Box: west, Filter: "count > 1"})
	require.NoError(t, err)
	assert.Equal(t, "A1 B2 O'B5", codes(l), "it knows no conditions")
	l, err = Read(&server{filters: true}, base, Query{Box: west, Filter: "count > 1"})
	require.NoError(t, err)
	assert.Equal(t, "B2 O'B5", codes(l))
	l, err = Read(&server{filters: true}, base, Query{Box: west, ID: "code"})
	require.NoError(t, err)
	assert.Equal(t, "A1 B2 A3 O'B5", codes(l), "the other piece of A lies elsewhere")
	l, err = Read(s, base, Query{Box: west, ID: "code"})
	require.NoError(t, err)
	assert.Equal(t, "A1 B2 A3 C4 O'B5", codes(l), "nothing can ask for the other piece, so all is fetched")
	l, err = Read(&server{filters: true}, base, Query{Box: west, ID: "nothing"})
	require.NoError(t, err)
	assert.Equal(t, "A1 B2 A3 C4 O'B5", codes(l))
	// A condition that the server cannot evaluate is evaluated here.
	l, err = Read(&server{filters: true, change: func(address, answer string) string {
		if strings.Contains(address, "filter=") {
			return `{"code":"InvalidParameterValue"}`
		}
		return answer
	}}, base, Query{Filter: "area_km2 > 3"})
	require.NoError(t, err)
	assert.Len(t, l.Features, 5)
}

// Outlines come in the CRS that they are stored in, in either order of the axes.
func TestStoredCRS(t *testing.T) {
	for _, code := range []int{25833, 3035, 4258} {
		for _, swapped := range []bool{false, true} {
			l, err := Read(&server{crs: code, swapped: swapped}, base, Query{})
			require.NoError(t, err)
			require.NotNil(t, l.CRS, code)
			assert.Contains(t, l.CRS.String(), strconv.Itoa(code))
			lon, lat, ok := l.CRS.ToGeographic(l.Features[0].Geometry.Polygons[0][0][0][0], l.Features[0].Geometry.Polygons[0][0][0][1])
			assert.True(t, ok)
			assert.InDelta(t, 12, lon*180/math.Pi, 0.01, "%d %v", code, swapped)
			assert.InDelta(t, 58, lat*180/math.Pi, 0.01)
		}
	}
	l, err := Read(&server{crs: 9999}, base, Query{})
	require.NoError(t, err)
	assert.Contains(t, strings.Join(l.Notes, "\n"), "stored in EPSG:9999, which is not known, and are read in longitude and latitude")
	// A server that sends something else than it says.
	l, err = Read(&server{crs: 25833, change: func(address, answer string) string {
		if strings.Contains(address, "crs=") {
			return strings.ReplaceAll(answer, "[3", "[9")
		}
		return answer
	}}, base, Query{})
	require.NoError(t, err)
	assert.Contains(t, strings.Join(l.Notes, "\n"), "does not lie where its longitudes and latitudes do")
	assert.InDelta(t, 12, l.Features[0].Geometry.Polygons[0][0][0][0], 1e-6)
}

func TestWrongServers(t *testing.T) {
	items := func(f func(address, answer string) string) *server {
		return &server{change: func(address, answer string) string {
			if strings.Contains(address, "/items") {
				return f(address, answer)
			}
			return answer
		}}
	}
	for want, s := range map[string]*server{
		"sends a page that it has sent already": items(func(address, _ string) string {
			return fmt.Sprintf(`{"type":"FeatureCollection","features":[],"links":[{"rel":"next","href":%q}]}`, address)
		}),
		"the pages of the server do not end": items(func(address, _ string) string {
			return fmt.Sprintf(`{"type":"FeatureCollection","features":[],"links":[{"rel":"next","href":%q}]}`, address+"0")
		}),
		"says that it has 5 features, and has sent 4": items(func(address, answer string) string {
			if strings.Contains(address, "offset=4") {
				return `{"type":"FeatureCollection","features":[]}`
			}
			return answer
		}),
		"has sent the feature 1 on two pages": items(func(address, answer string) string {
			return strings.ReplaceAll(answer, `"id":3`, `"id":1`)
		}),
		"is not JSON that can be read":   items(func(string, string) string { return "<html>" }),
		"a page of it holds no features": items(func(string, string) string { return `{"type":"Exception"}` }),
		"is not GeoJSON":                 items(func(string, string) string { return `{"type":"FeatureCollection","features":{}}` }),
	} {
		_, err := Read(s, base, Query{})
		assert.ErrorContains(t, err, want)
	}
	landing := files.Memory{
		"https://h.example/":            []byte(`{"links":[{"rel":"data","href":"collections"},{"rel":"conformance","href":"c"}]}`),
		"https://h.example/collections": []byte(`{"collections":[{"id":"wards"},{"id":"farms"}],"links":[]}`),
		"https://h.example/nothing":     []byte(`{"links":[]}`),
	}
	_, err := Read(landing, "https://h.example/", Query{})
	assert.ErrorContains(t, err, "several collections: name one, as …/collections/wards (wards, farms)")
	_, err = Read(landing, "https://h.example/nothing", Query{})
	assert.ErrorContains(t, err, "neither a collection of features nor a page of one")
	assert.True(t, Is(landing["https://h.example/"]))
	assert.True(t, Is(landing["https://h.example/collections"]))
	assert.False(t, Is(landing["https://h.example/nothing"]))
	assert.False(t, Is([]byte(`{"type":"FeatureCollection","features":[]}`)))
}

func FuzzRead(f *testing.F) {
	f.Add((&server{}).items(url.Values{}))
	f.Fuzz(func(t *testing.T, text string) {
		Is([]byte(text))
		s := &server{crs: 25833, change: func(string, string) string { return text }}
		if l, err := Read(s, base, Query{}); err == nil && l == nil {
			t.Fatal("neither a layer nor an error")
		}
	})
}
