package parquet

import (
	"bytes"
	"testing"

	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/vector"
)

func FuzzDecode(f *testing.F) {
	crs, err := earth.Lookup(4326)
	if err != nil {
		f.Fatal(err)
	}
	var b bytes.Buffer
	err = Write(&b, &vector.Layer{CRS: crs, Fields: []vector.Field{{Name: "name"}, {Name: "n", Kind: vector.Integer}}, Features: []vector.Feature{
		{Values: []any{"a", int64(1)}, Geometry: vector.Geometry{Polygons: []vector.Polygon{{{{1, 1}, {3, 1}, {3, 3}, {1, 3}}}}}},
		{Values: []any{nil, nil}},
	}})
	if err != nil {
		f.Fatal(err)
	}
	f.Add(b.Bytes())
	f.Fuzz(func(t *testing.T, b []byte) {
		var l vector.Layer
		_ = Decode(bytes.NewReader(b), int64(len(b)), &l) // any error will do
	})
}
