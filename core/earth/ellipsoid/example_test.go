package ellipsoid_test

import (
	"fmt"
	"math"

	"github.com/verdex-land/verdex/core/earth/ellipsoid"
)

func ExampleEllipsoid_ZoneArea() {
	e := ellipsoid.WGS84
	half := e.ZoneArea(0, math.Pi/2, 2*math.Pi)
	fmt.Printf("%.4f\n", half/e.Area())
	// Output:
	// 0.5000
}

// From 12° E, 58° N, 100 km to the north.
func ExampleEllipsoid_Direct() {
	const degree = math.Pi / 180
	lon, lat := ellipsoid.WGS84.Direct(12*degree, 58*degree, 0, 100e3)
	fmt.Printf("%.4f %.4f\n", lon/degree, lat/degree)
	// Output:
	// 12.0000 58.8978
}
