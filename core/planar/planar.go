// Package planar is the geometry of polygons in a plane: their areas, and cutting them along lines of x or of y.
package planar

// Area is the signed area of a closed ring, positive when it runs counter-clockwise; the last point joins the first.
func Area(ring [][2]float64) float64 {
	if len(ring) == 0 {
		return 0
	}
	var sum float64
	o := ring[0]
	x0, y0 := 0.0, 0.0 // of a point, from the first one
	for _, q := range ring[1:] {
		x1, y1 := q[0]-o[0], q[1]-o[1]
		sum += x0*y1 - x1*y0
		x0, y0 = x1, y1
	}
	// the edge back to the first point adds nothing
	return sum / 2
}

// Cut appends to dst the part of a closed ring that lies below a value of x (axis 0) or of y (axis 1), or above it; a ring that
// lies there wholly is returned as it is, without dst. Stretches along the line that join separate parts enclose no area. Where
// an edge is cut does not depend on its direction. What has fewer than three points is nil. (I. E. Sutherland and G. W. Hodgman,
// Reentrant polygon clipping, Communications of the ACM 17, 1974.)
func Cut(dst, ring [][2]float64, axis int, at float64, below bool) [][2]float64 {
	in := func(p [2]float64) bool { return p[axis] == at || (p[axis] < at) == below }
	all := true
	for _, p := range ring {
		all = all && in(p)
	}
	if all {
		return ring
	}
	for i, p := range ring {
		q := ring[(i+1)%len(ring)]
		if in(p) {
			dst = append(dst, p)
		}
		if in(p) != in(q) {
			a, b := p, q
			if a[0] > b[0] || a[0] == b[0] && a[1] > b[1] {
				a, b = b, a
			}
			t := (at - a[axis]) / (b[axis] - a[axis])
			x := [2]float64{a[0] + t*(b[0]-a[0]), a[1] + t*(b[1]-a[1])}
			x[axis] = at
			dst = append(dst, x)
		}
	}
	if len(dst) < 3 {
		return nil
	}
	return dst
}
