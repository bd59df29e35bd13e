package tally_test

import (
	"context"
	"fmt"

	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/tally"
	"github.com/verdex-land/verdex/core/zone"
)

// A zone that cuts the cells of the upper row in half.
func ExampleMeasure() {
	crs, _ := earth.Lookup(3035) // equal-area, so that a cell of 100 m is a hectare
	g := raster.Grid{Width: 4, Height: 2, X0: 4321000, Y0: 3210200, DX: 100, DY: -100, CRS: crs}
	cover := raster.NewMemory("cover.tif", g, raster.Uint8, 4, 2)
	for i, code := range []float64{1, 1, 2, 2, 1, 3, 3, 2} {
		cover.Set(i%4, i/4, code)
	}
	zones, err := zone.FromText("POLYGON((4321000 3210000, 4321400 3210000, 4321400 3210150, 4321000 3210150, 4321000 3210000))", crs)
	if err != nil {
		panic(err)
	}
	place, err := zones.Place(g)
	if err != nil {
		panic(err)
	}
	t, err := tally.Measure(context.Background(), tally.Request{Layers: []raster.Source{cover}, Zones: zones, Placement: place})
	if err != nil {
		panic(err)
	}
	for i, v := range t.Zones[0].Values {
		e := t.Zones[0].Extents[i]
		fmt.Printf("value %g: %g cells, %g m²\n", t.Number(0, 0, v[0]), e.CellCount(), e.Area(t.Quantum))
	}
	// Output:
	// value 1: 2 cells, 20000 m²
	// value 2: 2 cells, 20000 m²
	// value 3: 2 cells, 20000 m²
}
