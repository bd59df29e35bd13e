package projection

import (
	"fmt"
	"math"

	"github.com/verdex-land/verdex/core/earth/ellipsoid"
)

// CylindricalEqualArea is Lambert's cylindrical equal-area projection.
var CylindricalEqualArea = &Method{
	Name: "Lambert cylindrical equal area", Codes: []int{9835}, Texts: "cylindricalequalarea lambertcylindricalequalarea", WKT1: "Cylindrical_Equal_Area", GeoKeys: []int{28},
	Params: []Parameter{{Role: Lat1, Code: 8823, WKT1: "standard_parallel_1"}, {Role: Lon0, Code: 8802, WKT1: "central_meridian"}, {Role: East, Code: 8806}, {Role: North, Code: 8807}},
	New:    newCylindricalEqualArea,
}

// CylindricalSpherical is the same on a sphere.
var CylindricalSpherical = &Method{
	Name: "Lambert cylindrical equal area, spherical", Codes: []int{9834}, Texts: "lambertcylindricalequalareaspherical",
	Params: CylindricalEqualArea.Params, New: newCylindricalSpherical,
}

// cylindricalEqualArea is Lambert's, on the ellipsoid: Snyder 1987, p. 81-83, EPSG method 9835.
type cylindricalEqualArea struct {
	e                ellipsoid.Ellipsoid
	lon0, fe, fn, k0 float64
}

// newCylindricalEqualArea is true to scale along the standard parallel.
func newCylindricalEqualArea(e ellipsoid.Ellipsoid, params Params) (Projection, error) {
	return &cylindricalEqualArea{e, params.radians(Lon0), params[East], params[North], e.ParallelRadius(params.radians(Lat1))}, nil
}

func newCylindricalSpherical(e ellipsoid.Ellipsoid, params Params) (Projection, error) {
	if e.F != 0 {
		return nil, fmt.Errorf("its projection is that of a sphere, but %s is not one", e.Name)
	}
	return newCylindricalEqualArea(e, params)
}

// Forward implements [Projection].
func (p *cylindricalEqualArea) Forward(lon, lat float64) (x, y float64, ok bool) {
	return p.fe + p.e.A*p.k0*ellipsoid.WrapLongitude(lon-p.lon0),
		p.fn + p.e.A*p.e.AuthalicQ(math.Sin(lat))/(2*p.k0), true
}

// Inverse implements [Projection].
func (p *cylindricalEqualArea) Inverse(x, y float64) (lon, lat float64, ok bool) {
	lat, ok = p.e.LatitudeFromQ(2 * (y - p.fn) * p.k0 / p.e.A)
	return p.lon0 + (x-p.fe)/(p.e.A*p.k0), lat, ok
}

// ArealScale implements [Projection].
func (p *cylindricalEqualArea) ArealScale(_, _ float64) float64 { return 1 }

// Traits implements [Projection].
func (p *cylindricalEqualArea) Traits() Traits {
	return Traits{Method: "Lambert cylindrical equal area", EqualArea: true, ByRow: true}
}

// Domain implements [Projection].
func (p *cylindricalEqualArea) Domain() Domain { return cylinder(p.lon0, -math.Pi/2, math.Pi/2) }
