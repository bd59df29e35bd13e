package spread_test

import (
	"fmt"

	"github.com/verdex-land/verdex/core/spread"
)

// Each goroutine begins once, and then takes numbers.
func ExampleOver() {
	squares := make([]int, 5)
	spread.Over(len(squares), func() func(i int) {
		return func(i int) { squares[i] = i * i }
	})
	fmt.Println(squares)
	// Output:
	// [0 1 4 9 16]
}
