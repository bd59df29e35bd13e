package projection

import (
	"fmt"
	"math"

	"github.com/verdex-land/verdex/core/earth/ellipsoid"
	"github.com/verdex-land/verdex/core/portable"
)

// ObliqueMercatorA is Hotine's with coordinates that count from the natural origin, on the equator of the aposphere.
var ObliqueMercatorA = &Method{
	Name: "oblique Mercator", Codes: []int{9812},
	Texts: "hotineobliquemercator hotineobliquemercatorvarianta hotineobliquemercatorazimuthnaturalorigin rectifiedskeworthomorphicnaturalorigin", WKT1: "Hotine_Oblique_Mercator",
	GeoKeys: []int{3},
	Params: []Parameter{{Role: Lat0, Code: 8811, WKT1: "latitude_of_center"}, {Role: Lon0, Code: 8812, WKT1: "longitude_of_center"}, {Role: Azimuth, Code: 8813, WKT1: "azimuth"}, {Role: Skew, Or: Azimuth, Code: 8814, WKT1: "rectified_grid_angle"},
		{Role: Scale, Code: 8815, WKT1: "scale_factor"}, {Role: East, Code: 8806}, {Role: North, Code: 8807}},
	New: newObliqueMercatorA,
}

// ObliqueMercatorB is Hotine's with coordinates that count from the centre.
var ObliqueMercatorB = &Method{
	Name: "oblique Mercator from its centre", Codes: []int{9815},
	Texts: "hotineobliquemercatorvariantb hotineobliquemercatorazimuthcenter rectifiedskeworthomorphiccenter obliquemercator", WKT1: "Hotine_Oblique_Mercator_Azimuth_Center",
	GeoKeys: []int{3},
	Params: []Parameter{{Role: Lat0, Code: 8811, WKT1: "latitude_of_center"}, {Role: Lon0, Code: 8812, WKT1: "longitude_of_center"}, {Role: Azimuth, Code: 8813, WKT1: "azimuth"}, {Role: Skew, Or: Azimuth, Code: 8814, WKT1: "rectified_grid_angle"},
		{Role: Scale, Code: 8815, WKT1: "scale_factor"}, {Role: CentreEast, Or: East, Code: 8816}, {Role: CentreNorth, Or: North, Code: 8817}},
	Fits: func(p Params) bool { return p.Has(CentreEast) },
	New:  newObliqueMercatorB,
}

// obliqueMercator is Hotine's: EPSG methods 9812 and 9815, EPSG Guidance Note 7-2; Snyder 1987,
// p. 70-75.
type obliqueMercator struct {
	e                ellipsoid.Ellipsoid
	lon0, fe, fn     float64
	lat, lon         float64 // of the projection centre
	a, b, h, centre  float64 // centre is u of the projection centre, where coordinates count from it
	sin0, cos0       float64 // of the azimuth at the equator of the sphere
	sinSkew, cosSkew float64
}

func newObliqueMercatorA(e ellipsoid.Ellipsoid, params Params) (Projection, error) {
	p, _, err := hotine(e, params)
	if err != nil {
		return nil, err
	}
	p.fe, p.fn = params[East], params[North]
	return p, nil
}

func newObliqueMercatorB(e ellipsoid.Ellipsoid, params Params) (Projection, error) {
	p, root, err := hotine(e, params)
	if err != nil {
		return nil, err
	}
	p.fe, p.fn = params[CentreEast], params[CentreNorth]
	if azimuth := params.radians(Azimuth); math.Abs(math.Cos(azimuth)) < 1e-10 {
		p.centre = p.a * ellipsoid.WrapLongitude(p.lon-p.lon0)
	} else {
		p.centre = p.a / p.b * math.Atan2(math.Abs(root), math.Cos(azimuth)) * math.Copysign(1, p.lat)
	}
	return p, nil
}

// hotine has its centre where the initial line has the azimuth and the scale; root is √(D²-1) of the source.
func hotine(e ellipsoid.Ellipsoid, params Params) (p *obliqueMercator, root float64, err error) {
	lon, lat, _, _ := params.origin()
	azimuth := params.radians(Azimuth)
	e2 := e.E2()
	s, c := math.Sincos(lat)
	p = &obliqueMercator{e: e, lat: lat, lon: lon}
	p.b = math.Sqrt(1 + e2*c*c*c*c/(1-e2))
	p.a = e.A * p.b * params.factor(Scale) * math.Sqrt(1-e2) / (1 - e2*s*s)
	d := math.Max(1, p.b*math.Sqrt(1-e2)/(c*math.Sqrt(1-e2*s*s)))
	root = math.Copysign(math.Sqrt(d*d-1), lat)
	f := d + root
	p.h = f * portable.Exp(-p.b*e.Isometric(lat))
	g := (f - 1/f) / 2
	gamma0 := math.Asin(math.Sin(azimuth) / d)
	p.sin0, p.cos0 = math.Sincos(gamma0)
	p.lon0 = lon - math.Asin(math.Max(-1, math.Min(1, g*math.Tan(gamma0))))/p.b
	p.sinSkew, p.cosSkew = math.Sincos(params.radians(Skew))
	if math.IsNaN(p.a+p.h+p.lon0+p.sin0) || math.Abs(params[Lat0]) > 89 {
		return nil, 0, fmt.Errorf("an oblique Mercator with its centre at latitude %g° and azimuth %g° is not defined", params[Lat0], params[Azimuth])
	}
	return p, root, nil
}

// Forward implements [Projection].
func (p *obliqueMercator) Forward(lon, lat float64) (x, y float64, ok bool) {
	u, v, ok := p.skewed(lon, lat)
	u -= p.centre
	return p.fe + v*p.cosSkew + u*p.sinSkew, p.fn + u*p.cosSkew - v*p.sinSkew, ok
}

// Inverse implements [Projection].
func (p *obliqueMercator) Inverse(x, y float64) (lon, lat float64, ok bool) {
	x, y = x-p.fe, y-p.fn
	v := x*p.cosSkew - y*p.sinSkew
	u := y*p.cosSkew + x*p.sinSkew + p.centre
	q := portable.Exp(-p.b * v / p.a)
	s, t := (q-1/q)/2, (q+1/q)/2
	us, uc := math.Sincos(p.b * u / p.a)
	un := (us*p.cos0 + s*p.sin0) / t
	if !(math.Abs(un) < 1-1e-7) || math.Abs(p.b*u/p.a) > math.Pi {
		return 0, 0, false
	}
	psi := (math.Atanh(un) - math.Log(p.h)) / p.b
	return ellipsoid.WrapLongitude(p.lon0 - math.Atan2(s*p.cos0-us*p.sin0, uc)/p.b), p.e.FromIsometric(psi), true
}

// ArealScale implements [Projection]: the square of the point scale, which is that of the mercator on
// the aposphere, with the aposphere's own.
func (p *obliqueMercator) ArealScale(lon, lat float64) float64 {
	q := p.h * portable.Exp(p.b*p.e.Isometric(lat))
	t := (q + 1/q) / 2
	_, v, _ := p.skewed(lon, lat)
	// On the aposphere, of radius A/B, the parallel of a point has radius A/(B·T) and longitudes
	// are B times as wide; the oblique mercator stretches by cosh(B·v/A).
	k := p.a / t * portable.Cosh(p.b*v/p.a) / (p.e.A * p.e.ParallelRadius(lat))
	return k * k
}

// Traits implements [Projection].
func (p *obliqueMercator) Traits() Traits {
	return Traits{Method: "oblique Mercator", Conformal: true}
}

// skewed gives the u of the initial line, from the natural origin, and v.
func (p *obliqueMercator) skewed(lon, lat float64) (u, v float64, ok bool) {
	q := p.h * portable.Exp(p.b*p.e.Isometric(lat))
	s, t := (q-1/q)/2, (q+1/q)/2
	vs, vc := math.Sincos(p.b * ellipsoid.WrapLongitude(lon-p.lon0))
	un := (-vs*p.cos0 + s*p.sin0) / t
	if !(math.Abs(un) < 1-1e-7) {
		return 0, 0, false
	}
	return p.a * math.Atan2(s*p.cos0+vs*p.sin0, vc) / p.b, -p.a * math.Atanh(un) / p.b, true
}

// Domain implements [Projection]: the surroundings of the centre, in which the initial line has no seam.
func (p *obliqueMercator) Domain() Domain { return about(p.lon, p.lat, 45*degree, 60*degree) }
