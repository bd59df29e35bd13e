package spread

import (
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestEachThingIsDoneOnce(t *testing.T) {
	for _, n := range []int{0, 1, chunk, chunk + 1, 1000} {
		done := make([]atomic.Int32, n)
		var threads atomic.Int32
		Over(n, func() func(int) {
			threads.Add(1)
			return func(i int) { done[i].Add(1) }
		})
		for i := range done {
			assert.EqualValues(t, 1, done[i].Load(), "%d of %d", i, n)
		}
		assert.LessOrEqual(t, int(threads.Load()), (n+chunk-1)/chunk)
	}
}
