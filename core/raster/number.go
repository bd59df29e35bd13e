package raster

import "math"

// AsByte is the two's complement of a number that int8 holds.
func AsByte(v float64) float64 {
	if math.IsNaN(v) {
		return v
	}
	return float64(uint8(int8(v)))
}

// Number is any type that cells are stored in.
type Number interface {
	uint8 | int8 | uint16 | int16 | uint32 | int32 | float32 | float64
}
