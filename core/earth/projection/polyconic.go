package projection

import (
	"math"

	"github.com/verdex-land/verdex/core/earth/ellipsoid"
)

// Polyconic is the American polyconic.
var Polyconic = &Method{
	Name: "American polyconic", Codes: []int{9818}, Texts: "polyconic americanpolyconic", WKT1: "Polyconic", GeoKeys: []int{22},
	Params: []Parameter{{Role: Lat0, Code: 8801, WKT1: "latitude_of_origin"}, {Role: Lon0, Code: 8802, WKT1: "central_meridian"}, {Role: East, Code: 8806}, {Role: North, Code: 8807}},
	New:    newPolyconic,
}

// polyconic is the American polyconic: Snyder 1987, p. 129-131; EPSG method 9818.
type polyconic struct {
	e                    ellipsoid.Ellipsoid
	m                    meridian
	lon0, fe, fn, origin float64
}

func newPolyconic(e ellipsoid.Ellipsoid, params Params) (Projection, error) {
	lon0, lat0, fe, fn := params.origin()
	m := newMeridian(e)
	return &polyconic{e, m, lon0, fe, fn, m.length(lat0)}, nil
}

// sinc is sin x/x.
func sinc(x float64) float64 {
	if math.Abs(x) < 1e-8 {
		return 1
	}
	return math.Sin(x) / x
}

// Forward implements [Projection].
func (p *polyconic) Forward(lon, lat float64) (x, y float64, ok bool) {
	dl := ellipsoid.WrapLongitude(lon - p.lon0)
	ok = math.Abs(dl) < 90*degree && math.Abs(lat) < 89.99*degree
	s, c := math.Sincos(lat)
	_, v := p.e.Radii(lat)
	l := dl * s
	// ν·cot φ·sin L and ν·cot φ·(1-cos L), written so that they hold at the equator too.
	half := l / 2
	x = v * c * dl * sinc(l)
	y = p.m.length(lat) - p.origin + v*c*dl*math.Sin(half)*sinc(half)
	return p.fe + x, p.fn + y, ok
}

// Inverse implements [Projection].
func (p *polyconic) Inverse(x, y float64) (lon, lat float64, ok bool) {
	lat, ok = p.m.latitude(p.origin + y - p.fn)
	if !ok || math.Abs(lat) > 89*degree {
		return 0, 0, false
	}
	return newtonInverse(p, x, y, p.lon0+(x-p.fe)/(p.e.A*math.Max(0.1, p.e.ParallelRadius(lat))), lat)
}

// ArealScale implements [Projection].
func (p *polyconic) ArealScale(lon, lat float64) float64 {
	return ArealByDifference(p, p.e, lon, lat)
}

// Traits implements [Projection].
func (p *polyconic) Traits() Traits { return Traits{Method: "American polyconic"} }

// Domain implements [Projection].
func (p *polyconic) Domain() Domain { return about(p.lon0, 0, 60*degree, 88.8*degree) }
