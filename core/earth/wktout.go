package earth

import (
	"fmt"
	"strconv"
	"strings"

	"github.com/verdex-land/verdex/core/earth/projection"
)

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
	if d.Method.WKT1 == "" {
		return "", false
	}
	var b strings.Builder
	fmt.Fprintf(&b, `PROJCS[%s,%s,PROJECTION["%s"]`, quoted(c.Name), d.Base.geographicWKT1(), d.Method.WKT1)
	for _, p := range d.Method.Params {
		if p.WKT1 == "" {
			continue
		}
		v, given := d.Params[p.Role]
		switch {
		case p.Role == projection.Scale && !given:
			v = 1
		case p.Role.Angle():
			v /= d.Base.Unit / degree
		}
		fmt.Fprintf(&b, `,PARAMETER["%s",%s]`, p.WKT1, number(v))
	}
	east, north := d.Params[projection.East], d.Params[projection.North]
	if d.Params.Has(projection.CentreEast) {
		east, north = d.Params[projection.CentreEast], d.Params[projection.CentreNorth]
	}
	fmt.Fprintf(&b, `,PARAMETER["false_easting",%s],PARAMETER["false_northing",%s],UNIT[%s,%s]%s]`,
		number(east/d.Unit), number(north/d.Unit), quoted(d.UnitName), number(d.Unit), authority(c.Code))
	return b.String(), true
}

func (c *CRS) geographicWKT1() string {
	c = c.stated()
	return fmt.Sprintf(`GEOGCS[%s,DATUM[%s,SPHEROID[%s,%s,%s]%s],PRIMEM["%s",%s],UNIT[%s,%s]%s]`,
		quoted(c.Name), quoted(strings.ReplaceAll(c.Datum.Name, " ", "_")), quoted(c.Ellipsoid.Name), number(c.Ellipsoid.A), number(c.inverseFlattening()),
		authority(c.Datum.Code), c.meridianName(), number(c.Meridian/c.Unit), quoted(c.UnitName), number(c.Unit), authority(c.Code))
}

func number(v float64) string { return strconv.FormatFloat(v, 'f', -1, 64) }

func quoted(s string) string { return `"` + strings.ReplaceAll(s, `"`, `'`) + `"` }

func authority(code int) string {
	if code <= 0 {
		return ""
	}
	return fmt.Sprintf(`,AUTHORITY["EPSG","%d"]`, code)
}
