package earth

import "math"

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
func aroundAntipode(lat0, lon0, half float64) Domain {
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
func about(lat, lon, north, east float64) Domain {
	const most = 89 * degree
	return Domain{Boxes: []Box{{lon - east, math.Max(-most, lat-north), lon + east, math.Min(most, lat+north)}}}
}

// Domain is the ground that the CRS maps: all of it for a geographic CRS.
func (c *CRS) Domain() Domain {
	if c.Projection == nil {
		return Domain{Boxes: []Box{fullTurn(0, -math.Pi/2, math.Pi/2)}, Round: true}
	}
	d := c.domain
	if d == nil {
		own := c.Projection.Domain()
		d = &own
	}
	if c.Meridian != 0 {
		boxes := make([]Box, len(d.Boxes))
		for i, b := range d.Boxes {
			boxes[i] = Box{b.West + c.Meridian, b.South, b.East + c.Meridian, b.North}
		}
		out := Domain{Boxes: boxes, Round: d.Round, Onward: d.Onward}
		if h := d.Hole; h != nil {
			out.Hole = &Box{h.West + c.Meridian, h.South, h.East + c.Meridian, h.North}
		}
		return out
	}
	return *d
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
			dl = wrapLongitude(dl)
		}
		if math.Abs(dl) <= (b.East-b.West)/2+near {
			return true
		}
	}
	return false
}

// OnEarth reports whether a point in CRS coordinates is a place on the Earth, and the one point of the map that is
// this place.
func (c *CRS) OnEarth(x, y float64) bool {
	lon, lat, ok := c.ToGeographic(x, y)
	if !ok {
		return false
	}
	d := c.Domain()
	return d.Round || d.Holds(lon, lat)
}

// Domain implements [Projection].
func (p *LambertAzimuthalEqualArea) Domain() Domain {
	if p.polar != 0 {
		return Domain{Boxes: []Box{fullTurn(p.lon0, -math.Pi/2, math.Pi/2)}, Round: true}
	}
	return aroundAntipode(p.lat0, p.lon0, 2e-4) // Forward gives up 1e-4 from it
}

// Domain implements [Projection].
func (p *Albers) Domain() Domain { return cutOpen(p.lon0, -math.Pi/2, math.Pi/2) }

// Domain implements [Projection].
func (p *CylindricalEqualArea) Domain() Domain { return cylinder(p.lon0, -math.Pi/2, math.Pi/2) }

// mercatorLimit is the latitude to which Mercators reach.
const mercatorLimit = 89.99*degree - 1e-12

// Domain implements [Projection].
func (p *Mercator) Domain() Domain { return cylinder(p.lon0, -mercatorLimit, mercatorLimit) }

// Domain implements [Projection].
func (p *PseudoMercator) Domain() Domain { return cylinder(p.lon0, -mercatorLimit, mercatorLimit) }

// Domain implements [Projection].
func (p *TransverseMercator) Domain() Domain {
	const most = tmercLimit - 1e-9
	return Domain{Boxes: []Box{{p.lon0 - most, -math.Pi / 2, p.lon0 + most, math.Pi / 2}}}
}

// Domain implements [Projection]: the Earth but for the end of the cone that runs to infinity.
func (p *LambertConformal) Domain() Domain {
	const farthest = 5e8 // metres from the apex
	limit := p.e.fromIsometric(-math.Log(farthest/math.Abs(p.scale)) / p.n)
	if p.n > 0 {
		return cutOpen(p.lon0, math.Max(limit, -math.Pi/2), math.Pi/2)
	}
	return cutOpen(p.lon0, -math.Pi/2, math.Min(limit, math.Pi/2))
}

// Domain implements [Projection].
func (p *PolarStereographic) Domain() Domain {
	b := fullTurn(p.lon0, -88.9*degree, math.Pi/2)
	if p.pole < 0 {
		b.South, b.North = -math.Pi/2, 88.9*degree
	}
	return Domain{Boxes: []Box{b}, Round: true}
}

// Domain implements [Projection].
func (p *ObliqueStereographic) Domain() Domain { return aroundAntipode(p.chi0, p.lon0, 4*degree) }

// Domain implements [Projection]: the surroundings of the centre, in which the initial line has no seam.
func (p *ObliqueMercator) Domain() Domain { return about(p.lat, p.lon, 60*degree, 45*degree) }

// Domain implements [Projection]: what lies south of the axis of the cone.
func (p *Krovak) Domain() Domain {
	return Domain{Boxes: []Box{{p.lon0 - 60*degree, -20 * degree, p.lon0 + 60*degree, math.Asin(p.cosCone) - degree}}}
}

// Domain implements [Projection].
func (p *Sinusoidal) Domain() Domain { return cutOpen(p.lon0, -math.Pi/2, math.Pi/2) }

// Domain implements [Projection].
func (p *EqualEarth) Domain() Domain { return cutOpen(p.lon0, -math.Pi/2, math.Pi/2) }

// Domain implements [Projection].
func (p *Mollweide) Domain() Domain { return cutOpen(p.lon0, -math.Pi/2, math.Pi/2) }

// Domain implements [Projection].
func (p *CassiniSoldner) Domain() Domain { return about(0, p.lon0, 88.8*degree, 19.99*degree) }

// Domain implements [Projection].
func (p *Polyconic) Domain() Domain { return about(0, p.lon0, 88.8*degree, 60*degree) }

// Domain implements [Projection].
func (p *EquidistantCylindrical) Domain() Domain { return cylinder(p.lon0, -math.Pi/2, math.Pi/2) }

// Domain implements [Projection].
func (p *ColombiaUrban) Domain() Domain { return about(p.lat0, p.lon0, 4.9*degree, 4.9*degree) }

// Domain implements [Projection]: that of the coordinates' own CRS, for they are no grid's.
func (p shifted) Domain() Domain { return p.inner.Domain() }
