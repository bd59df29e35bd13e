package zone

import (
	"fmt"
	"math"
	"strings"

	"github.com/verdex-land/verdex/core/decimal"
	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/vector"
)

// IsText reports whether a text is a zone itself instead of the name of a file: a box, a geo URI or WKT.
func IsText(text string) bool {
	lower := strings.ToLower(strings.TrimSpace(text))
	for _, prefix := range []string{"bbox:", "geo:", "polygon", "multipolygon", "point", "linestring", "geometrycollection"} {
		rest, ok := strings.CutPrefix(lower, prefix)
		if ok && (strings.HasSuffix(prefix, ":") || strings.HasPrefix(strings.TrimLeft(rest, " zm"), "(")) {
			return true
		}
	}
	return false
}

// FromText makes the one zone that a text describes: bbox:W,S,E,N in degrees, a geo URI with an uncertainty
// (RFC 5870) for a circle, or the WKT of a polygon in crs, longitude and latitude on WGS 84 when crs
// is nil.
func FromText(text string, crs *earth.CRS) (*Set, error) {
	text = strings.TrimSpace(text)
	if box, ok := strings.CutPrefix(text, "bbox:"); ok {
		return Box(box)
	}
	if strings.HasPrefix(strings.ToLower(text), "geo:") {
		return geoURI(text)
	}
	g, err := vector.FromWKT(text)
	if err != nil {
		return nil, fmt.Errorf("the zone %q is not valid WKT (%w): write it like POLYGON((12.4 58.2, 12.6 58.2, 12.5 58.3, 12.4 58.2))", shorten(text), err)
	}
	if crs == nil {
		if crs, err = earth.Lookup(4326); err != nil {
			return nil, err
		}
	}
	if g.Type != "Polygon" && g.Type != "MultiPolygon" {
		return nil, fmt.Errorf("the zone %q is a %s, but zones are polygons; for a circle around a point write geo:LAT,LON;u=METRES", shorten(text), g.Type)
	}
	if g.Empty() {
		return nil, fmt.Errorf("the zone %q is empty", shorten(text))
	}
	s := &Set{Source: "the zone given as WKT", CRS: crs, Zones: []Zone{{ID: "wkt", Name: shorten(text), Features: 1, Polygons: g.Polygons}}}
	return s, s.repair()
}

func shorten(text string) string {
	if r := []rune(text); len(r) > 40 {
		return string(r[:39]) + "…"
	}
	return text
}

// geoURI reads geo:LAT,LON;u=METRES (RFC 5870): the uncertainty is the radius.
func geoURI(text string) (*Set, error) {
	wrong := fmt.Errorf("%q: a circle is written as geo:LATITUDE,LONGITUDE;u=METRES, for example geo:58.31,12.52;u=5000", text)
	parts := strings.Split(text[len("geo:"):], ";")
	var v []float64
	for _, p := range strings.Split(parts[0], ",") {
		x, err := decimal.Parse(p)
		if err != nil {
			return nil, wrong
		}
		v = append(v, x)
	}
	radius := 0.0
	for _, p := range parts[1:] {
		name, value, _ := strings.Cut(p, "=")
		switch strings.ToLower(name) {
		case "u":
			x, err := decimal.Parse(value)
			if err != nil {
				return nil, wrong
			}
			radius = x
		case "crs":
			if strings.ToLower(value) != "wgs84" {
				return nil, fmt.Errorf("%q: a geo URI in the CRS %s is not read, only in wgs84", text, value)
			}
		}
	}
	if len(v) < 2 || len(v) > 3 || !(radius > 0) {
		return nil, wrong
	}
	if math.Abs(v[0]) > 90 {
		return nil, fmt.Errorf("%q: in a geo URI the latitude comes first and lies within 90°, then the longitude", text)
	}
	return Circle(v[1], v[0], radius)
}

// circlePoints is how many corners a circle has.
const circlePoints = 1440

// Circle is the zone within a distance in metres, along the ellipsoid of WGS 84, of the place at a longitude
// and latitude in degrees. It has
// 1,440 corners, put so that the area is that of the circle to a few parts in 10⁸.
func Circle(lon, lat, radius float64) (*Set, error) {
	if !(math.Abs(lat) <= 90 && math.Abs(lon) <= 540) {
		return nil, fmt.Errorf("a circle around the longitude %g and the latitude %g: a latitude lies within 90°", lon, lat)
	}
	crs, err := earth.Lookup(4326)
	if err != nil {
		return nil, err
	}
	const deg = math.Pi / 180
	if !(radius > 0 && radius <= 2e6) {
		return nil, fmt.Errorf("a circle of %g m: the radius lies above 0 and up to 2,000 km", radius)
	}
	n := circlePoints
	toPole := (90 - math.Abs(lat)) * 111e3
	if toPole < 3*radius { // where edges in degrees turn away from geodesics
		n *= 10
	}
	// A polygon of n corners at the radius r has the area of a circle of r·√(sin θ/θ), θ = 2π/n.
	theta := 2 * math.Pi / float64(n)
	r := radius * math.Sqrt(theta/math.Sin(theta))
	corner := func(azimuth float64) Point { // counter-clockwise
		x, y := crs.Ellipsoid.Direct(lon*deg, lat*deg, -azimuth, r)
		return Point{x / deg, y / deg}
	}
	var ring Ring
	var on func(azimuth, step float64, depth int)
	on = func(azimuth, step float64, depth int) { // goes on to the corner at azimuth, with corners between where longitude runs fast
		p, before := corner(azimuth), ring[len(ring)-1]
		p[0] = before[0] + math.Remainder(p[0]-before[0], 360)
		if math.Abs(p[0]-before[0]) > 0.5 && depth < 12 {
			on(azimuth-step/2, step/2, depth+1)
			on(azimuth, step/2, depth+1)
			return
		}
		ring = append(ring, p)
	}
	ring = append(ring, corner(0))
	for i := 1; i < n; i++ {
		on(theta*float64(i), theta, 0)
	}
	// Around a pole the outline ends a turn from where it began, and is closed along the pole.
	first, last := ring[0], ring[len(ring)-1]
	if end := last[0] + math.Remainder(first[0]-last[0], 360); math.Abs(end-first[0]) > 180 {
		pole := math.Copysign(90, lat)
		ring = append(ring, Point{end, first[1]}, Point{end, pole}, Point{first[0], pole})
	}
	name := fmt.Sprintf("%g m around %g, %g", radius, lat, lon)
	return &Set{Source: "the circle", CRS: crs, Zones: []Zone{{ID: "circle", Name: name, Features: 1, Polygons: []Polygon{{ring}}}}}, nil
}
