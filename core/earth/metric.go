package earth

import "math"

// Metric is the first fundamental form of a CRS at a point: a small step of dx, dy in CRS coordinates is
// √(XX·dx² + 2·XY·dx·dy + YY·dy²) metres long on the ellipsoid. Axes that are at right angles on the map need not be so on
// the ground, unless the CRS is geographic or conformal; XY says so.
type Metric struct{ XX, XY, YY float64 }

// Metric is false where the CRS maps no ground.
func (c *CRS) Metric(x, y float64) (m Metric, ok bool) {
	if c.Geographic() {
		east, north := c.Ellipsoid.GroundSpacing(y * c.Unit)
		north, east = north*c.Unit, east*c.Unit
		return Metric{XX: east * east, YY: north * north}, math.Abs(y*c.Unit) <= math.Pi/2
	}
	// Central differences of geocentric positions, which have no seam and no pole; over 200 m they are right to parts in 10⁹.
	h := 100 / c.Unit
	along := func(dx, dy float64) (d [3]float64, ok bool) {
		a, ok1 := c.geocentric(x-dx, y-dy)
		b, ok2 := c.geocentric(x+dx, y+dy)
		for i := range d {
			d[i] = (b[i] - a[i]) / (2 * h)
		}
		return d, ok1 && ok2
	}
	p, ok1 := along(h, 0)
	q, ok2 := along(0, h)
	for i := range p {
		m.XX, m.XY, m.YY = m.XX+p[i]*p[i], m.XY+p[i]*q[i], m.YY+q[i]*q[i]
	}
	return m, ok1 && ok2
}

// geocentric is the position of a point of the ground in metres from the centre of the Earth.
func (c *CRS) geocentric(x, y float64) (p [3]float64, ok bool) {
	lon, lat, ok := c.ToGeographic(x, y)
	if !ok {
		return p, false
	}
	sl, cl := math.Sincos(lon)
	s, k := math.Sincos(lat)
	e2 := c.Ellipsoid.E2()
	n := c.Ellipsoid.A / math.Sqrt(1-e2*s*s)
	return [3]float64{n * k * cl, n * k * sl, n * (1 - e2) * s}, true
}
