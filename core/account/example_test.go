package account_test

import (
	"fmt"

	"github.com/verdex-land/verdex/core/account"
)

// Rounded parts add up to the rounded whole.
func ExampleRoundToSum() {
	parts := []float64{33.333, 33.333, 33.334}
	fmt.Println(account.RoundToSum(parts, 0), account.RoundToSum([]float64{1.26, 1.26, 1.48}, 1))
	// Output:
	// [33 33 34] [1.3 1.2 1.5]
}
