package portable_test

import (
	"fmt"

	"github.com/verdex-land/verdex/core/portable"
)

func ExampleSinh() {
	fmt.Printf("%.3f %.3f", portable.Sinh(1), portable.Pow(2, 0.25))
	// Output: 1.175 1.189
}
