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

// crossingFinder finds crossings. Edges are dealt into horizontal strips of about four edges
// each, and within a strip compared with those that overlap them in x; a polygon of n short edges
// takes time in n·log n. Its buffers serve one polygon after another.
type crossingFinder struct {
	edges  []edge
	starts []int32
	member []int32
}

type edge struct {
	x0, x1, y0, y1 float64 // extent
	p, q           Point
	first, last    int32 // strips
}

func (f *crossingFinder) find(p Polygon) []crossing {
	f.edges = f.edges[:0]
	low, high, heights := math.Inf(1), math.Inf(-1), 0.0
	for _, r := range p {
		for i, a := range r {
			b := r[0]
			if i+1 < len(r) {
				b = r[i+1]
			}
			e := edge{min(a[0], b[0]), max(a[0], b[0]), min(a[1], b[1]), max(a[1], b[1]), a, b, 0, 0}
			f.edges = append(f.edges, e)
			low, high = min(low, a[1]), max(high, a[1])
			heights += e.y1 - e.y0
		}
	}
	n := len(f.edges)
	if n <= fewEdges {
		return f.all()
	}
	strips := max(1, n/4)
	if most := 8 * float64(n) * (high - low) / heights; float64(strips) > most { // long edges lie in many strips
		strips = max(1, int(most))
	}
	scale := 0.0
	if high > low {
		scale = float64(strips) / (high - low)
	}
	strip := func(y float64) int { return max(0, min(strips-1, int((y-low)*scale))) }
	f.starts = append(f.starts[:0], make([]int32, strips+1)...)
	for i := range f.edges {
		e := &f.edges[i]
		e.first, e.last = int32(strip(e.y0)), int32(strip(e.y1))
		for s := e.first; s <= e.last; s++ {
			f.starts[s+1]++
		}
	}
	for s := range strips {
		f.starts[s+1] += f.starts[s]
	}
	total := int(f.starts[strips])
	f.member = slices.Grow(f.member[:0], total)[:total]
	for i := n - 1; i >= 0; i-- {
		for s := f.edges[i].first; s <= f.edges[i].last; s++ {
			f.starts[s+1]--
			f.member[f.starts[s+1]] = int32(i)
		}
	}
	var found []crossing
	for s := range strips {
		to := int32(total)
		if s+2 <= strips {
			to = f.starts[s+2]
		}
		in := f.member[f.starts[s+1]:to]
		sorted := len(in) > 12 // few edges are compared sooner than sorted
		if sorted {
			slices.SortFunc(in, func(a, b int32) int { return cmp.Compare(f.edges[a].x0, f.edges[b].x0) })
		}
		for i, a := range in {
			ea := &f.edges[a]
			for _, b := range in[i+1:] {
				eb := &f.edges[b]
				if eb.x0 > ea.x1 {
					if sorted {
						break
					}
					continue
				}
				if eb.y0 > ea.y1 || ea.y0 > eb.y1 || ea.x0 > eb.x1 {
					continue
				}
				at, ok := cross(ea, eb)
				if ok && strip(max(low, max(ea.y0, eb.y0))) == s { // once, not in every strip
					found = append(found, crossing{int(min(a, b)), int(max(a, b)), at})
				}
			}
		}
	}
	return found
}

// fewEdges is how many edges are compared each with each sooner than dealt into strips.
const fewEdges = 32

// all compares each edge with each.
func (f *crossingFinder) all() (found []crossing) {
	for i := range f.edges {
		a := &f.edges[i]
		for j := i + 1; j < len(f.edges); j++ {
			b := &f.edges[j]
			if b.y0 > a.y1 || a.y0 > b.y1 || b.x0 > a.x1 || a.x0 > b.x1 {
				continue
			}
			if at, ok := cross(a, b); ok {
				found = append(found, crossing{i, j, at})
			}
		}
	}
	return found
}

// cross reports where two edges cross at a point that is an end of neither.
func cross(a, b *edge) (Point, bool) {
	d1, d2 := side(a.p, a.q, b.p), side(a.p, a.q, b.q)
	d3, d4 := side(b.p, b.q, a.p), side(b.p, b.q, a.q)
	if !(d1 > 0 && d2 < 0 || d1 < 0 && d2 > 0) || !(d3 > 0 && d4 < 0 || d3 < 0 && d4 > 0) {
		return Point{}, false
	}
	t := d3 / (d3 - d4)
	return Point{a.p[0] + t*(a.q[0]-a.p[0]), a.p[1] + t*(a.q[1]-a.p[1])}, true
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
