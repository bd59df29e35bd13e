package kml

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const sample = `<?xml version="1.0" encoding="UTF-8"?>
<kml xmlns="http://www.opengis.net/kml/2.2"><Document><name>Survey</name>
<Folder><name>plots</name>
<Placemark id="p1"><name>North &amp; mill</name><description><![CDATA[<b>wet</b>]]></description>
 <ExtendedData><Data name="crew"><displayName>team</displayName><value> 3 </value></Data><SchemaData schemaUrl="#s"><SimpleData name="people">12</SimpleData></SchemaData></ExtendedData>
 <Polygon><outerBoundaryIs><LinearRing><coordinates>12,58,5 12.1,58,5 12.1,58.1,5
   12,58.1,5 12,58,5</coordinates></LinearRing></outerBoundaryIs>
  <innerBoundaryIs><LinearRing><coordinates>12.02,58.02 12.04,58.02 12.04,58.04 12.02,58.02</coordinates></LinearRing></innerBoundaryIs></Polygon></Placemark>
<Placemark><name>two</name><MultiGeometry>
 <Polygon><outerBoundaryIs><LinearRing><coordinates>13,58 13.1,58 13.1,58.1 13,58</coordinates></LinearRing></outerBoundaryIs></Polygon>
 <Polygon><outerBoundaryIs><LinearRing><coordinates>14,58 14.1,58 14.1,58.1 14,58</coordinates></LinearRing></outerBoundaryIs></Polygon></MultiGeometry></Placemark>
</Folder>
<Placemark><name>well</name><Point><coordinates>12.5,58.5</coordinates></Point></Placemark>
<Placemark><name>path</name><LineString><coordinates>12,58 13,58</coordinates></LineString></Placemark>
<Placemark><name>nowhere</name></Placemark>
<NetworkLink><name>more</name><Link><href>http://h.example/more.kml</href></Link></NetworkLink>
</Document></kml>`

func TestPlacemarks(t *testing.T) {
	l, err := Parse("field.kml", []byte(sample))
	require.NoError(t, err)
	assert.Equal(t, []string{"name", "description", "crew", "people"}, l.FieldNames())
	require.Len(t, l.Features, 5)
	plot := l.Features[0]
	assert.Equal(t, []any{"North & mill", "<b>wet</b>", "3", "12"}, plot.Values)
	assert.Equal(t, "p1", plot.ID)
	assert.Equal(t, "Polygon", plot.Geometry.Type)
	require.Len(t, plot.Geometry.Polygons, 1)
	require.Len(t, plot.Geometry.Polygons[0], 2)
	assert.Equal(t, [][2]float64{{12, 58}, {12.1, 58}, {12.1, 58.1}, {12, 58.1}}, [][2]float64(plot.Geometry.Polygons[0][0]))
	assert.Len(t, plot.Geometry.Polygons[0][1], 3)
	assert.Equal(t, "MultiPolygon", l.Features[1].Geometry.Type)
	assert.Len(t, l.Features[1].Geometry.Polygons, 2)
	assert.Equal(t, [][2]float64{{12.5, 58.5}}, l.Features[2].Geometry.Points)
	assert.Equal(t, "LineString", l.Features[3].Geometry.Type)
	assert.Empty(t, l.Features[4].Geometry.Type)
	assert.Equal(t, []string{"field.kml: 1 link to other files, which are not followed"}, l.Notes)
	assert.Contains(t, l.CRS.String(), "4326")
	for _, f := range l.Features {
		assert.Len(t, f.Values, len(l.Fields))
	}
}

// The text may be in an older encoding.
func TestEncodings(t *testing.T) {
	l, err := Parse("a.kml", []byte("<?xml version=\"1.0\" encoding=\"ISO-8859-1\"?><kml><Placemark><name>Stra\xdfe</name></Placemark></kml>"))
	require.NoError(t, err)
	assert.Equal(t, "Straße", l.Features[0].Values[0])
}

func TestWrongFiles(t *testing.T) {
	for text, want := range map[string]string{
		"<gpx></gpx>":        "it is not KML",
		"<kml><Placemark>":   "it ends inside a placemark",
		"<kml><a></b></kml>": "it is not well-formed",
		"<kml><Placemark><Point><coordinates>12;58</coordinates></Point></Placemark></kml>":                                                                       `line 1: "12;58" is not a position`,
		"<kml><Placemark><Point><coordinates>1,2,3,4</coordinates></Point></Placemark></kml>":                                                                     "is not a position",
		"<kml><Placemark><Polygon><innerBoundaryIs><LinearRing><coordinates>1,2 2,2 2,3</coordinates></LinearRing></innerBoundaryIs></Polygon></Placemark></kml>": "inner boundary before its outer one",
		"<kml>" + strings.Repeat("<Folder>", 2000):                                                                                                                "nested too deep",
		"<kml><Placemark>" + strings.Repeat("<a>", 2000):                                                                                                          "nested too deep",
		`<?xml version="1.0" encoding="klingon"?><kml></kml>`:                                                                                                     `its encoding "klingon" is not known`,
		`<!DOCTYPE kml [<!ENTITY a "aaaa"><!ENTITY b "&a;&a;">]><kml><Placemark><name>&b;</name></Placemark></kml>`:                                               "it ends inside a placemark",
	} {
		_, err := Parse("a.kml", []byte(text))
		assert.ErrorContains(t, err, want, text)
		assert.ErrorContains(t, err, "a.kml", text)
	}
	assert.True(t, Is([]byte(sample)))
	assert.False(t, Is([]byte("<html><kmlx")[:6]))
}

func FuzzParse(f *testing.F) {
	f.Add(sample)
	f.Fuzz(func(t *testing.T, text string) {
		l, err := Parse("a.kml", []byte(text))
		if err != nil {
			return
		}
		for _, x := range l.Features {
			if len(x.Values) != len(l.Fields) {
				t.Fatal("values without a field")
			}
		}
	})
}
