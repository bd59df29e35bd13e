package planar_test

import (
	"fmt"

	"github.com/verdex-land/verdex/core/planar"
)

func ExampleCut() {
	square := [][2]float64{{0, 0}, {2, 0}, {2, 2}, {0, 2}}
	left := planar.Cut(nil, square, 0, 0.5, true)
	fmt.Println(planar.Area(square), planar.Area(left))
	// Output:
	// 4 1
}
