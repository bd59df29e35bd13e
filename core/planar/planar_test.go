package planar

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestAreaOfShapesByHand(t *testing.T) {
	assert.Equal(t, 6.0, Area([][2]float64{{0, 0}, {3, 0}, {3, 2}, {0, 2}}))
	assert.Equal(t, -6.0, Area([][2]float64{{0, 2}, {3, 2}, {3, 0}, {0, 0}}))
	assert.Zero(t, Area(nil))
	assert.Zero(t, Area([][2]float64{{1, 2}, {3, 4}}))
}

// What is below a line and what is above it are together the whole, for any ring; the cuts are the same in both directions.
func TestCutDividesAnyRing(t *testing.T) {
	rng := rand.New(rand.NewPCG(3, 5))
	for range 2000 {
		ring := make([][2]float64, 3+rng.IntN(9))
		for i := range ring {
			ring[i] = [2]float64{float64(rng.IntN(9)), rng.Float64() * 8}
		}
		axis, at := rng.IntN(2), float64(rng.IntN(9))
		below, above := Cut(nil, ring, axis, at, true), Cut(nil, ring, axis, at, false)
		assert.InDelta(t, Area(ring), Area(below)+Area(above), 1e-12, "%v at %d %g", ring, axis, at)
		for _, p := range below {
			assert.LessOrEqual(t, p[axis], at)
		}
		back := slices.Clone(ring)
		slices.Reverse(back)
		points := func(r [][2]float64) (out []string) {
			for _, p := range r {
				out = append(out, fmt.Sprint(p))
			}
			slices.Sort(out)
			return out
		}
		assert.Equal(t, points(below), points(Cut(nil, back, axis, at, true)))
	}
}
