package projection

import (
	"fmt"
	"math"

	"github.com/verdex-land/verdex/core/earth/ellipsoid"
	"github.com/verdex-land/verdex/core/portable"
)

// PolarStereographicA has its scale at the pole.
var PolarStereographicA = &Method{
	Name: "polar stereographic", Codes: []int{9810}, Texts: "polarstereographic polarstereographicvarianta", WKT1: "Polar_Stereographic", GeoKeys: []int{15},
	Params: []Parameter{{Role: Lat0, Code: 8801, WKT1: "latitude_of_origin"}, {Role: Lon0, Code: 8802, WKT1: "central_meridian"},
		{Role: Scale, Code: 8805, WKT1: "scale_factor"}, {Role: East, Code: 8806}, {Role: North, Code: 8807}},
	// A standard parallel beside a scale of 1 is what counts.
	Fits: func(p Params) bool { return math.Abs(p[Lat0]) == 90 && (!p.Has(Lat1) || p.factor(Scale) != 1) },
	New:  newPolarStereographicA,
}

// PolarStereographicB has a standard parallel.
var PolarStereographicB = &Method{
	Name: "polar stereographic with a standard parallel", Codes: []int{9829},
	Texts:   "polarstereographic polarstereographicvariantb stereographicnorthpole stereographicsouthpole",
	WKT1:    "Polar_Stereographic", // with the standard parallel as the latitude of origin
	GeoKeys: []int{15},
	Params:  []Parameter{{Role: Lat1, Or: Lat0, Code: 8832, WKT1: "latitude_of_origin", GeoKey: 3081}, {Role: Lon0, Code: 8833, WKT1: "central_meridian"}, {Role: East, Code: 8806}, {Role: North, Code: 8807}},
	New:     newPolarStereographicB,
}

// PolarStereographicC has a standard parallel, on which its northing counts.
var PolarStereographicC = &Method{
	Name: "polar stereographic with its northing on the standard parallel", Codes: []int{9830}, Texts: "polarstereographicvariantc",
	Params: []Parameter{{Role: Lat1, Code: 8832}, {Role: Lon0, Code: 8833}, {Role: East, Code: 8826}, {Role: North, Code: 8827}},
	New:    newPolarStereographicC,
}

// polarStereographic is EPSG methods 9810, 9829 and 9830: Snyder 1987, p. 160-162.
type polarStereographic struct {
	e            ellipsoid.Ellipsoid
	lon0, fe, fn float64
	pole, scale  float64 // 1 north, -1 south; radius is scale·exp(-ψ)
	k0           float64
}

// poleFactor is √((1+e)^(1+e)·(1-e)^(1-e)).
func poleFactor(e ellipsoid.Ellipsoid) float64 {
	ecc := math.Sqrt(e.E2())
	return math.Sqrt(portable.Pow(1+ecc, 1+ecc) * portable.Pow(1-ecc, 1-ecc))
}

// polarOfScale has the scale k0 at the pole, the northern one when north.
func polarOfScale(e ellipsoid.Ellipsoid, north bool, k0 float64, params Params) *polarStereographic {
	p := &polarStereographic{e: e, lon0: params.radians(Lon0), fe: params[East], fn: params[North], pole: 1, k0: k0, scale: 2 * e.A * k0 / poleFactor(e)}
	if !north {
		p.pole = -1
	}
	return p
}

// polarOfParallel is true to scale along the standard parallel, which also says which pole it is about.
func polarOfParallel(e ellipsoid.Ellipsoid, params Params) *polarStereographic {
	lat1 := params.radians(Lat1)
	a := math.Abs(lat1)
	k0 := 1.0
	if a < math.Pi/2-1e-12 {
		k0 = e.ParallelRadius(a) * poleFactor(e) / 2 * portable.Exp(e.Isometric(a))
	}
	return polarOfScale(e, lat1 > 0, k0, params)
}

func newPolarStereographicA(e ellipsoid.Ellipsoid, params Params) (Projection, error) {
	if math.Abs(math.Abs(params[Lat0])-90) > 1e-7 {
		return nil, fmt.Errorf("its polar stereographic has its origin at latitude %g° instead of a pole", params[Lat0])
	}
	return polarOfScale(e, params[Lat0] > 0, params.factor(Scale), params), nil
}

func newPolarStereographicB(e ellipsoid.Ellipsoid, params Params) (Projection, error) {
	return polarOfParallel(e, params), nil
}

// newPolarStereographicC has its northing where the central meridian crosses the standard parallel.
func newPolarStereographicC(e ellipsoid.Ellipsoid, params Params) (Projection, error) {
	p := polarOfParallel(e, params)
	p.fn = 0
	_, y, _ := p.Forward(params.radians(Lon0), params.radians(Lat1))
	p.fn = params[North] - y
	return p, nil
}

// Forward implements [Projection].
func (p *polarStereographic) Forward(lon, lat float64) (x, y float64, ok bool) {
	lat *= p.pole
	if lat < -89*degree || lat > math.Pi/2 {
		return 0, 0, false
	}
	rho := p.scale * portable.Exp(-p.e.Isometric(lat))
	s, c := math.Sincos(lon - p.lon0)
	return p.fe + rho*s, p.fn - p.pole*rho*c, true
}

// Inverse implements [Projection].
func (p *polarStereographic) Inverse(x, y float64) (lon, lat float64, ok bool) {
	x, y = x-p.fe, p.pole*(p.fn-y)
	rho := math.Hypot(x, y)
	if rho == 0 {
		return p.lon0, p.pole * math.Pi / 2, true
	}
	lat = p.e.FromIsometric(-math.Log(rho / p.scale))
	return ellipsoid.WrapLongitude(p.lon0 + math.Atan2(x, y)), p.pole * lat, lat > -89.5*degree
}

// ArealScale implements [Projection].
func (p *polarStereographic) ArealScale(_, lat float64) float64 {
	lat *= p.pole
	if math.Pi/2-lat < 1e-8 {
		return p.k0 * p.k0
	}
	k := p.scale * portable.Exp(-p.e.Isometric(lat)) / (p.e.A * p.e.ParallelRadius(lat))
	return k * k
}

// Traits implements [Projection].
func (p *polarStereographic) Traits() Traits {
	return Traits{Method: "polar stereographic", Conformal: true}
}

// Domain implements [Projection].
func (p *polarStereographic) Domain() Domain {
	b := fullTurn(p.lon0, -88.9*degree, math.Pi/2)
	if p.pole < 0 {
		b.South, b.North = -math.Pi/2, 88.9*degree
	}
	return Domain{Boxes: []Box{b}, Round: true}
}
