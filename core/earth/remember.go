package earth

import (
	"math"
	"math/bits"
	"sync/atomic"
)

// remembered are points that were mapped and where to.
type remembered struct {
	f      func([2]float64) ([2]float64, bool)
	places []atomic.Pointer[mapped]
	shift  int
}

type mapped struct {
	p, image [2]float64
	ok       bool
}

// mostRemembered is how many points are remembered at most, 20 MiB of them.
const mostRemembered = 1 << 18

// Remember maps points as f does, but the same point not again while it is remembered: a corner of a zone is most often one of its neighbour too,
// and mapping it takes as long as cutting a hundred cells. About so many points are expected; of more, those that come later take the
// places of others. The function serves many goroutines.
func Remember(f func([2]float64) ([2]float64, bool), points int) func([2]float64) ([2]float64, bool) {
	n := bits.Len(uint(min(points, mostRemembered-1)))
	r := &remembered{f, make([]atomic.Pointer[mapped], 1<<n), 64 - n}
	return r.to
}

func (r *remembered) to(p [2]float64) ([2]float64, bool) {
	x, y := math.Float64bits(p[0]), math.Float64bits(p[1])
	at := &r.places[((x^bits.RotateLeft64(y, 32))*0x9e3779b97f4a7c15)>>r.shift]
	if e := at.Load(); e != nil && math.Float64bits(e.p[0]) == x && math.Float64bits(e.p[1]) == y {
		return e.image, e.ok
	}
	image, ok := r.f(p)
	at.Store(&mapped{p, image, ok})
	return image, ok
}
