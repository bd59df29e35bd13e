package projection

import (
	"math"

	"github.com/verdex-land/verdex/core/earth/ellipsoid"
)

// EqualEarth is an equal-area projection for maps of the world.
var EqualEarth = &Method{
	Name: "Equal Earth", Codes: []int{1078}, Texts: "equalearth", WKT1: "Equal_Earth",
	Params: []Parameter{{Role: Lon0, Code: 8802, WKT1: "central_meridian"}, {Role: East, Code: 8806}, {Role: North, Code: 8807}},
	New:    newEqualEarth,
}

// equalEarth is EPSG method 1078 (Šavrič, Patterson and Jenny 2018), on the authalic sphere.
type equalEarth struct {
	e            ellipsoid.Ellipsoid
	lon0, fe, fn float64
	qp, r        float64
}

func newEqualEarth(e ellipsoid.Ellipsoid, params Params) (Projection, error) {
	lon0, _, fe, fn := params.origin()
	qp := e.AuthalicQ(1)
	return &equalEarth{e, lon0, fe, fn, qp, e.A * math.Sqrt(qp/2)}, nil
}

var sqrt3 = math.Sqrt(3)

// Forward implements [Projection].
func (p *equalEarth) Forward(lon, lat float64) (x, y float64, ok bool) {
	t := math.Asin(sqrt3 / 2 * p.e.AuthalicQ(math.Sin(lat)) / p.qp)
	y, dy := p.polynomial(t)
	return p.fe + p.r*2*sqrt3*ellipsoid.WrapLongitude(lon-p.lon0)*math.Cos(t)/(3*dy), p.fn + p.r*y, math.Abs(lat) <= math.Pi/2
}

// Inverse implements [Projection].
func (p *equalEarth) Inverse(x, y float64) (lon, lat float64, ok bool) {
	return within(p, p.lon0, x, y)
}

// ArealScale implements [Projection].
func (p *equalEarth) ArealScale(_, _ float64) float64 { return 1 }

// Traits implements [Projection].
func (p *equalEarth) Traits() Traits { return Traits{Method: "Equal Earth", EqualArea: true} }

// polynomial is y/r of Equal Earth at the parametric latitude, and its derivative.
func (p *equalEarth) polynomial(t float64) (y, dy float64) {
	const a1, a2, a3, a4 = 1.340264, -0.081106, 0.000893, 0.003796
	t2 := t * t
	t6 := t2 * t2 * t2
	return t * (a1 + a2*t2 + t6*(a3+a4*t2)), a1 + 3*a2*t2 + t6*(7*a3+9*a4*t2)
}

// Unbounded implements [Parallels].
func (p *equalEarth) Unbounded(x, y float64) (dlon, lat float64, ok bool) {
	y = (y - p.fn) / p.r
	t := y / 1.340264
	var dy float64
	for range 20 {
		var f float64
		f, dy = p.polynomial(t)
		step := (y - f) / dy
		t += step
		if math.Abs(step) < 1e-16 {
			break
		}
	}
	_, dy = p.polynomial(t)
	s, c := math.Sincos(t)
	if !(math.Abs(t) <= math.Pi/3+1e-12) {
		return 0, 0, false
	}
	lat, ok = p.e.LatitudeFromQ(s * 2 / sqrt3 * p.qp)
	return (x - p.fe) * 3 * dy / (p.r * 2 * sqrt3 * c), lat, ok
}

// Domain implements [Projection].
func (p *equalEarth) Domain() Domain { return cutOpen(p.lon0, -math.Pi/2, math.Pi/2) }
