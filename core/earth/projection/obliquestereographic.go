package projection

import (
	"fmt"
	"math"

	"github.com/verdex-land/verdex/core/earth/ellipsoid"
	"github.com/verdex-land/verdex/core/portable"
)

// ObliqueStereographic is the double stereographic.
var ObliqueStereographic = &Method{
	Name: "oblique stereographic", Codes: []int{9809}, Texts: "obliquestereographic doublestereographic", WKT1: "Oblique_Stereographic", GeoKeys: []int{16},
	Params: []Parameter{{Role: Lat0, Code: 8801, WKT1: "latitude_of_origin"}, {Role: Lon0, Code: 8802, WKT1: "central_meridian"},
		{Role: Scale, Code: 8805, WKT1: "scale_factor"}, {Role: East, Code: 8806}, {Role: North, Code: 8807}},
	New: newObliqueStereographic,
}

// obliqueStereographic goes by way of the conformal sphere: EPSG method 9809, EPSG Guidance Note 7-2.
type obliqueStereographic struct {
	e                ellipsoid.Ellipsoid
	lon0, fe, fn     float64
	n, half, r, k0   float64 // half is ln(c)/2
	chi0, sin0, cos0 float64
}

func newObliqueStereographic(e ellipsoid.Ellipsoid, params Params) (Projection, error) {
	lon0, lat0, fe, fn := params.origin()
	if math.Abs(params[Lat0]) > 89 {
		return nil, fmt.Errorf("its oblique stereographic has its centre at latitude %g°", params[Lat0])
	}
	e2 := e.E2()
	s, c := math.Sincos(lat0)
	meridian, vertical := e.Radii(lat0)
	p := &obliqueStereographic{e: e, lon0: lon0, fe: fe, fn: fn, k0: params.factor(Scale), r: math.Sqrt(meridian * vertical)}
	p.n = math.Sqrt(1 + e2*c*c*c*c/(1-e2))
	first := portable.Tanh(p.n * e.Isometric(lat0)) // (w₁-1)/(w₁+1) with w₁ = exp(2nψ)
	p.half = math.Log((p.n+s)*(1-first)/((p.n-s)*(1+first))) / 2
	p.chi0 = p.sphere(lat0)
	p.sin0, p.cos0 = math.Sincos(p.chi0)
	return p, nil
}

// Forward implements [Projection].
func (p *obliqueStereographic) Forward(lon, lat float64) (x, y float64, ok bool) {
	if math.Abs(lat) > math.Pi/2 {
		return 0, 0, false
	}
	s, c := math.Sincos(p.sphere(lat))
	turn := p.n * ellipsoid.WrapLongitude(lon-p.lon0)
	sl, cl := math.Sincos(turn)
	b := 1 + s*p.sin0 + c*p.cos0*cl
	f := 2 * p.r * p.k0 / b
	return p.fe + f*c*sl, p.fn + f*(s*p.cos0-c*p.sin0*cl), b > 1e-3 && math.Abs(turn) <= math.Pi+1e-12
}

// Inverse implements [Projection].
func (p *obliqueStereographic) Inverse(x, y float64) (lon, lat float64, ok bool) {
	x, y = x-p.fe, y-p.fn
	rho := math.Hypot(x, y)
	if rho == 0 {
		return p.lon0, p.e.FromIsometric((math.Asinh(math.Tan(p.chi0)) - p.half) / p.n), true
	}
	s, c := math.Sincos(2 * math.Atan2(rho, 2*p.r*p.k0))
	chi := math.Asin(math.Max(-1, math.Min(1, c*p.sin0+y*s*p.cos0/rho)))
	turn := math.Atan2(x*s, rho*p.cos0*c-y*p.sin0*s) / p.n
	lat = p.e.FromIsometric((math.Asinh(math.Tan(chi)) - p.half) / p.n)
	return ellipsoid.WrapLongitude(p.lon0 + turn), lat, rho < 40*p.r && math.Abs(turn) <= math.Pi+1e-9
}

// ArealScale implements [Projection]: that of the stereographic times that of the conformal sphere.
func (p *obliqueStereographic) ArealScale(lon, lat float64) float64 {
	s, c := math.Sincos(p.sphere(lat))
	b := 1 + s*p.sin0 + c*p.cos0*math.Cos(p.n*ellipsoid.WrapLongitude(lon-p.lon0))
	k := 2 * p.k0 / b * p.n * p.r * c / (p.e.A * p.e.ParallelRadius(lat))
	return k * k
}

// Traits implements [Projection].
func (p *obliqueStereographic) Traits() Traits {
	return Traits{Method: "oblique stereographic", Conformal: true}
}

// sphere is the latitude on the conformal sphere.
func (p *obliqueStereographic) sphere(lat float64) float64 {
	return math.Atan(portable.Sinh(p.n*p.e.Isometric(lat) + p.half))
}

// Domain implements [Projection]. The conformal sphere has a little more than a turn of longitudes: what is beyond its own
// antimeridian would lie on the map twice.
func (p *obliqueStereographic) Domain() Domain {
	d := aroundAntipode(p.lon0, p.chi0, 4*degree)
	for i, b := range d.Boxes {
		d.Boxes[i].West, d.Boxes[i].East = p.lon0+(b.West-p.lon0)/p.n, p.lon0+(b.East-p.lon0)/p.n
	}
	return d
}
