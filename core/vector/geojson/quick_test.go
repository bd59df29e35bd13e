package geojson

import (
	"reflect"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var forms = []string{
	`{"type":"Feature","properties":{"id":"0-0"},"geometry":{"type":"Polygon","coordinates":[[[0,0],[1,0],[1,1],[0,0]]]}}`,
	` { "type" : "Feature" , "id" : 7 , "properties" : { "a" : 1.50 , "b" : -0 , "c" : true , "d" : null , "e" : "Värra" , "f":1e3, "g":false } , "geometry" : null } `,
	`{"geometry":{"coordinates":[5,6.25],"type":"Point"},"id":"x","properties":null,"type":"Feature"}`,
	`{"type":"Feature","properties":{},"geometry":{"type":"MultiPolygon","coordinates":[[[[0,0],[1,0],[1,1],[0,0]]],[[[5,5],[6,5],[6,6],[5,5]]]]}}`,
	`{"type":"Feature","properties":{"n":9223372036854775808,"m":0.1},"geometry":{"type":"Polygon","coordinates":[]}}`,
}

// What is usual is read the quick way, and comes out as by the library.
func TestUsualFeaturesAreReadQuickly(t *testing.T) {
	var r reader
	for _, text := range forms {
		var f, g parsedFeature
		assert.True(t, r.quick(&f, []byte(text)), text)
		require.NoError(t, f.assemble())
		require.NoError(t, r.slow(&g, []byte(text)), text)
		assert.Equal(t, len(g.properties), len(f.properties))
		for i := range g.properties {
			assert.Equal(t, g.properties[i], f.properties[i])
		}
		assert.Equal(t, g.geometry, f.geometry)
		assert.Equal(t, g.id, f.id)
	}
	for _, text := range []string{
		`{"type":"Feature","properties":{"a":1,"a":2},"geometry":null}`, `{"type":"Feature","type":"Feature"}`, `{"type":"Feature","properties":{"a":01}}`,
		`{"type":"Feature","properties":{"a":"\u00e4"}}`, "{\"type\":\"Feature\",\"properties\":{\"a\":\"\xff\"}}", `{"type":"Feature","bbox":[0,0,1,1]}`,
		`{"type":"Feature","properties":{"a":{}}}`, `{"type":"Feature"} x`, `{"type":"Feature",}`, `{"type":"Feature"`, `{"type":"Feature","geometry":{"type":"Point","coordinates":[1,2,]}}`,
		`{"type":"Feature","properties":{"a":nul}}`, `{"type":"Feature","properties":{"a":-}}`, `{"type":"Feature","properties":{"a":1.}}`, `{"type":"Feature","id":1e}`,
	} {
		var f parsedFeature
		assert.False(t, r.quick(&f, []byte(text)), text)
	}
}

// Whatever is read quickly the library reads too, and the same.
func FuzzQuick(f *testing.F) {
	for _, text := range forms {
		f.Add([]byte(text))
	}
	var r reader
	f.Fuzz(func(t *testing.T, text []byte) {
		var a, b parsedFeature
		if !r.quick(&a, text) {
			return
		}
		errA := a.assemble()
		errB := r.slow(&b, text)
		if (errA == nil) != (errB == nil) {
			t.Fatalf("quickly %v, else %v", errA, errB)
		}
		if errA != nil {
			return
		}
		if len(a.properties)+len(b.properties) > 0 && !reflect.DeepEqual(a.properties, b.properties) || !reflect.DeepEqual(a.geometry, b.geometry) || a.id != b.id {
			t.Fatalf("quickly %+v, else %+v", a, b)
		}
	})
}
