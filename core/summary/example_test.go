package summary_test

import (
	"context"
	"fmt"

	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/summary"
	"github.com/verdex-land/verdex/core/tally"
)

// The mean height of two rows of cells in degrees leans to the southern one, which covers more ground.
func ExampleSummarise() {
	crs, _ := earth.Lookup(4326)
	g := raster.Grid{Width: 1, Height: 2, X0: 12, Y0: 60, DX: 10, DY: -10, CRS: crs}
	heights := raster.NewMemory("heights.tif", g, raster.Int16, 1, 2)
	heights.Set(0, 0, 100)
	heights.Set(0, 1, 200)
	zones, place, err := tally.Whole(g)
	if err != nil {
		panic(err)
	}
	stats, err := summary.ParseStatistics("count,mean,max")
	if err != nil {
		panic(err)
	}
	s, err := summary.Summarise(context.Background(), summary.Request{Values: heights, Zones: zones, Placement: place, Stats: stats})
	if err != nil {
		panic(err)
	}
	for i, stat := range s.Stats {
		fmt.Printf("%s %.1f\n", stat.Name, s.Rows[0].Values[i])
	}
	// Output:
	// count 2.0
	// mean 155.2
	// max 200.0
}
