package projection

import (
	"math"

	"github.com/verdex-land/verdex/core/earth/ellipsoid"
)

// AzimuthalEqualArea is Lambert's azimuthal equal-area projection.
var AzimuthalEqualArea = &Method{
	Name: "Lambert azimuthal equal area", Codes: []int{9820}, Texts: "lambertazimuthalequalarea", WKT1: "Lambert_Azimuthal_Equal_Area", GeoKeys: []int{10},
	Params: []Parameter{{Role: Lat0, Code: 8801, WKT1: "latitude_of_center", GeoKey: 3089}, {Role: Lon0, Code: 8802, WKT1: "longitude_of_center", GeoKey: 3088},
		{Role: East, Code: 8806}, {Role: North, Code: 8807}},
	New: newAzimuthalEqualArea,
}

// AzimuthalSpherical is the same by the formulas of the sphere.
var AzimuthalSpherical = &Method{
	Name: "Lambert azimuthal, spherical", Codes: []int{1027}, Texts: "lambertazimuthalequalareaspherical",
	Params: []Parameter{{Role: Lat0, Code: 8801}, {Role: Lon0, Code: 8802}, {Role: East, Code: 8806}, {Role: North, Code: 8807}},
	New:    newAzimuthalSpherical,
}

// azimuthalEqualArea is the ellipsoidal form: Snyder 1987, p. 187-190, EPSG method 9820.
type azimuthalEqualArea struct {
	e            ellipsoid.Ellipsoid
	lat0         float64
	lon0, fe, fn float64
	qp, rq, d    float64
	sinB, cosB   float64
	polar        float64 // +1 at the north pole, -1 at the south pole, 0 elsewhere
}

func newAzimuthalEqualArea(e ellipsoid.Ellipsoid, params Params) (Projection, error) {
	return azimuthalAt(e, params), nil
}

func azimuthalAt(e ellipsoid.Ellipsoid, params Params) *azimuthalEqualArea {
	lon0, lat0, fe, fn := params.origin()
	p := &azimuthalEqualArea{e: e, lat0: lat0, lon0: lon0, fe: fe, fn: fn}
	p.qp = e.AuthalicQ(1)
	p.rq = e.A * math.Sqrt(p.qp/2)
	if math.Abs(math.Abs(lat0)-math.Pi/2) < 1e-12 {
		p.polar = math.Copysign(1, lat0)
		return p
	}
	s, c := math.Sincos(lat0)
	p.sinB = e.AuthalicQ(s) / p.qp
	p.cosB = math.Sqrt(1 - p.sinB*p.sinB)
	p.d = e.A * c / (math.Sqrt(1-e.E2()*s*s) * p.rq * p.cosB)
	return p
}

// Forward implements [Projection].
func (p *azimuthalEqualArea) Forward(lon, lat float64) (x, y float64, ok bool) {
	q := p.e.AuthalicQ(math.Sin(lat))
	dl := ellipsoid.WrapLongitude(lon - p.lon0)
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
func (p *azimuthalEqualArea) Inverse(x, y float64) (lon, lat float64, ok bool) {
	x, y = x-p.fe, y-p.fn
	if p.polar != 0 {
		rho := math.Hypot(x, y) / p.e.A
		lat, ok = p.e.LatitudeFromQ(p.polar * (p.qp - rho*rho))
		return ellipsoid.WrapLongitude(p.lon0 + math.Atan2(x, -p.polar*y)), lat, ok
	}
	u, v := x/p.d, y*p.d
	rho := math.Hypot(u, v)
	if rho == 0 {
		lat, ok = p.e.LatitudeFromQ(p.qp * p.sinB)
		return p.lon0, lat, ok
	}
	if rho > 2*p.rq {
		return 0, 0, false
	}
	sc, cc := math.Sincos(2 * math.Asin(rho/(2*p.rq)))
	lat, ok = p.e.LatitudeFromQ(p.qp * (cc*p.sinB + v*sc*p.cosB/rho))
	lon = p.lon0 + math.Atan2(u*sc, rho*p.cosB*cc-v*p.sinB*sc)
	return ellipsoid.WrapLongitude(lon), lat, ok
}

// ArealScale implements [Projection].
func (p *azimuthalEqualArea) ArealScale(_, _ float64) float64 { return 1 }

// Traits implements [Projection].
func (p *azimuthalEqualArea) Traits() Traits {
	return Traits{Method: "Lambert azimuthal equal area", EqualArea: true}
}

// Domain implements [Projection].
func (p *azimuthalEqualArea) Domain() Domain {
	if p.polar != 0 {
		return Whole(p.lon0)
	}
	return aroundAntipode(p.lon0, p.lat0, 2e-4) // Forward gives up 1e-4 from it
}

// azimuthalSpherical is Lambert's azimuthal projection of the sphere with the ellipsoid's area, fed with the
// ellipsoid's latitudes (EPSG method 1027); on an ellipsoid its areas are therefore not quite true.
type azimuthalSpherical struct {
	*azimuthalEqualArea
	e      ellipsoid.Ellipsoid
	radius float64
}

func newAzimuthalSpherical(e ellipsoid.Ellipsoid, params Params) (Projection, error) {
	r := e.A * math.Sqrt(e.AuthalicQ(1)/2)
	return &azimuthalSpherical{azimuthalAt(ellipsoid.Ellipsoid{Name: e.Name, A: r}, params), e, r}, nil
}

// ArealScale implements [Projection].
func (p *azimuthalSpherical) ArealScale(_, lat float64) float64 {
	m, n := p.e.Radii(lat)
	return p.radius * p.radius / (m * n)
}

// Traits implements [Projection].
func (p *azimuthalSpherical) Traits() Traits {
	return Traits{Method: "Lambert azimuthal, spherical", EqualArea: p.e.F == 0}
}
