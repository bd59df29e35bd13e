package vector_test

import (
	"fmt"

	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/vector"
)

func ExampleArea() {
	crs, _ := earth.Lookup(3035)
	g, err := vector.FromWKT("POLYGON((4321000 3210000, 4321200 3210000, 4321200 3210100, 4321000 3210100, 4321000 3210000))")
	if err != nil {
		panic(err)
	}
	m2, ok := vector.Area(crs, &g)
	fmt.Println(m2, ok)
	// Output:
	// 20000 true
}
