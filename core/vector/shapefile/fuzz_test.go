package shapefile

import (
	"bytes"
	"testing"

	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/vector"
)

func sample(t interface{ Fatal(...any) }) Files {
	crs, err := earth.Lookup(4326)
	if err != nil {
		t.Fatal(err)
	}
	files, _, err := Encode(&vector.Layer{CRS: crs, Fields: []vector.Field{{Name: "name"}, {Name: "n", Kind: vector.Integer}}, Features: []vector.Feature{
		{Values: []any{"a", int64(1)}, Geometry: vector.Geometry{Polygons: []vector.Polygon{{{{1, 1}, {3, 1}, {3, 3}, {1, 3}}, {{1.5, 1.5}, {1.5, 2}, {2, 2}}}}}},
		{Values: []any{nil, nil}},
	}})
	if err != nil {
		t.Fatal(err)
	}
	return files
}

func FuzzShapes(f *testing.F) {
	f.Add(sample(f)[".shp"])
	f.Fuzz(func(t *testing.T, b []byte) {
		var l vector.Layer
		_ = decodeShapes(bytes.NewReader(b), int64(len(b)), &l) // any error will do
	})
}

func FuzzTable(f *testing.F) {
	f.Add(sample(f)[".dbf"], "UTF-8", 2)
	f.Add(sample(f)[".dbf"], "1252", 2)
	f.Fuzz(func(t *testing.T, b []byte, cpg string, n int) {
		if n < 0 || n > 100 {
			return
		}
		l := vector.Layer{Features: make([]vector.Feature, n)}
		_ = decodeTable(bytes.NewReader(b), cpg, &l)
	})
}
