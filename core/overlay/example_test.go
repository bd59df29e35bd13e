package overlay_test

import (
	"context"
	"fmt"

	"github.com/verdex-land/verdex/core/area"
	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/overlay"
	"github.com/verdex-land/verdex/core/vector"
	"github.com/verdex-land/verdex/core/zone"
)

// A square of two hectares of wood, of which a zone holds half.
func ExampleLay() {
	crs, _ := earth.Lookup(3035)
	square := func(x0, x1 float64) vector.Geometry {
		const y = 3210000
		return vector.Geometry{Type: "Polygon", Polygons: []vector.Polygon{{{{x0, y}, {x1, y}, {x1, y + 100}, {x0, y + 100}}}}}
	}
	polygons := &vector.Layer{Source: "cover.gpkg", CRS: crs, Fields: []vector.Field{{Name: "class"}}, Features: []vector.Feature{
		{Values: []any{"1"}, Geometry: square(4321000, 4321200)}}}
	zones, err := zone.FromText("POLYGON((4321100 3210000, 4321300 3210000, 4321300 3210100, 4321100 3210100, 4321100 3210000))", crs)
	if err != nil {
		panic(err)
	}
	legend, _ := cover.NewLegend("legend", []cover.Class{{Code: 1, Name: "Wood"}})
	ha, _ := area.Find("ha")
	c, err := overlay.Lay(context.Background(), overlay.Input{Cover: polygons, Field: "class", Legend: legend, Zones: zones}, ha)
	if err != nil {
		panic(err)
	}
	for _, row := range c.Zones[0].Rows() {
		if row.Area > 0 {
			fmt.Printf("%v %s %.3f ha\n", row.Kind, row.Name, row.Area)
		}
	}
	// Output:
	// class Wood 1.000 ha
	// outside outside the cover 1.000 ha
}
