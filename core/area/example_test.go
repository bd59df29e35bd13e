package area_test

import (
	"fmt"

	"github.com/verdex-land/verdex/core/area"
)

func ExampleFind() {
	unit, err := area.Find("km2")
	if err != nil {
		panic(err)
	}
	fmt.Println(2.5e6/unit.M2, unit.Label)
	fmt.Printf("%.1f %%\n", area.Percent(1, 8))
	// Output:
	// 2.5 square kilometres
	// 12.5 %
}
