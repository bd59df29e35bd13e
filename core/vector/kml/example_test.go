package kml_test

import (
	"fmt"

	"github.com/verdex-land/verdex/core/vector/kml"
)

func ExampleParse() {
	l, err := kml.Parse("field.kml", []byte(`<kml><Placemark><name>Mill</name><Polygon><outerBoundaryIs><LinearRing>
<coordinates>12,58 12.1,58 12.1,58.1 12,58</coordinates></LinearRing></outerBoundaryIs></Polygon></Placemark></kml>`))
	if err != nil {
		panic(err)
	}
	fmt.Println(l.FieldNames(), l.Features[0].Values, l.Features[0].Geometry.Type)
	// Output:
	// [name] [Mill] Polygon
}
