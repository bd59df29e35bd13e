package check_test

import (
	"fmt"

	"github.com/verdex-land/verdex/core/check"
)

func ExampleJudge() {
	holds := check.Judge("inside", "all zones lie on the raster", "zones reach beyond the raster", nil)
	short := check.Judge("inside", "all zones lie on the raster", "zones reach beyond the raster", []check.Finding{{ZoneID: "W2", Value: 12, Text: "W2 by 12 %"}})
	fmt.Println(holds.Outcome == check.Holds, holds.Text)
	fmt.Println(short.Outcome == check.Holds, short.Text)
	// Output:
	// true all zones lie on the raster
	// false zones reach beyond the raster: W2 by 12 %
}
