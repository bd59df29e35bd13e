package projection

import (
	"math"

	"github.com/verdex-land/verdex/core/earth/ellipsoid"
)

// Cassini is the projection of old cadastres.
var Cassini = &Method{
	Name: "Cassini-Soldner", Codes: []int{9806}, Texts: "cassinisoldner cassini", WKT1: "Cassini_Soldner", GeoKeys: []int{18},
	Params: []Parameter{{Role: Lat0, Code: 8801, WKT1: "latitude_of_origin"}, {Role: Lon0, Code: 8802, WKT1: "central_meridian"}, {Role: East, Code: 8806}, {Role: North, Code: 8807}},
	New:    newCassini,
}

// cassiniSoldner is EPSG method 9806, the series of EPSG Guidance Note 7-2.
type cassiniSoldner struct {
	e                    ellipsoid.Ellipsoid
	m                    meridian
	lon0, fe, fn, origin float64
}

func newCassini(e ellipsoid.Ellipsoid, params Params) (Projection, error) {
	lon0, lat0, fe, fn := params.origin()
	m := newMeridian(e)
	return &cassiniSoldner{e, m, lon0, fe, fn, m.length(lat0)}, nil
}

// Forward implements [Projection].
func (p *cassiniSoldner) Forward(lon, lat float64) (x, y float64, ok bool) {
	s, c := math.Sincos(lat)
	e2 := p.e.E2()
	_, v := p.e.Radii(lat)
	dl := ellipsoid.WrapLongitude(lon - p.lon0)
	a, t, k := dl*c, s*s/(c*c), e2*c*c/(1-e2)
	a2 := a * a
	x = v * a * (1 - a2*t*(1./6+(8-t+8*k)*a2/120))
	y = p.m.length(lat) - p.origin + v*s/c*a2*(0.5+(5-t+6*k)*a2/24)
	return p.fe + x, p.fn + y, math.Abs(dl) < 20*degree && math.Abs(lat) < 89*degree
}

// Inverse implements [Projection].
func (p *cassiniSoldner) Inverse(x, y float64) (lon, lat float64, ok bool) {
	lat, ok = p.m.latitude(p.origin + y - p.fn)
	if !ok || math.Abs(lat) > 88.9*degree {
		return 0, 0, false
	}
	return newtonInverse(p, x, y, p.lon0+(x-p.fe)/(p.e.A*p.e.ParallelRadius(lat)), lat)
}

// ArealScale implements [Projection].
func (p *cassiniSoldner) ArealScale(lon, lat float64) float64 {
	return ArealByDifference(p, p.e, lon, lat)
}

// Traits implements [Projection].
func (p *cassiniSoldner) Traits() Traits { return Traits{Method: "Cassini-Soldner"} }

// Domain implements [Projection].
func (p *cassiniSoldner) Domain() Domain { return about(p.lon0, 0, 19.99*degree, 88.8*degree) }
