package tally

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Every way through countBytes: short rows, rests behind whole vectors, rows longer than its
// counters, one group of values and several, and values that it has not learnt.
func TestCounterAgainstCountingOneByOne(t *testing.T) {
	if !canCount {
		t.Log("this processor counts by runs alone")
		return
	}
	rng := rand.New(rand.NewPCG(3, 1))
	for _, values := range []int{1, 5, 6, 7, 12, 13, maxCounted} {
		cells := make([]uint8, 20000)
		for i := range cells {
			cells[i] = uint8(rng.IntN(values) * 10) // 0 too, which pads the table of values
		}
		c := newCounter()
		c.learn(cells, 100, 100, 200)
		require.Equal(t, values, c.known)
		for range 200 {
			var want, got [256]uint64
			for range 1 + rng.IntN(3) {
				from := rng.IntN(300)
				to := min(len(cells), from+1+[]int{rng.IntN(40), rng.IntN(600), rng.IntN(20000)}[rng.IntN(3)])
				c.add(cells, from, to)
				for _, v := range cells[from:to] {
					want[v]++
				}
			}
			seen, ok := c.take(&got)
			require.True(t, ok)
			require.Equal(t, want, got)
			for v, n := range want {
				require.False(t, n > 0 && seen>>(v>>2)&1 == 0)
			}
		}
		// One cell of another value is noticed, wherever it lies, and what was counted is dropped.
		for range 100 {
			at := rng.IntN(700)
			was := cells[at]
			cells[at] = 255
			var got [256]uint64
			c.add(cells, 0, 700)
			_, ok := c.take(&got)
			assert.False(t, ok)
			assert.Zero(t, got)
			cells[at] = was
		}
		c.add(cells, 3, 90)
		var got [256]uint64
		_, ok := c.take(&got)
		assert.True(t, ok)
	}
}

func TestCounterLearnsUpToItsRoom(t *testing.T) {
	c := newCounter()
	c.off = false // also where the processor cannot count so
	cells := make([]uint8, maxCounted+1)
	for i := range cells {
		cells[i] = uint8(i)
	}
	c.learn(cells, 6, 6, 2)
	c.learn(cells, 6, 6, 3)
	assert.Equal(t, 18, c.known)
	assert.False(t, c.off)
	c.learn(cells, len(cells), len(cells), 1)
	assert.True(t, c.off)
}
