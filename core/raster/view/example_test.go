package view_test

import (
	"fmt"

	"github.com/verdex-land/verdex/core/cql"
	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/raster/view"
)

// A view computes cells when they are read: here an index of two layers.
func ExampleNewExpression() {
	crs, _ := earth.Lookup(3035)
	g := raster.Grid{Width: 2, Height: 1, X0: 4321000, Y0: 3210000, DX: 100, DY: -100, CRS: crs}
	layer := func(name string, values ...float64) view.Layer {
		m := raster.NewMemory(name, g, raster.Float32, 2, 1)
		for col, v := range values {
			m.Set(col, 0, v)
		}
		return view.Layer{Name: name, Source: m}
	}
	layers, err := view.NewLayers([]view.Layer{layer("nir", 3, 1), layer("red", 1, 1)})
	if err != nil {
		panic(err)
	}
	formula, err := cql.ParseNumber("(nir - red) / (nir + red)")
	if err != nil {
		panic(err)
	}
	index, err := view.NewExpression(layers, formula)
	if err != nil {
		panic(err)
	}
	var cells raster.Cells
	if err := index.NewReader().Read(raster.Window{Width: 2, Height: 1}, &cells); err != nil {
		panic(err)
	}
	fmt.Println(cells.At(0, 0), cells.At(1, 0))
	// Output:
	// 0.5 0
}
