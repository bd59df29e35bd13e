package cli

import (
	"fmt"
	"math"
	"strconv"
	"strings"
)

// finite reads a number of an option that is neither infinite nor NaN.
func finite(text string) (float64, error) {
	v, err := strconv.ParseFloat(strings.TrimSpace(text), 64)
	if err == nil && (math.IsNaN(v) || math.IsInf(v, 0)) {
		err = fmt.Errorf("%q is not a finite number", text)
	}
	return v, err
}

// notNegative refuses what cannot be an area.
func notNegative(v float64) error {
	if v >= 0 && !math.IsInf(v, 0) {
		return nil
	}
	return fmt.Errorf("%v: give a number that is not negative", v)
}

// within refuses a number outside a range.
func within(n, least, most int) error {
	if n < least || n > most {
		return fmt.Errorf("%d: give a number from %d to %d", n, least, most)
	}
	return nil
}
