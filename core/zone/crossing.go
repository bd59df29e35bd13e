package zone

import (
	"cmp"
	"math"
	"slices"
)

// crossing is a place where two edges of a polygon cross properly: at a point inside both. Edges
// are numbered through the rings in order.
type crossing struct {
	a, b int
	at   Point
}

// end is where an edge touches another one: one of the two ends there.
type end struct {
	edge int // by its number through all rings
	at   Point
}

// crossingFinder finds crossings, and where edges end on others. Edges that follow one another in the same quadrant of directions make a chain, which cannot
// cross itself and is compared with others by its extent first. Many chains are dealt into horizontal strips of about four
// each, and within a strip compared with those that overlap them in x; a polygon of n short chains
// takes time in n·log n. Its buffers serve one polygon after another.
type crossingFinder struct {
	dealt
	chains  []chain
	found   []crossing
	ends    []end     // of edges that touch, other than one edge of a ring the next, unless crossings were found
	most    int       // crossings after which it stops
	areas   []float64 // scratch of repair
	winding winding
}

// chain is a run of edges of a ring.
type chain struct {
	x0, x1, y0, y1 float64 // extent
	ring           Ring
	from, to       int // edges: from, to (exclusive); the i-th runs from point i to the next
	number         int // of the ring's first edge in the polygon
	way            int // its quadrant: 1 to the left, 2 down
	first, last    int32
}

// apart reports whether one of two chains begins where the other ends and only one of its directions is another: a line
// through that point then lies between them, so that they do not cross.
func (c *chain) apart(o *chain) bool {
	turn := c.way ^ o.way
	return (turn == 1 || turn == 2) && c.number == o.number && (c.leads(o) || o.leads(c))
}

// leads reports whether another chain of the same ring begins where this one ends.
func (c *chain) leads(o *chain) bool { return c.to == o.from || o.from == 0 && c.to == len(c.ring) }

// edge gives the ends of the i-th edge of a ring.
func edge(r Ring, i int) (p, q Point) {
	if p, q = r[i], r[0]; i+1 < len(r) {
		q = r[i+1]
	}
	return p, q
}

// find returns the crossings of a polygon, or the first ones of a polygon that has more than most: an outline of n edges can have n² of them.
func (f *crossingFinder) find(p Polygon, most int) []crossing {
	f.chains, f.found, f.ends, f.most = f.chains[:0], nil, f.ends[:0], most
	number := 0
	for _, r := range p {
		f.divide(r, number)
		number += len(r)
	}
	if len(f.chains) <= fewChains {
		for i := range f.chains {
			a := &f.chains[i]
			for j := i + 1; j < len(f.chains) && len(f.found) <= most; j++ {
				if b := &f.chains[j]; a.meets(b) && !a.apart(b) {
					f.compare(a, b)
				}
			}
		}
		return f.found
	}
	f.strips()
	return f.found
}

// fewChains is how many chains are compared each with each sooner than dealt into strips.
const fewChains = 48

// divide divides a ring into chains.
func (f *crossingFinder) divide(r Ring, number int) {
	way := -1
	for i, p := range r {
		_, q := edge(r, i)
		w := 0
		if q[0] < p[0] {
			w = 1
		}
		if q[1] < p[1] {
			w |= 2
		}
		if w != way {
			way = w
			f.chains = append(f.chains, chain{min(p[0], q[0]), max(p[0], q[0]), min(p[1], q[1]), max(p[1], q[1]), r, i, i + 1, number, w, 0, 0})
			continue
		}
		c := &f.chains[len(f.chains)-1]
		c.to = i + 1
		switch { // only the end that it runs to moves
		case w&1 == 0:
			c.x1 = q[0]
		default:
			c.x0 = q[0]
		}
		if w&2 == 0 {
			c.y1 = q[1]
		} else {
			c.y0 = q[1]
		}
	}
}

func (c *chain) meets(o *chain) bool {
	return o.y0 <= c.y1 && c.y0 <= o.y1 && o.x0 <= c.x1 && c.x0 <= o.x1
}

// compare compares the edges of two chains.
func (f *crossingFinder) compare(a, b *chain) {
	for i := a.from; i < a.to && len(f.found) <= f.most; i++ {
		p, q := edge(a.ring, i)
		e := chain{x0: min(p[0], q[0]), x1: max(p[0], q[0]), y0: min(p[1], q[1]), y1: max(p[1], q[1])}
		if !e.meets(b) {
			continue
		}
		for j := b.from; j < b.to; j++ {
			s, t := edge(b.ring, j)
			if min(s[1], t[1]) > e.y1 || max(s[1], t[1]) < e.y0 || min(s[0], t[0]) > e.x1 || max(s[0], t[0]) < e.x0 {
				continue
			}
			at, ok, touch := cross(p, q, s, t)
			if k, l := a.number+i, b.number+j; ok {
				f.found = append(f.found, crossing{min(k, l), max(k, l), at})
			} else if touch && !(a.number == b.number && next(i, j, len(a.ring))) {
				f.ends = append(f.ends, end{k, s}, end{k, t}, end{l, p}, end{l, q})
			}
		}
	}
}

// dealt are things that were dealt into strips.
type dealt struct {
	starts []int32 // by strip, where its members begin; one more for the end
	member []int32 // numbers of things, ascending in each strip
}

// deal deals n things, each into the strips from first to last.
func (d *dealt) deal(n, strips int, of func(i int) (first, last int)) {
	d.starts = append(d.starts[:0], make([]int32, strips+2)...)
	for i := range n {
		first, last := of(i)
		for s := first; s <= last; s++ {
			d.starts[s+2]++
		}
	}
	for s := range strips {
		d.starts[s+2] += d.starts[s+1]
	}
	total := int(d.starts[strips+1])
	d.member = slices.Grow(d.member[:0], total)[:total]
	for i := range n {
		first, last := of(i)
		for s := first; s <= last; s++ {
			d.member[d.starts[s+1]] = int32(i)
			d.starts[s+1]++
		}
	}
}

// in are the members of a strip.
func (d *dealt) in(strip int) []int32 { return d.member[d.starts[strip]:d.starts[strip+1]] }

// strips compares chains that meet, strip by strip.
func (f *crossingFinder) strips() {
	low, high, heights := math.Inf(1), math.Inf(-1), 0.0
	for i := range f.chains {
		c := &f.chains[i]
		low, high = min(low, c.y0), max(high, c.y1)
		heights += c.y1 - c.y0
	}
	n := len(f.chains)
	strips := max(1, n/4)
	if most := 8 * float64(n) * (high - low) / heights; float64(strips) > most { // high chains lie in many strips
		strips = max(1, int(most))
	}
	scale := 0.0
	if high > low {
		scale = float64(strips) / (high - low)
	}
	strip := func(y float64) int { return max(0, min(strips-1, int((y-low)*scale))) }
	for i := range f.chains {
		c := &f.chains[i]
		c.first, c.last = int32(strip(c.y0)), int32(strip(c.y1))
	}
	f.deal(n, strips, func(i int) (first, last int) { return int(f.chains[i].first), int(f.chains[i].last) })
	for s := range strips {
		in := f.in(s)
		sorted := len(in) > 12 // few are compared sooner than sorted
		if sorted {
			slices.SortFunc(in, func(a, b int32) int { return cmp.Compare(f.chains[a].x0, f.chains[b].x0) })
		}
		for i, a := range in {
			if len(f.found) > f.most {
				return
			}
			ca := &f.chains[a]
			for _, b := range in[i+1:] {
				cb := &f.chains[b]
				if sorted && cb.x0 > ca.x1 {
					break
				}
				if ca.meets(cb) && int(max(ca.first, cb.first)) == s && !ca.apart(cb) { // once, not in every strip
					f.compare(ca, cb)
				}
			}
		}
	}
}

// next reports whether two edges of a ring of n follow one another.
func next(i, j, n int) bool { return i-j == 1 || j-i == 1 || i+j == n-1 && (i == 0 || j == 0) }

// cross reports where the edges from p to q and from s to t cross at a point that is an end of neither, or else whether they touch.
func cross(p, q, s, t Point) (at Point, crosses, touch bool) {
	d1, d2 := side(p, q, s), side(p, q, t)
	if d1 > 0 && d2 > 0 || d1 < 0 && d2 < 0 {
		return at, false, false
	}
	d3, d4 := side(s, t, p), side(s, t, q)
	switch {
	case d3 > 0 && d4 > 0 || d3 < 0 && d4 < 0:
		return at, false, false
	case d1 == 0 || d2 == 0 || d3 == 0 || d4 == 0:
		return at, false, true
	}
	u := d3 / (d3 - d4)
	return Point{p[0] + u*(q[0]-p[0]), p[1] + u*(q[1]-p[1])}, true, false
}

// side is positive when r lies left of the line from p to q, negative when right of it, and 0
// when it is on the line as far as float64 can tell.
func side(p, q, r Point) float64 {
	l, m := (q[0]-p[0])*(r[1]-p[1]), (q[1]-p[1])*(r[0]-p[0])
	d := l - m
	if math.Abs(d) <= 4e-16*(math.Abs(l)+math.Abs(m)) {
		return 0
	}
	return d
}
