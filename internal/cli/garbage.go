package cli

import (
	"os"
	"runtime"
	"runtime/debug"
	"runtime/metrics"
	"sync"
)

// Garbage may grow to 48 MiB, or to a quarter of what is kept if that is more, before it is collected. While little is kept (a few windows, the
// zones, the sums) that is several times as much, which makes a measuring with many zones a twentieth faster.
const (
	garbageBytes = 48 << 20
	mostPercent  = 400
	leastPercent = 25
)

// tuneGarbage sets how far garbage may grow, after each collection anew, unless the user has done so.
var tuneGarbage = sync.OnceFunc(func() {
	if os.Getenv("GOGC") != "" {
		return
	}
	debug.SetGCPercent(mostPercent)
	afterCollection(&sentinel{percent: mostPercent})
})

// sentinel is garbage: it is finalised once in each collection.
type sentinel struct {
	percent int
	_       *sentinel // a pointer: small things without one share memory, and may live as long as their neighbours
}

func afterCollection(s *sentinel) {
	runtime.SetFinalizer(s, func(s *sentinel) {
		live := []metrics.Sample{{Name: "/gc/heap/live:bytes"}}
		metrics.Read(live)
		percent := min(mostPercent, max(leastPercent, 100*garbageBytes/int(live[0].Value.Uint64()+1)))
		if percent != s.percent {
			debug.SetGCPercent(percent)
		}
		afterCollection(&sentinel{percent: percent})
	})
}
