package earth

import (
	"math"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
)

// What is remembered is what was mapped, from many goroutines and with more points than there are places.
func TestRemember(t *testing.T) {
	var calls atomic.Int64
	f := func(p [2]float64) ([2]float64, bool) {
		calls.Add(1)
		return [2]float64{p[1] * 3, 1 / p[0]}, p[0] != 5
	}
	for _, places := range []int{0, 1, 100, mostRemembered * 2} {
		calls.Store(0)
		g := Remember(f, places)
		var wg sync.WaitGroup
		for range 4 {
			wg.Go(func() {
				for i := range 3000 {
					p := [2]float64{float64(i % 300), math.Copysign(float64(i%7), float64(i%2)-0.5)}
					image, ok := g(p)
					assert.Equal(t, p[0] != 5, ok)
					assert.Equal(t, math.Float64bits(p[1]*3), math.Float64bits(image[0]), "the sign of zero is kept")
					assert.Equal(t, 1/p[0], image[1])
				}
			})
		}
		wg.Wait()
		if places > 1000 {
			assert.Less(t, calls.Load(), int64(4*4300))
		}
	}
}
