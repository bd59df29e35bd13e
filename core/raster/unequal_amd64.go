package raster

//go:noescape
func unequalWords(dst *uint64, a, b *uint8, words int)

// Unequal sets bit i of dst, 64 bits a word, where byte i of a is another one than byte i of b, which have as many bytes at least as dst has bits.
func Unequal(dst []uint64, a, b []uint8) {
	if len(dst) == 0 {
		return
	}
	_, _ = a[64*len(dst)-1], b[64*len(dst)-1]
	unequalWords(&dst[0], &a[0], &b[0], len(dst))
}
