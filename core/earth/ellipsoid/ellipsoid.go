// Package ellipsoid is the figure of the Earth: an ellipsoid of revolution, with the areas between its parallels in closed
// form, the latitudes that projections need, and geodesics.
//
// Angles are in radians, lengths in metres, areas in square metres. An [Ellipsoid] is a value without state.
package ellipsoid

import (
	"fmt"
	"math"

	"github.com/verdex-land/verdex/core/portable"
)

// An Ellipsoid is an oblate ellipsoid of revolution, or a sphere when F is 0.
type Ellipsoid struct {
	Name string
	A    float64 // semi-major axis, metres
	F    float64 // flattening, (a-b)/a
}

// The ellipsoids of the datums that Verdex knows by name.
var (
	WGS84      = Ellipsoid{"WGS 84", 6378137, 1 / 298.257223563}
	GRS80      = Ellipsoid{"GRS 1980", 6378137, 1 / 298.257222101}
	Clarke1866 = Ellipsoid{"Clarke 1866", 6378206.4, 1 - 6356583.8/6378206.4}
)

// B is the semi-minor axis in metres.
func (e Ellipsoid) B() float64 { return e.A * (1 - e.F) }

// E2 is the first eccentricity squared.
func (e Ellipsoid) E2() float64 { return e.F * (2 - e.F) }

// Area is the area of the whole ellipsoid in square metres.
func (e Ellipsoid) Area() float64 { return e.ZoneArea(-math.Pi/2, math.Pi/2, 2*math.Pi) }

// atanhRatio is atanh(e·x)/e, which is x on the sphere.
func atanhRatio(ecc, x float64) float64 {
	if ecc == 0 {
		return x
	}
	return math.Atanh(ecc*x) / ecc
}

// AuthalicQ is Snyder's q (1987, eq. 3-12): the area between the equator and the parallel of
// sine s is A²·q/2 for each radian of longitude.
func (e Ellipsoid) AuthalicQ(s float64) float64 {
	e2 := e.E2()
	return (1 - e2) * (s/(1-e2*s*s) + atanhRatio(math.Sqrt(e2), s))
}

// ZoneArea is the area in m² between the parallels lat1 and lat2 over dlon radians of
// longitude, positive when lat2 is north of lat1. All angles in radians.
//
// It is the closed form A²·(q₂-q₁)·dlon/2 with q of Snyder, Map Projections: A Working Manual
// (1987), eq. 3-12, the difference taken before evaluation so that it keeps full relative
// precision for cells of a millimetre as well as for hemispheres.
func (e Ellipsoid) ZoneArea(lat1, lat2, dlon float64) float64 {
	s1, s2 := math.Sin(lat1), math.Sin(lat2)
	ds := 2 * math.Cos((lat1+lat2)/2) * math.Sin((lat2-lat1)/2)
	return e.A * e.A * e.qDifference(s1, s2, ds) * dlon / 2
}

// BandArea is ZoneArea of the band of height dlat around the parallel mid: it keeps full
// precision when the height is known better than the difference of its two edges.
func (e Ellipsoid) BandArea(mid, dlat, dlon float64) float64 {
	s1, s2 := math.Sin(mid-dlat/2), math.Sin(mid+dlat/2)
	ds := 2 * math.Cos(mid) * math.Sin(dlat/2)
	return e.A * e.A * e.qDifference(s1, s2, ds) * dlon / 2
}

// qDifference is q(s2)-q(s1), where ds is s2-s1 computed without cancellation.
func (e Ellipsoid) qDifference(s1, s2, ds float64) float64 {
	e2 := e.E2()
	ecc := math.Sqrt(e2)
	d1, d2 := 1-e2*s1*s1, 1-e2*s2*s2
	rational := ds * (1 + e2*s1*s2) / (d1 * d2)
	// atanh u - atanh v = atanh((u-v)/(1-uv))
	logarithmic := atanhRatio(ecc, ds/(1-e2*s1*s2))
	return (1 - e2) * (rational + logarithmic)
}

// Radii are the radii of curvature in the meridian and in the prime vertical at latitude phi.
func (e Ellipsoid) Radii(phi float64) (meridian, vertical float64) {
	e2 := e.E2()
	s := math.Sin(phi)
	w := 1 - e2*s*s
	vertical = e.A / math.Sqrt(w)
	return vertical * (1 - e2) / w, vertical
}

// GroundSpacing is the length in metres on the ground of one radian along the parallel and of one radian along the meridian at
// latitude phi.
func (e Ellipsoid) GroundSpacing(phi float64) (eastward, northward float64) {
	m, n := e.Radii(phi)
	return n * math.Cos(phi), m
}

// LatitudeFromQ inverts authalicQ by Newton's iteration from the authalic latitude (Snyder
// 1987, eq. 3-16). It reports false when q lies beyond the pole by more than rounding.
func (e Ellipsoid) LatitudeFromQ(q float64) (float64, bool) {
	qp := e.AuthalicQ(1)
	r := q / qp
	if !(math.Abs(r) <= 1+1e-12) {
		return 0, false
	}
	if math.Abs(r) >= 1 {
		return math.Copysign(math.Pi/2, q), true
	}
	e2 := e.E2()
	phi := math.Asin(r)
	for range 12 {
		s, c := math.Sincos(phi)
		if c < 1e-9 {
			break
		}
		w := 1 - e2*s*s
		step := (q - e.AuthalicQ(s)) * w * w / (2 * (1 - e2) * c)
		phi += step
		if math.Abs(step) < 1e-16 {
			break
		}
	}
	return math.Max(-math.Pi/2, math.Min(math.Pi/2, phi)), true
}

// ConformalTan is tan χ of the conformal latitude for τ = tan φ (Karney 2011, eq. 7-9).
func ConformalTan(tau, ecc float64) float64 {
	if math.IsInf(tau, 0) {
		return tau
	}
	tau1 := math.Hypot(1, tau)
	sig := portable.Sinh(ecc * math.Atanh(ecc*tau/tau1))
	return math.Hypot(1, sig)*tau - sig*tau1
}

// GeographicTan inverts ConformalTan by Newton's iteration (Karney 2011, eq. 19-21).
func GeographicTan(taup, ecc float64) float64 {
	e2m := 1 - ecc*ecc
	tau := taup / e2m
	if math.Abs(taup) > 70 {
		tau = taup * portable.Exp(ecc*math.Atanh(ecc))
	}
	if math.IsInf(tau, 0) || math.IsNaN(tau) {
		return tau
	}
	stop := 1e-17 * math.Max(1, math.Abs(taup))
	for range 8 {
		got := ConformalTan(tau, ecc)
		step := (taup - got) * (1 + e2m*tau*tau) / (e2m * math.Hypot(1, tau) * math.Hypot(1, got))
		tau += step
		if !(math.Abs(step) >= stop) {
			break
		}
	}
	return tau
}

// WrapLongitude brings an angle in radians into [-π, π].
func WrapLongitude(lon float64) float64 {
	if lon >= -math.Pi && lon <= math.Pi {
		return lon
	}
	return math.Remainder(lon, 2*math.Pi)
}

// AreaFromParallel is the area in m² between the parallels ref and lat for a radian of longitude.
func (e Ellipsoid) AreaFromParallel(ref, sinRef, lat float64) float64 {
	ds := 2 * math.Cos((lat+ref)/2) * math.Sin((lat-ref)/2)
	return e.A * e.A * e.qDifference(sinRef, sinRef+ds, ds) / 2
}

// Near reports whether two ellipsoids are the same but for rounding.
func (e Ellipsoid) Near(o Ellipsoid) bool {
	return math.Abs(e.A-o.A) < 0.01 && math.Abs(e.F-o.F) < 1e-8
}

// Check refuses an ellipsoid that the Earth cannot have.
func (e Ellipsoid) Check() error {
	if !(e.A > 1e6 && e.A < 1e8) || !(e.F >= 0 && e.F < 0.1) {
		return fmt.Errorf("its ellipsoid has a semi-major axis of %g m and a flattening of %g", e.A, e.F)
	}
	return nil
}

// Isometric is the isometric latitude ψ; tan(π/4-φ/2)·((1+e·sin φ)/(1-e·sin φ))^(e/2), the t of
// Snyder (1987, eq. 15-9), is exp(-ψ).
func (e Ellipsoid) Isometric(lat float64) float64 {
	return math.Asinh(ConformalTan(math.Tan(lat), math.Sqrt(e.E2())))
}

// FromIsometric inverts isometric.
func (e Ellipsoid) FromIsometric(psi float64) float64 {
	if psi > 700 {
		return math.Pi / 2
	}
	if psi < -700 {
		return -math.Pi / 2
	}
	return math.Atan(GeographicTan(portable.Sinh(psi), math.Sqrt(e.E2())))
}

// ParallelRadius is ν·cos φ/a, the radius of a parallel in units of the semi-major axis (Snyder's m).
func (e Ellipsoid) ParallelRadius(lat float64) float64 {
	s, c := math.Sincos(lat)
	return c / math.Sqrt(1-e.E2()*s*s)
}
