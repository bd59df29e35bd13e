package geotiff

import (
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Majorities by vectors are those that are found by comparing, for every four of few values and any nodata value.
func TestHalvedBytes(t *testing.T) {
	values := []uint8{0, 1, 2, 127, 128, 200, 254, 255}
	var a, b []uint8
	for i := range len(values) * len(values) * len(values) * len(values) {
		a = append(a, values[i&7], values[i>>3&7])
		b = append(b, values[i>>6&7], values[i>>9&7])
	}
	r := rand.New(rand.NewPCG(1, 2))
	for range 3000 {
		a, b = append(a, uint8(r.Uint32()), uint8(r.IntN(4))), append(b, uint8(r.IntN(4)), uint8(r.Uint32()))
	}
	for _, nodata := range append(slices.Clone(values), 3, 199, 201) {
		for _, some := range []bool{false, true} {
			d := make([]uint8, len(a)/2)
			n := halved(d, a, b, nodata, some)
			require.Contains(t, []int{0, len(d) &^ 15}, n)
			for i, got := range d[:n] {
				four := [4]uint8{a[2*i], a[2*i+1], b[2*i], b[2*i+1]}
				want := majority(four[0], four[1], four[2], four[3])
				if some {
					want = majorityOf(four, nodata)
				}
				require.Equal(t, want, got, "%d, nodata %d %v", four, nodata, some)
			}
			assert.Zero(t, slices.Max(d[n:]))
		}
	}
}
