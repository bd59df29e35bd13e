package projection

import (
	"fmt"
	"math"

	"github.com/verdex-land/verdex/core/earth/ellipsoid"
	"github.com/verdex-land/verdex/core/portable"
)

// MercatorA is the Mercator with its scale at the equator.
var MercatorA = &Method{
	Name: "Mercator", Codes: []int{9804}, Texts: "mercator mercator1sp mercatorvarianta", WKT1: "Mercator_1SP", GeoKeys: []int{7},
	Params: []Parameter{{Role: Lat0, Code: 8801}, {Role: Lon0, Code: 8802, WKT1: "central_meridian"}, {Role: Scale, Code: 8805, WKT1: "scale_factor"},
		{Role: East, Code: 8806}, {Role: North, Code: 8807}},
	New: newMercatorA,
}

// MercatorB is the Mercator with a standard parallel.
var MercatorB = &Method{
	Name: "Mercator with a standard parallel", Codes: []int{9805}, Texts: "mercator mercator2sp mercatorvariantb", WKT1: "Mercator_2SP", GeoKeys: []int{7},
	Params: []Parameter{{Role: Lat1, Code: 8823, WKT1: "standard_parallel_1"}, {Role: Lon0, Code: 8802, WKT1: "central_meridian"}, {Role: East, Code: 8806}, {Role: North, Code: 8807}},
	Fits:   func(p Params) bool { return p.Has(Lat1) },
	New:    newMercatorB,
}

// mercator is the ellipsoidal Mercator: Snyder 1987, p. 44-45, EPSG methods 9804 and 9805.
type mercator struct {
	e                ellipsoid.Ellipsoid
	lon0, fe, fn, k0 float64
}

func newMercatorA(e ellipsoid.Ellipsoid, params Params) (Projection, error) {
	lon0, _, fe, fn := params.origin()
	if params[Lat0] != 0 {
		return nil, fmt.Errorf("its Mercator has its origin at latitude %g° instead of the equator", params[Lat0])
	}
	return &mercator{e, lon0, fe, fn, params.factor(Scale)}, nil
}

// newMercatorB is true to scale along the standard parallel.
func newMercatorB(e ellipsoid.Ellipsoid, params Params) (Projection, error) {
	lon0, _, fe, fn := params.origin()
	return &mercator{e, lon0, fe, fn, e.ParallelRadius(params.radians(Lat1))}, nil
}

// Forward implements [Projection].
func (p *mercator) Forward(lon, lat float64) (x, y float64, ok bool) {
	if math.Abs(lat) > 89.99*degree {
		return 0, 0, false
	}
	psi := math.Asinh(ellipsoid.ConformalTan(math.Tan(lat), math.Sqrt(p.e.E2())))
	return p.fe + p.e.A*p.k0*ellipsoid.WrapLongitude(lon-p.lon0), p.fn + p.e.A*p.k0*psi, true
}

// Inverse implements [Projection].
func (p *mercator) Inverse(x, y float64) (lon, lat float64, ok bool) {
	psi := (y - p.fn) / (p.e.A * p.k0)
	if !(math.Abs(psi) < 10) {
		return 0, 0, false
	}
	lat = math.Atan(ellipsoid.GeographicTan(portable.Sinh(psi), math.Sqrt(p.e.E2())))
	return p.lon0 + (x-p.fe)/(p.e.A*p.k0), lat, true
}

// ArealScale implements [Projection].
func (p *mercator) ArealScale(_, lat float64) float64 {
	_, nu := p.e.Radii(lat)
	k := p.k0 * p.e.A / (nu * math.Cos(lat))
	return k * k
}

// Traits implements [Projection].
func (p *mercator) Traits() Traits {
	return Traits{Method: "Mercator", Conformal: true, ByRow: true}
}

// Domain implements [Projection].
func (p *mercator) Domain() Domain { return cylinder(p.lon0, -mercatorLimit, mercatorLimit) }

// mercatorLimit is the latitude to which Mercators reach.
const mercatorLimit = 89.99*degree - 1e-12
