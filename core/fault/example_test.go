package fault_test

import (
	"errors"
	"fmt"

	"github.com/verdex-land/verdex/core/fault"
)

// An error states a fact and what mends it; a command line writes the options its own way.
func ExampleText() {
	err := fmt.Errorf("measure: %w", fault.Errorf("wards.csv: it does not state its CRS").By("give it", "zones-crs", "EPSG:3035"))
	fmt.Println(err)
	fmt.Println(fault.Text(err, func(option, value string) string { return "--" + option + " " + value }))
	var e *fault.Error
	fmt.Println(errors.As(err, &e), e.Misuse)
	// Output:
	// measure: wards.csv: it does not state its CRS: give it with the option zones-crs EPSG:3035
	// measure: wards.csv: it does not state its CRS: give it with --zones-crs EPSG:3035
	// true false
}
