package projection

import (
	"fmt"
	"math"

	"github.com/verdex-land/verdex/core/earth/ellipsoid"
)

// Albers is the Albers equal-area conic.
var Albers = &Method{
	Name: "Albers equal area", Codes: []int{9822}, Texts: "albersconicequalarea albersequalarea albers", WKT1: "Albers_Conic_Equal_Area", GeoKeys: []int{11},
	Params: []Parameter{{Role: Lat1, Code: 8823, WKT1: "standard_parallel_1"}, {Role: Lat2, Code: 8824, WKT1: "standard_parallel_2"},
		{Role: Lat0, Code: 8821, WKT1: "latitude_of_center"}, {Role: Lon0, Code: 8822, WKT1: "longitude_of_center"}, {Role: East, Code: 8826}, {Role: North, Code: 8827}},
	New: newAlbers,
}

// albers is the Albers equal-area conic: Snyder 1987, p. 101-102, EPSG method 9822.
type albers struct {
	e                     ellipsoid.Ellipsoid
	lon0, fe, fn          float64
	n, c, rho0, direction float64
}

// newAlbers has two standard parallels, which may be equal but not opposite.
func newAlbers(e ellipsoid.Ellipsoid, params Params) (Projection, error) {
	lon0, lat0, fe, fn := params.origin()
	lat1, lat2 := params.radians(Lat1), params.radians(Lat2)
	if math.Abs(lat1+lat2) < 1e-10 {
		return nil, fmt.Errorf("the standard parallels of an Albers projection cannot be opposite (%g° and %g°)", params[Lat1], params[Lat2])
	}
	m1, m2 := e.ParallelRadius(lat1), e.ParallelRadius(lat2)
	q1, q2 := e.AuthalicQ(math.Sin(lat1)), e.AuthalicQ(math.Sin(lat2))
	p := &albers{e: e, lon0: lon0, fe: fe, fn: fn}
	if math.Abs(lat1-lat2) < 1e-10 {
		p.n = math.Sin(lat1)
	} else {
		p.n = (m1*m1 - m2*m2) / (q2 - q1)
	}
	p.c = m1*m1 + p.n*q1
	p.direction = math.Copysign(1, p.n)
	p.rho0 = e.A * math.Sqrt(math.Max(0, p.c-p.n*e.AuthalicQ(math.Sin(lat0)))) / p.n
	return p, nil
}

// Forward implements [Projection].
func (p *albers) Forward(lon, lat float64) (x, y float64, ok bool) {
	r2 := p.c - p.n*p.e.AuthalicQ(math.Sin(lat))
	if r2 < 0 {
		if r2 < -1e-12 {
			return 0, 0, false
		}
		r2 = 0
	}
	rho := p.e.A * math.Sqrt(r2) / p.n
	s, c := math.Sincos(p.n * ellipsoid.WrapLongitude(lon-p.lon0))
	return p.fe + rho*s, p.fn + p.rho0 - rho*c, true
}

// Inverse implements [Projection].
func (p *albers) Inverse(x, y float64) (lon, lat float64, ok bool) {
	x, y = x-p.fe, p.rho0-(y-p.fn)
	rho := math.Hypot(x, y)
	theta := math.Atan2(p.direction*x, p.direction*y)
	r := rho * p.n / p.e.A
	lat, ok = p.e.LatitudeFromQ((p.c - r*r) / p.n)
	if math.Abs(theta/p.n) > math.Pi+1e-9 {
		return 0, 0, false
	}
	return ellipsoid.WrapLongitude(p.lon0 + theta/p.n), lat, ok
}

// ArealScale implements [Projection].
func (p *albers) ArealScale(_, _ float64) float64 { return 1 }

// Traits implements [Projection].
func (p *albers) Traits() Traits { return Traits{Method: "Albers equal area", EqualArea: true} }

// Domain implements [Projection].
func (p *albers) Domain() Domain { return cutOpen(p.lon0, -math.Pi/2, math.Pi/2) }
