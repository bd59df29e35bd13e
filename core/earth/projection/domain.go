package projection

import (
	"math"

	"github.com/verdex-land/verdex/core/earth/ellipsoid"
)

// Box is a rectangle of longitudes and latitudes, in radians.
type Box struct{ West, South, East, North float64 }

// Domain is the ground that a CRS maps to the plane one to one.
type Domain struct {
	// Boxes tile the ground; within each of them the mapping has no seam. Longitudes count from Greenwich.
	Boxes []Box
	// Round says that the mapping has no seam anywhere, so that longitudes need not be brought into a box.
	Round bool
	// Onward says that coordinates beyond the seam are those of the same ground again: longitudes go on beyond the box.
	Onward bool
	// Hole, where not nil, is what the boxes leave out around the point opposite to the centre of the map: its border is the rim.
	Hole *Box
}

// seam keeps boxes off the meridian at which a map is cut open, where rounding decides on which side of the map a
// point falls: 1e-12 radians are 6 micrometres.
const seam = 1e-12

// fullTurn is the box of all longitudes around lon0 between two parallels.
func fullTurn(lon0, south, north float64) Box {
	return Box{lon0 - math.Pi + seam, south, lon0 + math.Pi - seam, north}
}

// Whole is the domain of a map without a seam: all of the Earth, with longitudes around lon0.
func Whole(lon0 float64) Domain {
	return Domain{Boxes: []Box{fullTurn(lon0, -math.Pi/2, math.Pi/2)}, Round: true}
}

// East is the domain with longitudes that count from a meridian by so much (radians) to the west.
func (d Domain) East(by float64) Domain {
	out := Domain{Round: d.Round, Onward: d.Onward}
	for _, b := range d.Boxes {
		out.Boxes = append(out.Boxes, Box{b.West + by, b.South, b.East + by, b.North})
	}
	if h := d.Hole; h != nil {
		out.Hole = &Box{h.West + by, h.South, h.East + by, h.North}
	}
	return out
}

// cutOpen is the domain of a projection that is cut open along the meridian opposite to lon0.
func cutOpen(lon0, south, north float64) Domain {
	return Domain{Boxes: []Box{fullTurn(lon0, south, north)}}
}

// cylinder is the same where the map goes on in x without end.
func cylinder(lon0, south, north float64) Domain {
	return Domain{Boxes: []Box{fullTurn(lon0, south, north)}, Onward: true}
}

// aroundAntipode is the domain of an azimuthal projection centred on lat0, lon0: the Earth less a small quadrangle,
// of half the given size, around the point opposite to the centre.
func aroundAntipode(lon0, lat0, half float64) Domain {
	w, e := lon0-math.Pi+seam, lon0+math.Pi-seam
	wide := math.Min(half/math.Max(math.Cos(lat0), 1e-3), math.Pi/2)
	d := Domain{Boxes: []Box{{w + wide, -math.Pi / 2, e - wide, math.Pi / 2}},
		Hole: &Box{lon0 + math.Pi - wide, math.Max(-lat0-half, -math.Pi/2), lon0 + math.Pi + wide, math.Min(-lat0+half, math.Pi/2)}}
	for _, side := range [2][2]float64{{w, w + wide}, {e - wide, e}} {
		if d.Hole.South > -math.Pi/2 {
			d.Boxes = append(d.Boxes, Box{side[0], -math.Pi / 2, side[1], d.Hole.South})
		}
		if d.Hole.North < math.Pi/2 {
			d.Boxes = append(d.Boxes, Box{side[0], d.Hole.North, side[1], math.Pi / 2})
		}
	}
	return d
}

// about is the box within some angles of a place, away from the poles.
func about(lon, lat, east, north float64) Domain {
	const most = 89 * degree
	return Domain{Boxes: []Box{{lon - east, math.Max(-most, lat-north), lon + east, math.Min(most, lat+north)}}}
}

// Holds reports whether a longitude and latitude lie in the domain, give or take a hundredth of a metre.
func (d Domain) Holds(lon, lat float64) bool {
	const near = 2e-9
	for _, b := range d.Boxes {
		if lat < b.South-near || lat > b.North+near {
			continue
		}
		if d.Round {
			return true
		}
		mid := (b.West + b.East) / 2
		dl := lon - mid
		if !d.Onward {
			dl = ellipsoid.WrapLongitude(dl)
		}
		if math.Abs(dl) <= (b.East-b.West)/2+near {
			return true
		}
	}
	return false
}
