package zone

import (
	"cmp"
	"math"
	"slices"
)

// shallow is how thin ground may be, beside the extent of the outlines, to be what rounding leaves between edges that are meant to be one.
const shallow = 1e-7

// slope is an edge that is not upright, from left to right.
type slope struct {
	x0, y0, x1, y1 float64
	way            int // 1 for an edge that runs to the right in its ring, -1 to the left
	number         int // of the edge in the polygon, through all rings
}

func (s *slope) at(x float64) float64 { return s.y0 + (x-s.x0)/(s.x1-s.x0)*(s.y1-s.y0) }

// winding counts how often rings run around each face between their edges. Its buffers serve one polygon after another.
type winding struct {
	dealt
	slopes []slope
	breaks []float64
}

// lengthwise is the axis along which things lie rather one behind another than beside one another: the sum of their extents there, beside the whole, is less.
func lengthwise(low, high, sums Point) (axis int) {
	if sums[1]*(high[0]-low[0]) < sums[0]*(high[1]-low[1]) {
		return 1
	}
	return 0
}

// uneven looks for ground around which the rings of polygons, whose shells run counter-clockwise and holes clockwise, run more than once or the wrong way: where pieces overlap, a hole
// lies outside its shell or over another hole, or a ring runs around twice. No edges cross properly, and ends lists where edges end on others.
//
// Above every stretch of an edge between such places lies one face, and every face has such a stretch below it. How often rings run around the face is the sum of
// the ways of all edges below, which are looked for in upright strips: n edges take time in n times what a line from south to north meets. Where a line from west to east meets
// less, the axes change places.
func (w *winding) uneven(p Polygon, ends []end) (at Point, bad bool) {
	w.slopes = w.slopes[:0]
	low, high := Point{math.Inf(1), math.Inf(1)}, Point{math.Inf(-1), math.Inf(-1)}
	var sums Point // of how far edges run
	for _, r := range p {
		for i := range r {
			s, t := edge(r, i)
			low, high = Point{min(low[0], s[0]), min(low[1], s[1])}, Point{max(high[0], s[0]), max(high[1], s[1])}
			sums[0], sums[1] = sums[0]+math.Abs(s[0]-t[0]), sums[1]+math.Abs(s[1]-t[1])
		}
	}
	x, way := lengthwise(low, high, sums), 1 // the axis along which strips lie
	if x == 1 {
		way = -1 // rings then run the other way around
	}
	y := 1 - x
	number := 0
	for _, r := range p {
		for i := range r {
			switch s, t := edge(r, i); {
			case s[x] < t[x]:
				w.slopes = append(w.slopes, slope{s[x], s[y], t[x], t[y], way, number + i})
			case s[x] > t[x]:
				w.slopes = append(w.slopes, slope{t[x], t[y], s[x], s[y], -way, number + i})
			}
		}
		number += len(r)
	}
	width := high[x] - low[x]
	thin := shallow*(high[y]-low[y]) + 64*0x1p-52*max(math.Abs(low[y]), math.Abs(high[y]))
	narrow := shallow*width + 64*0x1p-52*max(math.Abs(low[x]), math.Abs(high[x]))
	strips := max(1, min(len(w.slopes)/2, int(8*float64(len(w.slopes))*width/sums[x])))
	strip := func(at float64) int { return max(0, min(strips-1, int((at-low[x])/width*float64(strips)))) }
	w.deal(len(w.slopes), strips, func(i int) (first, last int) { return strip(w.slopes[i].x0), strip(w.slopes[i].x1) })
	slices.SortFunc(ends, func(a, b end) int { return cmp.Or(a.edge-b.edge, cmp.Compare(a.at[x], b.at[x])) })
	for i := range w.slopes {
		s := &w.slopes[i]
		first, _ := slices.BinarySearchFunc(ends, s.number, func(e end, n int) int { return e.edge - n })
		w.breaks = append(w.breaks[:0], s.x0)
		for ; first < len(ends) && ends[first].edge == s.number; first++ {
			if at := ends[first].at[x]; at > s.x0 && at < s.x1 {
				w.breaks = append(w.breaks, at)
			}
		}
		w.breaks = append(w.breaks, s.x1)
		thin := thin * math.Hypot(s.x1-s.x0, s.y1-s.y0) / (s.x1 - s.x0) // across the edge
		for k := 1; k < len(w.breaks); k++ {
			if w.breaks[k]-w.breaks[k-1] <= narrow {
				continue
			}
			var q Point
			q[x] = (w.breaks[k-1] + w.breaks[k]) / 2
			q[y] = s.at(q[x])
			around, above := 0, math.Inf(1)
			in := strip(q[x])
			for _, m := range w.in(in) {
				o := &w.slopes[m]
				if q[x] < o.x0 || q[x] >= o.x1 {
					continue
				}
				if d := o.at(q[x]) - q[y]; d <= thin {
					around += o.way
				} else {
					above = min(above, d)
				}
			}
			if (around < 0 || around > 1) && above > thin {
				return q, true
			}
		}
	}
	return at, false
}
