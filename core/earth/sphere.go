package earth

import (
	"fmt"

	"github.com/verdex-land/verdex/core/earth/ellipsoid"
	"github.com/verdex-land/verdex/core/earth/projection"
)

// OnGround gives a CRS that is stated on a sphere the areas of the Earth. Grids are computed on spheres, but the
// longitudes and latitudes that go in are those of data on the Earth, which today are those of WGS 84: true ground is
// that between them on its ellipsoid. Coordinates stay those of the sphere's formulas.
func (c *CRS) OnGround() *CRS {
	if c.Ellipsoid.F != 0 || c.Stated != nil {
		return c
	}
	out := *c
	out.Stated = c
	out.Ellipsoid = ellipsoid.WGS84
	out.Datum, _ = DatumByCode(6326)
	if c.Projection != nil {
		out.Projection = ofSphere{c.Projection, c.Ellipsoid.A, ellipsoid.WGS84}
	}
	return &out
}

// stated is the CRS as a file or the registry states it.
func (c *CRS) stated() *CRS {
	if c.Stated != nil {
		return c.Stated
	}
	return c
}

// Assumed says what was assumed of a CRS that is stated on a sphere, and by how much areas on the sphere would differ
// at a latitude in radians; "" for other CRSs.
func (c *CRS) Assumed(lat float64) string {
	if c == nil || c.Stated == nil {
		return ""
	}
	m, n := c.Ellipsoid.Radii(lat)
	r := c.Stated.Ellipsoid.A
	return fmt.Sprintf("%s is computed on a sphere of %.0f m; its longitudes and latitudes are taken to be those of %s, and areas are true on its ellipsoid: on the sphere they would differ by %+.2f %% here",
		c.Name, r, c.Datum.Name, (r*r/(m*n)-1)*100)
}

// ofSphere is a projection of a sphere, fed with an ellipsoid's latitudes.
type ofSphere struct {
	projection.Projection
	radius float64
	e      ellipsoid.Ellipsoid
}

// ArealScale implements [projection.Projection]: the sphere's, times the sphere's ground over the ellipsoid's.
func (p ofSphere) ArealScale(lon, lat float64) float64 {
	m, n := p.e.Radii(lat)
	return p.Projection.ArealScale(lon, lat) * p.radius * p.radius / (m * n)
}

// Traits implements [projection.Projection]: what is equal-area on a sphere is not quite so on an ellipsoid, and varies with the
// latitude alone.
func (p ofSphere) Traits() projection.Traits {
	t := p.Projection.Traits()
	if _, ok := p.Projection.(projection.Parallels); ok {
		t.ByRow = true
	}
	t.EqualArea, t.Conformal = false, false
	return t
}
