package earth

import (
	"fmt"
	"math"
	"strconv"
	"strings"

	"github.com/verdex-land/verdex/core/earth/ellipsoid"
	"github.com/verdex-land/verdex/core/earth/projection"
)

// Datum is a geodetic datum.
type Datum struct {
	Code int // EPSG code, 0 when it is not known
	Name string
}

// CRS is a coordinate reference system: what the x and y of a raster or an outline mean.
type CRS struct {
	Code       int    // EPSG code, 0 when there is none
	Name       string // for people
	Datum      Datum
	Ellipsoid  ellipsoid.Ellipsoid
	Meridian   float64               // prime meridian, radians east of Greenwich, from which longitudes and projections count
	Projection projection.Projection // nil for a geographic CRS
	Unit       float64               // metres in a unit (projected), radians in a unit (geographic)
	UnitName   string
	Definition *Definition        // how a CRS without a code was defined
	domain     *projection.Domain // of the projection
	Stated     *CRS               // the CRS as it was stated, where that is on a sphere; nil for others
}

// Geographic reports whether coordinates are longitude and latitude.
func (c *CRS) Geographic() bool { return c.Projection == nil }

// String names the CRS with its code, as messages show it.
func (c *CRS) String() string {
	if c == nil {
		return "no CRS"
	}
	if c.Code != 0 {
		return fmt.Sprintf("EPSG:%d %s", c.Code, c.Name)
	}
	return c.Name
}

// Key is a text of all that decides what coordinates in the CRS are: two CRSs with the same key mean the same ground. Names do not do for that, for
// anybody may give a CRS of his own the name of another one.
func (c *CRS) Key() string {
	if c == nil {
		return "none"
	}
	key := fmt.Sprintf("%d %q %d %q %v %v %v %v", c.Code, c.Name, c.Datum.Code, c.Datum.Name, c.Ellipsoid.A, c.Ellipsoid.F, c.Meridian, c.Unit)
	if d := c.Definition; d != nil {
		key += fmt.Sprintf(" [%q %v %v %s]", d.Method.Name, map[projection.Role]float64(d.Params), d.Unit, d.Base.Key())
	}
	if c.Stated != nil {
		key += " on " + c.Stated.Key()
	}
	return key
}

// Kind says what cell areas do in this CRS: geographic, equal-area, conformal or other.
func (c *CRS) Kind() string {
	switch {
	case c.Geographic():
		return "geographic"
	case c.Projection.Traits().EqualArea:
		return "equal-area"
	case c.Projection.Traits().Conformal:
		return "conformal"
	}
	return "other"
}

// AreaByRow reports whether the true area of equal cells depends on y only.
func (c *CRS) AreaByRow() bool { return c.Geographic() || c.Projection.Traits().ByRow }

// EqualArea reports whether equal cells have equal true area everywhere.
func (c *CRS) EqualArea() bool { return !c.Geographic() && c.Projection.Traits().EqualArea }

// Mirrored reports whether the plane of the CRS is a mirror image of the ground: x counts to the west and y to the north, so that
// what runs counter-clockwise in the one runs clockwise in the other.
func (c *CRS) Mirrored() bool { return c.Projection != nil && c.Projection.Traits().Mirrored }

// ToGeographic gives longitude from Greenwich and latitude in radians of a point in CRS coordinates. It
// reports false where the CRS is not defined.
func (c *CRS) ToGeographic(x, y float64) (lon, lat float64, ok bool) {
	x, y = x*c.Unit, y*c.Unit
	if c.Projection == nil {
		return x + c.Meridian, y, math.Abs(y) <= math.Pi/2*(1+1e-12)
	}
	lon, lat, ok = c.Projection.Inverse(x, y)
	return lon + c.Meridian, lat, ok
}

// FromGeographic is the reverse of ToGeographic.
func (c *CRS) FromGeographic(lon, lat float64) (x, y float64, ok bool) {
	lon -= c.Meridian
	if c.Projection == nil {
		return lon / c.Unit, lat / c.Unit, true
	}
	x, y, ok = c.Projection.Forward(lon, lat)
	return x / c.Unit, y / c.Unit, ok
}

// Density is the true area in m² of one square unit of CRS coordinates at a point. It is false where the point is no
// place on the Earth.
func (c *CRS) Density(x, y float64) (float64, bool) {
	if c.Projection == nil {
		n, m := c.Ellipsoid.GroundSpacing(y * c.Unit)
		return m * n * c.Unit * c.Unit, math.Abs(y*c.Unit) <= math.Pi/2*(1+1e-12)
	}
	lon, lat, ok := c.ToGeographic(x, y)
	if d := c.Domain(); !ok || !d.Round && !d.Holds(lon, lat) {
		return 0, false
	}
	if c.Projection.Traits().EqualArea {
		return c.Unit * c.Unit, true
	}
	return c.Unit * c.Unit / c.Projection.ArealScale(lon-c.Meridian, lat), true
}

// Same reports whether two CRSs give the same meaning to coordinates: both the same code, or
// coordinates that agree to a hundredth of a millimetre at points all over the ground that they map.
func (c *CRS) Same(d *CRS) bool {
	if c == d || c.Code != 0 && c.Code == d.Code {
		return true
	}
	if c.Geographic() != d.Geographic() || c.Unit != d.Unit || !c.Datum.Same(d.Datum) || c.Meridian != d.Meridian ||
		math.Abs(c.Ellipsoid.A-d.Ellipsoid.A) > 1e-3 || math.Abs(c.Ellipsoid.F-d.Ellipsoid.F) > 1e-12 {
		return false
	}
	if c.Geographic() {
		return true
	}
	// Points of the ground that the first maps, around the middle of its domain, have to lie in the same places of both.
	b := c.Domain().Boxes[0]
	common := 0
	for _, u := range []float64{0.2, 0.47, 0.5, 0.56, 0.83} {
		for _, v := range []float64{0.21, 0.48, 0.5, 0.55, 0.71, 0.94} {
			lon, lat := b.West+(b.East-b.West)*u, b.South+(b.North-b.South)*v
			x1, y1, ok1 := c.FromGeographic(lon, lat)
			x2, y2, ok2 := d.FromGeographic(lon, lat)
			if ok1 != ok2 || ok1 && (math.Abs(x1-x2)*c.Unit > 1e-5 || math.Abs(y1-y2)*c.Unit > 1e-5) {
				return false
			}
			if ok1 {
				common++
			}
		}
	}
	return common > 0
}

// Same reports whether two datums are the same one.
func (d Datum) Same(o Datum) bool {
	if d.Code != 0 && o.Code != 0 {
		return d.Code == o.Code
	}
	return d.Name == o.Name
}

// ParseCRS reads "EPSG:3035", "3035", an OGC URN or URL of an EPSG code, CRS84, or WKT.
func ParseCRS(text string) (*CRS, error) {
	t := strings.TrimSpace(text)
	if LooksLikeWKT(t) {
		return ParseWKT(t)
	}
	upper := strings.ToUpper(t)
	if strings.HasSuffix(upper, "CRS84") {
		return Lookup(4326)
	}
	wrong := fmt.Errorf("the CRS %q is neither an EPSG code nor WKT: write it as EPSG:<number>, for example EPSG:3035", text)
	digits := upper
	if i := strings.LastIndexAny(upper, ":/"); i >= 0 {
		if !strings.Contains(upper[:i], "EPSG") {
			return nil, wrong
		}
		digits = upper[i+1:]
	}
	code, err := strconv.Atoi(digits)
	if err != nil || code <= 0 {
		return nil, wrong
	}
	return Lookup(code)
}
