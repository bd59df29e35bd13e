// Package spread divides work on many small things among threads.
package spread

import (
	"runtime"
	"sync"
	"sync/atomic"
)

// chunk is how many things a thread takes at a time.
const chunk = 32

// Over does something for each i from 0 to n-1, on all processors. begin is called once for each thread and makes what
// it does, so that a thread can keep room of its own.
func Over(n int, begin func() func(i int)) {
	var next atomic.Int64
	work := func() {
		do := begin()
		for {
			from := int(next.Add(chunk)) - chunk
			if from >= n {
				return
			}
			for i := from; i < min(from+chunk, n); i++ {
				do(i)
			}
		}
	}
	var wg sync.WaitGroup
	for range min(runtime.GOMAXPROCS(0), (n+chunk-1)/chunk) {
		wg.Go(work)
	}
	wg.Wait()
}
