package epoch_test

import (
	"fmt"

	"github.com/verdex-land/verdex/core/epoch"
)

func ExampleYears() {
	fmt.Printf("%.1f %.1f\n", epoch.Years("2004", "2012"), epoch.Years("2012-07-01", "2020-07-01"))
	all, simple, compound := epoch.Rates(200, 242, 42, 2) // hectares, over two years
	fmt.Printf("%.1f %% in all, %.1f %% or %.1f %% a year\n", all, simple, compound)
	// Output:
	// 8.0 8.0
	// 21.0 % in all, 10.5 % or 10.0 % a year
}
