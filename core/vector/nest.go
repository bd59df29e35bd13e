package vector

import (
	"cmp"
	"math"
	"slices"

	"github.com/verdex-land/verdex/core/earth"
)

// Nest makes polygons of rings that come without order, as in shapefiles: a ring that runs clockwise is a shell, and
// one that runs the other way a hole of the smallest shell around it. Where no shell is around a ring, it is a shell
// whichever way it runs.
func Nest(rings []Ring) []Polygon {
	type shell struct {
		polygon Polygon
		area    float64
		box     [4]float64
	}
	var shells []*shell
	var holes []Ring
	for _, r := range rings {
		if len(r) == 0 {
			continue
		}
		if a := earth.PlanarArea(r); a <= 0 {
			shells = append(shells, &shell{Polygon{r}, -a, Box(r)})
		} else {
			holes = append(holes, r)
		}
	}
	order := slices.Clone(shells)
	slices.SortStableFunc(order, func(a, b *shell) int { return cmp.Compare(a.area, b.area) })
	for _, h := range holes {
		b := Box(h)
		area := earth.PlanarArea(h)
		found := false
		for _, s := range order {
			if s.area >= area && s.box[0] <= b[0] && s.box[1] <= b[1] && s.box[2] >= b[2] && s.box[3] >= b[3] && around(s.polygon[0], h) {
				s.polygon = append(s.polygon, h)
				found = true
				break
			}
		}
		if !found {
			shells = append(shells, &shell{polygon: Polygon{h}})
		}
	}
	out := make([]Polygon, len(shells))
	for i, s := range shells {
		out[i] = s.polygon
	}
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
