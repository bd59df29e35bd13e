package raster

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
)

// Bits tell where bytes differ, by vectors as in plain Go, wherever the bytes begin.
func TestUnequal(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 6))
	for n := range 200 {
		words := r.IntN(9)
		a, b := make([]uint8, 64*words+r.IntN(70)), make([]uint8, 64*words+r.IntN(70))
		for i := range a {
			a[i] = uint8(r.IntN(1 + n%4*85))
		}
		copy(b, a)
		for i := range b {
			if r.IntN(1+n%30) == 0 {
				b[i] ^= uint8(1 << r.IntN(8))
			}
		}
		got, plain := make([]uint64, words), make([]uint64, words)
		Unequal(got, a, b)
		unequal(plain, a, b)
		assert.Equal(t, plain, got)
		for i := range 64 * words {
			if got[i/64]>>(i%64)&1 == 1 != (a[i] != b[i]) {
				t.Fatalf("byte %d of %d and %d", i, a[i], b[i])
			}
		}
	}
}
