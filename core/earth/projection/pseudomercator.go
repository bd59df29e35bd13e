package projection

import (
	"math"

	"github.com/verdex-land/verdex/core/earth/ellipsoid"
	"github.com/verdex-land/verdex/core/portable"
)

// PseudoMercator is that of maps on the web.
var PseudoMercator = &Method{
	Name: "pseudo-Mercator", Codes: []int{1024, 1026}, Texts: "mercatorauxiliarysphere popularvisualisationpseudomercator", WKT1: "Mercator_Auxiliary_Sphere",
	Params: []Parameter{{Role: Lon0, Code: 8802, WKT1: "central_meridian"}, {Role: East, Code: 8806}, {Role: North, Code: 8807}},
	New:    newPseudoMercator,
}

// pseudoMercator is the web's: the spherical formulas of the mercator on the semi-major axis,
// fed with ellipsoidal latitudes (EPSG method 1024, EPSG Guidance Note 7-2). It is neither
// conformal nor equal-area; its areal scale is that of EPSG's formulas for h and k.
type pseudoMercator struct {
	e            ellipsoid.Ellipsoid
	lon0, fe, fn float64
}

func newPseudoMercator(e ellipsoid.Ellipsoid, params Params) (Projection, error) {
	lon0, _, fe, fn := params.origin()
	return &pseudoMercator{e, lon0, fe, fn}, nil
}

// Forward implements [Projection].
func (p *pseudoMercator) Forward(lon, lat float64) (x, y float64, ok bool) {
	if math.Abs(lat) > 89.99*degree {
		return 0, 0, false
	}
	return p.fe + p.e.A*ellipsoid.WrapLongitude(lon-p.lon0), p.fn + p.e.A*math.Asinh(math.Tan(lat)), true
}

// Inverse implements [Projection].
func (p *pseudoMercator) Inverse(x, y float64) (lon, lat float64, ok bool) {
	psi := (y - p.fn) / p.e.A
	if !(math.Abs(psi) < 10) {
		return 0, 0, false
	}
	return p.lon0 + (x-p.fe)/p.e.A, math.Atan(portable.Sinh(psi)), true
}

// ArealScale implements [Projection].
func (p *pseudoMercator) ArealScale(_, lat float64) float64 {
	rho, nu := p.e.Radii(lat)
	c := math.Cos(lat)
	return p.e.A / (nu * c) * p.e.A / (rho * c)
}

// Traits implements [Projection].
func (p *pseudoMercator) Traits() Traits {
	return Traits{Method: "pseudo-Mercator", ByRow: true}
}

// Domain implements [Projection].
func (p *pseudoMercator) Domain() Domain { return cylinder(p.lon0, -mercatorLimit, mercatorLimit) }
