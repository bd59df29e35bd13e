package projection

import (
	"math"

	"github.com/verdex-land/verdex/core/earth/ellipsoid"
	"github.com/verdex-land/verdex/core/portable"
)

// Krovak is the oblique conic with x to the south and y to the west.
var Krovak = &Method{Name: "Krovak", Codes: []int{9819}, Params: krovakParams, New: newKrovak}

// KrovakNorth is the oblique conic with x to the east and y to the north.
var KrovakNorth = &Method{Name: "Krovak, north orientated", Codes: []int{1041}, Texts: "krovak krovaknorthorientated", Params: krovakParams, New: newKrovakNorth}

var krovakParams = []Parameter{{Role: Lat0, Code: 8811}, {Role: Lon0, Code: 8833}, {Role: Azimuth, Code: 1036}, {Role: Pseudo, Code: 8818},
	{Role: Scale, Code: 8819}, {Role: East, Code: 8806}, {Role: North, Code: 8807}}

// krovak is the oblique conformal conic of Czechia and Slovakia: EPSG methods 9819 and 1041, EPSG
// Guidance Note 7-2.
type krovak struct {
	e                ellipsoid.Ellipsoid
	lon0, fe, fn     float64
	b, t0, n, scale  float64 // radius is scale/tan(T/2+π/4)^n
	sinCone, cosCone float64
	north            bool
}

func newKrovak(e ellipsoid.Ellipsoid, params Params) (Projection, error) {
	return cone(e, params, false), nil
}

func newKrovakNorth(e ellipsoid.Ellipsoid, params Params) (Projection, error) {
	return cone(e, params, true), nil
}

// cone has its centre on a parallel, the co-latitude of the axis as its azimuth, and its scale on the pseudo standard
// parallel.
func cone(e ellipsoid.Ellipsoid, params Params, north bool) *krovak {
	lon0, lat, fe, fn := params.origin()
	parallel := params.radians(Pseudo)
	e2 := e.E2()
	s, c := math.Sincos(lat)
	p := &krovak{e: e, lon0: lon0, fe: fe, fn: fn, north: north, n: math.Sin(parallel)}
	a := e.A * math.Sqrt(1-e2) / (1 - e2*s*s)
	p.b = math.Sqrt(1 + e2*c*c*c*c/(1-e2))
	gamma := math.Asin(s / p.b)
	p.t0 = math.Asinh(math.Tan(gamma)) - p.b*e.Isometric(lat) // its logarithm
	p.scale = params.factor(Scale) * a / math.Tan(parallel) * portable.Pow(math.Tan(parallel/2+math.Pi/4), p.n)
	p.sinCone, p.cosCone = math.Sincos(params.radians(Azimuth))
	return p
}

// onCone is a place on the sphere, by the cosine of its latitude u, and on the cone, by its latitude t from the cone's parallels, its angle d and its distance r from the apex.
func (p *krovak) onCone(lon, lat float64) (cu, t, d, r float64) {
	u := math.Atan(portable.Sinh(p.t0 + p.b*p.e.Isometric(lat)))
	su, cu := math.Sincos(u)
	sv, cv := math.Sincos(p.b * ellipsoid.WrapLongitude(p.lon0-lon))
	t = math.Asin(math.Max(-1, math.Min(1, p.cosCone*su+p.sinCone*cu*cv)))
	d = math.Atan2(cu*sv, p.cosCone*cu*cv-p.sinCone*su)
	return cu, t, d, p.scale / portable.Pow(math.Tan(t/2+math.Pi/4), p.n)
}

// Forward implements [Projection].
func (p *krovak) Forward(lon, lat float64) (x, y float64, ok bool) {
	_, _, d, r := p.onCone(lon, lat)
	s, c := math.Sincos(p.n * d)
	west, south := r*s+p.fe, r*c+p.fn
	ok = math.Abs(lat) < math.Pi/2 && r < 1e8
	if p.north {
		return -west, -south, ok
	}
	return west, south, ok
}

// Inverse implements [Projection].
func (p *krovak) Inverse(x, y float64) (lon, lat float64, ok bool) {
	if p.north {
		x, y = -x, -y
	}
	x, y = x-p.fe, y-p.fn
	r := math.Hypot(x, y)
	if r == 0 {
		return 0, 0, false
	}
	d := math.Atan2(x, y) / p.n
	t := 2 * (math.Atan(portable.Pow(p.scale/r, 1/p.n)) - math.Pi/4)
	st, ct := math.Sincos(t)
	sd, cd := math.Sincos(d)
	u := math.Asin(math.Max(-1, math.Min(1, p.cosCone*st-p.sinCone*ct*cd)))
	v := math.Atan2(ct*sd, p.sinCone*st+p.cosCone*ct*cd)
	psi := (math.Asinh(math.Tan(u)) - p.t0) / p.b
	return ellipsoid.WrapLongitude(p.lon0 - v/p.b), p.e.FromIsometric(psi), math.Abs(d) < math.Pi
}

// ArealScale implements [Projection].
func (p *krovak) ArealScale(lon, lat float64) float64 {
	cu, t, _, r := p.onCone(lon, lat)
	k := p.b * cu / (p.e.A * p.e.ParallelRadius(lat)) * p.n * r / math.Cos(t) // ellipsoid to sphere, and sphere to cone, both conformal
	return k * k
}

// Traits implements [Projection].
func (p *krovak) Traits() Traits { return Traits{Method: "Krovak", Conformal: true} }

// Domain implements [Projection]: what lies south of the axis of the cone.
func (p *krovak) Domain() Domain {
	return Domain{Boxes: []Box{{p.lon0 - 60*degree, -20 * degree, p.lon0 + 60*degree, math.Asin(p.cosCone) - degree}}}
}
