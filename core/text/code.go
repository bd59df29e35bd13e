package text

import (
	"fmt"
	"math"
	"strconv"
	"strings"
)

// Code returns a code of a class as it is written everywhere: a whole number without a decimal point, which programs add where a column
// has empty cells ("1.0" is 1). A number that is not whole is an error; what is not a number is returned as it is.
func Code(cell string) (string, error) {
	if !strings.ContainsAny(cell, ".eE") && !strings.EqualFold(cell, "nan") {
		return cell, nil
	}
	v, err := strconv.ParseFloat(cell, 64)
	switch {
	case err != nil || math.IsInf(v, 0):
		return cell, nil
	case math.IsNaN(v):
		return "", fmt.Errorf("the code %q is not a number", cell)
	case v != math.Trunc(v) || math.Abs(v) >= 1<<53:
		return "", fmt.Errorf("the code %q is not a whole number", cell)
	}
	return strconv.FormatFloat(v, 'f', -1, 64), nil
}
