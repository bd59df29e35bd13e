package earth

import (
	"encoding/json"
	"fmt"
	"math"
	"strings"

	"github.com/verdex-land/verdex/core/earth/projection"
)

// methodNames are the names of projection methods in the EPSG dataset, by their codes.
var methodNames = map[int]string{
	9801: "Lambert Conic Conformal (1SP)", 9802: "Lambert Conic Conformal (2SP)", 9803: "Lambert Conic Conformal (2SP Belgium)", 1051: "Lambert Conic Conformal (2SP Michigan)",
	9826: "Lambert Conic Conformal (West Orientated)", 9804: "Mercator (variant A)", 9805: "Mercator (variant B)", 9806: "Cassini-Soldner", 9807: "Transverse Mercator",
	9808: "Transverse Mercator (South Orientated)", 9809: "Oblique Stereographic", 9810: "Polar Stereographic (variant A)", 9829: "Polar Stereographic (variant B)",
	9830: "Polar Stereographic (variant C)", 9812: "Hotine Oblique Mercator (variant A)", 9815: "Hotine Oblique Mercator (variant B)", 9818: "American Polyconic",
	9819: "Krovak", 1041: "Krovak (North Orientated)", 9820: "Lambert Azimuthal Equal Area", 1027: "Lambert Azimuthal Equal Area (Spherical)", 9822: "Albers Equal Area",
	9834: "Lambert Cylindrical Equal Area (Spherical)", 9835: "Lambert Cylindrical Equal Area", 1024: "Popular Visualisation Pseudo Mercator",
	1028: "Equidistant Cylindrical", 1029: "Equidistant Cylindrical (Spherical)", 1052: "Colombia Urban", 1078: "Equal Earth",
}

// parameterNames are the names of their parameters.
var parameterNames = map[int]string{
	8801: "Latitude of natural origin", 8802: "Longitude of natural origin", 8805: "Scale factor at natural origin", 8806: "False easting", 8807: "False northing",
	8811: "Latitude of projection centre", 8812: "Longitude of projection centre", 8813: "Azimuth at projection centre", 8814: "Angle from Rectified to Skew Grid",
	8815: "Scale factor at projection centre", 8816: "Easting at projection centre", 8817: "Northing at projection centre", 8818: "Latitude of pseudo standard parallel",
	8819: "Scale factor on pseudo standard parallel", 8821: "Latitude of false origin", 8822: "Longitude of false origin", 8823: "Latitude of 1st standard parallel",
	8824: "Latitude of 2nd standard parallel", 8826: "Easting at false origin", 8827: "Northing at false origin", 8832: "Latitude of standard parallel",
	8833: "Longitude of origin", 1036: "Co-latitude of cone axis", 1038: "Ellipsoid scaling factor", 1039: "Projection plane origin height",
}

// usualParameters are the codes of parameters of methods that EPSG does not have.
var usualParameters = map[projection.Role]int{projection.Lat0: 8801, projection.Lon0: 8802, projection.East: 8806, projection.North: 8807}

// axis is an axis: its name, the short one, and where it points an axis points, by ISO 19162 and PROJJSON.
type axis struct{ name, short, direction string }

// axes are those of the coordinates as files hold them: first x, then y.
func (c *CRS) axes() [2]axis {
	d := c.Definition
	out := [2]axis{{"Easting", "E", "east"}, {"Northing", "N", "north"}}
	switch d.Method {
	case projection.TransverseMercatorSouth:
		out = [2]axis{{"Westing", "Y", "west"}, {"Southing", "X", "south"}}
	case projection.LambertConformalWest:
		out[0] = axis{"Westing", "W", "west"}
	case projection.Krovak:
		out = [2]axis{{"Southing", "X", "south"}, {"Westing", "Y", "west"}}
	}
	switch pole := c.pole(); {
	case pole > 0:
		out[0].direction, out[1].direction = "south", "south"
	case pole < 0:
		out[0].direction, out[1].direction = "north", "north"
	}
	return out
}

// pole is 1 or -1 where a projection is centred on the North or the South Pole.
func (c *CRS) pole() float64 {
	d := c.Definition
	lat := d.Params[projection.Lat0]
	switch d.Method {
	case projection.PolarStereographicB, projection.PolarStereographicC:
		lat = math.Copysign(90, d.Params[projection.Lat1])
	case projection.PolarStereographicA, projection.AzimuthalEqualArea, projection.AzimuthalSpherical:
	default:
		return 0
	}
	if math.Abs(lat) != 90 {
		return 0
	}
	return math.Copysign(1, lat)
}

// parameter is a parameter of a conversion as texts state it.
type parameter struct {
	name  string
	code  int
	value float64 // degrees, metres or a factor
	kind  string  // angle, length or scale
}

// conversion are the parameters of the definition; a scale that is not given is 1, and everything else 0.
func (d *Definition) conversion() (out []parameter) {
	for _, p := range d.Method.Params {
		v, given := d.Params[p.Role]
		one := parameter{code: p.Code, value: v, kind: "scale"}
		switch {
		case p.Role.Angle():
			one.kind = "angle"
		case p.Role.Length():
			one.kind = "length"
		case !given:
			one.value = 1
		}
		if one.code == 0 {
			one.code = usualParameters[p.Role]
		}
		one.name = parameterNames[one.code]
		out = append(out, one)
	}
	return out
}

// methodName is the name of the method, and its code, 0 where EPSG has none.
func (d *Definition) methodName() (string, int) {
	if len(d.Method.Codes) == 0 {
		return strings.ToUpper(d.Method.Name[:1]) + d.Method.Name[1:], 0
	}
	code := d.Method.Codes[0]
	return methodNames[code], code
}

// inverseFlattening is 1/f, 0 of a sphere, as it was before it was inverted.
func (c *CRS) inverseFlattening() float64 {
	if c.Ellipsoid.F == 0 {
		return 0
	}
	inverse := 1 / c.Ellipsoid.F
	if r := math.Round(inverse*1e9) / 1e9; math.Abs(r-inverse) < 1e-10*inverse {
		return r
	}
	return inverse
}

// meridianName is the name of the prime meridian.
func (c *CRS) meridianName() string {
	if c.Meridian != 0 {
		return "unnamed"
	}
	return "Greenwich"
}

const degreeText = "0.0174532925199433"

// WKT2 writes the CRS as WKT of ISO 19162:2019, which every CRS has a form in. Coordinates are stated in the order in which files hold them: x, y.
func (c *CRS) WKT2() string {
	var b strings.Builder
	if c.Geographic() {
		s := c.stated()
		unit := fmt.Sprintf("ANGLEUNIT[%s,%s]", text2(s.UnitName), number(s.Unit))
		fmt.Fprintf(&b, "GEOGCRS[%s,%s,CS[ellipsoidal,2],AXIS[\"longitude\",east,ORDER[1],%s],AXIS[\"latitude\",north,ORDER[2],%s]%s]", text2(s.Name), s.datumWKT2(), unit, unit, id(s.Code))
		return b.String()
	}
	d := c.Definition
	base := d.Base.stated()
	name, code := d.methodName()
	fmt.Fprintf(&b, "PROJCRS[%s,BASEGEOGCRS[%s,%s%s],CONVERSION[%s,METHOD[%s%s]", text2(c.Name), text2(base.Name), base.datumWKT2(), id(base.Code), text2("conversion of "+c.Name), text2(name), id(code))
	for _, p := range d.conversion() {
		unit := map[string]string{"angle": `ANGLEUNIT["degree",` + degreeText + "]", "length": `LENGTHUNIT["metre",1]`, "scale": `SCALEUNIT["unity",1]`}[p.kind]
		fmt.Fprintf(&b, ",PARAMETER[%s,%s,%s%s]", text2(p.name), number(p.value), unit, id(p.code))
	}
	b.WriteString("],CS[Cartesian,2]")
	for i, a := range c.axes() {
		fmt.Fprintf(&b, ",AXIS[%s,%s,ORDER[%d]]", text2(strings.ToLower(a.name)+" ("+a.short+")"), a.direction, i+1)
	}
	fmt.Fprintf(&b, ",LENGTHUNIT[%s,%s]%s]", text2(d.UnitName), number(d.Unit), id(c.Code))
	return b.String()
}

func (c *CRS) datumWKT2() string {
	return fmt.Sprintf("DATUM[%s,ELLIPSOID[%s,%s,%s,LENGTHUNIT[\"metre\",1]]%s],PRIMEM[%s,%s,ANGLEUNIT[%s,%s]]",
		text2(c.Datum.Name), text2(c.Ellipsoid.Name), number(c.Ellipsoid.A), number(c.inverseFlattening()), id(c.Datum.Code), text2(c.meridianName()), number(c.Meridian/c.Unit), text2(c.UnitName), number(c.Unit))
}

// text2 is a text in WKT of ISO 19162, where a quote is doubled.
func text2(s string) string { return `"` + strings.ReplaceAll(s, `"`, `""`) + `"` }

func id(code int) string {
	if code <= 0 {
		return ""
	}
	return fmt.Sprintf(`,ID["EPSG",%d]`, code)
}

// PROJJSON writes the CRS as PROJJSON, the JSON of the same model (schema 0.7), as GeoParquet holds it.
func (c *CRS) PROJJSON() json.RawMessage {
	type object = map[string]any
	identify := func(o object, code int) object {
		if code > 0 {
			o["id"] = object{"authority": "EPSG", "code": code}
		}
		return o
	}
	unit := func(kind, name string, size float64) any {
		switch {
		case kind == "LinearUnit" && size == 1:
			return "metre"
		case kind == "AngularUnit" && size == degree:
			return "degree"
		}
		return object{"type": kind, "name": name, "conversion_factor": size}
	}
	system := func(kind string, u any, axes [2]axis) object {
		var list []object
		for _, a := range axes {
			list = append(list, object{"name": a.name, "abbreviation": a.short, "direction": a.direction, "unit": u})
		}
		return object{"subtype": kind, "axis": list}
	}
	geographic := func(g *CRS) object {
		ellipsoid := object{"name": g.Ellipsoid.Name, "semi_major_axis": g.Ellipsoid.A, "inverse_flattening": g.inverseFlattening()}
		if g.Ellipsoid.F == 0 {
			ellipsoid = object{"name": g.Ellipsoid.Name, "radius": g.Ellipsoid.A}
		}
		datum := identify(object{"type": "GeodeticReferenceFrame", "name": g.Datum.Name, "ellipsoid": ellipsoid}, g.Datum.Code)
		if g.Meridian != 0 {
			datum["prime_meridian"] = object{"name": g.meridianName(), "longitude": object{"value": g.Meridian / g.Unit, "unit": unit("AngularUnit", g.UnitName, g.Unit)}}
		}
		return identify(object{"type": "GeographicCRS", "name": g.Name, "datum": datum,
			"coordinate_system": system("ellipsoidal", unit("AngularUnit", g.UnitName, g.Unit), [2]axis{{"Longitude", "lon", "east"}, {"Latitude", "lat", "north"}})}, g.Code)
	}
	var out object
	if c.Geographic() {
		out = geographic(c.stated())
	} else {
		d := c.Definition
		name, code := d.methodName()
		var parameters []object
		for _, p := range d.conversion() {
			u := map[string]string{"angle": "degree", "length": "metre", "scale": "unity"}[p.kind]
			parameters = append(parameters, identify(object{"name": p.name, "value": p.value, "unit": u}, p.code))
		}
		out = identify(object{"type": "ProjectedCRS", "name": c.Name, "base_crs": geographic(d.Base.stated()),
			"conversion":        object{"name": "conversion of " + c.Name, "method": identify(object{"name": name}, code), "parameters": parameters},
			"coordinate_system": system("Cartesian", unit("LinearUnit", d.UnitName, d.Unit), c.axes())}, c.Code)
	}
	out["$schema"] = "https://proj.org/schemas/v0.7/projjson.schema.json"
	b, err := json.Marshal(out)
	if err != nil {
		panic(err) // numbers that are finite, and texts
	}
	return b
}

// ParsePROJJSON reads a CRS from PROJJSON: a geographic or projected one, or the horizontal part of a bound or compound one. What has a code of the registry is
// that of the registry.
func ParsePROJJSON(data []byte) (*CRS, error) {
	if len(data) > 1<<20 {
		return nil, fmt.Errorf("the PROJJSON of the CRS has %d bytes, far more than one can have", len(data))
	}
	var o jsonCRS
	if err := json.Unmarshal(data, &o); err != nil {
		return nil, fmt.Errorf("the PROJJSON of the CRS is not understood (%w)", err)
	}
	text, err := o.wkt(0)
	if err != nil {
		return nil, err
	}
	return ParseWKT(text)
}

// jsonCRS is what is read of a CRS in PROJJSON.
type jsonCRS struct {
	Type, Name string
	ID         *jsonID
	Source     *jsonCRS   `json:"source_crs"`
	Components []*jsonCRS `json:"components"`
	Base       *jsonCRS   `json:"base_crs"`
	Datum      *jsonDatum
	Ensemble   *jsonDatum `json:"datum_ensemble"`
	Conversion *struct {
		Method struct {
			Name string
			ID   *jsonID
		}
		Parameters []struct {
			Name  string
			Value float64
			Unit  jsonUnit
			ID    *jsonID
		}
	}
	System struct {
		Axis []struct{ Unit jsonUnit }
	} `json:"coordinate_system"`
}

type jsonID struct {
	Authority string
	Code      any
}

type jsonDatum struct {
	Name      string
	ID        *jsonID
	Ellipsoid struct {
		Name    string
		Axis    jsonMeasure `json:"semi_major_axis"`
		Minor   jsonMeasure `json:"semi_minor_axis"`
		Inverse float64     `json:"inverse_flattening"`
		Radius  jsonMeasure
	}
	Meridian *struct {
		Name      string
		Longitude jsonMeasure
	} `json:"prime_meridian"`
}

// jsonMeasure is a number, or an object of a value and its unit.
type jsonMeasure struct {
	Value float64
	Unit  jsonUnit
}

// UnmarshalJSON implements [json.Unmarshaler].
func (m *jsonMeasure) UnmarshalJSON(b []byte) error {
	if json.Unmarshal(b, &m.Value) == nil {
		return nil
	}
	type plain jsonMeasure
	return json.Unmarshal(b, (*plain)(m))
}

// jsonUnit is the name of a usual unit, or an object with its size.
type jsonUnit struct {
	Name string
	Size float64 `json:"conversion_factor"`
}

// UnmarshalJSON implements [json.Unmarshaler].
func (u *jsonUnit) UnmarshalJSON(b []byte) error {
	if json.Unmarshal(b, &u.Name) == nil {
		return nil
	}
	type plain jsonUnit
	return json.Unmarshal(b, (*plain)(u))
}

// wkt is the unit as WKT, "" where none is stated.
func (u jsonUnit) wkt() string {
	switch {
	case u.Name == "degree":
		return `,ANGLEUNIT["degree",` + degreeText + "]"
	case u.Name == "metre":
		return `,LENGTHUNIT["metre",1]`
	case u.Name == "unity":
		return `,SCALEUNIT["unity",1]`
	case u.Size > 0:
		return fmt.Sprintf(",UNIT[%s,%s]", text2(u.Name), number(u.Size))
	}
	return ""
}

func (i *jsonID) wkt() string {
	if i == nil || i.Authority != "EPSG" {
		return ""
	}
	return fmt.Sprintf(`,ID["EPSG",%v]`, i.Code)
}

// wkt is the CRS as WKT.
func (o *jsonCRS) wkt(depth int) (string, error) {
	if depth > 8 {
		return "", fmt.Errorf("the PROJJSON of the CRS is nested too deep")
	}
	switch {
	case o.Type == "BoundCRS" && o.Source != nil:
		return o.Source.wkt(depth + 1)
	case o.Type == "CompoundCRS" && len(o.Components) > 0 && o.Components[0] != nil:
		return o.Components[0].wkt(depth + 1)
	case (o.Type == "GeographicCRS" || o.Type == "GeodeticCRS" || o.Type == "" && o.Conversion == nil) && (o.Datum != nil || o.Ensemble != nil):
		return o.geographic("GEOGCRS")
	case o.Type == "ProjectedCRS" && o.Base != nil && o.Conversion != nil:
		base, err := o.Base.geographic("BASEGEOGCRS")
		if err != nil {
			return "", err
		}
		var b strings.Builder
		c := o.Conversion
		fmt.Fprintf(&b, "PROJCRS[%s,%s,CONVERSION[\"\",METHOD[%s%s]", text2(o.Name), base, text2(c.Method.Name), c.Method.ID.wkt())
		for _, p := range c.Parameters {
			fmt.Fprintf(&b, ",PARAMETER[%s,%s%s%s]", text2(p.Name), number(p.Value), p.Unit.wkt(), p.ID.wkt())
		}
		b.WriteString("]" + o.unit() + o.ID.wkt() + "]")
		return b.String(), nil
	}
	return "", fmt.Errorf("the CRS %q in PROJJSON is of the kind %q, which is neither geographic nor projected", o.Name, o.Type)
}

// unit is that of the axes.
func (o *jsonCRS) unit() string {
	if len(o.System.Axis) == 0 {
		return ""
	}
	return strings.Replace(o.System.Axis[0].Unit.wkt(), ",UNIT[", ",LENGTHUNIT[", 1)
}

func (o *jsonCRS) geographic(keyword string) (string, error) {
	d := o.Datum
	if d == nil {
		d = o.Ensemble
	}
	if d == nil {
		return "", fmt.Errorf("the CRS %q in PROJJSON names no datum", o.Name)
	}
	e := d.Ellipsoid
	a, inverse := e.Axis.Value, e.Inverse
	switch {
	case e.Radius.Value > 0:
		a, inverse = e.Radius.Value, 0
	case e.Minor.Value > 0 && e.Minor.Value < a:
		inverse = a / (a - e.Minor.Value)
	}
	meridian := ""
	if m := d.Meridian; m != nil {
		unit := m.Longitude.Unit.wkt()
		if unit == "" {
			unit = jsonUnit{Name: "degree"}.wkt()
		}
		meridian = fmt.Sprintf(",PRIMEM[%s,%s%s]", text2(m.Name), number(m.Longitude.Value), unit)
	}
	unit := ""
	if len(o.System.Axis) > 0 {
		unit = strings.Replace(o.System.Axis[0].Unit.wkt(), ",UNIT[", ",ANGLEUNIT[", 1)
	}
	return fmt.Sprintf("%s[%s,DATUM[%s,ELLIPSOID[%s,%s,%s]%s]%s%s%s]", keyword, text2(o.Name), text2(d.Name), text2(e.Name), number(a), number(inverse), d.ID.wkt(), meridian, unit, o.ID.wkt()), nil
}
