package earth

import "github.com/verdex-land/verdex/core/earth/projection"

// Domain is the ground that the CRS maps: all of it for a geographic CRS.
func (c *CRS) Domain() projection.Domain {
	switch {
	case c.Projection == nil:
		return projection.Whole(0)
	case c.domain != nil && c.Meridian == 0:
		return *c.domain
	case c.domain != nil:
		return c.domain.East(c.Meridian)
	}
	return c.Projection.Domain().East(c.Meridian)
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

// Domain implements [projection.Projection]: that of the coordinates' own CRS, for they are not a grid's.
func (p shifted) Domain() projection.Domain { return p.inner.Domain() }
