package projection

import (
	"math"

	"github.com/verdex-land/verdex/core/earth/ellipsoid"
)

// EquidistantCylindrical is true to scale along the standard parallel and the meridians.
var EquidistantCylindrical = &Method{
	Name: "equidistant cylindrical", Codes: []int{1028}, Texts: "equidistantcylindrical",
	Params: []Parameter{{Role: Lat1, Code: 8823}, {Role: Lon0, Code: 8802}, {Role: East, Code: 8806}, {Role: North, Code: 8807}},
	New:    newEquidistantCylindrical,
}

// EquidistantSpherical is the same by the formulas of the sphere.
var EquidistantSpherical = &Method{
	Name: "equidistant cylindrical, spherical", Codes: []int{1029}, Texts: "equirectangular platecarree equidistantcylindricalspherical", GeoKeys: []int{17},
	Params: EquidistantCylindrical.Params, New: newEquidistantSpherical,
}

// equidistantCylindrical is EPSG methods 1028, on the ellipsoid, and 1029, the spherical formulas on the
// semi-major axis fed with the ellipsoid's latitudes.
type equidistantCylindrical struct {
	e                    ellipsoid.Ellipsoid
	m                    meridian
	lon0, fe, fn, radius float64
	spherical            bool
}

func newEquidistantCylindrical(e ellipsoid.Ellipsoid, params Params) (Projection, error) {
	lon0, _, fe, fn := params.origin()
	return &equidistantCylindrical{e, newMeridian(e), lon0, fe, fn, e.A * e.ParallelRadius(params.radians(Lat1)), false}, nil
}

func newEquidistantSpherical(e ellipsoid.Ellipsoid, params Params) (Projection, error) {
	lon0, _, fe, fn := params.origin()
	return &equidistantCylindrical{e, newMeridian(e), lon0, fe, fn, e.A * math.Cos(params.radians(Lat1)), true}, nil
}

// Forward implements [Projection].
func (p *equidistantCylindrical) Forward(lon, lat float64) (x, y float64, ok bool) {
	y = p.e.A * lat
	if !p.spherical {
		y = p.m.length(lat)
	}
	return p.fe + p.radius*ellipsoid.WrapLongitude(lon-p.lon0), p.fn + y, math.Abs(lat) <= math.Pi/2
}

// Inverse implements [Projection].
func (p *equidistantCylindrical) Inverse(x, y float64) (lon, lat float64, ok bool) {
	y -= p.fn
	lon = p.lon0 + (x-p.fe)/p.radius
	if p.spherical {
		return lon, y / p.e.A, math.Abs(y/p.e.A) <= math.Pi/2*(1+1e-12)
	}
	lat, ok = p.m.latitude(y)
	return lon, lat, ok
}

// ArealScale implements [Projection].
func (p *equidistantCylindrical) ArealScale(_, lat float64) float64 {
	m, n := p.e.Radii(lat)
	along := p.radius / (n * math.Cos(lat))
	if p.spherical {
		return along * p.e.A / m
	}
	return along
}

// Traits implements [Projection].
func (p *equidistantCylindrical) Traits() Traits {
	return Traits{Method: "equidistant cylindrical", ByRow: true}
}

// Domain implements [Projection].
func (p *equidistantCylindrical) Domain() Domain { return cylinder(p.lon0, -math.Pi/2, math.Pi/2) }
