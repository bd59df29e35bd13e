package raster_test

import (
	"fmt"

	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/raster"
)

// A cell of a grid in degrees covers less ground the farther it lies from the equator.
func ExampleAreas() {
	crs, _ := earth.Lookup(4326)
	areas, err := raster.NewAreas(raster.Grid{Width: 360, Height: 180, X0: -180, Y0: 90, DX: 1, DY: -1, CRS: crs})
	if err != nil {
		panic(err)
	}
	for _, row := range []int{0, 89} {
		m2, _ := areas.Cell(0, row)
		fmt.Printf("row %d: %.0f km²\n", row, m2/1e6)
	}
	// Output:
	// row 0: 109 km²
	// row 89: 12308 km²
}

// A source hands out readers, one for each goroutine.
func ExampleSource() {
	crs, _ := earth.Lookup(3035)
	s := raster.NewFunc(raster.Header{Grid: raster.Grid{Width: 8, Height: 8, DX: 10, DY: -10, CRS: crs}, Type: raster.Uint8},
		func(col, row int) float64 { return float64(10*row + col) })
	var cells raster.Cells
	if err := s.NewReader().Read(raster.Window{Col: 2, Row: 1, Width: 3, Height: 1}, &cells); err != nil {
		panic(err)
	}
	fmt.Println(cells.U8)
	// Output:
	// [12 13 14]
}
