package projection

import (
	"math"

	"github.com/verdex-land/verdex/core/earth/ellipsoid"
)

// ColombiaUrban has a plane at a height above the ellipsoid.
var ColombiaUrban = &Method{
	Name: "Colombia Urban", Codes: []int{1052}, Texts: "colombiaurban",
	Params: []Parameter{{Role: Lat0, Code: 8801}, {Role: Lon0, Code: 8802}, {Role: OriginHeight, Code: 1039}, {Role: East, Code: 8806}, {Role: North, Code: 8807}},
	New:    newColombiaUrban,
}

// colombiaUrban is EPSG method 1052, EPSG Guidance Note 7-2.
type colombiaUrban struct {
	e                          ellipsoid.Ellipsoid
	lat0, lon0, fe, fn, height float64
}

func newColombiaUrban(e ellipsoid.Ellipsoid, params Params) (Projection, error) {
	lon0, lat0, fe, fn := params.origin()
	return &colombiaUrban{e, lat0, lon0, fe, fn, params[OriginHeight]}, nil
}

// Forward implements [Projection].
func (p *colombiaUrban) Forward(lon, lat float64) (x, y float64, ok bool) {
	m0, n0 := p.e.Radii(p.lat0)
	_, n := p.e.Radii(lat)
	mid, _ := p.e.Radii((lat + p.lat0) / 2)
	across := n * math.Cos(lat) * ellipsoid.WrapLongitude(lon-p.lon0)
	x = (1 + p.height/n0) * across
	y = (1 + p.height/mid) * m0 * (lat - p.lat0 + math.Tan(p.lat0)/(2*m0*n0)*across*across)
	return p.fe + x, p.fn + y, math.Abs(lat-p.lat0) < 5*degree && math.Abs(lon-p.lon0) < 5*degree
}

// Inverse implements [Projection].
func (p *colombiaUrban) Inverse(x, y float64) (lon, lat float64, ok bool) {
	if math.Hypot(x-p.fe, y-p.fn) > 6e5 {
		return 0, 0, false
	}
	m, n := p.e.Radii(p.lat0)
	return newtonInverse(p, x, y, p.lon0+(x-p.fe)/(n*math.Cos(p.lat0)), p.lat0+(y-p.fn)/m)
}

// ArealScale implements [Projection].
func (p *colombiaUrban) ArealScale(lon, lat float64) float64 {
	return ArealByDifference(p, p.e, lon, lat)
}

// Traits implements [Projection].
func (p *colombiaUrban) Traits() Traits { return Traits{Method: "Colombia Urban"} }

// Domain implements [Projection].
func (p *colombiaUrban) Domain() Domain { return about(p.lon0, p.lat0, 4.9*degree, 4.9*degree) }
