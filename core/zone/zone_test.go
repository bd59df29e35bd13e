package zone

import (
	"fmt"
	"math"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/earth/ellipsoid"
	"github.com/verdex-land/verdex/core/planar"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/vector/geojson"
)

func parse(t *testing.T, text string, sel Selection) (*Set, error) {
	t.Helper()
	l, err := geojson.Parse("zones.geojson", []byte(text))
	if err != nil {
		return nil, err
	}
	return FromLayer(l, sel)
}

// collection makes GeoJSON of features given as properties and coordinates.
func collection(features ...string) string {
	return `{"type":"FeatureCollection","features":[` + strings.Join(features, ",") + `]}`
}

func polygon(properties, coordinates string) string {
	return fmt.Sprintf(`{"type":"Feature","properties":{%s},"geometry":{"type":"Polygon","coordinates":%s}}`, properties, coordinates)
}

const square = `[[[12,58],[13,58],[13,59],[12,59],[12,58]]]`

func TestFeaturesThatShareAnIdAreOneZone(t *testing.T) {
	s, err := parse(t, collection(
		polygon(`"code":"A","name":"Tarn"`, square),
		polygon(`"code":"B","name":"Varra"`, `[[[14,58],[15,58],[15,59],[14,59],[14,58]]]`),
		polygon(`"code":"A","name":"Tarn"`, `[[[13,58],[14,58],[14,59],[13,59],[13,58]]]`),
	), Selection{IDField: "code"})
	require.NoError(t, err)
	require.Len(t, s.Zones, 2)
	assert.Equal(t, "A", s.Zones[0].ID)
	assert.Equal(t, "Tarn", s.Zones[0].Name)
	assert.Len(t, s.Zones[0].Polygons, 2)
	assert.Contains(t, strings.Join(s.Notes, ";"), "share an id")
}

func TestTextThatLooksLikeBrackets(t *testing.T) {
	s, err := parse(t, ` {"features" : [ `+polygon(`"a":"]}\"{[,\\","zone_id":"x"`, square)+` , `+polygon(`"zone_id":"y"`, square)+` ] , "name":"n" ,"type":"FeatureCollection" } `, Selection{})
	require.NoError(t, err)
	assert.Len(t, s.Zones, 2)
	s, err = parse(t, collection(`{"geometry":{"coordinates":`+square+` , "type":"Polygon"} , "properties":{"coordinates":[1,{"x":2}],"zone_id":"z"},"type":"Feature"}`), Selection{})
	require.NoError(t, err)
	assert.Equal(t, "z", s.Zones[0].ID)
	assert.Len(t, s.Zones[0].Polygons, 1)
	s, err = parse(t, `{"features":[`+polygon(`"id":1`, `[[[4321000,3900000],[4322000,3900000],[4322000,3901000]]]`)+`],"type":"FeatureCollection","crs":{"type":"name","properties":{"name":"EPSG:3035"}}}`, Selection{})
	require.NoError(t, err)
	assert.Equal(t, 3035, s.CRS.Code)
}

func TestHowZonesAreNumbered(t *testing.T) {
	s, err := parse(t, collection(`{"type":"Feature","id":7,"properties":null,"geometry":{"type":"Polygon","coordinates":`+square+`}}`), Selection{})
	require.NoError(t, err)
	assert.Equal(t, "7", s.Zones[0].ID)
	s, err = parse(t, collection(polygon(`"zone_id":"x"`, square)), Selection{})
	require.NoError(t, err)
	assert.Equal(t, "x", s.Zones[0].ID)
	s, err = parse(t, collection(polygon(`"colour":"red"`, square)), Selection{})
	require.NoError(t, err)
	assert.Equal(t, "1", s.Zones[0].ID)
	assert.Contains(t, s.Notes[0], "numbered")
	for _, bare := range []string{`{"type":"Polygon","coordinates":` + square + `}`, polygon(`"id":"1"`, square)} {
		s, err = parse(t, bare, Selection{})
		require.NoError(t, err)
		assert.Len(t, s.Zones, 1)
	}
}

func TestOlderCRSMember(t *testing.T) {
	s, err := parse(t, `{"type":"FeatureCollection","crs":{"type":"name","properties":{"name":"urn:ogc:def:crs:EPSG::3035"}},"features":[`+
		polygon(`"id":1`, `[[[4321000,3900000],[4322000,3900000],[4322000,3901000],[4321000,3901000],[4321000,3900000]]]`)+`]}`, Selection{})
	require.NoError(t, err)
	assert.Equal(t, 3035, s.CRS.Code)
	a, ok := s.CRS.OutlineArea(s.Zones[0].Polygons[0][0])
	require.True(t, ok)
	assert.InDelta(t, 1e6, a, 1e-6)
}

func TestMistakesInZones(t *testing.T) {
	for _, c := range []struct{ text, want string }{
		{"", "empty"},
		{"   \n", "empty"},
		{`{"type":"FeatureCollection","features":[7]}`, "where a feature"},
		{`{"type":"FeatureCollection","features":["}]"]}`, "where a feature"},
		{`{"type":"FeatureCollection","features":[{"type":"Feature","type":"Feature"}]}`, "duplicate"},
		{collection(polygon(`"a":1`, square)) + "x", "follows its end"},
		{`{"type":"FeatureCollection","features":[` + polygon(`"a":"]}\"{["`, square) + `,]}`, "where a feature"},
		{"not json", "not GeoJSON"},
		{`{"type":"FeatureCollection","features":[`, "ends too early"},
		{`{"features":[]}`, `no "type"`},
		{`{"type":"Topology"}`, "Topology"},
		{collection(), "no features"},
		{collection(polygon(`"a":1`, `[]`)), "none of its 1 features has an outline"},
		{collection(`{"type":"Feature","properties":{},"geometry":{"type":"Point","coordinates":[1,2]}}`), "is a Point"},
		{collection(polygon(`"a":1`, `[[[1,2],[3],[4,5],[1,2]]]`)), "one number only"},
		{collection(polygon(`"a":1`, `[[[1,2],[3,5,"x"],[4,5],[1,2]]]`)), "something else"},
		{collection(polygon(`"a":1`, `[[[1,2],[3,1e999],[4,5],[1,2]]]`)), "not a number"},
		{collection(polygon(`"a":1`, `[[[1,2],[3,4],[1,2]]]`)), "encloses no area"},
		{collection(polygon(`"a":1`, `[[[500000,6500000],[600000,6500000],[600000,6600000],[500000,6500000]]]`)), "not a longitude and latitude"},
		{collection(polygon(`"a":1`, `[[[179,10],[-179,10],[-179,12],[179,12],[179,10]]]`)), "antimeridian"},
		{collection(polygon(`"a":1`, `[[[0,0],[10,10],[10,0],[0,10],[0,0]]]`)), "crosses itself at (5, 5)"},
		{collection(polygon(`"a":1`, `[[[1,2],[3,4],[5,1],]]`)), "ends with a comma"},
		{collection(polygon(`"a":1`, `[[[1,2] [3,4],[5,1]]]`)), "something else"},
		{collection(`{"type":"Feature","geometry":{"type":"Polygon","coordinates":` + square + `,"coordinates":` + square + `}}`), "twice"},
		{strings.Repeat("[", 1000000), "not GeoJSON"},
		{collection(polygon(`"a":1`, strings.Repeat("[", 5000)+strings.Repeat("]", 5000))), "nested too deep"},
	} {
		_, err := parse(t, c.text, Selection{})
		assert.ErrorContains(t, err, c.want, "%.80s", c.text)
	}
}

func TestFieldsThatDoNotFit(t *testing.T) {
	text := collection(polygon(`"Code":"A","name":"Tarn"`, square), polygon(`"Code":"A","name":"Varra"`, `[[[14,58],[15,58],[15,59],[14,58]]]`))
	_, err := parse(t, text, Selection{IDField: "code"})
	assert.ErrorContains(t, err, `did you mean "Code"?`)
	assert.ErrorContains(t, err, "choose one of Code, name")
	_, err = parse(t, text, Selection{IDField: "Code"})
	assert.ErrorContains(t, err, `called both "Tarn" and "Varra"`)
	_, err = parse(t, collection(polygon(`"code":null`, square)), Selection{IDField: "code"})
	assert.ErrorContains(t, err, "no value in the id field")
}

func TestRepairs(t *testing.T) {
	// Not closed, turning the wrong way, with a repeated point and a ring without area.
	s, err := parse(t, collection(polygon(`"id":1`, `[[[12,58],[12,59],[12,59],[13,59],[13,58]],[[12.1,58.1],[12.2,58.2],[12.1,58.1]]]`)), Selection{})
	require.NoError(t, err)
	require.Len(t, s.Zones[0].Polygons[0], 1)
	assert.Positive(t, planar.Area(s.Zones[0].Polygons[0][0]))
	assert.Contains(t, strings.Join(s.Notes, ";"), "without area")

	// A loop of a hundred-millionth of the zone is told and cut off.
	s, err = parse(t, collection(polygon(`"id":1`, `[[[12,58],[13,58],[13,59],[12.5001,59],[12.5,58.9999],[12.5001,58.9999],[12.5,59],[12,59],[12,58]]]`)), Selection{})
	require.NoError(t, err)
	assert.Contains(t, strings.Join(s.Notes, ";"), "counted once")
	assert.InDelta(t, 1, planar.Area(s.Zones[0].Polygons[0][0]), 1e-7)

	// Pieces that overlap are united.
	s, err = parse(t, collection(polygon(`"id":1`, square), polygon(`"id":1`, `[[[12.5,58],[13.5,58],[13.5,59],[12.5,59],[12.5,58]]]`)), Selection{})
	require.NoError(t, err)
	assert.Contains(t, strings.Join(s.Notes, ";"), "overlap")
	require.Len(t, s.Zones[0].Polygons, 1)
	assert.InDelta(t, 1.5, planar.Area(s.Zones[0].Polygons[0][0]), 1e-12)

	// The same feature twice, and one inside the other.
	for _, second := range []string{square, `[[[12.2,58.2],[12.4,58.2],[12.4,58.4],[12.2,58.2]]]`} {
		s, err = parse(t, collection(polygon(`"id":1`, square), polygon(`"id":1`, second)), Selection{})
		require.NoError(t, err)
		total := 0.0
		for _, p := range s.Zones[0].Polygons {
			for _, r := range p {
				total += planar.Area(r)
			}
		}
		assert.InDelta(t, 1, total, 1e-12)
	}

	// Holes stay holes.
	s, err = parse(t, collection(polygon(`"id":1`, `[[[12,58],[13,58],[13,59],[12,59]],[[12.2,58.2],[12.4,58.2],[12.4,58.4],[12.2,58.4]]]`)), Selection{})
	require.NoError(t, err)
	assert.InDelta(t, -0.04, planar.Area(s.Zones[0].Polygons[0][1]), 1e-12)
}

func utmGrid(t *testing.T) raster.Grid {
	crs, err := earth.Lookup(32633)
	require.NoError(t, err)
	return raster.Grid{Width: 1000, Height: 800, X0: 350000, Y0: 6480000, DX: 30, DY: -30, CRS: crs}
}

// What lies outside the raster is measured by itself; inside and outside must make the whole.
func TestPlacementBalances(t *testing.T) {
	g := utmGrid(t)
	for name, box := range map[string]string{"inside": "12.5,58.3,12.7,58.35", "half out": "12.2,58.3,12.7,58.35", "around": "11,57,14,59", "beyond": "20,50,21,51"} {
		s, err := Box(box)
		require.NoError(t, err)
		p, err := s.Place(g)
		require.NoError(t, err, name)
		o := p.Outlines[0]
		var w, so, e, n float64
		_, err = fmt.Sscanf(box, "%f,%f,%f,%f", &w, &so, &e, &n)
		require.NoError(t, err)
		rad := math.Pi / 180
		assert.InEpsilon(t, ellipsoid.WGS84.ZoneArea(so*rad, n*rad, (e-w)*rad), o.Area, 1e-12, name)
		switch name {
		case "inside":
			assert.Zero(t, o.Outside)
		case "beyond":
			assert.Equal(t, o.Area, o.Outside)
			assert.Nil(t, o.Rings)
		case "around":
			assert.InEpsilon(t, o.Area-1000*800*900.29, o.Outside, 1e-4)
		default:
			assert.Greater(t, o.Outside, 0.3*o.Area)
			assert.Less(t, o.Outside, 0.9*o.Area)
		}
	}
}

func TestLongitudesMayCountFromAnywhere(t *testing.T) {
	wgs, err := earth.Lookup(4326)
	require.NoError(t, err)
	g := raster.Grid{Width: 360, Height: 180, X0: 0, Y0: 90, DX: 1, DY: -1, CRS: wgs} // 0 to 360
	s, err := Box("-30.5,10,20.5,20")
	require.NoError(t, err)
	p, err := s.Place(g)
	require.NoError(t, err)
	c := Cutter{Width: 360, Down: true}
	spans := c.Cut(&p.Outlines[0], 0, 0, 180)
	full, edge := spans.Row(75)
	assert.Equal(t, []Range{{0, 20}, {330, 360}}, full)
	require.Len(t, edge, 2)
	assert.InDelta(t, 0.5, float64(edge[0].Share)/WholeCell, 1e-9)
	assert.InDelta(t, 0, p.Outlines[0].Outside/p.Outlines[0].Area, 1e-9)
}

// Shares of cells cut by hand-made outlines, by counting squares.
func TestSharesByHand(t *testing.T) {
	o := Outline{Rings: []Ring{{{1, 1}, {1, 3}, {3, 3}}}, RowFrom: 1, RowTo: 3, ColFrom: 1, ColTo: 3} // lower left half of a square
	c := Cutter{Width: 10, Down: true, Moments: true}
	s := c.Cut(&o, 0, 0, 10)
	full, edge := s.Row(1)
	assert.Empty(t, full)
	require.Len(t, edge, 1)
	assert.Equal(t, EdgeCell{1, WholeCell / 2}, edge[0])
	// The centroid of the lower left triangle of a cell lies a sixth left of and below its centre.
	m := s.Moments(1)[0]
	assert.InDelta(t, -1./12, float64(m.X)/WholeCell, 1e-9)
	assert.InDelta(t, 1./12, float64(m.Y)/WholeCell, 1e-9)
	full, edge = s.Row(2)
	assert.Equal(t, []Range{{1, 2}}, full)
	assert.Equal(t, EdgeCell{2, WholeCell / 2}, edge[0])
	full, _ = s.Row(5)
	assert.Empty(t, full)

	c.Centres = true
	half := Outline{Rings: []Ring{{{0.5, 0}, {0.5, 2}, {2.5, 2}, {2.5, 0}}}, RowTo: 2, ColTo: 3}
	full, edge = c.Cut(&half, 0, 0, 2).Row(0)
	assert.Equal(t, []Range{{0, 2}}, full, "a centre on the left border belongs to the zone, one on the right does not")
	assert.Empty(t, edge)
}

func FuzzGeoJSON(f *testing.F) {
	f.Add([]byte(collection(polygon(`"id":1,"name":"x"`, square))))
	f.Add([]byte(`{"type":"Polygon","coordinates":` + square + `}`))
	f.Add([]byte(`{"type":"FeatureCollection","crs":{"type":"name","properties":{"name":"EPSG:3035"}},"features":[{"type":"Feature","id":3,"properties":{"a":[1,{"b":null}]},"geometry":{"type":"MultiPolygon","coordinates":[` + square + `]}}]}`))
	crs, err := earth.Lookup(32633)
	if err != nil {
		f.Fatal(err)
	}
	g := raster.Grid{Width: 100, Height: 80, X0: 350000, Y0: 6480000, DX: 300, DY: -300, CRS: crs}
	f.Fuzz(func(t *testing.T, b []byte) {
		l, err := geojson.Parse("fuzz", b)
		if err != nil {
			return
		}
		s, err := FromLayer(l, Selection{})
		if err != nil {
			return
		}
		p, err := s.Place(g)
		if err != nil {
			return
		}
		c, plain := Cutter{Width: 100, Down: true, Moments: true}, Cutter{Width: 100, Down: true}
		for i := range p.Outlines {
			o := &p.Outlines[i]
			c.Cut(o, i, 0, 80).Free()
			w := raster.Window{Col: 7 * (i % 9), Row: 5 * (i % 11), Width: 31, Height: 25}
			if pieces, ok := plain.Pieces(o, w, w.Width); ok {
				spans := plain.Cut(o, i, 0, 80)
				want, got := sharesOf(spans, w, w.Width), pieces.shares(w.Width*w.Height)
				for at := range want {
					if want[at] != got[at] {
						t.Fatalf("cell %d differs by %d in window %v of %v", at, got[at]-want[at], w, o.Rings)
					}
				}
				spans.Free()
			}
		}
	})
}
