package earth

import "math"

// meridian gives lengths along a meridian and back, by the rectifying series of [TransverseMercator].
type meridian struct{ tm *TransverseMercator }

func newMeridian(e Ellipsoid) meridian { return meridian{NewTransverseMercator(e, 0, 0, 1, 0, 0)} }

// length is the distance in metres from the equator to a latitude in radians.
func (m meridian) length(lat float64) float64 {
	_, y, _ := m.tm.Forward(lat, 0)
	return y
}

func (m meridian) latitude(length float64) (float64, bool) {
	lat, _, ok := m.tm.Inverse(0, length)
	return lat, ok
}

// arealByDifference is the areal scale from fourth-order central differences of Forward over 0.001
// radians, for projections without a closed form of it. The differences are right to a few parts in 10¹².
func arealByDifference(p Projection, e Ellipsoid, lat, lon float64) float64 {
	const h = 1e-3
	along := func(dlat, dlon float64) (dx, dy float64) {
		for _, k := range [4][2]float64{{1, 8}, {-1, -8}, {2, -1}, {-2, 1}} {
			x, y, _ := p.Forward(lat+k[0]*dlat, lon+k[0]*dlon)
			dx += k[1] * x
			dy += k[1] * y
		}
		return dx / (12 * h), dy / (12 * h)
	}
	xf, yf := along(h, 0)
	xl, yl := along(0, h)
	m, n := e.radii(lat)
	return math.Abs(xl*yf-xf*yl) / (m * n * math.Cos(lat))
}

// newtonInverse finds the point whose image is x, y from a first guess, by Newton's iteration with
// numeric derivatives.
func newtonInverse(p Projection, x, y, lat, lon float64) (float64, float64, bool) {
	const h = 1e-6
	for range 30 {
		fx, fy, ok := p.Forward(lat, lon)
		ax, ay, ok1 := p.Forward(lat+h, lon)
		bx, by, ok2 := p.Forward(lat, lon+h)
		if !ok || !ok1 || !ok2 {
			return 0, 0, false
		}
		a, b, c, d := (ax-fx)/h, (bx-fx)/h, (ay-fy)/h, (by-fy)/h
		det := a*d - b*c
		if det == 0 || math.IsNaN(det) {
			return 0, 0, false
		}
		rx, ry := x-fx, y-fy
		dlat, dlon := (rx*d-b*ry)/det, (a*ry-c*rx)/det
		lat, lon = lat+dlat, lon+dlon
		if math.Abs(lat) > 1.6 || math.Abs(dlon) > 7 {
			return 0, 0, false
		}
		if math.Abs(dlat)+math.Abs(dlon) < 1e-15 {
			break
		}
		if math.Abs(rx)+math.Abs(ry) < 1e-9 {
			break
		}
	}
	fx, fy, ok := p.Forward(lat, lon)
	return lat, lon, ok && math.Abs(fx-x)+math.Abs(fy-y) < 1e-6
}

// parallels are maps on which each parallel is a straight line of one scale: at a height, x gives the longitude, also
// beyond the rim of the map.
type parallels interface {
	// unbounded is Inverse with the longitude from the central meridian, which may be more than half a turn.
	unbounded(x, y float64) (lat, dlon float64, ok bool)
}

// within is Inverse for such maps.
func within(p parallels, lon0, x, y float64) (lat, lon float64, ok bool) {
	lat, dlon, ok := p.unbounded(x, y)
	return lat, lon0 + dlon, ok && math.Abs(dlon) <= math.Pi+1e-9
}

// Sinusoidal is equal-area: Snyder 1987, p. 247-248.
type Sinusoidal struct {
	e            Ellipsoid
	m            meridian
	lon0, fe, fn float64
}

// NewSinusoidal has its central meridian at lon0 (radians).
func NewSinusoidal(e Ellipsoid, lon0, fe, fn float64) *Sinusoidal {
	return &Sinusoidal{e, newMeridian(e), lon0, fe, fn}
}

// Forward implements [Projection].
func (p *Sinusoidal) Forward(lat, lon float64) (x, y float64, ok bool) {
	return p.fe + p.e.A*p.e.parallelRadius(lat)*wrapLongitude(lon-p.lon0), p.fn + p.m.length(lat), math.Abs(lat) <= math.Pi/2
}

// Inverse implements [Projection].
func (p *Sinusoidal) Inverse(x, y float64) (lat, lon float64, ok bool) {
	return within(p, p.lon0, x, y)
}

func (p *Sinusoidal) unbounded(x, y float64) (lat, dlon float64, ok bool) {
	lat, ok = p.m.latitude(y - p.fn)
	r := p.e.A * p.e.parallelRadius(lat)
	if r < 1e-6 {
		return lat, (x - p.fe) / 1e-3, ok
	}
	return lat, (x - p.fe) / r, ok
}

// ArealScale implements [Projection].
func (p *Sinusoidal) ArealScale(_, _ float64) float64 { return 1 }

// Traits implements [Projection].
func (p *Sinusoidal) Traits() Traits { return Traits{Method: "sinusoidal", EqualArea: true} }

// EqualEarth is EPSG method 1078 (Šavrič, Patterson and Jenny 2018), on the authalic sphere.
type EqualEarth struct {
	e            Ellipsoid
	lon0, fe, fn float64
	qp, r        float64
}

// NewEqualEarth has its central meridian at lon0 (radians).
func NewEqualEarth(e Ellipsoid, lon0, fe, fn float64) *EqualEarth {
	qp := e.authalicQ(1)
	return &EqualEarth{e, lon0, fe, fn, qp, e.A * math.Sqrt(qp/2)}
}

// polynomial is y/r of Equal Earth at the parametric latitude, and its derivative.
func (p *EqualEarth) polynomial(t float64) (y, dy float64) {
	const a1, a2, a3, a4 = 1.340264, -0.081106, 0.000893, 0.003796
	t2 := t * t
	t6 := t2 * t2 * t2
	return t * (a1 + a2*t2 + t6*(a3+a4*t2)), a1 + 3*a2*t2 + t6*(7*a3+9*a4*t2)
}

var sqrt3 = math.Sqrt(3)

// Forward implements [Projection].
func (p *EqualEarth) Forward(lat, lon float64) (x, y float64, ok bool) {
	t := math.Asin(sqrt3 / 2 * p.e.authalicQ(math.Sin(lat)) / p.qp)
	y, dy := p.polynomial(t)
	return p.fe + p.r*2*sqrt3*wrapLongitude(lon-p.lon0)*math.Cos(t)/(3*dy), p.fn + p.r*y, math.Abs(lat) <= math.Pi/2
}

// Inverse implements [Projection].
func (p *EqualEarth) Inverse(x, y float64) (lat, lon float64, ok bool) {
	return within(p, p.lon0, x, y)
}

func (p *EqualEarth) unbounded(x, y float64) (lat, dlon float64, ok bool) {
	y = (y - p.fn) / p.r
	t := y / 1.340264
	var dy float64
	for range 20 {
		var f float64
		f, dy = p.polynomial(t)
		step := (y - f) / dy
		t += step
		if math.Abs(step) < 1e-16 {
			break
		}
	}
	_, dy = p.polynomial(t)
	s, c := math.Sincos(t)
	if !(math.Abs(t) <= math.Pi/3+1e-12) {
		return 0, 0, false
	}
	lat, ok = p.e.latitudeFromQ(s * 2 / sqrt3 * p.qp)
	return lat, (x - p.fe) * 3 * dy / (p.r * 2 * sqrt3 * c), ok
}

// ArealScale implements [Projection].
func (p *EqualEarth) ArealScale(_, _ float64) float64 { return 1 }

// Traits implements [Projection].
func (p *EqualEarth) Traits() Traits { return Traits{Method: "Equal Earth", EqualArea: true} }

// Mollweide is the spherical projection (Snyder 1987, p. 251) on the semi-major axis, fed with the
// ellipsoid's latitudes as is the custom; on an ellipsoid its areas are therefore not quite true.
type Mollweide struct {
	e            Ellipsoid
	lon0, fe, fn float64
}

// NewMollweide has its central meridian at lon0 (radians).
func NewMollweide(e Ellipsoid, lon0, fe, fn float64) *Mollweide {
	return &Mollweide{e, lon0, fe, fn}
}

// Forward implements [Projection].
func (p *Mollweide) Forward(lat, lon float64) (x, y float64, ok bool) {
	// 2θ + sin 2θ = π·sin φ, by Newton's iteration on θ from a guess that holds near the poles too.
	target := math.Pi * math.Sin(lat)
	t := lat
	if d := math.Pi/2 - math.Abs(lat); d < 0.3 {
		t = math.Copysign(math.Pi/2-math.Cbrt(3*math.Pi/8*d*d), lat)
	}
	for range 50 {
		s, c := math.Sincos(t)
		d := 4 * c * c
		if d < 1e-14 {
			break
		}
		step := (2*t + 2*s*c - target) / d
		t -= step
		if math.Abs(step) < 1e-16 {
			break
		}
	}
	s, c := math.Sincos(t)
	r := p.e.A
	return p.fe + 2*math.Sqrt2/math.Pi*r*wrapLongitude(lon-p.lon0)*c, p.fn + math.Sqrt2*r*s, math.Abs(lat) <= math.Pi/2
}

// Inverse implements [Projection].
func (p *Mollweide) Inverse(x, y float64) (lat, lon float64, ok bool) { return within(p, p.lon0, x, y) }

func (p *Mollweide) unbounded(x, y float64) (lat, dlon float64, ok bool) {
	r := p.e.A
	s := (y - p.fn) / (math.Sqrt2 * r)
	if !(math.Abs(s) <= 1+1e-12) {
		return 0, 0, false
	}
	t := math.Asin(math.Max(-1, math.Min(1, s)))
	lat = math.Asin(math.Max(-1, math.Min(1, (2*t+math.Sin(2*t))/math.Pi)))
	c := math.Cos(t)
	if c < 1e-9 {
		return lat, x - p.fe, true
	}
	return lat, math.Pi * (x - p.fe) / (2 * math.Sqrt2 * r * c), true
}

// ArealScale implements [Projection]: true on the sphere, so that it is the sphere's area element over
// the ellipsoid's.
func (p *Mollweide) ArealScale(lat, _ float64) float64 {
	m, n := p.e.radii(lat)
	return p.e.A * p.e.A / (m * n)
}

// Traits implements [Projection].
func (p *Mollweide) Traits() Traits {
	return Traits{Method: "Mollweide", EqualArea: p.e.F == 0, ByRow: true}
}

// CassiniSoldner is EPSG method 9806, the series of EPSG Guidance Note 7-2.
type CassiniSoldner struct {
	e                    Ellipsoid
	m                    meridian
	lon0, fe, fn, origin float64
}

// NewCassiniSoldner has its origin at lat0, lon0 (radians).
func NewCassiniSoldner(e Ellipsoid, lat0, lon0, fe, fn float64) *CassiniSoldner {
	m := newMeridian(e)
	return &CassiniSoldner{e, m, lon0, fe, fn, m.length(lat0)}
}

// Forward implements [Projection].
func (p *CassiniSoldner) Forward(lat, lon float64) (x, y float64, ok bool) {
	s, c := math.Sincos(lat)
	e2 := p.e.E2()
	_, v := p.e.radii(lat)
	dl := wrapLongitude(lon - p.lon0)
	a, t, k := dl*c, s*s/(c*c), e2*c*c/(1-e2)
	a2 := a * a
	x = v * a * (1 - a2*t*(1./6+(8-t+8*k)*a2/120))
	y = p.m.length(lat) - p.origin + v*s/c*a2*(0.5+(5-t+6*k)*a2/24)
	return p.fe + x, p.fn + y, math.Abs(dl) < 20*degree && math.Abs(lat) < 89*degree
}

// Inverse implements [Projection].
func (p *CassiniSoldner) Inverse(x, y float64) (lat, lon float64, ok bool) {
	lat, ok = p.m.latitude(p.origin + y - p.fn)
	if !ok || math.Abs(lat) > 88.9*degree {
		return 0, 0, false
	}
	return newtonInverse(p, x, y, lat, p.lon0+(x-p.fe)/(p.e.A*p.e.parallelRadius(lat)))
}

// ArealScale implements [Projection].
func (p *CassiniSoldner) ArealScale(lat, lon float64) float64 {
	return arealByDifference(p, p.e, lat, lon)
}

// Traits implements [Projection].
func (p *CassiniSoldner) Traits() Traits { return Traits{Method: "Cassini-Soldner"} }

// Polyconic is the American polyconic: Snyder 1987, p. 129-131; EPSG method 9818.
type Polyconic struct {
	e                    Ellipsoid
	m                    meridian
	lon0, fe, fn, origin float64
}

// NewPolyconic has its origin at lat0, lon0 (radians).
func NewPolyconic(e Ellipsoid, lat0, lon0, fe, fn float64) *Polyconic {
	m := newMeridian(e)
	return &Polyconic{e, m, lon0, fe, fn, m.length(lat0)}
}

// Forward implements [Projection].
func (p *Polyconic) Forward(lat, lon float64) (x, y float64, ok bool) {
	dl := wrapLongitude(lon - p.lon0)
	ok = math.Abs(dl) < 90*degree && math.Abs(lat) < 89.99*degree
	s, c := math.Sincos(lat)
	_, v := p.e.radii(lat)
	l := dl * s
	// ν·cot φ·sin L and ν·cot φ·(1-cos L), written so that they hold at the equator too.
	half := l / 2
	x = v * c * dl * sinc(l)
	y = p.m.length(lat) - p.origin + v*c*dl*math.Sin(half)*sinc(half)
	return p.fe + x, p.fn + y, ok
}

// sinc is sin x/x.
func sinc(x float64) float64 {
	if math.Abs(x) < 1e-8 {
		return 1
	}
	return math.Sin(x) / x
}

// Inverse implements [Projection].
func (p *Polyconic) Inverse(x, y float64) (lat, lon float64, ok bool) {
	lat, ok = p.m.latitude(p.origin + y - p.fn)
	if !ok || math.Abs(lat) > 89*degree {
		return 0, 0, false
	}
	return newtonInverse(p, x, y, lat, p.lon0+(x-p.fe)/(p.e.A*math.Max(0.1, p.e.parallelRadius(lat))))
}

// ArealScale implements [Projection].
func (p *Polyconic) ArealScale(lat, lon float64) float64 {
	return arealByDifference(p, p.e, lat, lon)
}

// Traits implements [Projection].
func (p *Polyconic) Traits() Traits { return Traits{Method: "American polyconic"} }

// EquidistantCylindrical is EPSG methods 1028, on the ellipsoid, and 1029, the spherical formulas on the
// semi-major axis fed with the ellipsoid's latitudes.
type EquidistantCylindrical struct {
	e                    Ellipsoid
	m                    meridian
	lon0, fe, fn, radius float64
	spherical            bool
}

// NewEquidistantCylindrical is true to scale along the parallel lat1 (radians).
func NewEquidistantCylindrical(e Ellipsoid, lat1, lon0, fe, fn float64, spherical bool) *EquidistantCylindrical {
	p := &EquidistantCylindrical{e, newMeridian(e), lon0, fe, fn, e.A * e.parallelRadius(lat1), spherical}
	if spherical {
		p.radius = e.A * math.Cos(lat1)
	}
	return p
}

// Forward implements [Projection].
func (p *EquidistantCylindrical) Forward(lat, lon float64) (x, y float64, ok bool) {
	y = p.e.A * lat
	if !p.spherical {
		y = p.m.length(lat)
	}
	return p.fe + p.radius*wrapLongitude(lon-p.lon0), p.fn + y, math.Abs(lat) <= math.Pi/2
}

// Inverse implements [Projection].
func (p *EquidistantCylindrical) Inverse(x, y float64) (lat, lon float64, ok bool) {
	y -= p.fn
	lon = p.lon0 + (x-p.fe)/p.radius
	if p.spherical {
		return y / p.e.A, lon, math.Abs(y/p.e.A) <= math.Pi/2*(1+1e-12)
	}
	lat, ok = p.m.latitude(y)
	return lat, lon, ok
}

// ArealScale implements [Projection].
func (p *EquidistantCylindrical) ArealScale(lat, _ float64) float64 {
	m, n := p.e.radii(lat)
	along := p.radius / (n * math.Cos(lat))
	if p.spherical {
		return along * p.e.A / m
	}
	return along
}

// Traits implements [Projection].
func (p *EquidistantCylindrical) Traits() Traits {
	return Traits{Method: "equidistant cylindrical", ByRow: true}
}

// ColombiaUrban is EPSG method 1052, EPSG Guidance Note 7-2.
type ColombiaUrban struct {
	e                          Ellipsoid
	lat0, lon0, fe, fn, height float64
}

// NewColombiaUrban has its plane at a height in metres above the ellipsoid at lat0, lon0 (radians).
func NewColombiaUrban(e Ellipsoid, lat0, lon0, height, fe, fn float64) *ColombiaUrban {
	return &ColombiaUrban{e, lat0, lon0, fe, fn, height}
}

// Forward implements [Projection].
func (p *ColombiaUrban) Forward(lat, lon float64) (x, y float64, ok bool) {
	m0, n0 := p.e.radii(p.lat0)
	_, n := p.e.radii(lat)
	mid, _ := p.e.radii((lat + p.lat0) / 2)
	across := n * math.Cos(lat) * wrapLongitude(lon-p.lon0)
	x = (1 + p.height/n0) * across
	y = (1 + p.height/mid) * m0 * (lat - p.lat0 + math.Tan(p.lat0)/(2*m0*n0)*across*across)
	return p.fe + x, p.fn + y, math.Abs(lat-p.lat0) < 5*degree && math.Abs(lon-p.lon0) < 5*degree
}

// Inverse implements [Projection].
func (p *ColombiaUrban) Inverse(x, y float64) (lat, lon float64, ok bool) {
	if math.Hypot(x-p.fe, y-p.fn) > 6e5 {
		return 0, 0, false
	}
	m, n := p.e.radii(p.lat0)
	return newtonInverse(p, x, y, p.lat0+(y-p.fn)/m, p.lon0+(x-p.fe)/(n*math.Cos(p.lat0)))
}

// ArealScale implements [Projection].
func (p *ColombiaUrban) ArealScale(lat, lon float64) float64 {
	return arealByDifference(p, p.e, lat, lon)
}

// Traits implements [Projection].
func (p *ColombiaUrban) Traits() Traits { return Traits{Method: "Colombia Urban"} }

// reversed counts to the west and to the south (EPSG method 9808).
type reversed struct {
	Projection
	fe, fn float64
}

// Forward implements [Projection].
func (p reversed) Forward(lat, lon float64) (x, y float64, ok bool) {
	x, y, ok = p.Projection.Forward(lat, lon)
	return p.fe - x, p.fn - y, ok
}

// Inverse implements [Projection].
func (p reversed) Inverse(x, y float64) (lat, lon float64, ok bool) {
	return p.Projection.Inverse(p.fe-x, p.fn-y)
}

// AzimuthalSpherical is Lambert's azimuthal projection of the sphere with the ellipsoid's area, fed with the
// ellipsoid's latitudes (EPSG method 1027); on an ellipsoid its areas are therefore not quite true.
type AzimuthalSpherical struct {
	*LambertAzimuthalEqualArea
	e      Ellipsoid
	radius float64
}

// NewAzimuthalSpherical has its centre at lat0, lon0 (radians).
func NewAzimuthalSpherical(e Ellipsoid, lat0, lon0, fe, fn float64) *AzimuthalSpherical {
	r := e.A * math.Sqrt(e.authalicQ(1)/2)
	return &AzimuthalSpherical{NewLambertAzimuthalEqualArea(Ellipsoid{e.Name, r, 0}, lat0, lon0, fe, fn), e, r}
}

// ArealScale implements [Projection].
func (p *AzimuthalSpherical) ArealScale(lat, _ float64) float64 {
	m, n := p.e.radii(lat)
	return p.radius * p.radius / (m * n)
}

// Traits implements [Projection].
func (p *AzimuthalSpherical) Traits() Traits {
	return Traits{Method: "Lambert azimuthal, spherical", EqualArea: p.e.F == 0}
}
