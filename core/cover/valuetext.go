package cover

import (
	"math"
	"strconv"
)

// ValueText writes a value as people write it, all digits and no exponent, so that codes of seven digits and more are
// found again in tables: 1234567.
func ValueText(v float64) string {
	if math.Abs(v) >= 1e21 || v != 0 && math.Abs(v) < 1e-9 {
		return strconv.FormatFloat(v, 'g', -1, 64)
	}
	return strconv.FormatFloat(v, 'f', -1, 64)
}
