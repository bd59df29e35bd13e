package cli

import (
	"os"
	"runtime"
	"runtime/debug"
	"runtime/metrics"
	"sync"
)

// While little is kept (a few windows, the zones, the sums), garbage may grow to five times of it before it is collected: that costs
// tens of megabytes, and a measuring with many zones is a twentieth faster. Where much is kept, garbage of as much is enough.
const (
	percentOfLittle = 400
	percentOfMuch   = 50
	muchBytes       = 48 << 20
)

// tuneGarbage sets how far garbage may grow, after each collection anew, unless the user has done so.
var tuneGarbage = sync.OnceFunc(func() {
	if os.Getenv("GOGC") != "" {
		return
	}
	debug.SetGCPercent(percentOfLittle)
	afterCollection(&sentinel{percentOfLittle})
})

// sentinel is garbage: it is finalised once in each collection.
type sentinel struct{ percent int }

func afterCollection(s *sentinel) {
	runtime.SetFinalizer(s, func(s *sentinel) {
		live := []metrics.Sample{{Name: "/gc/heap/live:bytes"}}
		metrics.Read(live)
		percent := percentOfLittle
		if live[0].Value.Uint64() > muchBytes {
			percent = percentOfMuch
		}
		if percent != s.percent {
			debug.SetGCPercent(percent)
		}
		afterCollection(&sentinel{percent})
	})
}
