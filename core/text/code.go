package text

import (
	"fmt"
	"strings"
)

// Code returns a code of a class as it is written everywhere: a whole number without the decimal point and zeros that programs add where a
// column has empty cells ("1.0" is 1). A number with other decimals is an error; whatever else is not a whole number is returned as it is.
func Code(cell string) (string, error) {
	whole, decimals, point := strings.Cut(cell, ".")
	switch {
	case strings.EqualFold(cell, "nan"):
		return "", fmt.Errorf("the code %q is not a number", cell)
	case !point || !digits(strings.TrimLeft(whole, "+-")) || !digits(decimals) && decimals != "":
		return cell, nil
	case strings.Trim(decimals, "0") != "":
		return "", fmt.Errorf("the code %q is not a whole number", cell)
	}
	return whole, nil
}

func digits(text string) bool { return text != "" && strings.Trim(text, "0123456789") == "" }
