package parquet

import (
	"bytes"
	"testing"

	"github.com/parquet-go/parquet-go"
	"github.com/parquet-go/parquet-go/format"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/vector"
)

// outlines is the type of a native column of outlines.
type outlines struct {
	parquet.Type
	crs string
}

func (o outlines) LogicalType() *format.LogicalType {
	return &format.LogicalType{Value: &format.GeometryType{CRS: o.crs}}
}

// A column of the type GEOMETRY needs no note; its CRS is a code, PROJJSON, or the key under which the file has it.
func TestNativeOutlines(t *testing.T) {
	swiss, err := earth.Lookup(2056)
	require.NoError(t, err)
	square := vector.Geometry{Polygons: []vector.Polygon{{{{2600000, 1200000}, {2600100, 1200000}, {2600100, 1200100}, {2600000, 1200100}}}}}
	for stated, code := range map[string]int{"": 4326, "OGC:CRS84": 4326, "EPSG:2056": 2056, "srid:2056": 2056, "projjson:own": 2056, string(swiss.PROJJSON()): 2056, "srid:0": 0, "projjson:none": 0, "local": 0} {
		n := newTable("shape")
		n.addField(vector.Field{Name: "code"}, parquet.String(), nil)
		n.add("shape", parquet.Leaf(outlines{parquet.ByteArrayType, stated}), func(v any) parquet.Value { return parquet.ByteArrayValue(v.([]byte)) })
		var b bytes.Buffer
		n.begin(&b, "zones", parquet.KeyValueMetadata("own", string(swiss.PROJJSON())))
		require.NoError(t, n.write("A", square.Geom(false).AppendWKB(nil)))
		require.NoError(t, n.close())
		var l vector.Layer
		require.NoError(t, Decode(bytes.NewReader(b.Bytes()), int64(b.Len()), &l), stated)
		assert.Equal(t, []string{"code"}, l.FieldNames())
		assert.Equal(t, square.Polygons, l.Features[0].Geometry.Polygons)
		if code == 0 {
			assert.Nil(t, l.CRS, stated)
			assert.NotEmpty(t, l.CRSProblem, stated)
			continue
		}
		require.NotNil(t, l.CRS, "%s: %s", stated, l.CRSProblem)
		assert.Equal(t, code, l.CRS.Code, stated)
	}
}

// A layer in any CRS is written in it, and read again from its definition where it has no code.
func TestOwnCRS(t *testing.T) {
	for _, code := range []int{4326, 3857, 2056, 5514, 3413, 8857} {
		c, err := earth.Lookup(code)
		require.NoError(t, err)
		var b bytes.Buffer
		require.NoError(t, Write(&b, &vector.Layer{CRS: c, Features: []vector.Feature{{Geometry: vector.Geometry{Points: []vector.Point{{1, 2}}}}}}))
		var l vector.Layer
		require.NoError(t, Decode(bytes.NewReader(b.Bytes()), int64(b.Len()), &l))
		require.NotNil(t, l.CRS, l.CRSProblem)
		assert.Equal(t, code, l.CRS.Code)
	}
}
