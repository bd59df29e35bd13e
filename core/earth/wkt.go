package earth

import (
	"fmt"
	"math"
	"strconv"
	"strings"
	"unicode"

	"github.com/verdex-land/verdex/core/earth/ellipsoid"
	"github.com/verdex-land/verdex/core/earth/projection"
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
	c := &CRS{Name: n.text(0), Ellipsoid: ellipsoid.Ellipsoid{Name: e.text(0), A: a}, Unit: degree, UnitName: "degree"}
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
	if found, e := DatumByCode(code); found.Code != 0 && e.Near(c.Ellipsoid) {
		return found
	}
	if found, e := DatumByName(n.text(0)); found.Code != 0 && e.Near(c.Ellipsoid) {
		return found
	}
	return Datum{0, n.text(0)}
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
		return nil, fmt.Errorf("its WKT projects from %s, which is not a geographic CRS", base.Name)
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
	if d.Params, err = holder.params(base.Unit, d.Unit); err != nil {
		return nil, err
	}
	if d.Method, err = method.method(d.Params); err != nil {
		return nil, err
	}
	return Define(d)
}

// params reads the parameters of a projection. In WKT 1 they are in the units of the CRS.
func (n *wktNode) params(angle, length float64) (projection.Params, error) {
	out := projection.Params{}
	for _, c := range n.nodes {
		if c.keyword != "PARAMETER" {
			continue
		}
		role := roleOf[plainName(c.text(0))]
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
			if u.keyword == "ANGLEUNIT" || u.keyword == "UNIT" && role.Angle() {
				factor /= degree
			}
		case role.Length():
			factor = length
		case role.Angle():
			factor = angle / degree
		}
		if math.Abs(factor-1) < 1e-12 {
			factor = 1
		}
		out[role] = v * factor
	}
	return out, nil
}

// method finds the method that a node names, by its EPSG code or its name; where texts use one name for several, the
// parameters decide.
func (n *wktNode) method(p projection.Params) (*projection.Method, error) {
	if code := n.epsg(); code != 0 {
		if m := projection.ByCode(code); m != nil {
			return m, nil
		}
		return nil, fmt.Errorf("the projection method EPSG:%d is not known to this version", code)
	}
	if m := projection.ByText(plainName(n.text(0)), p); m != nil {
		return m, nil
	}
	return nil, fmt.Errorf("the projection method %q is not known to this version, or its parameters are incomplete", n.text(0))
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

// roleOf are the roles of parameters by their names in texts.
var roleOf = invert(map[projection.Role]string{
	projection.Lat0:         "latitudeoforigin latitudeofcenter latitudeofcentre latitudeofnaturalorigin latitudeoffalseorigin latitudeofprojectioncentre",
	projection.Lon0:         "centralmeridian longitudeofcenter longitudeofcentre longitudeoforigin longitudeofnaturalorigin longitudeoffalseorigin longitudeofprojectioncentre straightverticallongitudefrompole",
	projection.Lat1:         "standardparallel1 latitudeof1ststandardparallel latitudeofstandardparallel",
	projection.Lat2:         "standardparallel2 latitudeof2ndstandardparallel",
	projection.Scale:        "scalefactor scalefactoratnaturalorigin scalefactoroninitialline scalefactoratprojectioncentre scalefactoronpseudostandardparallel",
	projection.East:         "falseeasting eastingatfalseorigin",
	projection.North:        "falsenorthing northingatfalseorigin",
	projection.CentreEast:   "eastingatprojectioncentre",
	projection.CentreNorth:  "northingatprojectioncentre",
	projection.Azimuth:      "azimuth azimuthofinitialline azimuthatprojectioncentre colatitudeofconeaxis",
	projection.Skew:         "rectifiedgridangle anglefromrectifiedtoskewgrid",
	projection.Pseudo:       "pseudostandardparallel1 latitudeofpseudostandardparallel",
	projection.EllipsoidK:   "ellipsoidscalingfactor",
	projection.OriginHeight: "projectionplaneoriginheight",
})

func invert(m map[projection.Role]string) map[string]projection.Role {
	out := map[string]projection.Role{}
	for role, names := range m {
		for _, n := range strings.Fields(names) {
			out[n] = role
		}
	}
	return out
}
