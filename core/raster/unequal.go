package raster

import "encoding/binary"

// unequal is Unequal in plain Go.
func unequal(dst []uint64, a, b []uint8) {
	for w := range dst {
		these, those := a[64*w:][:64], b[64*w:][:64]
		var m uint64
		for k := 0; k < 64; k += 8 {
			m |= NotZero(binary.LittleEndian.Uint64(these[k:])^binary.LittleEndian.Uint64(those[k:])) << k
		}
		dst[w] = m
	}
}

// NotZero has bit i set where byte i of x is not 0.
func NotZero(x uint64) uint64 {
	if x == 0 {
		return 0
	}
	const low = 0x7f7f7f7f7f7f7f7f
	return ((x&low + low | x) >> 7 & 0x0101010101010101) * 0x0102040810204080 >> 56
}
