package projection

import (
	"math"

	"github.com/verdex-land/verdex/core/earth/ellipsoid"
)

// Sinusoidal has parallels that are true to scale. EPSG has no code for it.
var Sinusoidal = &Method{
	Name: "sinusoidal", Texts: "sinusoidal", WKT1: "Sinusoidal", GeoKeys: []int{24},
	Params: []Parameter{{Role: Lon0, WKT1: "longitude_of_center"}, {Role: East}, {Role: North}},
	New:    newSinusoidal,
}

// sinusoidal is equal-area: Snyder 1987, p. 247-248.
type sinusoidal struct {
	e            ellipsoid.Ellipsoid
	m            meridian
	lon0, fe, fn float64
}

func newSinusoidal(e ellipsoid.Ellipsoid, params Params) (Projection, error) {
	lon0, _, fe, fn := params.origin()
	return &sinusoidal{e, newMeridian(e), lon0, fe, fn}, nil
}

// Forward implements [Projection].
func (p *sinusoidal) Forward(lon, lat float64) (x, y float64, ok bool) {
	return p.fe + p.e.A*p.e.ParallelRadius(lat)*ellipsoid.WrapLongitude(lon-p.lon0), p.fn + p.m.length(lat), math.Abs(lat) <= math.Pi/2
}

// Inverse implements [Projection].
func (p *sinusoidal) Inverse(x, y float64) (lon, lat float64, ok bool) {
	return within(p, p.lon0, x, y)
}

// ArealScale implements [Projection].
func (p *sinusoidal) ArealScale(_, _ float64) float64 { return 1 }

// Traits implements [Projection].
func (p *sinusoidal) Traits() Traits { return Traits{Method: "sinusoidal", EqualArea: true} }

// Unbounded implements [Parallels].
func (p *sinusoidal) Unbounded(x, y float64) (dlon, lat float64, ok bool) {
	lat, ok = p.m.latitude(y - p.fn)
	r := p.e.A * p.e.ParallelRadius(lat)
	if r < 1e-6 {
		return (x - p.fe) / 1e-3, lat, ok
	}
	return (x - p.fe) / r, lat, ok
}

// Domain implements [Projection].
func (p *sinusoidal) Domain() Domain { return cutOpen(p.lon0, -math.Pi/2, math.Pi/2) }
