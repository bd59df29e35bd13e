// Package features reads collections of servers that follow OGC API - Features, page by page. The box and the condition of a [Query] are handed to the server where
// it declares that it knows them, and coordinates are asked for in the CRS that the server stores (Part 2), so that no server transforms outlines before they
// are measured.
package features

import (
	"bytes"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/fault"
	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/vector"
	"github.com/verdex-land/verdex/core/vector/geojson"
)

// Query says which features are wanted.
type Query struct {
	// Box is west, south, east, north in degrees; nil for everywhere. West is greater than east where the box crosses the antimeridian.
	Box *[4]float64
	// Filter is a condition in CQL2 text, "" for none. A server that does not know it sends more than it holds for.
	Filter string
	// ID is the field whose equal values make features one zone, "" for none: of a zone that the box meets all features are wanted, also those that lie elsewhere.
	ID string
}

// What a server may send: more is an error, because it would not end.
const (
	mostPages    = 20000
	mostFeatures = 5_000_000
	mostBytes    = 4 << 30
	pageSize     = 1000
)

// document is what servers answer: a landing page, a collection, or a page of features.
type document struct {
	Type       string          `json:"type"`
	ID         any             `json:"id"`
	Links      []link          `json:"links"`
	CRS        []string        `json:"crs"`
	Storage    string          `json:"storageCrs"`
	Matched    *int64          `json:"numberMatched"`
	Conforms   []string        `json:"conformsTo"`
	Items      json.RawMessage `json:"features"`
	Collection []struct {
		ID string `json:"id"`
	} `json:"collections"`
}

type link struct {
	Rel, Href, Type string
}

func (d *document) link(rel string, types ...string) string {
	for _, l := range d.Links {
		if (l.Rel == rel || strings.HasSuffix(l.Rel, "/"+rel)) && (len(types) == 0 || l.Type == "" || slices.Contains(types, l.Type)) {
			return l.Href
		}
	}
	return ""
}

// get reads a document.
func get(from files.System, where string) (*document, int, error) {
	data, err := from.ReadFile(where)
	if err != nil {
		return nil, 0, err
	}
	d := new(document)
	if err := json.Unmarshal(data, d); err != nil {
		return nil, 0, fault.Errorf("%s: it is not JSON that can be read (%v): check the address", where, err)
	}
	return d, len(data), nil
}

// Is reports whether the text of a file is that of such a server: a collection, or a page of features that names the next one.
func Is(data []byte) bool {
	var d document
	if !bytes.Contains(data, []byte(`"links"`)) || json.Unmarshal(data, &d) != nil {
		return false
	}
	return d.link("items") != "" || d.link("next") != "" || d.Type == "FeatureCollection" && d.link("self") != "" || len(d.Conforms) > 0 || d.link("conformance") != "" || len(d.Collection) > 0
}

// Read reads the features of a collection (…/collections/NAME) that a query asks for, or those of an address of items as it is.
func Read(from files.System, where string, q Query) (*vector.Layer, error) {
	d, _, err := get(from, where)
	if err != nil {
		return nil, err
	}
	if d.Type == "FeatureCollection" {
		c := collected{part: strings.Contains(where, "?")}
		if err := c.read(from, where, where); err != nil {
			return nil, err
		}
		return c.layer(where)
	}
	items := d.link("items", "application/geo+json", "application/json")
	if items == "" {
		return nil, notACollection(from, where, d)
	}
	if items, err = files.Follow(from, where, items); err != nil {
		return nil, err
	}
	filters := (q.Filter != "" || q.Box != nil && q.ID != "") && knowsFilters(from, where, d)
	if !filters {
		q.Filter = ""
		if q.ID != "" { // nothing asks for the rest of zones
			q.Box = nil
		}
	}
	crs, swapped, note := storedCRS(from, items, d)
	ask := func(box *[4]float64, filter string) string {
		parameters := url.Values{"limit": {strconv.Itoa(pageSize)}}
		if box != nil {
			parameters.Set("bbox", fmt.Sprintf("%.7f,%.7f,%.7f,%.7f", box[0], box[1], box[2], box[3]))
		}
		if filter != "" {
			parameters.Set("filter", filter)
			parameters.Set("filter-lang", "cql2-text")
		}
		if crs != nil {
			parameters.Set("crs", d.Storage)
		}
		return with(items, parameters)
	}
	l, err := one(from, where, ask(q.Box, q.Filter))
	if err != nil && q.Filter != "" { // the condition may use what the server does not know
		q.Filter, q.Box = "", nil
		l, err = one(from, where, ask(nil, ""))
	}
	if err == nil && q.Box != nil && q.ID != "" {
		if chosen := ofZones(l, q); chosen != nil {
			var pages collected
			for _, filter := range chosen {
				if err := pages.read(from, where, ask(nil, filter)); err != nil {
					return nil, err
				}
			}
			l, err = pages.layer(where)
		} else {
			l, err = one(from, where, ask(nil, q.Filter))
		}
	}
	if err != nil {
		return nil, err
	}
	if crs != nil {
		if l.CRS, l.CRSAssumed = crs, false; swapped {
			swap(l)
		}
	}
	if note != "" {
		l.Notes = append(l.Notes, where+": "+note)
	}
	return l, nil
}

// ofZones are conditions that together pick all features of the zones of a layer, nil where there are too many of them or the field is none.
func ofZones(l *vector.Layer, q Query) (out []string) {
	at := l.Field(q.ID)
	if at < 0 {
		return nil
	}
	seen := map[string]bool{}
	var values []string
	for _, f := range l.Features {
		v := ""
		switch x := f.Values[at].(type) {
		case string:
			v = "'" + strings.ReplaceAll(x, "'", "''") + "'"
		case int64:
			v = strconv.FormatInt(x, 10)
		default:
			return nil
		}
		if !seen[v] {
			seen[v] = true
			values = append(values, v)
		}
	}
	if len(values) > 2000 || len(values) == 0 {
		return nil
	}
	for chunk := range slices.Chunk(values, 50) {
		c := fmt.Sprintf("\"%s\" IN (%s)", strings.ReplaceAll(q.ID, `"`, `""`), strings.Join(chunk, ","))
		if q.Filter != "" {
			c = "(" + q.Filter + ") AND " + c
		}
		out = append(out, c)
	}
	return out
}

// notACollection says what an address is that names no collection.
func notACollection(from files.System, where string, d *document) error {
	names := d.Collection
	if data := d.link("data"); data != "" && len(names) == 0 {
		if at, err := files.From(where, data); err == nil {
			if list, _, err := get(from, at); err == nil {
				names = list.Collection
			}
		}
	}
	if len(names) == 0 {
		return fault.Errorf("%s: it is neither a collection of features nor a page of one: name …/collections/NAME", where)
	}
	var ids []string
	for _, c := range names {
		ids = append(ids, c.ID)
	}
	return fault.Errorf("%s: it is a server of several collections: name one, as …/collections/%s (%s)", where, ids[0], strings.Join(ids[:min(len(ids), 20)], ", "))
}

// with adds parameters to an address.
func with(where string, more url.Values) string {
	u, err := url.Parse(where)
	if err != nil {
		return where
	}
	v := u.Query()
	for key, values := range more {
		v[key] = values
	}
	u.RawQuery = v.Encode()
	return u.String()
}

// knowsFilters reports whether a server declares that it picks features by CQL2 text.
func knowsFilters(from files.System, where string, d *document) bool {
	at := d.link("conformance")
	if at == "" {
		base, _, ok := strings.Cut(where, "/collections/")
		if !ok {
			return false
		}
		at = base + "/conformance"
	}
	at, err := files.From(where, at)
	if err != nil {
		return false
	}
	c, _, err := get(from, at)
	if err != nil {
		return false
	}
	has := func(ending string) bool {
		return slices.ContainsFunc(c.Conforms, func(uri string) bool { return strings.HasSuffix(uri, ending) })
	}
	return has("/conf/cql2-text") && (has("/conf/features-filter") || has("/conf/filter"))
}

var epsgURI = regexp.MustCompile(`/EPSG/[^/]*/([0-9]+)$`)

// storedCRS finds the CRS that a server stores outlines in, and whether it sends the second axis first. It is nil where coordinates come as longitude and latitude.
// Servers send axes in the order of the CRS or in the usual one; which it is shows by the same feature in longitude and latitude.
func storedCRS(from files.System, items string, d *document) (crs *earth.CRS, swapped bool, note string) {
	code := epsgURI.FindStringSubmatch(d.Storage)
	if code == nil {
		return nil, false, ""
	}
	n, err := strconv.Atoi(code[1])
	if err != nil {
		return nil, false, ""
	}
	if crs, err = earth.Lookup(n); err != nil {
		return nil, false, fmt.Sprintf("its outlines are stored in EPSG:%d, which is not known, and are read in longitude and latitude", n)
	}
	first := func(crs string) (p vector.Point, ok bool) {
		parameters := url.Values{"limit": {"1"}}
		if crs != "" {
			parameters.Set("crs", crs)
		}
		data, err := from.ReadFile(with(items, parameters))
		if err != nil {
			return p, false
		}
		l, err := geojson.Parse(items, data)
		if err != nil || len(l.Features) == 0 {
			return p, false
		}
		g := &l.Features[0].Geometry
		if len(g.Points) > 0 {
			return g.Points[0], true
		}
		if len(g.Polygons) == 0 || len(g.Polygons[0]) == 0 || len(g.Polygons[0][0]) == 0 {
			return p, false
		}
		return g.Polygons[0][0][0], true
	}
	degrees, ok1 := first("")
	stored, ok2 := first(d.Storage)
	if !ok1 || !ok2 {
		return nil, false, ""
	}
	x, y, ok := crs.FromGeographic(degrees[0]*math.Pi/180, degrees[1]*math.Pi/180)
	straight, turned := math.Hypot(stored[0]-x, stored[1]-y), math.Hypot(stored[1]-x, stored[0]-y)
	most := 2000.0 // datums differ by some hundred metres, axes by far more
	if crs.Geographic() {
		most = 0.02
	}
	if !ok || math.Min(straight, turned) > most || straight == turned {
		return nil, false, fmt.Sprintf("what it sends as EPSG:%d does not lie where its longitudes and latitudes do, so these are read", n)
	}
	return crs, turned < straight, ""
}

// swap exchanges the coordinates of a layer.
func swap(l *vector.Layer) {
	for i := range l.Features {
		g := &l.Features[i].Geometry
		for _, p := range g.Polygons {
			for _, r := range p {
				for k := range r {
					r[k][0], r[k][1] = r[k][1], r[k][0]
				}
			}
		}
		for k := range g.Points {
			g.Points[k][0], g.Points[k][1] = g.Points[k][1], g.Points[k][0]
		}
	}
}

// collected are the features of pages, as text.
type collected struct {
	text         []byte
	count, bytes int
	part         bool // the address may ask for some of what the server counts
}

// one reads the features from a page on.
func one(from files.System, source, first string) (*vector.Layer, error) {
	var c collected
	if err := c.read(from, source, first); err != nil {
		return nil, err
	}
	return c.layer(source)
}

// read reads pages from one on.
func (c *collected) read(from files.System, source, first string) error {
	seen, contents := map[string]bool{}, map[[sha256.Size]byte]bool{}
	before, empty := c.count, 0
	var matched *int64
	for next := first; next != ""; {
		if seen[next] {
			return fault.Errorf("%s: the server sends a page that it has sent already, so that its pages do not end: tell its operator", source)
		}
		if seen[next] = true; len(seen) > mostPages {
			return endless(source)
		}
		d, n, err := get(from, next)
		if err != nil {
			return err
		}
		if d.Type != "FeatureCollection" {
			return fault.Errorf("%s: a page of it holds no features: check the address", source)
		}
		if len(seen) == 1 {
			matched = d.Matched
		}
		inner, k, err := within(d.Items)
		if err != nil {
			return fault.Errorf("%s: a page of it is not GeoJSON (%v): tell the operator of the server", source, err)
		}
		if k > 0 {
			content := sha256.Sum256(inner)
			if contents[content] {
				return fault.Errorf("%s: the server sends a page with the features of one that it has sent already, so that its pages do not end: tell its operator", source)
			}
			contents[content] = true
		}
		c.bytes, c.count = c.bytes+n, c.count+k
		if empty++; k > 0 {
			empty = 0
			if len(c.text) > 0 {
				c.text = append(c.text, ',')
			}
			c.text = append(c.text, inner...)
		}
		if c.bytes > mostBytes || c.count > mostFeatures || empty > 3 {
			return endless(source)
		}
		if next = d.link("next"); next != "" {
			if next, err = files.Follow(from, first, next); err != nil {
				return err
			}
		}
	}
	if got := int64(c.count - before); matched != nil && *matched != got && !c.part {
		return fault.Errorf("%s: the server says that it has %d features, and has sent %d: run the command again", source, *matched, got)
	}
	return nil
}

// layer makes a layer of the features.
func (c *collected) layer(source string) (*vector.Layer, error) {
	l, err := geojson.Parse(source, slices.Concat([]byte(`{"type":"FeatureCollection","features":[`), c.text, []byte("]}")))
	if err != nil {
		return nil, err
	}
	ids := map[string]bool{}
	for _, f := range l.Features {
		if f.ID != "" && ids[f.ID] {
			return nil, fault.Errorf("%s: the server has sent the feature %s on two pages, because its data were changed: run the command again", source, f.ID)
		}
		ids[f.ID] = true
	}
	return l, nil
}

func endless(source string) error {
	return fault.Errorf("%s: the pages of the server do not end: pick features with a condition, or name an address of items with a limit", source)
}

// within is what stands between the brackets of a list, and how many items it has.
func within(list json.RawMessage) ([]byte, int, error) {
	var items []json.RawMessage
	if err := json.Unmarshal(list, &items); err != nil {
		return nil, 0, errors.New("it has no list of features")
	}
	list = bytes.TrimSpace(list)
	return bytes.TrimSpace(list[1 : len(list)-1]), len(items), nil
}
