package earth

import (
	"math"
	"sync"
)

// Bend predicts how far the image of a short straight edge rises above its chord, from the second
// derivatives of the mapping. They are taken at the nodes of a fixed lattice and interpolated
// between them, so that the prediction depends on the edge alone. For edges that rise little it
// replaces the mapping of their middles, the greater part of the work of tracing.
//
// On the Earth the second derivatives of projections change by a small part over a lattice step of
// s = 10 km; linear interpolation misses them by about (s/a)²/8, a part in a million of the rise.
type Bend struct {
	f     func([2]float64) ([2]float64, bool)
	step  float64 // of the lattice, in units of the source
	cells sync.Map
	nodes sync.Map // of the lattice, which four cells share
}

// NewBend prepares predictions for the mapping f with a lattice of the given step.
func NewBend(f func([2]float64) ([2]float64, bool), step float64) *Bend {
	return &Bend{f: f, step: step}
}

// second are the second derivatives of both image coordinates: by x twice, by x and y, by y twice.
type second [3][2]float64

type bendCell struct {
	corner [2][2]second
	ok     bool
}

type bendKey [2]int32

func (b *Bend) cell(k bendKey) *bendCell {
	if c, ok := b.cells.Load(k); ok {
		return c.(*bendCell)
	}
	c := &bendCell{ok: true}
	for j := range 2 {
		for i := range 2 {
			n := b.node(bendKey{k[0] + int32(i), k[1] + int32(j)})
			c.corner[j][i] = n.second
			c.ok = c.ok && n.ok
		}
	}
	got, _ := b.cells.LoadOrStore(k, c)
	return got.(*bendCell)
}

// bendNode has the derivatives at a node, if there are any.
type bendNode struct {
	second
	ok bool
}

func (b *Bend) node(k bendKey) *bendNode {
	if n, ok := b.nodes.Load(k); ok {
		return n.(*bendNode)
	}
	n := new(bendNode)
	n.second, n.ok = b.derive([2]float64{float64(k[0]) * b.step, float64(k[1]) * b.step})
	b.nodes.Store(k, n)
	return n
}

// derive takes second differences over a tenth of a step, large enough to keep their digits.
func (b *Bend) derive(p [2]float64) (s second, ok bool) {
	h := b.step / 10
	var v [3][3][2]float64
	for j := range 3 {
		for i := range 3 {
			if v[j][i], ok = b.f([2]float64{p[0] + float64(i-1)*h, p[1] + float64(j-1)*h}); !ok {
				return s, false
			}
		}
	}
	for k := range 2 {
		s[0][k] = (v[1][0][k] - 2*v[1][1][k] + v[1][2][k]) / (h * h)
		s[1][k] = (v[2][2][k] - v[2][0][k] - v[0][2][k] + v[0][0][k]) / (4 * h * h)
		s[2][k] = (v[0][1][k] - 2*v[1][1][k] + v[2][1][k]) / (h * h)
	}
	return s, true
}

// bender keeps the lattice cell last used; edges of an outline lie close together.
type bender struct {
	*Bend
	key  bendKey
	last *bendCell
}

// rise is the predicted height of the image of the edge from p to q above its chord, at the
// middle. It is the same in both directions.
func (b *bender) rise(p, q [2]float64) (r [2]float64, ok bool) {
	dx, dy := q[0]-p[0], q[1]-p[1]
	if math.Abs(dx) > b.step || math.Abs(dy) > b.step {
		return r, false
	}
	u, v := (p[0]+q[0])/2/b.step, (p[1]+q[1])/2/b.step
	fu, fv := math.Floor(u), math.Floor(v)
	if math.Abs(fu) > 1e9 || math.Abs(fv) > 1e9 {
		return r, false
	}
	key := bendKey{int32(fu), int32(fv)}
	if b.last == nil || key != b.key {
		b.key, b.last = key, b.cell(key)
	}
	if !b.last.ok {
		return r, false
	}
	u, v = u-fu, v-fv
	c := &b.last.corner
	for k := range 2 {
		var d [3]float64
		for n := range 3 {
			top := c[0][0][n][k] + float64(u*(c[0][1][n][k]-c[0][0][n][k]))
			bottom := c[1][0][n][k] + float64(u*(c[1][1][n][k]-c[1][0][n][k]))
			d[n] = top + float64(v*(bottom-top))
		}
		r[k] = -(float64(d[0]*dx*dx) + float64(2*d[1]*dx*dy) + float64(d[2]*dy*dy)) / 8
	}
	return r, true
}
