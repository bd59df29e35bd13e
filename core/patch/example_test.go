package patch_test

import (
	"context"
	"fmt"

	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/patch"
	"github.com/verdex-land/verdex/core/raster"
)

func ExampleFind() {
	crs, _ := earth.Lookup(3035) // equal-area, so that a cell of 100 m is a hectare
	g := raster.Grid{Width: 4, Height: 2, X0: 4321000, Y0: 3210200, DX: 100, DY: -100, CRS: crs}
	cover := raster.NewMemory("cover.tif", g, raster.Uint8, 4, 2)
	for i, code := range []float64{1, 1, 2, 2, 1, 3, 3, 2} {
		cover.Set(i%4, i/4, code)
	}
	_, err := patch.Find(context.Background(), patch.Request{
		Source: cover,
		Keep:   func(v float64) bool { return v == 1 || v == 3 },
		Bare:   true,
		Found: func(p *patch.Patch) error {
			fmt.Printf("class %g: %d cells, %.0f m²\n", p.Class, p.Cells, p.Area)
			return nil
		},
	})
	fmt.Println(err)
	// Output:
	// class 1: 3 cells, 30000 m²
	// class 3: 2 cells, 20000 m²
	// <nil>
}
