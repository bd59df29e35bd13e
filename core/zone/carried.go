package zone

import (
	"math"
	"math/bits"
	"sync/atomic"
)

// carried remembers where points were carried to: most corners of zones belong to two of them, and carrying one takes as long as cutting a hundred
// cells. Places are few: a point that comes later takes the place of another. It serves many goroutines.
type carried struct {
	carry  func(Point) (Point, bool)
	places []atomic.Pointer[carriedPoint]
	shift  int
}

type carriedPoint struct {
	p, image Point
	ok       bool
}

// mostCarried is how many points are remembered at most, 20 MiB of them.
const mostCarried = 1 << 18

// newCarried remembers what carry gives, of about so many points.
func newCarried(carry func(Point) (Point, bool), points int) *carried {
	n := bits.Len(uint(min(points, mostCarried-1)))
	return &carried{carry, make([]atomic.Pointer[carriedPoint], 1<<n), 64 - n}
}

func (c *carried) to(p Point) (Point, bool) {
	x, y := math.Float64bits(p[0]), math.Float64bits(p[1])
	at := &c.places[((x^bits.RotateLeft64(y, 32))*0x9e3779b97f4a7c15)>>c.shift]
	if e := at.Load(); e != nil && math.Float64bits(e.p[0]) == x && math.Float64bits(e.p[1]) == y {
		return e.image, e.ok
	}
	image, ok := c.carry(p)
	at.Store(&carriedPoint{p, image, ok})
	return image, ok
}
