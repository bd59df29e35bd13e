package projection

import (
	"math"

	"github.com/verdex-land/verdex/core/earth/ellipsoid"
)

// Mollweide is an equal-area projection of the sphere. EPSG has no code for it.
var Mollweide = &Method{
	Name: "Mollweide", Texts: "mollweide", WKT1: "Mollweide",
	Params: []Parameter{{Role: Lon0, WKT1: "central_meridian"}, {Role: East}, {Role: North}},
	New:    newMollweide,
}

// mollweide is the spherical projection (Snyder 1987, p. 251) on the semi-major axis, fed with the
// ellipsoid's latitudes as is the custom; on an ellipsoid its areas are therefore not quite true.
type mollweide struct {
	e            ellipsoid.Ellipsoid
	lon0, fe, fn float64
}

func newMollweide(e ellipsoid.Ellipsoid, params Params) (Projection, error) {
	lon0, _, fe, fn := params.origin()
	return &mollweide{e, lon0, fe, fn}, nil
}

// Forward implements [Projection].
func (p *mollweide) Forward(lon, lat float64) (x, y float64, ok bool) {
	// 2θ + sin 2θ = π·sin φ, by Newton's iteration on θ from a guess that holds near the poles too.
	target := math.Pi * math.Sin(lat)
	t := lat
	if d := math.Pi/2 - math.Abs(lat); d < 0.3 {
		t = math.Copysign(math.Pi/2-math.Cbrt(3*math.Pi/8*d*d), lat)
	}
	for range 50 {
		s, c := math.Sincos(t)
		d := 4 * c * c
		if d < 1e-14 {
			break
		}
		step := (2*t + 2*s*c - target) / d
		t -= step
		if math.Abs(step) < 1e-16 {
			break
		}
	}
	s, c := math.Sincos(t)
	r := p.e.A
	return p.fe + 2*math.Sqrt2/math.Pi*r*ellipsoid.WrapLongitude(lon-p.lon0)*c, p.fn + math.Sqrt2*r*s, math.Abs(lat) <= math.Pi/2
}

// Inverse implements [Projection].
func (p *mollweide) Inverse(x, y float64) (lon, lat float64, ok bool) { return within(p, p.lon0, x, y) }

// ArealScale implements [Projection]: true on the sphere, so that it is the sphere's area element over
// the ellipsoid's.
func (p *mollweide) ArealScale(_, lat float64) float64 {
	m, n := p.e.Radii(lat)
	return p.e.A * p.e.A / (m * n)
}

// Traits implements [Projection].
func (p *mollweide) Traits() Traits {
	return Traits{Method: "Mollweide", EqualArea: p.e.F == 0, ByRow: true}
}

// Unbounded implements [Parallels].
func (p *mollweide) Unbounded(x, y float64) (dlon, lat float64, ok bool) {
	r := p.e.A
	s := (y - p.fn) / (math.Sqrt2 * r)
	if !(math.Abs(s) <= 1+1e-12) {
		return 0, 0, false
	}
	t := math.Asin(math.Max(-1, math.Min(1, s)))
	lat = math.Asin(math.Max(-1, math.Min(1, (2*t+math.Sin(2*t))/math.Pi)))
	c := math.Cos(t)
	if c < 1e-9 {
		return x - p.fe, lat, true
	}
	return math.Pi * (x - p.fe) / (2 * math.Sqrt2 * r * c), lat, true
}

// Domain implements [Projection].
func (p *mollweide) Domain() Domain { return cutOpen(p.lon0, -math.Pi/2, math.Pi/2) }
