package earth

import (
	"fmt"
	"math"
	"strconv"
	"strings"
)

// wkt1Methods are the names that WKT 1 has for methods, and of their parameters by role.
var wkt1Methods = map[Method]struct {
	name   string
	params string // role=name
}{
	MethodTransverseMercator:        {"Transverse_Mercator", "lat0=latitude_of_origin lon0=central_meridian scale=scale_factor"},
	MethodLambertAzimuthalEqualArea: {"Lambert_Azimuthal_Equal_Area", "lat0=latitude_of_center lon0=longitude_of_center"},
	MethodAlbers:                    {"Albers_Conic_Equal_Area", "lat1=standard_parallel_1 lat2=standard_parallel_2 lat0=latitude_of_center lon0=longitude_of_center"},
	MethodCylindricalEqualArea:      {"Cylindrical_Equal_Area", "lat1=standard_parallel_1 lon0=central_meridian"},
	MethodMercatorA:                 {"Mercator_1SP", "lon0=central_meridian scale=scale_factor"},
	MethodMercatorB:                 {"Mercator_2SP", "lat1=standard_parallel_1 lon0=central_meridian"},
	MethodConic1:                    {"Lambert_Conformal_Conic_1SP", "lat0=latitude_of_origin lon0=central_meridian scale=scale_factor"},
	MethodConic2:                    {"Lambert_Conformal_Conic_2SP", "lat1=standard_parallel_1 lat2=standard_parallel_2 lat0=latitude_of_origin lon0=central_meridian"},
	MethodPolarStereographicA:       {"Polar_Stereographic", "lat0=latitude_of_origin lon0=central_meridian scale=scale_factor"},
	MethodObliqueStereographic:      {"Oblique_Stereographic", "lat0=latitude_of_origin lon0=central_meridian scale=scale_factor"},
	MethodCassini:                   {"Cassini_Soldner", "lat0=latitude_of_origin lon0=central_meridian"},
	MethodPolyconic:                 {"Polyconic", "lat0=latitude_of_origin lon0=central_meridian"},
	MethodSinusoidal:                {"Sinusoidal", "lon0=longitude_of_center"},
	MethodMollweide:                 {"Mollweide", "lon0=central_meridian"},
}

// WKT1 writes the CRS as WKT of OGC 01-009, as .prj files and GeoPackages hold it. It is false for methods that this
// form has no settled name for.
func (c *CRS) WKT1() (string, bool) {
	if c.Geographic() {
		return c.geographicWKT1(), true
	}
	d := c.Definition
	if d == nil {
		return "", false
	}
	m, ok := wkt1Methods[d.Method]
	if !ok {
		return "", false
	}
	roles := d.Roles()
	length := func(v float64) string { return number(v / d.Unit) }
	var b strings.Builder
	fmt.Fprintf(&b, `PROJCS[%s,%s,PROJECTION["%s"]`, quoted(c.Name), d.Base.geographicWKT1(), m.name)
	for _, item := range strings.Fields(m.params) {
		role, name, _ := strings.Cut(item, "=")
		v, given := roles[role]
		switch {
		case role == "scale" && !given:
			v = 1
		case role != "scale":
			v /= d.Base.Unit / degree
		}
		fmt.Fprintf(&b, `,PARAMETER["%s",%s]`, name, number(v))
	}
	fmt.Fprintf(&b, `,PARAMETER["false_easting",%s],PARAMETER["false_northing",%s],UNIT[%s,%s]%s]`,
		length(roles["fe"]), length(roles["fn"]), quoted(d.UnitName), number(d.Unit), authority(c.Code))
	return b.String(), true
}

func (c *CRS) geographicWKT1() string {
	c = c.stated()
	inverse := 0.0
	if c.Ellipsoid.F != 0 {
		inverse = 1 / c.Ellipsoid.F
		if r := math.Round(inverse*1e9) / 1e9; math.Abs(r-inverse) < 1e-10*inverse { // as it was before it was inverted
			inverse = r
		}
	}
	meridian := "Greenwich"
	if c.Meridian != 0 {
		meridian = "unnamed"
	}
	return fmt.Sprintf(`GEOGCS[%s,DATUM[%s,SPHEROID[%s,%s,%s]%s],PRIMEM["%s",%s],UNIT[%s,%s]%s]`,
		quoted(c.Name), quoted(strings.ReplaceAll(c.Datum.Name, " ", "_")), quoted(c.Ellipsoid.Name), number(c.Ellipsoid.A), number(inverse),
		authority(c.Datum.Code), meridian, number(c.Meridian/c.Unit), quoted(c.UnitName), number(c.Unit), authority(c.Code))
}

func number(v float64) string { return strconv.FormatFloat(v, 'f', -1, 64) }

func quoted(s string) string { return `"` + strings.ReplaceAll(s, `"`, `'`) + `"` }

func authority(code int) string {
	if code <= 0 {
		return ""
	}
	return fmt.Sprintf(`,AUTHORITY["EPSG","%d"]`, code)
}
