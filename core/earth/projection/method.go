package projection

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"github.com/verdex-land/verdex/core/earth/ellipsoid"
)

// Method is a projection method: the formulas, and all the names under which files state it and its parameters.
type Method struct {
	Name    string      // in the trade
	Codes   []int       // of EPSG, the usual one first; none where EPSG has none
	Texts   string      // its names in CRS texts, with a space between: letters and digits in lower case
	WKT1    string      // its name when WKT 1 is written; "" where that form has no settled name
	GeoKeys []int       // its codes in GeoTIFF (GeoTIFF 1.1, annex D), the one that is written first
	Params  []Parameter // what it takes, in the order in which WKT 1 lists them
	// Fits decides whether a file means this method where several share a name or a code; nil fits always.
	Fits func(Params) bool
	// New makes the projection. Errors name what is wrong with the parameters, behind "its projection".
	New func(ellipsoid.Ellipsoid, Params) (Projection, error)
}

// Parameter is a parameter of a method.
type Parameter struct {
	Role   Role   // what it does
	Or     Role   // the role that stands in where the first is not given; "" for none
	Code   int    // of EPSG
	WKT1   string // its name when WKT 1 is written; "" where it is not
	GeoKey uint16 // the GeoKey that it is written to; 0 for the usual one of its role
}

// Role says what a parameter does; CRS texts, GeoKeys and the registry name the same role in many ways.
type Role string

// The roles of parameters. Angles are in degrees, lengths in metres.
const (
	Lat0         Role = "lat0"    // latitude of the origin or the centre
	Lon0         Role = "lon0"    // longitude of the origin or the centre
	Lat1         Role = "lat1"    // first or only standard parallel
	Lat2         Role = "lat2"    // second standard parallel
	Scale        Role = "scale"   // at the origin, the centre or on the pseudo standard parallel
	East         Role = "fe"      // false easting, or easting at the false origin
	North        Role = "fn"      // false northing
	CentreEast   Role = "ce"      // easting at the centre, where that is not the origin
	CentreNorth  Role = "cn"      // northing at the centre
	Azimuth      Role = "azimuth" // of the initial line; of Krovak the co-latitude of the axis of the cone
	Skew         Role = "skew"    // angle from the rectified to the skew grid
	Pseudo       Role = "pseudo"  // pseudo standard parallel
	EllipsoidK   Role = "escale"  // scale of the ellipsoid
	OriginHeight Role = "height"  // height of the plane
)

// Angle reports whether a parameter is an angle.
func (r Role) Angle() bool {
	return slices.Contains([]Role{Lat0, Lon0, Lat1, Lat2, Azimuth, Skew, Pseudo}, r)
}

// Length reports whether a parameter is a length.
func (r Role) Length() bool {
	return slices.Contains([]Role{East, North, CentreEast, CentreNorth, OriginHeight}, r)
}

// Params are the parameters of a projection: angles in degrees, lengths in metres.
type Params map[Role]float64

// Has reports whether a parameter is given.
func (p Params) Has(r Role) bool { _, ok := p[r]; return ok }

// radians is an angle in radians, 0 where it is not given.
func (p Params) radians(r Role) float64 { return p[r] * degree }

// origin is that of most methods: longitude and latitude in radians, false easting and northing.
func (p Params) origin() (lon0, lat0, fe, fn float64) {
	return p.radians(Lon0), p.radians(Lat0), p[East], p[North]
}

// factor is a scale, 1 where it is not given.
func (p Params) factor(r Role) float64 {
	if v, ok := p[r]; ok {
		return v
	}
	return 1
}

// Check refuses parameters that no projection has.
func (p Params) Check() error {
	for r, v := range p {
		switch {
		case math.IsNaN(v) || math.Abs(v) > 1e9 || r.Angle() && math.Abs(v) > 400:
			return fmt.Errorf("its projection has a parameter of %g", v)
		case (r == Lat0 || r == Lat1 || r == Lat2) && math.Abs(v) > 90:
			return fmt.Errorf("its projection has a latitude of %g°", v)
		case (r == Scale || r == EllipsoidK) && !(v > 0):
			return fmt.Errorf("its projection has a scale of %g", v)
		}
	}
	return nil
}

// Take keeps the parameters that the method has, each from the role that is given.
func (m *Method) Take(p Params) Params {
	out := Params{}
	for _, param := range m.Params {
		for _, role := range []Role{param.Role, param.Or} {
			if v, ok := p[role]; ok {
				out[param.Role] = v
				break
			}
		}
	}
	return out
}

// ByCode finds the method with an EPSG code, nil when there is none.
func ByCode(code int) *Method {
	return find(nil, func(m *Method) bool { return slices.Contains(m.Codes, code) })
}

// ByText finds the method that a CRS text names, nil when there is none that has the name and fits the parameters. The
// name is in letters and digits only, in lower case.
func ByText(name string, p Params) *Method {
	return find(p, func(m *Method) bool { return slices.Contains(strings.Fields(m.Texts), name) })
}

// ByGeoKey finds the method with a code of GeoTIFF that fits the parameters, nil when there is none.
func ByGeoKey(code int, p Params) *Method {
	return find(p, func(m *Method) bool { return slices.Contains(m.GeoKeys, code) })
}

// find is the method that is named; where several are, the first of them that fits.
func find(p Params, named func(*Method) bool) *Method {
	var found []*Method
	for _, m := range methods {
		if named(m) {
			found = append(found, m)
		}
	}
	if len(found) == 1 {
		return found[0]
	}
	for _, m := range found {
		if m.Fits == nil || m.Fits(p) {
			return m
		}
	}
	return nil
}

// methods are all of them. A new one is a file of this folder, and a line here.
var methods = []*Method{
	Albers,
	AzimuthalEqualArea, AzimuthalSpherical,
	Cassini,
	ColombiaUrban,
	CylindricalEqualArea, CylindricalSpherical,
	EqualEarth,
	EquidistantCylindrical, EquidistantSpherical,
	Krovak, KrovakNorth,
	LambertConformal2, LambertConformal1, LambertConformalBelgium, LambertConformalMichigan, LambertConformalWest,
	MercatorB, MercatorA,
	Mollweide,
	ObliqueMercatorB, ObliqueMercatorA,
	ObliqueStereographic,
	PolarStereographicA, PolarStereographicB, PolarStereographicC,
	Polyconic,
	PseudoMercator,
	Sinusoidal,
	TransverseMercator, TransverseMercatorSouth,
}

// Methods lists all methods.
func Methods() []*Method { return slices.Clone(methods) }

const degree = math.Pi / 180
