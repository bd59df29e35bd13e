package geojson_test

import (
	"bytes"
	"fmt"

	"github.com/verdex-land/verdex/core/vector/geojson"
)

func Example() {
	l, err := geojson.Parse("wards.geojson", []byte(`{"type":"Feature","properties":{"code":"W1"},"geometry":{"type":"Polygon","coordinates":[[[12,58],[13,58],[13,59],[12,58]]]}}`))
	if err != nil {
		panic(err)
	}
	var out bytes.Buffer
	err = geojson.Write(&out, l, true)
	fmt.Println(l.FieldNames(), err)
	fmt.Print(out.String())
	// Output:
	// [code] <nil>
	// {"type":"Feature","properties":{"code":"W1"},"geometry":{"type":"Polygon","coordinates":[[[12.000000000,58.000000000],[13.000000000,58.000000000],[13.000000000,59.000000000],[12.000000000,58.000000000]]]}}
}
