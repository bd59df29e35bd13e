package earth

import (
	"fmt"
	"math"
)

// isometric is the isometric latitude ψ; tan(π/4-φ/2)·((1+e·sin φ)/(1-e·sin φ))^(e/2), the t of
// Snyder (1987, eq. 15-9), is exp(-ψ).
func (e Ellipsoid) isometric(lat float64) float64 {
	return math.Asinh(conformalTan(math.Tan(lat), math.Sqrt(e.E2())))
}

// fromIsometric inverts isometric.
func (e Ellipsoid) fromIsometric(psi float64) float64 {
	if psi > 700 {
		return math.Pi / 2
	}
	if psi < -700 {
		return -math.Pi / 2
	}
	return math.Atan(geographicTan(math.Sinh(psi), math.Sqrt(e.E2())))
}

// parallelRadius is ν·cos φ/a, the radius of a parallel in units of the semi-major axis (Snyder's m).
func (e Ellipsoid) parallelRadius(lat float64) float64 {
	s, c := math.Sincos(lat)
	return c / math.Sqrt(1-e.E2()*s*s)
}

// LambertConformal is the conformal conic of Lambert: Snyder 1987, p. 107-109; EPSG methods 9801,
// 9802, 9803, 9826 and 1051 (EPSG Guidance Note 7-2).
type LambertConformal struct {
	e                        Ellipsoid
	lon0, fe, fn             float64
	n, scale, rho0, tilt, to float64 // radius is scale·exp(-n·ψ); to is -1 where x counts to the west
}

// NewLambertConformal2 has two standard parallels; lat0 and lon0 (radians) are those of the false
// origin.
func NewLambertConformal2(e Ellipsoid, lat0, lon0, lat1, lat2, fe, fn float64) (*LambertConformal, error) {
	if math.Abs(lat1+lat2) < 1e-10 {
		return nil, fmt.Errorf("the standard parallels of a conformal conic cannot be opposite (%g° and %g°)", lat1/degree, lat2/degree)
	}
	p := &LambertConformal{e: e, lon0: lon0, fe: fe, fn: fn, to: 1, n: math.Sin(lat1)}
	if math.Abs(lat1-lat2) > 1e-10 {
		p.n = (math.Log(e.parallelRadius(lat1)) - math.Log(e.parallelRadius(lat2))) / (e.isometric(lat2) - e.isometric(lat1))
	}
	p.scale = e.A * e.parallelRadius(lat1) / p.n * math.Exp(p.n*e.isometric(lat1))
	return p.from(lat0)
}

// NewLambertConformal1 has the scale k0 on the parallel lat0 (radians).
func NewLambertConformal1(e Ellipsoid, lat0, lon0, k0, fe, fn float64) (*LambertConformal, error) {
	p := &LambertConformal{e: e, lon0: lon0, fe: fe, fn: fn, to: 1, n: math.Sin(lat0)}
	p.scale = k0 * e.A * e.parallelRadius(lat0) / p.n * math.Exp(p.n*e.isometric(lat0))
	return p.from(lat0)
}

// from sets the radius of the origin.
func (p *LambertConformal) from(lat0 float64) (*LambertConformal, error) {
	p.rho0 = p.radius(lat0)
	if !(math.Abs(p.n) > 1e-10) || math.IsInf(p.rho0, 0) || math.IsNaN(p.rho0) {
		return nil, fmt.Errorf("a conformal conic with its origin at latitude %g° has no cone", lat0/degree)
	}
	return p, nil
}

func (p *LambertConformal) radius(lat float64) float64 {
	return p.scale * math.Exp(-p.n*p.e.isometric(lat))
}

// Forward implements [Projection].
func (p *LambertConformal) Forward(lat, lon float64) (x, y float64, ok bool) {
	if math.Abs(lat) > math.Pi/2 {
		return 0, 0, false
	}
	rho := p.radius(lat)
	s, c := math.Sincos(p.n*wrapLongitude(lon-p.lon0) - p.tilt)
	return p.fe + p.to*rho*s, p.fn + p.rho0 - rho*c, !math.IsInf(rho, 0) && math.Abs(rho) < 1e9
}

// Inverse implements [Projection].
func (p *LambertConformal) Inverse(x, y float64) (lat, lon float64, ok bool) {
	x, y = p.to*(x-p.fe), p.rho0-(y-p.fn)
	sign := math.Copysign(1, p.n)
	rho := sign * math.Hypot(x, y)
	if rho == 0 {
		return sign * math.Pi / 2, p.lon0, true
	}
	theta := (math.Atan2(sign*x, sign*y) + p.tilt) / p.n
	psi := -math.Log(rho/p.scale) / p.n
	return p.e.fromIsometric(psi), wrapLongitude(p.lon0 + theta), math.Abs(theta) <= math.Pi+1e-9
}

// ArealScale implements [Projection]: Snyder 1987, eq. 15-5.
func (p *LambertConformal) ArealScale(lat, _ float64) float64 {
	k := p.radius(lat) * p.n / (p.e.A * p.e.parallelRadius(lat))
	return k * k
}

// Traits implements [Projection].
func (p *LambertConformal) Traits() Traits {
	return Traits{Method: "Lambert conformal conic", Conformal: true}
}

// PolarStereographic is EPSG methods 9810, 9829 and 9830: Snyder 1987, p. 160-162.
type PolarStereographic struct {
	e            Ellipsoid
	lon0, fe, fn float64
	pole, scale  float64 // 1 north, -1 south; radius is scale·exp(-ψ)
	k0           float64
}

// poleFactor is √((1+e)^(1+e)·(1-e)^(1-e)).
func (e Ellipsoid) poleFactor() float64 {
	ecc := math.Sqrt(e.E2())
	return math.Sqrt(math.Pow(1+ecc, 1+ecc) * math.Pow(1-ecc, 1-ecc))
}

// NewPolarStereographic has the scale k0 at the pole, the northern one when north.
func NewPolarStereographic(e Ellipsoid, north bool, lon0, k0, fe, fn float64) *PolarStereographic {
	p := &PolarStereographic{e: e, lon0: lon0, fe: fe, fn: fn, pole: 1, k0: k0, scale: 2 * e.A * k0 / e.poleFactor()}
	if !north {
		p.pole = -1
	}
	return p
}

// NewPolarStereographicTrueScale is true to scale along the parallel lat1 (radians), which also says
// which pole it is about.
func NewPolarStereographicTrueScale(e Ellipsoid, lat1, lon0, fe, fn float64) *PolarStereographic {
	a := math.Abs(lat1)
	k0 := 1.0
	if a < math.Pi/2-1e-12 {
		k0 = e.parallelRadius(a) * e.poleFactor() / 2 * math.Exp(e.isometric(a))
	}
	return NewPolarStereographic(e, lat1 > 0, lon0, k0, fe, fn)
}

// Forward implements [Projection].
func (p *PolarStereographic) Forward(lat, lon float64) (x, y float64, ok bool) {
	lat *= p.pole
	if lat < -89*degree || lat > math.Pi/2 {
		return 0, 0, false
	}
	rho := p.scale * math.Exp(-p.e.isometric(lat))
	s, c := math.Sincos(lon - p.lon0)
	return p.fe + rho*s, p.fn - p.pole*rho*c, true
}

// Inverse implements [Projection].
func (p *PolarStereographic) Inverse(x, y float64) (lat, lon float64, ok bool) {
	x, y = x-p.fe, p.pole*(p.fn-y)
	rho := math.Hypot(x, y)
	if rho == 0 {
		return p.pole * math.Pi / 2, p.lon0, true
	}
	lat = p.e.fromIsometric(-math.Log(rho / p.scale))
	return p.pole * lat, wrapLongitude(p.lon0 + math.Atan2(x, y)), lat > -89.5*degree
}

// ArealScale implements [Projection].
func (p *PolarStereographic) ArealScale(lat, _ float64) float64 {
	lat *= p.pole
	if math.Pi/2-lat < 1e-8 {
		return p.k0 * p.k0
	}
	k := p.scale * math.Exp(-p.e.isometric(lat)) / (p.e.A * p.e.parallelRadius(lat))
	return k * k
}

// Traits implements [Projection].
func (p *PolarStereographic) Traits() Traits {
	return Traits{Method: "polar stereographic", Conformal: true}
}

// ObliqueStereographic goes by way of the conformal sphere: EPSG method 9809, EPSG Guidance Note 7-2.
type ObliqueStereographic struct {
	e                Ellipsoid
	lon0, fe, fn     float64
	n, half, r, k0   float64 // half is ln(c)/2
	chi0, sin0, cos0 float64
}

// NewObliqueStereographic has scale k0 at its centre lat0, lon0 (radians).
func NewObliqueStereographic(e Ellipsoid, lat0, lon0, k0, fe, fn float64) *ObliqueStereographic {
	e2 := e.E2()
	s, c := math.Sincos(lat0)
	meridian, vertical := e.radii(lat0)
	p := &ObliqueStereographic{e: e, lon0: lon0, fe: fe, fn: fn, k0: k0, r: math.Sqrt(meridian * vertical)}
	p.n = math.Sqrt(1 + e2*c*c*c*c/(1-e2))
	first := math.Tanh(p.n * e.isometric(lat0)) // (w₁-1)/(w₁+1) with w₁ = exp(2nψ)
	p.half = math.Log((p.n+s)*(1-first)/((p.n-s)*(1+first))) / 2
	p.chi0 = p.sphere(lat0)
	p.sin0, p.cos0 = math.Sincos(p.chi0)
	return p
}

// sphere is the latitude on the conformal sphere.
func (p *ObliqueStereographic) sphere(lat float64) float64 {
	return math.Atan(math.Sinh(p.n*p.e.isometric(lat) + p.half))
}

// Forward implements [Projection].
func (p *ObliqueStereographic) Forward(lat, lon float64) (x, y float64, ok bool) {
	if math.Abs(lat) > math.Pi/2 {
		return 0, 0, false
	}
	s, c := math.Sincos(p.sphere(lat))
	sl, cl := math.Sincos(p.n * wrapLongitude(lon-p.lon0))
	b := 1 + s*p.sin0 + c*p.cos0*cl
	f := 2 * p.r * p.k0 / b
	return p.fe + f*c*sl, p.fn + f*(s*p.cos0-c*p.sin0*cl), b > 1e-3
}

// Inverse implements [Projection].
func (p *ObliqueStereographic) Inverse(x, y float64) (lat, lon float64, ok bool) {
	x, y = x-p.fe, y-p.fn
	rho := math.Hypot(x, y)
	if rho == 0 {
		return p.e.fromIsometric((math.Asinh(math.Tan(p.chi0)) - p.half) / p.n), p.lon0, true
	}
	s, c := math.Sincos(2 * math.Atan2(rho, 2*p.r*p.k0))
	chi := math.Asin(math.Max(-1, math.Min(1, c*p.sin0+y*s*p.cos0/rho)))
	turn := math.Atan2(x*s, rho*p.cos0*c-y*p.sin0*s) / p.n
	lat = p.e.fromIsometric((math.Asinh(math.Tan(chi)) - p.half) / p.n)
	return lat, wrapLongitude(p.lon0 + turn), rho < 40*p.r && math.Abs(turn) <= math.Pi+1e-9
}

// ArealScale implements [Projection]: that of the stereographic times that of the conformal sphere.
func (p *ObliqueStereographic) ArealScale(lat, lon float64) float64 {
	s, c := math.Sincos(p.sphere(lat))
	b := 1 + s*p.sin0 + c*p.cos0*math.Cos(p.n*wrapLongitude(lon-p.lon0))
	k := 2 * p.k0 / b * p.n * p.r * c / (p.e.A * p.e.parallelRadius(lat))
	return k * k
}

// Traits implements [Projection].
func (p *ObliqueStereographic) Traits() Traits {
	return Traits{Method: "oblique stereographic", Conformal: true}
}

// ObliqueMercator is Hotine's: EPSG methods 9812 and 9815, EPSG Guidance Note 7-2; Snyder 1987,
// p. 70-75.
type ObliqueMercator struct {
	e                Ellipsoid
	lon0, fe, fn     float64
	lat, lon         float64 // of the projection centre
	a, b, h, centre  float64 // centre is u of the projection centre, where coordinates count from it
	sin0, cos0       float64 // of the azimuth at the equator of the sphere
	sinSkew, cosSkew float64
}

// NewObliqueMercator has its centre at lat, lon, where the initial line has the azimuth and the
// scale k; skew is the angle from the rectified to the skew grid. Angles are radians. With
// fromCentre (variant B) fe and fn are the coordinates of the centre, otherwise those of the
// natural origin on the equator of the aposphere.
func NewObliqueMercator(e Ellipsoid, lat, lon, azimuth, skew, k, fe, fn float64, fromCentre bool) (*ObliqueMercator, error) {
	e2 := e.E2()
	s, c := math.Sincos(lat)
	p := &ObliqueMercator{e: e, fe: fe, fn: fn, lat: lat, lon: lon}
	p.b = math.Sqrt(1 + e2*c*c*c*c/(1-e2))
	p.a = e.A * p.b * k * math.Sqrt(1-e2) / (1 - e2*s*s)
	d := math.Max(1, p.b*math.Sqrt(1-e2)/(c*math.Sqrt(1-e2*s*s)))
	root := math.Copysign(math.Sqrt(d*d-1), lat)
	f := d + root
	p.h = f * math.Exp(-p.b*e.isometric(lat))
	g := (f - 1/f) / 2
	gamma0 := math.Asin(math.Sin(azimuth) / d)
	p.sin0, p.cos0 = math.Sincos(gamma0)
	p.lon0 = lon - math.Asin(math.Max(-1, math.Min(1, g*math.Tan(gamma0))))/p.b
	p.sinSkew, p.cosSkew = math.Sincos(skew)
	if fromCentre {
		if math.Abs(math.Cos(azimuth)) < 1e-10 {
			p.centre = p.a * wrapLongitude(lon-p.lon0)
		} else {
			p.centre = p.a / p.b * math.Atan2(math.Abs(root), math.Cos(azimuth)) * math.Copysign(1, lat)
		}
	}
	if math.IsNaN(p.a+p.h+p.lon0+p.sin0) || math.Abs(lat) > 89*degree {
		return nil, fmt.Errorf("an oblique Mercator with its centre at latitude %g° and azimuth %g° is not defined", lat/degree, azimuth/degree)
	}
	return p, nil
}

// skewed gives the u of the initial line, from the natural origin, and v.
func (p *ObliqueMercator) skewed(lat, lon float64) (u, v float64, ok bool) {
	q := p.h * math.Exp(p.b*p.e.isometric(lat))
	s, t := (q-1/q)/2, (q+1/q)/2
	vs, vc := math.Sincos(p.b * wrapLongitude(lon-p.lon0))
	un := (-vs*p.cos0 + s*p.sin0) / t
	if !(math.Abs(un) < 1-1e-7) {
		return 0, 0, false
	}
	return p.a * math.Atan2(s*p.cos0+vs*p.sin0, vc) / p.b, -p.a * math.Atanh(un) / p.b, true
}

// Forward implements [Projection].
func (p *ObliqueMercator) Forward(lat, lon float64) (x, y float64, ok bool) {
	u, v, ok := p.skewed(lat, lon)
	u -= p.centre
	return p.fe + v*p.cosSkew + u*p.sinSkew, p.fn + u*p.cosSkew - v*p.sinSkew, ok
}

// Inverse implements [Projection].
func (p *ObliqueMercator) Inverse(x, y float64) (lat, lon float64, ok bool) {
	x, y = x-p.fe, y-p.fn
	v := x*p.cosSkew - y*p.sinSkew
	u := y*p.cosSkew + x*p.sinSkew + p.centre
	q := math.Exp(-p.b * v / p.a)
	s, t := (q-1/q)/2, (q+1/q)/2
	us, uc := math.Sincos(p.b * u / p.a)
	un := (us*p.cos0 + s*p.sin0) / t
	if !(math.Abs(un) < 1-1e-7) || math.Abs(p.b*u/p.a) > math.Pi {
		return 0, 0, false
	}
	psi := (math.Atanh(un) - math.Log(p.h)) / p.b
	return p.e.fromIsometric(psi), wrapLongitude(p.lon0 - math.Atan2(s*p.cos0-us*p.sin0, uc)/p.b), true
}

// ArealScale implements [Projection]: the square of the point scale, which is that of the Mercator on
// the aposphere, with the aposphere's own.
func (p *ObliqueMercator) ArealScale(lat, lon float64) float64 {
	q := p.h * math.Exp(p.b*p.e.isometric(lat))
	t := (q + 1/q) / 2
	_, v, _ := p.skewed(lat, lon)
	// On the aposphere, of radius A/B, the parallel of a point has radius A/(B·T) and longitudes
	// are B times as wide; the oblique Mercator stretches by cosh(B·v/A).
	k := p.a / t * math.Cosh(p.b*v/p.a) / (p.e.A * p.e.parallelRadius(lat))
	return k * k
}

// Traits implements [Projection].
func (p *ObliqueMercator) Traits() Traits {
	return Traits{Method: "oblique Mercator", Conformal: true}
}

// Krovak is the oblique conformal conic of Czechia and Slovakia: EPSG methods 9819 and 1041, EPSG
// Guidance Note 7-2.
type Krovak struct {
	e                Ellipsoid
	lon0, fe, fn     float64
	b, t0, n, scale  float64 // radius is scale/tan(T/2+π/4)^n
	sinCone, cosCone float64
	north            bool
}

// NewKrovak has its centre on the parallel lat (radians), the co-latitude of its cone's axis and the
// scale k on the pseudo standard parallel. Its x counts to the west and its y to the south, or with
// north to the east and the north.
func NewKrovak(e Ellipsoid, lat, lon0, colatitude, parallel, k, fe, fn float64, north bool) *Krovak {
	e2 := e.E2()
	s, c := math.Sincos(lat)
	p := &Krovak{e: e, lon0: lon0, fe: fe, fn: fn, north: north, n: math.Sin(parallel)}
	a := e.A * math.Sqrt(1-e2) / (1 - e2*s*s)
	p.b = math.Sqrt(1 + e2*c*c*c*c/(1-e2))
	gamma := math.Asin(s / p.b)
	p.t0 = math.Asinh(math.Tan(gamma)) - p.b*e.isometric(lat) // its logarithm
	p.scale = k * a / math.Tan(parallel) * math.Pow(math.Tan(parallel/2+math.Pi/4), p.n)
	p.sinCone, p.cosCone = math.Sincos(colatitude)
	return p
}

// Forward implements [Projection].
func (p *Krovak) Forward(lat, lon float64) (x, y float64, ok bool) {
	u := math.Atan(math.Sinh(p.t0 + p.b*p.e.isometric(lat)))
	su, cu := math.Sincos(u)
	sv, cv := math.Sincos(p.b * wrapLongitude(p.lon0-lon))
	t := math.Asin(math.Max(-1, math.Min(1, p.cosCone*su+p.sinCone*cu*cv)))
	d := math.Atan2(cu*sv, p.cosCone*cu*cv-p.sinCone*su)
	r := p.scale / math.Pow(math.Tan(t/2+math.Pi/4), p.n)
	s, c := math.Sincos(p.n * d)
	west, south := r*s+p.fe, r*c+p.fn
	ok = math.Abs(lat) < math.Pi/2 && r < 1e8
	if p.north {
		return -west, -south, ok
	}
	return west, south, ok
}

// Inverse implements [Projection].
func (p *Krovak) Inverse(x, y float64) (lat, lon float64, ok bool) {
	if p.north {
		x, y = -x, -y
	}
	x, y = x-p.fe, y-p.fn
	r := math.Hypot(x, y)
	if r == 0 {
		return 0, 0, false
	}
	d := math.Atan2(x, y) / p.n
	t := 2 * (math.Atan(math.Pow(p.scale/r, 1/p.n)) - math.Pi/4)
	st, ct := math.Sincos(t)
	sd, cd := math.Sincos(d)
	u := math.Asin(math.Max(-1, math.Min(1, p.cosCone*st-p.sinCone*ct*cd)))
	v := math.Atan2(ct*sd, p.sinCone*st+p.cosCone*ct*cd)
	psi := (math.Asinh(math.Tan(u)) - p.t0) / p.b
	return p.e.fromIsometric(psi), wrapLongitude(p.lon0 - v/p.b), math.Abs(d) < math.Pi
}

// ArealScale implements [Projection].
func (p *Krovak) ArealScale(lat, lon float64) float64 { return arealByDifference(p, p.e, lat, lon) }

// Traits implements [Projection].
func (p *Krovak) Traits() Traits { return Traits{Method: "Krovak", Conformal: true} }
