package vector

import (
	"cmp"
	"math"
	"slices"

	"github.com/verdex-land/verdex/core/planar"
)

// Nest makes polygons of rings that come without order, as in shapefiles: a ring that runs clockwise is a shell, and
// one that runs the other way a hole of the smallest shell around it. A ring that should be a hole and has no shell around it
// contradicts that: some programs write rings the other way round. It is a shell then, and the rings within it are read the other way
// round too.
func Nest(rings []Ring) []Polygon {
	shells, orphans := nest(rings)
	slices.SortStableFunc(orphans, func(a, b *shell) int { return cmp.Compare(a.area, b.area) })
	within := map[*shell][]Ring{}
	out := make([]Polygon, 0, len(shells))
	for _, s := range shells {
		i := slices.IndexFunc(orphans, func(o *shell) bool { return o.holds(s.polygon[0], s.area, s.box) })
		if i < 0 {
			out = append(out, s.polygon)
			continue
		}
		within[orphans[i]] = append(within[orphans[i]], s.polygon...)
	}
	for _, o := range orphans {
		if len(within[o]) == 0 {
			out = append(out, o.polygon)
			continue
		}
		group := []Ring{reversed(o.polygon[0])}
		for _, r := range within[o] {
			group = append(group, reversed(r))
		}
		found, alone := nest(group)
		for _, s := range append(found, alone...) {
			out = append(out, s.polygon)
		}
	}
	return out
}

// shell is a polygon that is being made.
type shell struct {
	polygon Polygon
	area    float64
	box     [4]float64
}

// holds reports whether the shell runs around a ring of an area and extent.
func (s *shell) holds(r Ring, area float64, b [4]float64) bool {
	return s.area >= area && s.box[0] <= b[0] && s.box[1] <= b[1] && s.box[2] >= b[2] && s.box[3] >= b[3] && around(s.polygon[0], r)
}

// nest gives holes to shells by their directions. Orphans are holes without a shell.
func nest(rings []Ring) (shells, orphans []*shell) {
	var holes []*shell
	for _, r := range rings {
		if len(r) == 0 {
			continue
		}
		if a := planar.Area(r); a <= 0 {
			shells = append(shells, &shell{Polygon{r}, -a, Box(r)})
		} else {
			holes = append(holes, &shell{Polygon{r}, a, Box(r)})
		}
	}
	order := slices.Clone(shells)
	slices.SortStableFunc(order, func(a, b *shell) int { return cmp.Compare(a.area, b.area) })
	for _, h := range holes {
		i := slices.IndexFunc(order, func(s *shell) bool { return s.holds(h.polygon[0], h.area, h.box) })
		if i < 0 {
			orphans = append(orphans, h)
			continue
		}
		order[i].polygon = append(order[i].polygon, h.polygon[0])
	}
	return shells, orphans
}

func reversed(r Ring) Ring {
	out := slices.Clone(r)
	slices.Reverse(out)
	return out
}

// Box is the extent of a ring: least x and y, greatest x and y.
func Box(r Ring) [4]float64 {
	b := [4]float64{math.Inf(1), math.Inf(1), math.Inf(-1), math.Inf(-1)}
	for _, q := range r {
		b[0], b[1] = math.Min(b[0], q[0]), math.Min(b[1], q[1])
		b[2], b[3] = math.Max(b[2], q[0]), math.Max(b[3], q[1])
	}
	return b
}

// around reports whether a shell runs around a hole: whether most middles of the hole's first edges lie inside. A
// corner alone may lie on the shell.
func around(shell, hole Ring) bool {
	inside, outside := 0, 0
	for i := 0; i < len(hole) && i < 7; i++ {
		p, q := hole[i], hole[(i+1)%len(hole)]
		if Inside(shell, Point{(p[0] + q[0]) / 2, (p[1] + q[1]) / 2}) {
			inside++
		} else {
			outside++
		}
	}
	return inside > outside
}

// Inside reports whether a point lies in a ring, by counting the edges to the right of it.
func Inside(r Ring, q Point) bool {
	in := false
	for i := range r {
		a, b := r[i], r[(i+1)%len(r)]
		if (a[1] > q[1]) != (b[1] > q[1]) && q[0] < a[0]+(q[1]-a[1])/(b[1]-a[1])*(b[0]-a[0]) {
			in = !in
		}
	}
	return in
}
