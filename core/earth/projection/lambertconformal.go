package projection

import (
	"fmt"
	"math"
	"slices"

	"github.com/verdex-land/verdex/core/earth/ellipsoid"
	"github.com/verdex-land/verdex/core/portable"
)

// LambertConformal1 is the conformal conic with a scale on one parallel.
var LambertConformal1 = &Method{
	Name: "Lambert conformal conic, one parallel", Codes: []int{9801}, Texts: "lambertconformalconic lambertconformalconic1sp lambertconicconformal1sp",
	WKT1: "Lambert_Conformal_Conic_1SP", GeoKeys: []int{9, 8},
	Params: []Parameter{{Role: Lat0, Or: Lat1, Code: 8801, WKT1: "latitude_of_origin"}, {Role: Lon0, Code: 8802, WKT1: "central_meridian"},
		{Role: Scale, Code: 8805, WKT1: "scale_factor"}, {Role: East, Code: 8806}, {Role: North, Code: 8807}},
	Fits: func(p Params) bool { return p.Has(Scale) || p.Has(Lat1) },
	New:  newLambertConformal1,
}

// LambertConformal2 is the conformal conic with two standard parallels, which may be one and the same.
var LambertConformal2 = &Method{
	Name: "Lambert conformal conic, two parallels", Codes: []int{9802}, Texts: "lambertconformalconic lambertconformalconic2sp lambertconicconformal2sp",
	WKT1: "Lambert_Conformal_Conic_2SP", GeoKeys: []int{8}, Params: falseOriginConic,
	Fits: func(p Params) bool { return p.Has(Lat2) || p.Has(Lat1) && p.Has(Lat0) && !p.Has(Scale) },
	New:  newLambertConformal2,
}

// LambertConformalBelgium is the conic of Belgium's grids of 1950 and 1972.
var LambertConformalBelgium = &Method{
	Name: "Lambert conformal conic, Belgium", Codes: []int{9803}, Texts: "lambertconformalconic2spbelgium lambertconicconformal2spbelgium",
	Params: falseOriginConic, New: newLambertConformalBelgium,
}

// LambertConformalMichigan is the conic on an enlarged ellipsoid.
var LambertConformalMichigan = &Method{
	Name: "Lambert conformal conic, Michigan", Codes: []int{1051}, Texts: "lambertconicconformal2spmichigan",
	Params: append(slices.Clone(falseOriginConic), Parameter{Role: EllipsoidK, Code: 1038}), New: newLambertConformalMichigan,
}

// LambertConformalWest is the conic with coordinates that count to the west.
var LambertConformalWest = &Method{
	Name: "Lambert conformal conic, west orientated", Codes: []int{9826}, Texts: "lambertconicconformalwestorientated",
	Params: []Parameter{{Role: Lat0, Code: 8801}, {Role: Lon0, Code: 8802}, {Role: Scale, Code: 8805}, {Role: East, Code: 8806}, {Role: North, Code: 8807}},
	New:    newLambertConformalWest,
}

// falseOriginConic are the parameters of a conic with two standard parallels.
var falseOriginConic = []Parameter{{Role: Lat1, Code: 8823, WKT1: "standard_parallel_1"}, {Role: Lat2, Or: Lat1, Code: 8824, WKT1: "standard_parallel_2"},
	{Role: Lat0, Code: 8821, WKT1: "latitude_of_origin"}, {Role: Lon0, Code: 8822, WKT1: "central_meridian"}, {Role: East, Code: 8826}, {Role: North, Code: 8827}}

// lambertConformal is the conformal conic of Lambert: Snyder 1987, p. 107-109; EPSG methods 9801,
// 9802, 9803, 9826 and 1051 (EPSG Guidance Note 7-2).
type lambertConformal struct {
	e                        ellipsoid.Ellipsoid
	lon0, fe, fn             float64
	n, scale, rho0, tilt, to float64 // radius is scale·exp(-n·ψ); to is -1 where x counts to the west
}

// newLambertConformal2 has two standard parallels; the origin is the false one.
func newLambertConformal2(e ellipsoid.Ellipsoid, params Params) (Projection, error) {
	p, err := conicOfParallels(e, params)
	if err != nil {
		return nil, err
	}
	return p, nil
}

func conicOfParallels(e ellipsoid.Ellipsoid, params Params) (*lambertConformal, error) {
	lon0, lat0, fe, fn := params.origin()
	lat1, lat2 := params.radians(Lat1), params.radians(Lat2)
	if math.Abs(lat1+lat2) < 1e-10 {
		return nil, fmt.Errorf("the standard parallels of a conformal conic cannot be opposite (%g° and %g°)", params[Lat1], params[Lat2])
	}
	p := &lambertConformal{e: e, lon0: lon0, fe: fe, fn: fn, to: 1, n: math.Sin(lat1)}
	if math.Abs(lat1-lat2) > 1e-10 {
		p.n = (math.Log(e.ParallelRadius(lat1)) - math.Log(e.ParallelRadius(lat2))) / (e.Isometric(lat2) - e.Isometric(lat1))
	}
	p.scale = e.A * e.ParallelRadius(lat1) / p.n * portable.Exp(p.n*e.Isometric(lat1))
	return p.from(lat0)
}

// newLambertConformal1 has its scale on the parallel of the origin.
func newLambertConformal1(e ellipsoid.Ellipsoid, params Params) (Projection, error) {
	p, err := conicOfScale(e, params)
	if err != nil {
		return nil, err
	}
	return p, nil
}

func conicOfScale(e ellipsoid.Ellipsoid, params Params) (*lambertConformal, error) {
	lon0, lat0, fe, fn := params.origin()
	p := &lambertConformal{e: e, lon0: lon0, fe: fe, fn: fn, to: 1, n: math.Sin(lat0)}
	p.scale = params.factor(Scale) * e.A * e.ParallelRadius(lat0) / p.n * portable.Exp(p.n*e.Isometric(lat0))
	return p.from(lat0)
}

// newLambertConformalBelgium turns the cone by a fixed angle.
func newLambertConformalBelgium(e ellipsoid.Ellipsoid, params Params) (Projection, error) {
	p, err := conicOfParallels(e, params)
	if err != nil {
		return nil, err
	}
	p.tilt = 29.2985 / 3600 * degree
	return p, nil
}

// newLambertConformalMichigan enlarges the ellipsoid.
func newLambertConformalMichigan(e ellipsoid.Ellipsoid, params Params) (Projection, error) {
	p, err := conicOfParallels(e, params)
	if err != nil {
		return nil, err
	}
	p.scale *= params.factor(EllipsoidK)
	p.rho0 *= params.factor(EllipsoidK)
	return p, nil
}

// newLambertConformalWest counts x to the west.
func newLambertConformalWest(e ellipsoid.Ellipsoid, params Params) (Projection, error) {
	p, err := conicOfScale(e, params)
	if err != nil {
		return nil, err
	}
	p.to = -1
	return p, nil
}

// Forward implements [Projection].
func (p *lambertConformal) Forward(lon, lat float64) (x, y float64, ok bool) {
	if math.Abs(lat) > math.Pi/2 {
		return 0, 0, false
	}
	rho := p.radius(lat)
	s, c := math.Sincos(p.n*ellipsoid.WrapLongitude(lon-p.lon0) - p.tilt)
	return p.fe + p.to*rho*s, p.fn + p.rho0 - rho*c, !math.IsInf(rho, 0) && math.Abs(rho) < 1e9
}

// Inverse implements [Projection].
func (p *lambertConformal) Inverse(x, y float64) (lon, lat float64, ok bool) {
	x, y = p.to*(x-p.fe), p.rho0-(y-p.fn)
	sign := math.Copysign(1, p.n)
	rho := sign * math.Hypot(x, y)
	if rho == 0 {
		return p.lon0, sign * math.Pi / 2, true
	}
	theta := (math.Atan2(sign*x, sign*y) + p.tilt) / p.n
	psi := -math.Log(rho/p.scale) / p.n
	return ellipsoid.WrapLongitude(p.lon0 + theta), p.e.FromIsometric(psi), math.Abs(theta) <= math.Pi+1e-9
}

// ArealScale implements [Projection]: Snyder 1987, eq. 15-5.
func (p *lambertConformal) ArealScale(_, lat float64) float64 {
	k := p.radius(lat) * p.n / (p.e.A * p.e.ParallelRadius(lat))
	return k * k
}

// Traits implements [Projection].
func (p *lambertConformal) Traits() Traits {
	return Traits{Method: "Lambert conformal conic", Conformal: true, Mirrored: p.to < 0}
}

// from sets the radius of the origin.
func (p *lambertConformal) from(lat0 float64) (*lambertConformal, error) {
	p.rho0 = p.radius(lat0)
	if !(math.Abs(p.n) > 1e-10) || math.IsInf(p.rho0, 0) || math.IsNaN(p.rho0) {
		return nil, fmt.Errorf("a conformal conic with its origin at latitude %g° has no cone", lat0/degree)
	}
	return p, nil
}

func (p *lambertConformal) radius(lat float64) float64 {
	return p.scale * portable.Exp(-p.n*p.e.Isometric(lat))
}

// Domain implements [Projection]: the Earth but for the end of the cone that runs to infinity.
func (p *lambertConformal) Domain() Domain {
	const farthest = 5e8 // metres from the apex
	limit := p.e.FromIsometric(-math.Log(farthest/math.Abs(p.scale)) / p.n)
	if p.n > 0 {
		return cutOpen(p.lon0, math.Max(limit, -math.Pi/2), math.Pi/2)
	}
	return cutOpen(p.lon0, -math.Pi/2, math.Min(limit, math.Pi/2))
}
