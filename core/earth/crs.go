package earth

import (
	"fmt"
	"math"
	"strconv"
	"strings"
)

// CRS is a coordinate reference system: what the x and y of a raster or an outline mean.
type CRS struct {
	Code       int    // EPSG code, 0 when there is none
	Name       string // for people
	Datum      string // name of the geodetic datum
	Ellipsoid  Ellipsoid
	Projection Projection // nil for a geographic CRS
	Unit       float64    // metres in a unit (projected), radians in a unit (geographic)
	UnitName   string
	Definition *Definition // how a CRS without a code was defined
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

// ToGeographic gives longitude and latitude in radians of a point in CRS coordinates. It
// reports false where the CRS is not defined.
func (c *CRS) ToGeographic(x, y float64) (lon, lat float64, ok bool) {
	x, y = x*c.Unit, y*c.Unit
	if c.Projection == nil {
		return x, y, math.Abs(y) <= math.Pi/2*(1+1e-12)
	}
	lat, lon, ok = c.Projection.Inverse(x, y)
	return lon, lat, ok
}

// FromGeographic is the reverse of ToGeographic.
func (c *CRS) FromGeographic(lon, lat float64) (x, y float64, ok bool) {
	if c.Projection == nil {
		return lon / c.Unit, lat / c.Unit, true
	}
	x, y, ok = c.Projection.Forward(lat, lon)
	return x / c.Unit, y / c.Unit, ok
}

// Density is the true area in m² of one square unit of CRS coordinates at a point, and whether
// the CRS is defined there.
func (c *CRS) Density(x, y float64) (float64, bool) {
	if c.Projection == nil {
		m, n := c.Ellipsoid.GroundSpacing(y * c.Unit)
		return m * n * c.Unit * c.Unit, math.Abs(y*c.Unit) <= math.Pi/2*(1+1e-12)
	}
	if c.Projection.Traits().EqualArea {
		return c.Unit * c.Unit, true
	}
	lat, lon, ok := c.Projection.Inverse(x*c.Unit, y*c.Unit)
	if !ok {
		return 0, false
	}
	return c.Unit * c.Unit / c.Projection.ArealScale(lat, lon), true
}

// Same reports whether two CRSs give the same meaning to coordinates: both the same code, or
// the same results at a few points and ellipsoids that agree to a part in 10⁹.
func (c *CRS) Same(d *CRS) bool {
	if c == d || c.Code != 0 && c.Code == d.Code {
		return true
	}
	if c.Geographic() != d.Geographic() || c.Unit != d.Unit || c.Datum != d.Datum ||
		math.Abs(c.Ellipsoid.A-d.Ellipsoid.A) > 1e-3 || math.Abs(c.Ellipsoid.F-d.Ellipsoid.F) > 1e-12 {
		return false
	}
	if c.Geographic() {
		return true
	}
	for _, p := range [][2]float64{{0, 0}, {3e5, 5e6}, {-1e6, 2e6}, {4e6, 3e6}} {
		lon1, lat1, ok1 := c.ToGeographic(p[0]/c.Unit, p[1]/c.Unit)
		lon2, lat2, ok2 := d.ToGeographic(p[0]/c.Unit, p[1]/c.Unit)
		if ok1 != ok2 || ok1 && (math.Abs(lon1-lon2) > 1e-12 || math.Abs(lat1-lat2) > 1e-12) {
			return false
		}
	}
	return true
}

// DatumShift says what happens between the datums of two CRSs: an empty note for the same
// datum, a note for datums whose registered transformation is null, and an error for others.
func DatumShift(from, to *CRS) (note string, err error) {
	if from.Datum == to.Datum {
		return "", nil
	}
	if nullDatums[from.Datum] && nullDatums[to.Datum] {
		return fmt.Sprintf("%s and %s are taken to coincide (they differ by up to a metre or two on the ground)", from.Datum, to.Datum), nil
	}
	return "", fmt.Errorf("no transformation between the datums %q and %q is known to this version: bring the zones into a CRS on the raster's datum first", from.Datum, to.Datum)
}

// nullDatums are the datums between which EPSG registers transformations of zero.
var nullDatums = map[string]bool{"WGS 84": true, "ETRS89": true, "NAD83": true}

// ParseCRS reads "EPSG:3035", "3035", an OGC URN or URL of an EPSG code, or CRS84.
func ParseCRS(text string) (*CRS, error) {
	t := strings.TrimSpace(text)
	upper := strings.ToUpper(t)
	if strings.HasSuffix(upper, "CRS84") {
		return Lookup(4326)
	}
	digits := upper
	if i := strings.LastIndexAny(upper, ":/"); i >= 0 {
		if !strings.Contains(upper[:i], "EPSG") {
			return nil, fmt.Errorf("the CRS %q is not an EPSG code: write it as EPSG:<number>, for example EPSG:3035", text)
		}
		digits = upper[i+1:]
	}
	code, err := strconv.Atoi(digits)
	if err != nil || code <= 0 {
		return nil, fmt.Errorf("the CRS %q is not an EPSG code: write it as EPSG:<number>, for example EPSG:3035", text)
	}
	return Lookup(code)
}

func geographic(code int, name, datum string, e Ellipsoid) *CRS {
	return &CRS{Code: code, Name: name, Datum: datum, Ellipsoid: e, Unit: degree, UnitName: "degree"}
}

// NewProjected makes a projected CRS in metres on the datum of a geographic one.
func NewProjected(code int, name string, base *CRS, p Projection) *CRS {
	return &CRS{Code: code, Name: name, Datum: base.Datum, Ellipsoid: base.Ellipsoid, Projection: p, Unit: 1, UnitName: "metre"}
}

// Lookup finds a CRS by its EPSG code.
func Lookup(code int) (*CRS, error) {
	wgs84 := geographic(4326, "WGS 84", "WGS 84", WGS84)
	etrs89 := geographic(4258, "ETRS89", "ETRS89", GRS80)
	nad83 := geographic(4269, "NAD83", "NAD83", GRS80)
	utm := func(base *CRS, zone int, south bool) *CRS {
		fn, hemisphere := 0.0, "N"
		if south {
			fn, hemisphere = 1e7, "S"
		}
		lon0 := float64(zone*6-183) * degree
		return NewProjected(code, fmt.Sprintf("%s / UTM zone %d%s", base.Name, zone, hemisphere), base,
			NewTransverseMercator(base.Ellipsoid, 0, lon0, 0.9996, 5e5, fn))
	}
	switch {
	case code == 4326:
		return wgs84, nil
	case code == 4258:
		return etrs89, nil
	case code == 4269:
		return nad83, nil
	case code > 32600 && code <= 32660:
		return utm(wgs84, code-32600, false), nil
	case code > 32700 && code <= 32760:
		return utm(wgs84, code-32700, true), nil
	case code >= 25828 && code <= 25838:
		return utm(etrs89, code-25800, false), nil
	case code == 3035:
		return NewProjected(code, "ETRS89-extended / LAEA Europe", etrs89,
			NewLambertAzimuthalEqualArea(GRS80, 52*degree, 10*degree, 4321000, 3210000)), nil
	case code == 5070:
		p, err := NewAlbers(GRS80, 23*degree, -96*degree, 29.5*degree, 45.5*degree, 0, 0)
		return NewProjected(code, "NAD83 / Conus Albers", nad83, p), err
	case code == 6933:
		return NewProjected(code, "WGS 84 / NSIDC EASE-Grid 2.0 Global", wgs84,
			NewCylindricalEqualArea(WGS84, 30*degree, 0, 0, 0)), nil
	case code == 3395:
		return NewProjected(code, "WGS 84 / World Mercator", wgs84, NewMercator(WGS84, 0, 1, 0, 0)), nil
	case code == 3857:
		return NewProjected(code, "WGS 84 / Pseudo-Mercator", wgs84, NewPseudoMercator(WGS84, 0, 0, 0)), nil
	}
	return nil, fmt.Errorf("EPSG:%d is not among the CRSs this version knows (4326, 4258, 4269, 326xx, 327xx, 25828-25838, 3035, 5070, 6933, 3395, 3857): convert the file to one of them", code)
}
