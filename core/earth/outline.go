package earth

import (
	"math"
)

// OutlineArea is the signed area in m² on the ellipsoid of a closed ring whose edges are
// straight lines in the coordinates of its CRS; positive when the ring runs counter-clockwise
// in (x, y). The last point joins the first. It reports false when a point has no place on
// the Earth.
//
// The area is the line integral of q(φ)·a²/2 along the ring, taken relative to a latitude on
// the ring to keep its precision for small zones. Edges that are straight in longitude and
// latitude are integrated by Gauss-Legendre quadrature, 5 points to a degree and 2 for short edges; edges that are
// straight in a projection are first traced to longitude and latitude so that the area is kept,
// and the plain planar area is taken where the projection is equal-area.
func (c *CRS) OutlineArea(ring [][2]float64) (float64, bool) {
	if len(ring) < 3 {
		return 0, true
	}
	if c.EqualArea() {
		return PlanarArea(ring) * c.Unit * c.Unit, true
	}
	if c.Geographic() {
		return c.geographicOutline(ring), true
	}
	return c.projectedOutline(ring)
}

// PlanarArea is the signed planar area of a closed ring, positive when it runs counter-clockwise.
func PlanarArea(ring [][2]float64) float64 {
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

// areaFromParallel is the area in m² between the parallels ref and lat for a radian of longitude.
func (e Ellipsoid) areaFromParallel(ref, sinRef, lat float64) float64 {
	ds := 2 * math.Cos((lat+ref)/2) * math.Sin((lat-ref)/2)
	return e.A * e.A * e.qDifference(sinRef, sinRef+ds, ds) / 2
}

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
			mean = c.Ellipsoid.areaFromParallel(ref, sinRef, lat)
		case math.Abs(dlat) < 0.2*degree:
			for _, g := range gauss2 {
				mean += g[1] * c.Ellipsoid.areaFromParallel(ref, sinRef, lat+g[0]*dlat)
			}
		default:
			for k := range pieces {
				for _, g := range gauss5 {
					t := (float64(k) + g[0]) / float64(pieces)
					mean += g[1] * c.Ellipsoid.areaFromParallel(ref, sinRef, lat+t*dlat)
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

// projectedOutline carries the ring to longitude and latitude by [Trace] and integrates there.
func (c *CRS) projectedOutline(ring [][2]float64) (float64, bool) {
	lon0, _, ok := c.ToGeographic(ring[0][0], ring[0][1])
	if !ok {
		return 0, false
	}
	toLonLat := func(p [2]float64) ([2]float64, bool) {
		lon, lat, ok := c.ToGeographic(p[0], p[1])
		return [2]float64{(lon0 + wrapLongitude(lon-lon0)) / degree, lat / degree}, ok
	}
	longest := 20000 / c.Unit
	if s, ok := c.Projection.(shifted); ok && s.inner.Geographic() {
		longest = 0.2 * degree / c.Unit
	}
	traced, ok := TraceRing(ring, toLonLat, Tolerance{Longest: longest, Relative: 1e-3})
	if !ok {
		return 0, false
	}
	base := *c
	base.Projection, base.Unit = nil, degree
	return base.geographicOutline(traced), true
}
