package earth

import (
	"fmt"
	"math"
)

// Projection maps geographic coordinates on one ellipsoid to the plane.
type Projection interface {
	// Forward maps latitude and longitude (radians) to easting and northing (metres). It
	// reports false where the projection is not defined or no longer accurate.
	Forward(lat, lon float64) (x, y float64, ok bool)
	// Inverse is the reverse of Forward.
	Inverse(x, y float64) (lat, lon float64, ok bool)
	// ArealScale is planar area divided by area on the ellipsoid at a point.
	ArealScale(lat, lon float64) float64
	// Domain is the ground that is mapped one to one. Longitudes count from the prime meridian of the CRS.
	Domain() Domain
	// Traits says what cell areas may rely on.
	Traits() Traits
}

// Traits are the properties of a projection that decide how cell areas vary over a grid.
type Traits struct {
	Method    string // the name of the method in the trade
	EqualArea bool   // areal scale is 1 everywhere
	Conformal bool   // the areal scale is the square of the linear scale
	ByRow     bool   // areal scale depends on the northing only
}

// LambertAzimuthalEqualArea is the ellipsoidal form: Snyder 1987, p. 187-190, EPSG method 9820.
type LambertAzimuthalEqualArea struct {
	e            Ellipsoid
	lat0         float64
	lon0, fe, fn float64
	qp, rq, d    float64
	sinB, cosB   float64
	polar        float64 // +1 at the north pole, -1 at the south pole, 0 elsewhere
}

// NewLambertAzimuthalEqualArea centres the projection on lat0, lon0 (radians).
func NewLambertAzimuthalEqualArea(e Ellipsoid, lat0, lon0, fe, fn float64) *LambertAzimuthalEqualArea {
	p := &LambertAzimuthalEqualArea{e: e, lat0: lat0, lon0: lon0, fe: fe, fn: fn}
	p.qp = e.authalicQ(1)
	p.rq = e.A * math.Sqrt(p.qp/2)
	if math.Abs(math.Abs(lat0)-math.Pi/2) < 1e-12 {
		p.polar = math.Copysign(1, lat0)
		return p
	}
	s, c := math.Sincos(lat0)
	p.sinB = e.authalicQ(s) / p.qp
	p.cosB = math.Sqrt(1 - p.sinB*p.sinB)
	p.d = e.A * c / (math.Sqrt(1-e.E2()*s*s) * p.rq * p.cosB)
	return p
}

// Forward implements [Projection].
func (p *LambertAzimuthalEqualArea) Forward(lat, lon float64) (x, y float64, ok bool) {
	q := p.e.authalicQ(math.Sin(lat))
	dl := wrapLongitude(lon - p.lon0)
	if p.polar != 0 {
		rho := p.e.A * math.Sqrt(math.Max(0, p.qp-p.polar*q))
		return p.fe + rho*math.Sin(dl), p.fn - p.polar*rho*math.Cos(dl), true
	}
	sb := math.Max(-1, math.Min(1, q/p.qp))
	cb := math.Sqrt(1 - sb*sb)
	sl, cl := math.Sincos(dl)
	den := 1 + p.sinB*sb + p.cosB*cb*cl
	if den < 1e-8 { // the antipode is a circle, not a point
		return 0, 0, false
	}
	b := p.rq * math.Sqrt(2/den)
	return p.fe + b*p.d*cb*sl, p.fn + b/p.d*(p.cosB*sb-p.sinB*cb*cl), true
}

// Inverse implements [Projection].
func (p *LambertAzimuthalEqualArea) Inverse(x, y float64) (lat, lon float64, ok bool) {
	x, y = x-p.fe, y-p.fn
	if p.polar != 0 {
		rho := math.Hypot(x, y) / p.e.A
		lat, ok = p.e.latitudeFromQ(p.polar * (p.qp - rho*rho))
		return lat, wrapLongitude(p.lon0 + math.Atan2(x, -p.polar*y)), ok
	}
	u, v := x/p.d, y*p.d
	rho := math.Hypot(u, v)
	if rho == 0 {
		lat, ok = p.e.latitudeFromQ(p.qp * p.sinB)
		return lat, p.lon0, ok
	}
	if rho > 2*p.rq {
		return 0, 0, false
	}
	sc, cc := math.Sincos(2 * math.Asin(rho/(2*p.rq)))
	lat, ok = p.e.latitudeFromQ(p.qp * (cc*p.sinB + v*sc*p.cosB/rho))
	lon = p.lon0 + math.Atan2(u*sc, rho*p.cosB*cc-v*p.sinB*sc)
	return lat, wrapLongitude(lon), ok
}

// ArealScale implements [Projection].
func (p *LambertAzimuthalEqualArea) ArealScale(_, _ float64) float64 { return 1 }

// Traits implements [Projection].
func (p *LambertAzimuthalEqualArea) Traits() Traits {
	return Traits{Method: "Lambert azimuthal equal area", EqualArea: true}
}

// Albers is the Albers equal-area conic: Snyder 1987, p. 101-102, EPSG method 9822.
type Albers struct {
	e                     Ellipsoid
	lon0, fe, fn          float64
	n, c, rho0, direction float64
}

// NewAlbers has the standard parallels lat1 and lat2 (radians), which may be equal but not
// opposite.
func NewAlbers(e Ellipsoid, lat0, lon0, lat1, lat2, fe, fn float64) (*Albers, error) {
	if math.Abs(lat1+lat2) < 1e-10 {
		return nil, fmt.Errorf("the standard parallels of an Albers projection cannot be opposite (%g° and %g°)", lat1/degree, lat2/degree)
	}
	m := func(lat float64) float64 {
		s, c := math.Sincos(lat)
		return c / math.Sqrt(1-e.E2()*s*s)
	}
	m1, m2 := m(lat1), m(lat2)
	q1, q2 := e.authalicQ(math.Sin(lat1)), e.authalicQ(math.Sin(lat2))
	p := &Albers{e: e, lon0: lon0, fe: fe, fn: fn}
	if math.Abs(lat1-lat2) < 1e-10 {
		p.n = math.Sin(lat1)
	} else {
		p.n = (m1*m1 - m2*m2) / (q2 - q1)
	}
	p.c = m1*m1 + p.n*q1
	p.direction = math.Copysign(1, p.n)
	p.rho0 = e.A * math.Sqrt(math.Max(0, p.c-p.n*e.authalicQ(math.Sin(lat0)))) / p.n
	return p, nil
}

// Forward implements [Projection].
func (p *Albers) Forward(lat, lon float64) (x, y float64, ok bool) {
	r2 := p.c - p.n*p.e.authalicQ(math.Sin(lat))
	if r2 < 0 {
		if r2 < -1e-12 {
			return 0, 0, false
		}
		r2 = 0
	}
	rho := p.e.A * math.Sqrt(r2) / p.n
	s, c := math.Sincos(p.n * wrapLongitude(lon-p.lon0))
	return p.fe + rho*s, p.fn + p.rho0 - rho*c, true
}

// Inverse implements [Projection].
func (p *Albers) Inverse(x, y float64) (lat, lon float64, ok bool) {
	x, y = x-p.fe, p.rho0-(y-p.fn)
	rho := math.Hypot(x, y)
	theta := math.Atan2(p.direction*x, p.direction*y)
	r := rho * p.n / p.e.A
	lat, ok = p.e.latitudeFromQ((p.c - r*r) / p.n)
	if math.Abs(theta/p.n) > math.Pi+1e-9 {
		return 0, 0, false
	}
	return lat, wrapLongitude(p.lon0 + theta/p.n), ok
}

// ArealScale implements [Projection].
func (p *Albers) ArealScale(_, _ float64) float64 { return 1 }

// Traits implements [Projection].
func (p *Albers) Traits() Traits { return Traits{Method: "Albers equal area", EqualArea: true} }

// CylindricalEqualArea is Lambert's, on the ellipsoid: Snyder 1987, p. 81-83, EPSG method 9835.
type CylindricalEqualArea struct {
	e                Ellipsoid
	lon0, fe, fn, k0 float64
}

// NewCylindricalEqualArea is true to scale along the parallel latTS (radians).
func NewCylindricalEqualArea(e Ellipsoid, latTS, lon0, fe, fn float64) *CylindricalEqualArea {
	s, c := math.Sincos(latTS)
	return &CylindricalEqualArea{e, lon0, fe, fn, c / math.Sqrt(1-e.E2()*s*s)}
}

// Forward implements [Projection].
func (p *CylindricalEqualArea) Forward(lat, lon float64) (x, y float64, ok bool) {
	return p.fe + p.e.A*p.k0*wrapLongitude(lon-p.lon0),
		p.fn + p.e.A*p.e.authalicQ(math.Sin(lat))/(2*p.k0), true
}

// Inverse implements [Projection].
func (p *CylindricalEqualArea) Inverse(x, y float64) (lat, lon float64, ok bool) {
	lat, ok = p.e.latitudeFromQ(2 * (y - p.fn) * p.k0 / p.e.A)
	return lat, p.lon0 + (x-p.fe)/(p.e.A*p.k0), ok
}

// ArealScale implements [Projection].
func (p *CylindricalEqualArea) ArealScale(_, _ float64) float64 { return 1 }

// Traits implements [Projection].
func (p *CylindricalEqualArea) Traits() Traits {
	return Traits{Method: "Lambert cylindrical equal area", EqualArea: true, ByRow: true}
}

// Mercator is the ellipsoidal Mercator: Snyder 1987, p. 44-45, EPSG methods 9804 and 9805.
type Mercator struct {
	e                Ellipsoid
	lon0, fe, fn, k0 float64
}

// NewMercator has the scale k0 at the equator.
func NewMercator(e Ellipsoid, lon0, k0, fe, fn float64) *Mercator {
	return &Mercator{e, lon0, fe, fn, k0}
}

// NewMercatorTrueScale is true to scale along the parallel latTS (radians).
func NewMercatorTrueScale(e Ellipsoid, latTS, lon0, fe, fn float64) *Mercator {
	s, c := math.Sincos(latTS)
	return &Mercator{e, lon0, fe, fn, c / math.Sqrt(1-e.E2()*s*s)}
}

// Forward implements [Projection].
func (p *Mercator) Forward(lat, lon float64) (x, y float64, ok bool) {
	if math.Abs(lat) > 89.99*degree {
		return 0, 0, false
	}
	psi := math.Asinh(conformalTan(math.Tan(lat), math.Sqrt(p.e.E2())))
	return p.fe + p.e.A*p.k0*wrapLongitude(lon-p.lon0), p.fn + p.e.A*p.k0*psi, true
}

// Inverse implements [Projection].
func (p *Mercator) Inverse(x, y float64) (lat, lon float64, ok bool) {
	psi := (y - p.fn) / (p.e.A * p.k0)
	if !(math.Abs(psi) < 10) {
		return 0, 0, false
	}
	lat = math.Atan(geographicTan(math.Sinh(psi), math.Sqrt(p.e.E2())))
	return lat, p.lon0 + (x-p.fe)/(p.e.A*p.k0), true
}

// ArealScale implements [Projection].
func (p *Mercator) ArealScale(lat, _ float64) float64 {
	_, nu := p.e.radii(lat)
	k := p.k0 * p.e.A / (nu * math.Cos(lat))
	return k * k
}

// Traits implements [Projection].
func (p *Mercator) Traits() Traits {
	return Traits{Method: "Mercator", Conformal: true, ByRow: true}
}

// PseudoMercator is the web's: the spherical formulas of the Mercator on the semi-major axis,
// fed with ellipsoidal latitudes (EPSG method 1024, EPSG Guidance Note 7-2). It is neither
// conformal nor equal-area; its areal scale is that of EPSG's formulas for h and k.
type PseudoMercator struct {
	e            Ellipsoid
	lon0, fe, fn float64
}

// NewPseudoMercator has its central meridian at lon0 (radians).
func NewPseudoMercator(e Ellipsoid, lon0, fe, fn float64) *PseudoMercator {
	return &PseudoMercator{e, lon0, fe, fn}
}

// Forward implements [Projection].
func (p *PseudoMercator) Forward(lat, lon float64) (x, y float64, ok bool) {
	if math.Abs(lat) > 89.99*degree {
		return 0, 0, false
	}
	return p.fe + p.e.A*wrapLongitude(lon-p.lon0), p.fn + p.e.A*math.Asinh(math.Tan(lat)), true
}

// Inverse implements [Projection].
func (p *PseudoMercator) Inverse(x, y float64) (lat, lon float64, ok bool) {
	psi := (y - p.fn) / p.e.A
	if !(math.Abs(psi) < 10) {
		return 0, 0, false
	}
	return math.Atan(math.Sinh(psi)), p.lon0 + (x-p.fe)/p.e.A, true
}

// ArealScale implements [Projection].
func (p *PseudoMercator) ArealScale(lat, _ float64) float64 {
	rho, nu := p.e.radii(lat)
	c := math.Cos(lat)
	return p.e.A / (nu * c) * p.e.A / (rho * c)
}

// Traits implements [Projection].
func (p *PseudoMercator) Traits() Traits {
	return Traits{Method: "pseudo-Mercator", ByRow: true}
}
