package projection

import (
	"math"

	"github.com/verdex-land/verdex/core/earth/ellipsoid"
)

// meridian gives lengths along a meridian and back, by the rectifying series of the transverse Mercator.
type meridian struct{ tm *transverseMercator }

func newMeridian(e ellipsoid.Ellipsoid) meridian {
	return meridian{krugerSeries(e, nil)}
}

// length is the distance in metres from the equator to a latitude in radians.
func (m meridian) length(lat float64) float64 {
	_, y, _ := m.tm.Forward(0, lat)
	return y
}

func (m meridian) latitude(length float64) (float64, bool) {
	_, lat, ok := m.tm.Inverse(0, length)
	return lat, ok
}

// ArealByDifference is the areal scale at a longitude and latitude in radians, from fourth-order central differences of Forward over 0.001
// radians, for projections without a closed form of it. The differences are right to a few parts in 10¹².
func ArealByDifference(p Projection, e ellipsoid.Ellipsoid, lon, lat float64) float64 {
	const h = 1e-3
	along := func(dlon, dlat float64) (dx, dy float64) {
		for _, k := range [4][2]float64{{1, 8}, {-1, -8}, {2, -1}, {-2, 1}} {
			x, y, _ := p.Forward(lon+k[0]*dlon, lat+k[0]*dlat)
			dx += k[1] * x
			dy += k[1] * y
		}
		return dx / (12 * h), dy / (12 * h)
	}
	xl, yl := along(h, 0)
	xf, yf := along(0, h)
	m, n := e.Radii(lat)
	return math.Abs(xl*yf-xf*yl) / (m * n * math.Cos(lat))
}

// newtonInverse finds the point whose image is x, y from a first guess, by Newton's iteration with
// numeric derivatives.
func newtonInverse(p Projection, x, y, lon, lat float64) (float64, float64, bool) {
	const h = 1e-6
	for range 30 {
		fx, fy, ok := p.Forward(lon, lat)
		ax, ay, ok1 := p.Forward(lon, lat+h)
		bx, by, ok2 := p.Forward(lon+h, lat)
		if !ok || !ok1 || !ok2 {
			return 0, 0, false
		}
		a, b, c, d := (ax-fx)/h, (bx-fx)/h, (ay-fy)/h, (by-fy)/h
		det := a*d - b*c
		if det == 0 || math.IsNaN(det) {
			return 0, 0, false
		}
		rx, ry := x-fx, y-fy
		dlat, dlon := (rx*d-b*ry)/det, (a*ry-c*rx)/det
		lat, lon = lat+dlat, lon+dlon
		if math.Abs(lat) > 1.6 || math.Abs(dlon) > 7 {
			return 0, 0, false
		}
		if math.Abs(dlat)+math.Abs(dlon) < 1e-15 {
			break
		}
		if math.Abs(rx)+math.Abs(ry) < 1e-9 {
			break
		}
	}
	fx, fy, ok := p.Forward(lon, lat)
	return lon, lat, ok && math.Abs(fx-x)+math.Abs(fy-y) < 1e-6
}

// within is Inverse for maps of straight parallels.
func within(p Parallels, lon0, x, y float64) (lon, lat float64, ok bool) {
	dlon, lat, ok := p.Unbounded(x, y)
	return lon0 + dlon, lat, ok && math.Abs(dlon) <= math.Pi+1e-9
}
