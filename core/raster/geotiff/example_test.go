package geotiff_test

import (
	"bytes"
	"context"
	"fmt"

	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/raster/geotiff"
)

// What is written is read again: grid, CRS, type and cells.
func Example() {
	crs, _ := earth.Lookup(3035) // equal-area, so that a cell of 100 m is a hectare
	g := raster.Grid{Width: 4, Height: 2, X0: 4321000, Y0: 3210200, DX: 100, DY: -100, CRS: crs}
	cover := raster.NewMemory("cover.tif", g, raster.Uint8, 4, 2)
	for i, code := range []float64{1, 1, 2, 2, 1, 3, 3, 2} {
		cover.Set(i%4, i/4, code)
	}
	var file bytes.Buffer
	if err := geotiff.Write(context.Background(), &file, cover, geotiff.Options{}); err != nil {
		panic(err)
	}
	s, err := geotiff.New(bytes.NewReader(file.Bytes()), int64(file.Len()), "cover.tif", 1)
	if err != nil {
		panic(err)
	}
	defer s.Close()
	var cells raster.Cells
	if err := s.NewReader().Read(raster.Window{Col: 1, Row: 1, Width: 2, Height: 1}, &cells); err != nil {
		panic(err)
	}
	fmt.Println(s.Header().Grid.CRS, s.Header().Type, cells.At(0, 0), cells.At(1, 0))
	// Output:
	// EPSG:3035 ETRS89-extended / LAEA Europe uint8 3 3
}
