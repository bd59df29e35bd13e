package extent_test

import (
	"context"
	"fmt"

	"github.com/verdex-land/verdex/core/area"
	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/extent"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/tally"
)

// What a raster of eight hectares holds, as rows.
func ExampleCompose() {
	crs, _ := earth.Lookup(3035) // equal-area, so that a cell of 100 m is a hectare
	g := raster.Grid{Width: 4, Height: 2, X0: 4321000, Y0: 3210200, DX: 100, DY: -100, CRS: crs}
	codes := raster.NewMemory("cover.tif", g, raster.Uint8, 4, 2)
	for i, code := range []float64{1, 1, 2, 2, 1, 3, 3, 2} {
		codes.Set(i%4, i/4, code)
	}
	zones, place, err := tally.Whole(g)
	if err != nil {
		panic(err)
	}
	t, err := tally.Measure(context.Background(), tally.Request{Layers: []raster.Source{codes}, Zones: zones, Placement: place})
	if err != nil {
		panic(err)
	}
	legend, _ := cover.NewLegend("legend", []cover.Class{{Code: 1, Name: "Wood"}, {Code: 2, Name: "Fields"}, {Code: 3, Name: "Water"}})
	ha, _ := area.Find("ha")
	c, err := extent.Compose(extent.Input{Raster: "cover.tif", Tally: t, Zones: zones, Placement: place, Coder: &cover.Coder{Legend: legend}}, ha)
	if err != nil {
		panic(err)
	}
	for _, row := range c.Zones[0].Rows() {
		if row.Kind == cover.Classified {
			fmt.Printf("%-6s %g ha %g %%\n", row.Name, row.Area, row.PctOfZone)
		}
	}
	// Output:
	// Wood   3 ha 37.5 %
	// Fields 3 ha 37.5 %
	// Water  2 ha 25 %
}
