package raster

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestByteTables(t *testing.T) {
	rng := rand.New(rand.NewPCG(7, 7))
	for _, outcomes := range []int{0, 1, 2, 5, 256} {
		var table [256]uint8
		for i := range table {
			if outcomes == 0 { // most stay what they are
				if table[i] = uint8(i); i == 9 || i == 10 || i == 255 {
					table[i] = 1
				}
				continue
			}
			if outcomes != 5 || i%64 < 16 { // some upper halves have nothing of their own
				table[i] = uint8(rng.IntN(outcomes) + 3)
			}
		}
		b := NewByteTable(table)
		require.Equal(t, outcomes == 0, b.keep)
		for range 100 {
			n := rng.IntN(200)
			src, was := make([]uint8, n+1), make([]uint8, n+1)
			for i := range src {
				src[i], was[i] = uint8(rng.IntN(256)), uint8(rng.IntN(256))
			}
			out := append([]uint8{}, was...)
			b.Apply(out, src[:n])
			sum := append([]uint8{}, was...)
			b.AddTo(sum, src[:n])
			for i := range n {
				require.Equal(t, table[src[i]], out[i])
				require.Equal(t, was[i]+table[src[i]], sum[i])
			}
			require.Equal(t, was[n], out[n])
			b.Apply(src, src[:n]) // in place
			require.Equal(t, out[:n], src[:n])
		}
	}
}

func BenchmarkByteTable(b *testing.B) {
	var table [256]uint8
	for i := range 40 {
		table[i] = uint8(i / 5)
	}
	t := NewByteTable(table)
	row, out := make([]uint8, 512), make([]uint8, 512)
	b.SetBytes(512)
	for range b.N {
		t.Apply(out, row)
	}
}
