package change_test

import (
	"context"
	"fmt"

	"github.com/verdex-land/verdex/core/area"
	"github.com/verdex-land/verdex/core/change"
	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/tally"
)

// Of four hectares of wood, one becomes fields.
func ExampleCompare() {
	crs, _ := earth.Lookup(3035) // equal-area, so that a cell of 100 m is a hectare
	g := raster.Grid{Width: 4, Height: 1, X0: 4321000, Y0: 3210000, DX: 100, DY: -100, CRS: crs}
	before, after := raster.NewMemory("2010.tif", g, raster.Uint8, 4, 1), raster.NewMemory("2020.tif", g, raster.Uint8, 4, 1)
	for col, code := range []float64{1, 1, 1, 2} {
		before.Set(col, 0, 1)
		after.Set(col, 0, code)
	}
	zones, place, err := tally.Whole(g)
	if err != nil {
		panic(err)
	}
	t, err := tally.Measure(context.Background(), tally.Request{Layers: []raster.Source{before, after}, Zones: zones, Placement: place})
	if err != nil {
		panic(err)
	}
	legend, _ := cover.NewLegend("legend", []cover.Class{{Code: 1, Name: "Wood"}, {Code: 2, Name: "Fields"}})
	coder := &cover.Coder{Legend: legend}
	ha, _ := area.Find("ha")
	c, err := change.Compare(change.Input{Epochs: []string{"2010", "2020"}, Rasters: []string{"2010.tif", "2020.tif"}, Coders: []*cover.Coder{coder, coder},
		Tally: t, Zones: zones, Placement: place}, ha)
	if err != nil {
		panic(err)
	}
	pair := c.Pairs[0]
	for _, b := range pair.Balances(&pair.Zones[0]) {
		fmt.Printf("%s: %g + %g - %g = %g %s\n", b.Class.Name, b.OpeningArea, b.AdditionsArea, b.ReductionsArea, b.ClosingArea, ha.Name)
	}
	// Output:
	// Wood: 4 + 0 - 1 = 3 ha
	// Fields: 0 + 1 - 0 = 1 ha
}
