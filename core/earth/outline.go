package earth

import (
	"math"

	"github.com/verdex-land/verdex/core/earth/ellipsoid"
	"github.com/verdex-land/verdex/core/earth/projection"
	"github.com/verdex-land/verdex/core/planar"
)

const degree = math.Pi / 180

// OutlineArea is the signed area in m² on the ellipsoid of a closed ring whose edges are
// straight lines in the coordinates of its CRS; positive when the ring runs counter-clockwise
// in (x, y). The last point joins the first. It reports false when a point has no place on
// the Earth.
//
// The area is the line integral of q(φ)·a²/2 along the ring, taken relative to a latitude on
// the ring to keep its precision for small zones. Edges that are straight in longitude and
// latitude are integrated by Gauss-Legendre quadrature, 5 points to a degree and 2 for short edges; edges that are
// straight in a projection by Romberg's rule, to a part in 10¹² of the ring; the plain planar area is taken where the
// projection is equal-area.
func (c *CRS) OutlineArea(ring [][2]float64) (float64, bool) {
	if len(ring) < 3 {
		return 0, true
	}
	if c.EqualArea() {
		return planar.Area(ring) * c.Unit * c.Unit, true
	}
	if c.Geographic() {
		return c.geographicOutline(ring), true
	}
	return c.projectedOutline(ring)
}

// gauss5 are the nodes and weights of 5-point Gauss-Legendre quadrature on [0, 1].
var gauss5 = [5][2]float64{
	{0.04691007703066800360, 0.11846344252809454376},
	{0.23076534494715845448, 0.23931433524968323402},
	{0.5, 0.28444444444444444444},
	{0.76923465505284154552, 0.23931433524968323402},
	{0.95308992296933199640, 0.11846344252809454376},
}

// gauss2 are those of the 2-point rule, enough for edges of less than a fifth of a degree.
var gauss2 = [2][2]float64{{0.21132486540518711775, 0.5}, {0.78867513459481288225, 0.5}}

func (c *CRS) geographicOutline(ring [][2]float64) float64 {
	u := c.Unit
	ref := ring[0][1] * u
	sinRef := math.Sin(ref)
	var sum, comp float64
	for i := range ring {
		p, q := ring[i], ring[(i+1)%len(ring)]
		lat, dlat, dlon := p[1]*u, (q[1]-p[1])*u, (q[0]-p[0])*u
		if dlon == 0 {
			continue
		}
		pieces := int(math.Ceil(math.Abs(dlat) / degree))
		pieces = max(1, min(pieces, 360))
		var mean float64
		switch {
		case dlat == 0:
			mean = c.Ellipsoid.AreaFromParallel(ref, sinRef, lat)
		case math.Abs(dlat) < 0.2*degree:
			for _, g := range gauss2 {
				mean += g[1] * c.Ellipsoid.AreaFromParallel(ref, sinRef, lat+g[0]*dlat)
			}
		default:
			for k := range pieces {
				for _, g := range gauss5 {
					t := (float64(k) + g[0]) / float64(pieces)
					mean += g[1] * c.Ellipsoid.AreaFromParallel(ref, sinRef, lat+t*dlat)
				}
			}
			mean /= float64(pieces)
		}
		// Counter-clockwise rings have their area to the left: -∮ S dλ.
		sum, comp = compensated(sum, comp, -mean*dlon)
	}
	return sum + comp
}

// compensated adds x to a running sum and its compensation (Neumaier 1974).
func compensated(sum, comp, x float64) (float64, float64) {
	t := sum + x
	if math.Abs(sum) >= math.Abs(x) {
		comp += (sum - t) + x
	} else {
		comp += (x - t) + sum
	}
	return t, comp
}

// projectedOutline integrates along the edges of a ring that are straight in a projection.
func (c *CRS) projectedOutline(ring [][2]float64) (float64, bool) {
	planar := planar.Area(ring)
	l := lineIntegral{crs: c}
	l.begin(ring)
	// Rounding of coordinates is far below what is asked of the area of the ring for each of its edges.
	l.enough = 1e-13 * math.Abs(planar) * c.Unit * c.Unit / math.Max(4, float64(len(ring))/4)
	if s, ok := c.Projection.(shifted); ok && s.inner.Geographic() {
		l.enough *= c.Ellipsoid.A * c.Ellipsoid.A // units are degrees
	}
	before, ok := l.at(ring[len(ring)-1])
	if !ok {
		return 0, false
	}
	for _, p := range ring {
		here, ok := l.at(p)
		if !ok || !l.edge(before, here) {
			return 0, false
		}
		before = here
	}
	// Where a projection turns the map over, so does the direction of rings.
	return math.Copysign(l.sum+l.comp, planar), true
}

// lineIntegral sums -S dλ along edges that are straight in the plane of a projection, S being the area between a
// parallel of reference and the point for each radian of longitude.
type lineIntegral struct {
	crs         *CRS
	wraps       bool                 // longitudes come back into a turn anywhere on the map
	rim         projection.Parallels // of a map that has one
	ref, sinRef float64              // latitude of reference
	enough      float64              // m² by which an edge may be off
	sum, comp   float64
}

// groundPoint is a point of the plane and its place on the Earth; s is S.
type groundPoint struct {
	p           [2]float64
	lon, lat, s float64
}

// begin chooses the parallel of reference: a pole where the ring may go around it, so that going around it encloses the
// ground up to it; else one beside the ring, so that small rings keep their digits.
func (l *lineIntegral) begin(ring [][2]float64) {
	c := l.crs
	x0, y0, x1, y1 := math.Inf(1), math.Inf(1), math.Inf(-1), math.Inf(-1)
	for _, p := range ring {
		x0, y0, x1, y1 = min(x0, p[0]), min(y0, p[1]), max(x1, p[0]), max(y1, p[1])
	}
	inner := c.Projection
	if s, ok := inner.(ofSphere); ok {
		inner = s.Projection
	}
	l.rim, _ = inner.(projection.Parallels)
	if first, ok := l.at(ring[0]); ok {
		l.ref = first.lat
	}
	if s, ok := c.Projection.(shifted); ok {
		c = s.inner
	}
	d := c.Domain()
	l.wraps = !c.Geographic() && (d.Round || len(d.Boxes) > 1)
	if l.wraps {
		b := d.Boxes[0]
		mx, my := 1e-3*(x1-x0), 1e-3*(y1-y0)
		for _, pole := range [2]float64{-math.Pi / 2, math.Pi / 2} {
			if x, y, ok := c.FromGeographic((b.West+b.East)/2, pole); ok && x >= x0-mx && x <= x1+mx && y >= y0-my && y <= y1+my {
				l.ref = pole
			}
		}
	}
	l.sinRef = math.Sin(l.ref)
}

func (l *lineIntegral) at(p [2]float64) (groundPoint, bool) {
	lon, lat, ok := l.crs.ToGeographic(p[0], p[1])
	if !ok && l.rim != nil { // a line along the rim of the map leaves it by what it is not quite the rim
		var dlon float64
		if dlon, lat, ok = l.rim.Unbounded(p[0]*l.crs.Unit, p[1]*l.crs.Unit); ok {
			const most = math.Pi + 1
			b := l.crs.Domain().Boxes[0]
			lon = (b.West+b.East)/2 + math.Max(-most, math.Min(most, dlon))
		}
	}
	return groundPoint{p, lon, lat, l.crs.Ellipsoid.AreaFromParallel(l.ref, l.sinRef, lat)}, ok
}

// step is the trapezoid of the integral between two points.
func (l *lineIntegral) step(p, q *groundPoint) float64 {
	d := q.lon - p.lon
	if l.wraps || math.Abs(d) > 6 {
		d = ellipsoid.WrapLongitude(d)
	}
	return -(p.s + q.s) / 2 * d
}

// edge adds an edge, by Romberg's rule on trapezoids of the Stieltjes integral, whose error has even powers of the step
// only; where eight steps do not settle it, each half of the edge is taken by itself.
func (l *lineIntegral) edge(p, q groundPoint) bool { return l.halves(p, q, 0) }

func (l *lineIntegral) halves(p, q groundPoint, depth int) bool {
	if p.p == q.p {
		return true
	}
	between := func(a, b *groundPoint) (groundPoint, bool) {
		return l.at([2]float64{(a.p[0] + b.p[0]) / 2, (a.p[1] + b.p[1]) / 2})
	}
	// How many digits rounding leaves: of longitudes and of S.
	noise := 4e-16 * (math.Abs(p.s) + math.Abs(q.s)) * (math.Abs(p.lon-q.lon) + 1e-8)
	enough := math.Max(l.enough, noise)
	m, ok := between(&p, &q)
	if !ok {
		return false
	}
	t1 := l.step(&p, &q)
	t2 := l.step(&p, &m) + l.step(&m, &q)
	r2 := t2 + (t2-t1)/3
	// The next power of the step is smaller by the square of the edge's length over the distance to the pole.
	near := math.Min(math.Cos(p.lat), math.Cos(q.lat))
	dlat, dlon := q.lat-p.lat, ellipsoid.WrapLongitude(q.lon-p.lon)
	small := dlat*dlat/(near*near+1e-30) + dlon*dlon
	if small < 1e-3 && math.Abs(r2-t1)*small <= enough && dlon != 0 || dlon == 0 && dlat == 0 {
		l.sum, l.comp = compensated(l.sum, l.comp, r2)
		return true
	}
	a, ok1 := between(&p, &m)
	b, ok2 := between(&m, &q)
	if !ok1 || !ok2 {
		return false
	}
	t3 := l.step(&p, &a) + l.step(&a, &m) + l.step(&m, &b) + l.step(&b, &q)
	s2 := t3 + (t3-t2)/3
	r3 := s2 + (s2-r2)/15
	if small < 0.1 && math.Abs(r3-r2) <= enough {
		l.sum, l.comp = compensated(l.sum, l.comp, r3)
		return true
	}
	if depth >= 40 {
		l.sum, l.comp = compensated(l.sum, l.comp, r3)
		return true
	}
	return l.halves(p, m, depth+1) && l.halves(m, q, depth+1)
}
