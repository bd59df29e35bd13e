package tally

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/raster"
)

// The sums of columns are those that are found cell by cell, for any values, and any number of vectors of which the last may be cut short.
func TestSumsOfColumns(t *testing.T) {
	if !canCount {
		t.Skip("this processor does not compare 32 cells at once")
	}
	r := rand.New(rand.NewPCG(3, 4))
	for n := range 3000 {
		vectors, last := 1+r.IntN(blockVectors), 1+r.IntN(32)
		if n < 40 {
			vectors, last = blockVectors, 32
		}
		groups := 1 + r.IntN(maxCounted/atOnce)
		c := newCounter()
		cells := make([]uint8, 32*vectors+r.IntN(3))
		for i := range cells {
			cells[i] = uint8(r.IntN(1 + n%7*8))
		}
		for i := range groups * atOnce {
			c.values[i] = uint8(i)
			for k := range c.wide[i] {
				c.wide[i][k] = uint8(i)
			}
		}
		var sums [maxCounted]blockSums
		present, found := sumColumns(&c.wide[0][0], groups, &cells[0], vectors, last, &sums[0])
		for v := range groups * atOnce {
			var want [3]int64
			for d, cell := range cells[:32*(vectors-1)+last] {
				if int(cell) == v {
					want[0]++
					want[1] += int64(d)
					want[2] += int64(d * d)
				}
			}
			found -= int32(want[0])
			if present>>v&1 == 0 {
				assert.Zero(t, want[0])
				continue
			}
			cells, sum, squares := sums[v].moments(int64(vectors))
			require.Equal(t, want, [3]int64{cells, sum, squares}, "value %d in %d vectors, the last of %d", v, vectors, last)
		}
		assert.Zero(t, found)
	}
}

// What is counted by columns is what runs of wider numbers give, also where values come up that are new, of which 0 looks like no value, and where there are too many.
func TestColumnsAndRunsAgree(t *testing.T) {
	rng := rand.New(rand.NewPCG(8, 9))
	g := grids(t)["UTM"]
	g.Width, g.Height = 1300, 300
	zones, _ := mosaicOf(rng, 3, 2, 2, 2, float64(g.Width)-3, float64(g.Height)-2)
	s := inCells(g, zones...)
	for _, window := range []int{1300, 512, 250} {
		for most := range 4 {
			noise := rand.New(rand.NewPCG(1, uint64(most)))
			cells := map[[2]int]float64{}
			cover := func(c, r int) float64 {
				at := [2]int{c, r}
				if v, ok := cells[at]; ok {
					return v
				}
				n := []int{3, 1, 11, 60}[min(r/64, most)]
				v := float64((1 + noise.IntN(n)*7) % 61)
				if r >= 64 && noise.IntN(n) == 0 {
					v = 0
				}
				cells[at] = v
				return v
			}
			bytes := measure(t, s, false, 1, fill(g, raster.Uint8, window, 64, cover))
			wide := measure(t, s, false, 2, fill(g, raster.Int16, 64, 16, cover))
			require.Equal(t, byNumber(wide), byNumber(bytes), "windows of %d, %d", window, most)
		}
	}
}
