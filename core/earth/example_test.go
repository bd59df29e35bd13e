package earth_test

import (
	"fmt"
	"math"

	"github.com/verdex-land/verdex/core/earth"
)

// The area of a degree square depends on where it lies.
func ExampleCRS_OutlineArea() {
	crs, err := earth.Lookup(4326)
	if err != nil {
		panic(err)
	}
	for _, south := range []float64{0, 58} {
		area, _ := crs.OutlineArea([][2]float64{{12, south}, {13, south}, {13, south + 1}, {12, south + 1}})
		fmt.Printf("%.1f km²\n", area/1e6)
	}
	// Output:
	// 12308.5 km²
	// 6494.4 km²
}

// A projection's own plane is not the ground: at the edge of a UTM zone a square kilometre on the map is less than one on the Earth.
func ExampleCRS_Density() {
	crs, err := earth.ParseCRS("EPSG:32633")
	if err != nil {
		panic(err)
	}
	const degree = math.Pi / 180
	x, y, _ := crs.FromGeographic(12*degree, 58*degree)
	density, ok := crs.Density(x, y)
	fmt.Printf("%v: %.5f m² on the ground for 1 m² on the map, %v\n", crs, density, ok)
	// Output:
	// EPSG:32633 WGS 84 / UTM zone 33N: 1.00003 m² on the ground for 1 m² on the map, true
}
