package projection

import (
	"math"

	"github.com/verdex-land/verdex/core/earth/ellipsoid"
	"github.com/verdex-land/verdex/core/portable"
)

// TransverseMercator is the conformal projection of UTM and of most national grids.
var TransverseMercator = &Method{
	Name: "transverse Mercator", Codes: []int{9807, 1111}, Texts: "transversemercator gausskruger transversemercator3d", WKT1: "Transverse_Mercator", GeoKeys: []int{1},
	Params: []Parameter{{Role: Lat0, Code: 8801, WKT1: "latitude_of_origin"}, {Role: Lon0, Code: 8802, WKT1: "central_meridian"},
		{Role: Scale, Code: 8805, WKT1: "scale_factor"}, {Role: East, Code: 8806}, {Role: North, Code: 8807}},
	New: newTransverseMercator,
}

// TransverseMercatorSouth is the same with coordinates that count to the west and to the south.
var TransverseMercatorSouth = &Method{
	Name: "transverse Mercator, south orientated", Codes: []int{9808}, Texts: "transversemercatorsouthorientated", GeoKeys: []int{27},
	Params: []Parameter{{Role: Lat0, Code: 8801}, {Role: Lon0, Code: 8802}, {Role: Scale, Code: 8805}, {Role: East, Code: 8806}, {Role: North, Code: 8807}},
	New:    newTransverseMercatorSouth,
}

// transverseMercator is the Krüger series in the third flattening n to order 8, with Karney's
// treatment of the latitudes: C. F. F. Karney, Transverse mercator with an accuracy of a few
// nanometers, J. Geodesy 85 (2011), eq. 7-36; coefficients as extended to n⁸ there.
//
// It is accurate to rounding (a nanometre or two) in a UTM zone and to well under a micrometre
// 20° from the central meridian. Beyond 50° Forward and Inverse report false.
type transverseMercator struct {
	e                      ellipsoid.Ellipsoid
	lon0, k0, fe, fn       float64
	ecc, scale, meridional float64 // scale is k0·A, meridional the northing of the origin
	alpha, beta            [9]float64
}

const tmercLimit = 50 * degree

func newTransverseMercator(e ellipsoid.Ellipsoid, params Params) (Projection, error) {
	return krugerSeries(e, params), nil
}

// krugerSeries has its scale on the central meridian, and the false northing at the latitude of the origin.
func krugerSeries(e ellipsoid.Ellipsoid, params Params) *transverseMercator {
	lon0, lat0, fe, fn := params.origin()
	k0 := params.factor(Scale)
	n := e.F / (2 - e.F)
	p := &transverseMercator{e: e, lon0: lon0, k0: k0, fe: fe, fn: fn, ecc: math.Sqrt(e.E2())}
	n2 := n * n
	p.scale = k0 * e.A / (1 + n) * (1 + n2*(1./4+n2*(1./64+n2*(1./256+n2*25/16384))))
	powers := [9]float64{1}
	for i := 1; i < 9; i++ {
		powers[i] = powers[i-1] * n
	}
	for j := 1; j <= 8; j++ {
		for i, c := range krugerAlpha[j-1] {
			p.alpha[j] += c * powers[j+i]
		}
		for i, c := range krugerBeta[j-1] {
			p.beta[j] += c * powers[j+i]
		}
	}
	_, p.meridional, _ = p.Forward(lon0, lat0)
	p.meridional -= fn
	return p
}

// newTransverseMercatorSouth counts to the west and to the south.
func newTransverseMercatorSouth(e ellipsoid.Ellipsoid, params Params) (Projection, error) {
	inner := Params{Lon0: params[Lon0], Lat0: params[Lat0], Scale: params.factor(Scale)}
	return reversed{krugerSeries(e, inner), params[East], params[North]}, nil
}

// krugerAlpha[j-1] holds the coefficients of n^j, n^(j+1), … n⁸ in α_j.
var krugerAlpha = [8][]float64{
	{1. / 2, -2. / 3, 5. / 16, 41. / 180, -127. / 288, 7891. / 37800, 72161. / 387072, -18975107. / 50803200},
	{13. / 48, -3. / 5, 557. / 1440, 281. / 630, -1983433. / 1935360, 13769. / 28800, 148003883. / 174182400},
	{61. / 240, -103. / 140, 15061. / 26880, 167603. / 181440, -67102379. / 29030400, 79682431. / 79833600},
	{49561. / 161280, -179. / 168, 6601661. / 7257600, 97445. / 49896, -40176129013. / 7664025600},
	{34729. / 80640, -3418889. / 1995840, 14644087. / 9123840, 2605413599. / 622702080},
	{212378941. / 319334400, -30705481. / 10378368, 175214326799. / 58118860800},
	{1522256789. / 1383782400, -16759934899. / 3113510400},
	{1424729850961. / 743921418240},
}

// krugerBeta[j-1] holds the coefficients of n^j, n^(j+1), … n⁸ in β_j.
var krugerBeta = [8][]float64{
	{1. / 2, -2. / 3, 37. / 96, -1. / 360, -81. / 512, 96199. / 604800, -5406467. / 38707200, 7944359. / 67737600},
	{1. / 48, 1. / 15, -437. / 1440, 46. / 105, -1118711. / 3870720, 51841. / 1209600, 24749483. / 348364800},
	{17. / 480, -37. / 840, -209. / 4480, 5569. / 90720, 9261899. / 58060800, -6457463. / 17740800},
	{4397. / 161280, -11. / 504, -830251. / 7257600, 466511. / 2494800, 324154477. / 7664025600},
	{4583. / 161280, -108847. / 3991680, -8005831. / 63866880, 22894433. / 124540416},
	{20648693. / 638668800, -16363163. / 518918400, -2204645983. / 12915302400},
	{219941297. / 5535129600, -497323811. / 12454041600},
	{191773887257. / 3719607091200},
}

// series sums Σ c_j·sin(2jζ) and 1+Σ 2j·c_j·cos(2jζ) for the complex ζ = xi + i·eta.
func series(c *[9]float64, xi, eta float64) (dxi, deta, dre, dim float64) {
	s, co := math.Sincos(2 * xi)
	sh, ch := portable.Sinh(2*eta), portable.Cosh(2*eta)
	// sin(2ζ) and cos(2ζ), then multiples by the angle-addition recurrence.
	s1r, s1i := s*ch, co*sh
	c1r, c1i := co*ch, -s*sh
	sr, si, cr, ci := s1r, s1i, c1r, c1i
	dre = 1
	for j := 1; j <= 8; j++ {
		dxi += c[j] * sr
		deta += c[j] * si
		k := 2 * float64(j) * c[j]
		dre += k * cr
		dim += k * ci
		sr, si, cr, ci = sr*c1r-si*c1i+cr*s1r-ci*s1i, sr*c1i+si*c1r+cr*s1i+ci*s1r,
			cr*c1r-ci*c1i-sr*s1r+si*s1i, cr*c1i+ci*c1r-sr*s1i-si*s1r
	}
	return dxi, deta, dre, dim
}

// Forward implements [Projection].
func (p *transverseMercator) Forward(lon, lat float64) (x, y float64, ok bool) {
	dl := ellipsoid.WrapLongitude(lon - p.lon0)
	if math.Abs(dl) > tmercLimit || math.Abs(lat) > math.Pi/2 {
		return 0, 0, false
	}
	sl, cl := math.Sincos(dl)
	taup := ellipsoid.ConformalTan(math.Tan(lat), p.ecc)
	xi := math.Atan2(taup, cl)
	eta := math.Asinh(sl / math.Hypot(taup, cl))
	dxi, deta, _, _ := series(&p.alpha, xi, eta)
	return p.fe + p.scale*(eta+deta), p.scale*(xi+dxi) - p.meridional, true
}

// Inverse implements [Projection].
func (p *transverseMercator) Inverse(x, y float64) (lon, lat float64, ok bool) {
	xi, eta := (y+p.meridional)/p.scale, (x-p.fe)/p.scale
	if !(math.Abs(eta) < 1.2) || !(math.Abs(xi) <= math.Pi/2+1e-9) {
		return 0, 0, false
	}
	dxi, deta, _, _ := series(&p.beta, xi, eta)
	xi, eta = xi-dxi, eta-deta
	s, c := portable.Sinh(eta), math.Max(0, math.Cos(xi))
	dl := math.Atan2(s, c)
	if math.Abs(dl) > tmercLimit {
		return 0, 0, false
	}
	taup := math.Sin(xi) / math.Hypot(s, c)
	return ellipsoid.WrapLongitude(p.lon0 + dl), math.Atan(ellipsoid.GeographicTan(taup, p.ecc)), true
}

// ArealScale implements [Projection]: the square of the point scale (Karney 2011, eq. 23-26).
func (p *transverseMercator) ArealScale(lon, lat float64) float64 {
	dl := ellipsoid.WrapLongitude(lon - p.lon0)
	sl, cl := math.Sincos(dl)
	tau := math.Tan(lat)
	taup := ellipsoid.ConformalTan(tau, p.ecc)
	h := math.Hypot(taup, cl)
	xi, eta := math.Atan2(taup, cl), math.Asinh(sl/h)
	_, _, dre, dim := series(&p.alpha, xi, eta)
	// k = (scale/a)·|1+Σ…|·sqrt(1-e²+(1-e²)… ) with the spherical part after eq. 24.
	e2 := p.e.E2()
	sin := math.Sin(lat)
	k := p.scale / p.e.A * math.Hypot(dre, dim) * math.Sqrt(1-e2*sin*sin) * math.Hypot(1, tau) / h
	return k * k
}

// Traits implements [Projection].
func (p *transverseMercator) Traits() Traits {
	return Traits{Method: "transverse Mercator", Conformal: true}
}

// Domain implements [Projection].
func (p *transverseMercator) Domain() Domain {
	const most = tmercLimit - 1e-9
	return Domain{Boxes: []Box{{p.lon0 - most, -math.Pi / 2, p.lon0 + most, math.Pi / 2}}}
}

// reversed counts to the west and to the south (EPSG method 9808).
type reversed struct {
	Projection
	fe, fn float64
}

// Forward implements [Projection].
func (p reversed) Forward(lon, lat float64) (x, y float64, ok bool) {
	x, y, ok = p.Projection.Forward(lon, lat)
	return p.fe - x, p.fn - y, ok
}

// Inverse implements [Projection].
func (p reversed) Inverse(x, y float64) (lon, lat float64, ok bool) {
	return p.Projection.Inverse(p.fe-x, p.fn-y)
}
