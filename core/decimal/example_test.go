package decimal_test

import (
	"fmt"
	"slices"

	"github.com/verdex-land/verdex/core/decimal"
)

func ExampleOf() {
	fmt.Println(decimal.Of(slices.Values([]string{"12.50", "3.00"})).Kind == decimal.Real)
	fmt.Println(decimal.Of(slices.Values([]string{"1.1", "1.10"})).Kind == decimal.Text) // two classes
	_, err := decimal.Parse("5_0")
	fmt.Println(err)
	// Output:
	// true
	// true
	// strconv.ParseFloat: parsing "5_0": invalid syntax
}
