package parquet_test

import (
	"bytes"
	"fmt"

	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/vector"
	"github.com/verdex-land/verdex/core/vector/parquet"
)

func Example() {
	crs, _ := earth.Lookup(4326)
	g, _ := vector.FromWKT("POLYGON((12 58, 13 58, 13 59, 12 58))")
	wards := &vector.Layer{Name: "wards", CRS: crs, Fields: []vector.Field{{Name: "code"}}, Features: []vector.Feature{{Values: []any{"W1"}, Geometry: g}}}
	var file bytes.Buffer
	if err := parquet.Write(&file, wards); err != nil {
		panic(err)
	}
	var back vector.Layer
	err := parquet.Decode(bytes.NewReader(file.Bytes()), int64(file.Len()), &back)
	fmt.Println(back.FieldNames(), back.Features[0].Values, back.CRS, err)
	// Output:
	// [code] [W1] EPSG:4326 WGS 84 <nil>
}
