package pack

import (
	"bytes"
	"compress/zlib"
	"io"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/raster/geotiff/unpack"
)

// back undoes a stream by the standard library, which checks its sum, and by our own decoder.
func back(t *testing.T, packed []byte, n int) []byte {
	t.Helper()
	r, err := zlib.NewReader(bytes.NewReader(packed))
	require.NoError(t, err)
	out, err := io.ReadAll(r)
	require.NoError(t, err)
	var inflater unpack.Inflater
	own := make([]byte, n)
	written, err := inflater.Zlib(own, packed)
	require.NoError(t, err)
	require.Equal(t, n, written)
	require.True(t, bytes.Equal(out, own))
	return out
}

// patches are cells of some bytes in rows, which mostly go on.
func patches(rng *rand.Rand, cells, width, cell, classes int, change float64) []byte {
	out := make([]byte, 0, cells*cell)
	for i := range cells {
		v := rng.IntN(classes)
		if i > 0 && rng.Float64() > change {
			from := i - 1
			if i >= width && rng.IntN(2) == 0 {
				from = i - width
			}
			out = append(out, out[from*cell:][:cell]...)
			continue
		}
		for b := range cell {
			out = append(out, byte(v>>(8*b)))
		}
	}
	return out
}

func TestWhatIsPackedComesBack(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 2))
	var d Deflater
	for range 400 {
		cell, width := 1<<rng.IntN(4), 1+rng.IntN(600)
		classes, change := 1+rng.IntN(1+rng.IntN(400)), rng.Float64()*rng.Float64()
		plain := patches(rng, rng.IntN(20_000), width, cell, classes, change)
		packed := d.Zlib([]byte("before"), plain, cell, width*cell)
		require.Equal(t, "before", string(packed[:6]))
		require.True(t, bytes.Equal(plain, back(t, packed[6:], len(plain))), "%d bytes, cells of %d, rows of %d", len(plain), cell, width)
	}
	for name, plain := range map[string][]byte{"nothing": {}, "one byte": {7}, "two": {7, 7}, "one class": make([]byte, 1<<18), "rising": rising(1 << 16)} {
		assert.True(t, bytes.Equal(plain, back(t, d.Zlib(nil, plain, 1, 512), len(plain))), name)
	}
	for _, row := range []int{-1, 0, 1, 5, 6, 32768, 32769, 1 << 20} { // rows that are none, or too far, or whose distance has the code of the cell's
		plain := patches(rng, 100_000, 7, 5, 9, 0.1)
		assert.True(t, bytes.Equal(plain, back(t, d.Zlib(nil, plain, 5, row), len(plain))), row)
	}
}

func rising(n int) []byte {
	out := make([]byte, n)
	for i := range out {
		out[i] = byte(i)
	}
	return out
}

// Symbols as rare as Fibonacci's numbers say would have codes as long as there are symbols: they are cut to 15 bits, and a prefix code again.
func TestLongCodesAreCut(t *testing.T) {
	var h huffman
	for _, most := range []int{7, 15} {
		for n := 2; n <= 40; n++ {
			often, a, b := make([]int32, n), int32(1), int32(1)
			for i := range often {
				often[i] = a
				a, b = b, min(a+b, 1<<24)
			}
			lengths := make([]uint8, n)
			h.lengths(often, most, lengths)
			sum := 0.0
			for i, l := range lengths {
				require.Positive(t, l)
				require.LessOrEqual(t, int(l), most)
				require.True(t, i == 0 || l <= lengths[i-1], "what occurs more often has no longer code: %v", lengths)
				sum += 1 / float64(int(1)<<l)
			}
			require.Equal(t, 1.0, sum, "%v", lengths)
		}
	}
}

// By hand: six bytes that are one value, and their code. A literal, a match of five with the byte before, and the end.
func TestByHand(t *testing.T) {
	var d Deflater
	plain := []byte{3, 3, 3, 3, 3, 3}
	packed := d.Zlib(nil, plain, 1, 512)
	assert.Equal(t, []uint16{3, leftBit | 5}, d.tokens)
	assert.Equal(t, plain, back(t, packed, 6))
	// Three rows of eight: a literal and a match in the first one, and then the row above twice, in one match.
	plain = bytes.Repeat([]byte{1, 1, 1, 1, 2, 9, 9, 7}, 3)
	d.Zlib(nil, plain, 1, 8)
	assert.Equal(t, []uint16{1, leftBit | 3, 2, 9, 9, 7, aboveBit | 16}, d.tokens)
}

func FuzzZlib(f *testing.F) {
	f.Add([]byte{1, 1, 1, 1, 2, 2, 2, 2, 1, 1, 1, 1}, 1, 4)
	f.Add(rising(300), 2, 64)
	f.Fuzz(func(t *testing.T, plain []byte, cell, row int) {
		cell = 1 + cell&7
		var d Deflater
		require.True(t, bytes.Equal(plain, back(t, d.Zlib(nil, plain, cell, row), len(plain))))
	})
}
