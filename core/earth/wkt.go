package earth

import (
	"fmt"
	"math"
	"strconv"
	"strings"
	"unicode"
)

// LooksLikeWKT reports whether a text begins like the WKT of a CRS.
func LooksLikeWKT(text string) bool {
	i := strings.IndexAny(text, "[(")
	if i <= 0 || i > 30 {
		return false
	}
	_, ok := wktKinds[strings.ToUpper(strings.TrimSpace(text[:i]))]
	return ok
}

// wktKinds are the keywords of horizontal CRSs and of what holds one.
var wktKinds = map[string]string{
	"PROJCS": "projected", "PROJCRS": "projected", "PROJECTEDCRS": "projected",
	"GEOGCS": "geographic", "GEOGCRS": "geographic", "GEOGRAPHICCRS": "geographic", "GEODCRS": "geographic", "GEODETICCRS": "geographic",
	"BASEGEOGCRS": "geographic", "BASEGEODCRS": "geographic",
	"COMPD_CS": "holder", "COMPOUNDCRS": "holder", "BOUNDCRS": "holder", "SOURCECRS": "holder",
}

// wktNode is KEYWORD["text", 1.0, CHILD[…], …].
type wktNode struct {
	keyword string
	texts   []string // quoted texts, numbers and bare words in order
	nodes   []*wktNode
}

// child is the first child with one of the keywords.
func (n *wktNode) child(keywords ...string) *wktNode {
	for _, c := range n.nodes {
		for _, k := range keywords {
			if c.keyword == k {
				return c
			}
		}
	}
	return nil
}

func (n *wktNode) text(i int) string {
	if n == nil || i >= len(n.texts) {
		return ""
	}
	return n.texts[i]
}

func (n *wktNode) number(i int) (float64, error) {
	v, err := strconv.ParseFloat(n.text(i), 64)
	if err != nil || math.IsNaN(v) || math.IsInf(v, 0) {
		return 0, fmt.Errorf("its %s holds %q where a number belongs", n.keyword, n.text(i))
	}
	return v, nil
}

// epsg is the EPSG code that a node states for itself, 0 when it states none.
func (n *wktNode) epsg() int {
	id := n.child("AUTHORITY", "ID")
	if id == nil || !strings.EqualFold(id.text(0), "EPSG") {
		return 0
	}
	code, _ := strconv.Atoi(id.text(1))
	return code
}

type wktParser struct {
	text string
	at   int
}

func (p *wktParser) space() {
	for p.at < len(p.text) && unicode.IsSpace(rune(p.text[p.at])) {
		p.at++
	}
}

func (p *wktParser) fail(what string) error {
	return fmt.Errorf("the WKT of the CRS is not understood at character %d: %s", p.at+1, what)
}

// word reads a keyword or a number.
func (p *wktParser) word() string {
	from := p.at
	for p.at < len(p.text) && !strings.ContainsRune("[](),\" \t\r\n", rune(p.text[p.at])) {
		p.at++
	}
	return p.text[from:p.at]
}

func (p *wktParser) node(keyword string, depth int) (*wktNode, error) {
	if depth > 24 {
		return nil, p.fail("it is nested too deep")
	}
	n := &wktNode{keyword: strings.ToUpper(keyword)}
	p.at++ // the bracket
	for {
		p.space()
		if p.at >= len(p.text) {
			return nil, p.fail("it ends too early")
		}
		switch c := p.text[p.at]; c {
		case '"':
			end := strings.IndexByte(p.text[p.at+1:], '"')
			if end < 0 {
				return nil, p.fail("a text has no closing quote")
			}
			n.texts = append(n.texts, p.text[p.at+1:p.at+1+end])
			p.at += end + 2
		case ']', ')':
			p.at++
			return n, nil
		case ',':
			p.at++
		case '[', '(':
			return nil, p.fail("a bracket without a keyword")
		default:
			w := p.word()
			p.space()
			if p.at < len(p.text) && (p.text[p.at] == '[' || p.text[p.at] == '(') {
				c, err := p.node(w, depth+1)
				if err != nil {
					return nil, err
				}
				n.nodes = append(n.nodes, c)
			} else {
				n.texts = append(n.texts, w)
			}
		}
	}
}

// ParseWKT reads the WKT of a geographic or projected CRS: WKT 1 (OGC 01-009) in the dialects met in
// .prj files, and WKT 2 (ISO 19162). A CRS that states its EPSG code is taken from the registry.
func ParseWKT(text string) (*CRS, error) {
	if len(text) > 1<<16 {
		return nil, fmt.Errorf("the WKT of the CRS has %d characters, far more than one can have", len(text))
	}
	p := &wktParser{text: text}
	p.space()
	keyword := p.word()
	p.space()
	if p.at >= len(text) || text[p.at] != '[' && text[p.at] != '(' {
		return nil, p.fail("a bracket belongs after the keyword")
	}
	n, err := p.node(keyword, 0)
	if err != nil {
		return nil, err
	}
	return n.crs(0)
}

func (n *wktNode) crs(depth int) (*CRS, error) {
	switch wktKinds[n.keyword] {
	case "holder":
		for _, c := range n.nodes {
			if wktKinds[c.keyword] != "" && depth < 8 {
				return c.crs(depth + 1)
			}
		}
		return nil, fmt.Errorf("its WKT (%s) holds no geographic or projected CRS", n.keyword)
	case "projected":
		if code := n.epsg(); code != 0 {
			if c, err := Lookup(code); err == nil && !c.Geographic() {
				return c, nil
			}
		}
		return n.projected()
	case "geographic":
		if code := n.epsg(); code != 0 {
			if c, err := Lookup(code); err == nil && c.Geographic() {
				return c, nil
			}
		}
		return n.geographic()
	}
	return nil, fmt.Errorf("its WKT is that of a %s, which is neither a geographic nor a projected CRS", n.keyword)
}

func (n *wktNode) geographic() (*CRS, error) {
	d := n.child("DATUM", "GEODETICDATUM", "TRF", "ENSEMBLE")
	if d == nil {
		return nil, fmt.Errorf("its WKT names no datum")
	}
	e := d.child("SPHEROID", "ELLIPSOID")
	if e == nil {
		return nil, fmt.Errorf("its WKT names no ellipsoid")
	}
	a, err := e.number(1)
	if err != nil {
		return nil, err
	}
	rf, err := e.number(2)
	if err != nil {
		return nil, err
	}
	if u := e.child("LENGTHUNIT", "UNIT"); u != nil {
		f, err := u.number(1)
		if err != nil {
			return nil, err
		}
		a *= f
	}
	c := &CRS{Name: n.text(0), Ellipsoid: Ellipsoid{Name: e.text(0), A: a}, Unit: degree, UnitName: "degree"}
	if rf != 0 {
		c.Ellipsoid.F = 1 / rf
	}
	if err := c.Ellipsoid.Check(); err != nil {
		return nil, err
	}
	u := n.child("UNIT", "ANGLEUNIT")
	if cs := n.child("CS"); u == nil && cs != nil {
		if axis := n.child("AXIS"); axis != nil {
			u = axis.child("ANGLEUNIT", "UNIT")
		}
	}
	if u != nil {
		if c.Unit, err = u.number(1); err != nil {
			return nil, err
		}
		if c.UnitName = u.text(0); math.Abs(c.Unit-degree) < 1e-12 {
			c.Unit, c.UnitName = degree, "degree"
		}
		if !(c.Unit > 1e-8 && c.Unit < 10) {
			return nil, fmt.Errorf("its WKT has an angular unit of %g radians", c.Unit)
		}
	}
	if pm := n.child("PRIMEM", "PRIMEMERIDIAN"); pm != nil {
		v, err := pm.number(1)
		if err != nil {
			return nil, err
		}
		unit := c.Unit
		if u := pm.child("ANGLEUNIT", "UNIT"); u != nil {
			if unit, err = u.number(1); err != nil {
				return nil, err
			}
		}
		c.Meridian = v * unit
	}
	c.Datum = d.datum(c)
	return c.OnGround(), nil
}

// datum finds the datum of the registry that a node means: by its code or its name, if the ellipsoid agrees.
func (n *wktNode) datum(c *CRS) Datum {
	code := n.epsg()
	if found, e := DatumByCode(code); found.Code != 0 && e.near(c.Ellipsoid) {
		return found
	}
	if found, e := DatumByName(n.text(0)); found.Code != 0 && e.near(c.Ellipsoid) {
		return found
	}
	return Datum{0, n.text(0)}
}

// near reports whether two ellipsoids are the same but for rounding.
func (e Ellipsoid) near(o Ellipsoid) bool {
	return math.Abs(e.A-o.A) < 0.01 && math.Abs(e.F-o.F) < 1e-8
}

// Check refuses an ellipsoid that the Earth cannot have.
func (e Ellipsoid) Check() error {
	if !(e.A > 1e6 && e.A < 1e8) || !(e.F >= 0 && e.F < 0.1) {
		return fmt.Errorf("its ellipsoid has a semi-major axis of %g m and a flattening of %g", e.A, e.F)
	}
	return nil
}

func (n *wktNode) projected() (*CRS, error) {
	b := n.child("GEOGCS", "BASEGEOGCRS", "BASEGEODCRS", "GEOGCRS", "GEODCRS")
	if b == nil {
		return nil, fmt.Errorf("its WKT names no geographic CRS to project from")
	}
	base, err := b.crs(1)
	if err != nil {
		return nil, err
	}
	if !base.Geographic() {
		return nil, fmt.Errorf("its WKT projects from %s, which is no geographic CRS", base.Name)
	}
	d := Definition{Name: n.text(0), Base: base, Unit: 1, UnitName: "metre"}
	u := n.child("UNIT", "LENGTHUNIT")
	if axis := n.child("AXIS"); u == nil && axis != nil {
		u = axis.child("LENGTHUNIT", "UNIT")
	}
	if u != nil {
		if d.Unit, err = u.number(1); err != nil {
			return nil, err
		}
		d.UnitName = strings.ToLower(u.text(0))
		if d.Unit == 1 {
			d.UnitName = "metre"
		}
	}
	holder, method := n, n.child("PROJECTION")
	if c := n.child("CONVERSION"); c != nil {
		holder, method = c, c.child("METHOD", "PROJECTION")
	}
	if method == nil {
		return nil, fmt.Errorf("its WKT names no projection method")
	}
	roles, err := holder.roles(base.Unit, d.Unit)
	if err != nil {
		return nil, err
	}
	if d.Method, err = method.method(roles); err != nil {
		return nil, err
	}
	d.Params = d.Method.Params(roles)
	return Define(d)
}

// roles reads the parameters of a projection. In WKT 1 they are in the units of the CRS.
func (n *wktNode) roles(angle, length float64) (Roles, error) {
	out := Roles{}
	for _, c := range n.nodes {
		if c.keyword != "PARAMETER" {
			continue
		}
		role := parameterRoles[plainName(c.text(0))]
		if role == "" {
			continue
		}
		v, err := c.number(1)
		if err != nil {
			return nil, err
		}
		factor := 1.0
		switch u := c.child("ANGLEUNIT", "LENGTHUNIT", "SCALEUNIT", "UNIT"); {
		case u != nil:
			if factor, err = u.number(1); err != nil {
				return nil, err
			}
			if u.keyword == "ANGLEUNIT" || u.keyword == "UNIT" && role != "fe" && role != "fn" && role != "height" && role != "scale" {
				factor /= degree
			}
		case role == "fe" || role == "fn" || role == "height":
			factor = length
		case role != "scale" && role != "escale":
			factor = angle / degree
		}
		if math.Abs(factor-1) < 1e-12 {
			factor = 1
		}
		out[role] = v * factor
	}
	return out, nil
}

// method finds the method that a node names; where texts use one name for several, the roles decide.
func (n *wktNode) method(r Roles) (Method, error) {
	name := plainName(n.text(0))
	if code := n.epsg(); code != 0 {
		name = strconv.Itoa(code)
	}
	has := func(role string) bool { _, ok := r[role]; return ok }
	switch name {
	case "polarstereographic":
		if math.Abs(r["lat0"]) == 90 {
			return MethodPolarStereographicA, nil
		}
		if !has("lat1") {
			r["lat1"] = r["lat0"]
		}
		return MethodPolarStereographicB, nil
	case "lambertconformalconic":
		if has("lat2") {
			return MethodConic2, nil
		}
		if !has("lat0") {
			r["lat0"] = r["lat1"]
		}
		return MethodConic1, nil
	case "mercator":
		if has("lat1") {
			return MethodMercatorB, nil
		}
		return MethodMercatorA, nil
	}
	if m, ok := methodNames[name]; ok {
		return m, nil
	}
	if code, err := strconv.Atoi(name); err == nil {
		return Method(code), nil // Define refuses those that are not known
	}
	return 0, fmt.Errorf("the projection method %q is not known to this version", n.text(0))
}

// plainName keeps the letters and digits of a name, in lower case.
func plainName(s string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsLetter(r) || unicode.IsDigit(r) {
			return unicode.ToLower(r)
		}
		return -1
	}, s)
}

var parameterRoles = invert(map[string]string{
	"lat0":    "latitudeoforigin latitudeofcenter latitudeofcentre latitudeofnaturalorigin latitudeoffalseorigin latitudeofprojectioncentre",
	"lon0":    "centralmeridian longitudeofcenter longitudeofcentre longitudeoforigin longitudeofnaturalorigin longitudeoffalseorigin longitudeofprojectioncentre straightverticallongitudefrompole",
	"lat1":    "standardparallel1 latitudeof1ststandardparallel latitudeofstandardparallel",
	"lat2":    "standardparallel2 latitudeof2ndstandardparallel",
	"scale":   "scalefactor scalefactoratnaturalorigin scalefactoroninitialline scalefactoratprojectioncentre scalefactoronpseudostandardparallel",
	"fe":      "falseeasting eastingatfalseorigin eastingatprojectioncentre",
	"fn":      "falsenorthing northingatfalseorigin northingatprojectioncentre",
	"azimuth": "azimuth azimuthofinitialline azimuthatprojectioncentre colatitudeofconeaxis",
	"skew":    "rectifiedgridangle anglefromrectifiedtoskewgrid",
	"pseudo":  "pseudostandardparallel1 latitudeofpseudostandardparallel",
	"escale":  "ellipsoidscalingfactor",
	"height":  "projectionplaneoriginheight",
})

func invert(m map[string]string) map[string]string {
	out := map[string]string{}
	for role, names := range m {
		for _, n := range strings.Fields(names) {
			out[n] = role
		}
	}
	return out
}

var methodNames = map[string]Method{
	"transversemercator": MethodTransverseMercator, "gausskruger": MethodTransverseMercator, "transversemercator3d": MethodTransverseMercator,
	"transversemercatorsouthorientated": MethodTransverseMercatorSouth, "lambertazimuthalequalarea": MethodLambertAzimuthalEqualArea,
	"lambertazimuthalequalareaspherical": MethodAzimuthalSpherical, "albersconicequalarea": MethodAlbers, "albersequalarea": MethodAlbers, "albers": MethodAlbers,
	"cylindricalequalarea": MethodCylindricalEqualArea, "lambertcylindricalequalarea": MethodCylindricalEqualArea,
	"lambertcylindricalequalareaspherical": MethodCylindricalSpherical,
	"mercator1sp":                          MethodMercatorA, "mercatorvarianta": MethodMercatorA, "mercator2sp": MethodMercatorB, "mercatorvariantb": MethodMercatorB,
	"mercatorauxiliarysphere": MethodPseudoMercator, "popularvisualisationpseudomercator": MethodPseudoMercator,
	"lambertconformalconic1sp": MethodConic1, "lambertconicconformal1sp": MethodConic1, "lambertconformalconic2sp": MethodConic2, "lambertconicconformal2sp": MethodConic2,
	"lambertconformalconic2spbelgium": MethodConicBelgium, "lambertconicconformal2spbelgium": MethodConicBelgium,
	"lambertconicconformal2spmichigan": MethodConicMichigan, "lambertconicconformalwestorientated": MethodConicWest,
	"polarstereographicvarianta": MethodPolarStereographicA, "polarstereographicvariantb": MethodPolarStereographicB,
	"polarstereographicvariantc": MethodPolarStereographicC, "stereographicnorthpole": MethodPolarStereographicB, "stereographicsouthpole": MethodPolarStereographicB,
	"obliquestereographic": MethodObliqueStereographic, "doublestereographic": MethodObliqueStereographic,
	"hotineobliquemercator": MethodObliqueMercatorA, "hotineobliquemercatorvarianta": MethodObliqueMercatorA, "hotineobliquemercatorazimuthnaturalorigin": MethodObliqueMercatorA,
	"rectifiedskeworthomorphicnaturalorigin": MethodObliqueMercatorA, "hotineobliquemercatorvariantb": MethodObliqueMercatorB,
	"hotineobliquemercatorazimuthcenter": MethodObliqueMercatorB, "rectifiedskeworthomorphiccenter": MethodObliqueMercatorB, "obliquemercator": MethodObliqueMercatorB,
	"cassinisoldner": MethodCassini, "cassini": MethodCassini, "polyconic": MethodPolyconic, "americanpolyconic": MethodPolyconic,
	"krovak": MethodKrovakNorth, "krovaknorthorientated": MethodKrovakNorth, "sinusoidal": MethodSinusoidal, "mollweide": MethodMollweide, "equalearth": MethodEqualEarth,
	"equidistantcylindrical": MethodEquidistantCylindrical, "equirectangular": MethodEquidistantSpherical, "platecarree": MethodEquidistantSpherical,
	"equidistantcylindricalspherical": MethodEquidistantSpherical, "colombiaurban": MethodColombiaUrban,
}
