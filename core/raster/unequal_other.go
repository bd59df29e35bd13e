//go:build !amd64

package raster

// Unequal sets bit i of dst, 64 bits a word, where byte i of a is another one than byte i of b, which have as many bytes at least as dst has bits.
func Unequal(dst []uint64, a, b []uint8) { unequal(dst, a, b) }
