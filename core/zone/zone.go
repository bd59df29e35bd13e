// Package zone reads zones and turns their outlines into cells.
//
// The way of the data: a reader makes a [Set] of outlines in the CRS of their file; repair.go
// mends what can be mended without changing an area and reports the rest; outline.go carries
// outlines to the cells of a grid and measures them on the ellipsoid; cutter.go
// gives, row by row, the cells that lie wholly in a zone and the exact shares of those that its
// outline cuts.
package zone

import (
	"fmt"
	"slices"
	"strings"

	"github.com/verdex-land/verdex/core/cql"
	"github.com/verdex-land/verdex/core/earth"
)

// Point is a position in CRS coordinates: x and y, or longitude and latitude.
type Point = [2]float64

// Ring is a closed outline; its last point joins its first and is not repeated.
type Ring []Point

// Polygon is a shell followed by its holes.
type Polygon []Ring

// Zone is an area that is reported on. Its polygons do not overlap.
type Zone struct {
	ID, Name string
	Polygons []Polygon
	Features int // features of the file that share the id
}

// Set is what a file of zones holds.
type Set struct {
	Source string // the file, for messages
	CRS    *earth.CRS
	Zones  []Zone
	Fields []Field
	Notes  []string // for the user: what was assumed, merged or mended
}

// Field is an attribute of the features.
type Field struct {
	Name     string `json:"name"`
	Kind     string `json:"kind"`   // text, number, true/false or mixed
	Values   int    `json:"values"` // features that have one
	Distinct int    `json:"distinct"`
	Example  string `json:"example"`
}

// Selection says which features become which zones.
type Selection struct {
	IDField, NameField string    // "" chooses by itself
	Condition          *cql.Expr // nil takes all features
}

// Attributes are the properties of a feature by field name. Values are string, float64, bool
// or nil.
type Attributes map[string]any

// feature is one feature of a file before features are gathered into zones.
type feature struct {
	id         string // the file's own identifier, when it has one
	attributes Attributes
	texts      map[string]string // attributes as they stand in the file
	polygons   []Polygon
	kind       string // geometry type

	coordinates coordinates // while it is being read
}

// gather makes zones of features.
func gather(source string, crs *earth.CRS, features []feature, fields []string, sel Selection) (*Set, error) {
	if len(features) == 0 {
		return nil, fmt.Errorf("%s: it holds no features, so there is nothing to report on", source)
	}
	s := &Set{Source: source, CRS: crs, Fields: describe(features, fields)}
	idField, nameField, err := s.chooseFields(features, fields, sel)
	if err != nil {
		return nil, err
	}
	at := map[string]int{}
	if sel.Condition != nil {
		if err := sel.Condition.Known(fields, "field"); err != nil {
			return nil, fmt.Errorf("%s: %w", source, err)
		}
	}
	for i, f := range features {
		if sel.Condition != nil {
			keep, err := sel.Condition.Holds(func(name string) any { return f.attributes[name] })
			if err != nil {
				return nil, fmt.Errorf("%s: feature %d: %w", source, i+1, err)
			}
			if !keep {
				continue
			}
		}
		id := fmt.Sprint(i + 1)
		switch {
		case idField != "":
			id = f.texts[idField]
			if id == "" {
				return nil, fmt.Errorf("%s: feature %d has no value in the id field %q: fill it in, or choose another with --zone-id", source, i+1, idField)
			}
		case f.id != "":
			id = f.id
		}
		name := ""
		if nameField != "" {
			name = f.texts[nameField]
		}
		if len(f.polygons) == 0 {
			if f.kind != "" && f.kind != "Polygon" && f.kind != "MultiPolygon" {
				return nil, fmt.Errorf("%s: feature %d (%s) is a %s, but zones are polygons", source, i+1, id, f.kind)
			}
			s.Notes = append(s.Notes, fmt.Sprintf("feature %d (%s) has no outline and is left out", i+1, id))
			continue
		}
		k, seen := at[id]
		if !seen {
			k = len(s.Zones)
			at[id] = k
			s.Zones = append(s.Zones, Zone{ID: id, Name: name})
		}
		z := &s.Zones[k]
		if z.Name != name {
			return nil, fmt.Errorf("%s: zone %s is called both %q and %q: two places share the id, so choose a field that tells them apart with --zone-id (fields: %s)",
				source, id, z.Name, name, strings.Join(fields, ", "))
		}
		z.Features++
		z.Polygons = append(z.Polygons, f.polygons...)
	}
	if len(s.Zones) == 0 {
		if sel.Condition != nil {
			return nil, fmt.Errorf("%s: the condition picks none of its %d features: %s", source, len(features), values(features, sel.Condition.Names()))
		}
		return nil, fmt.Errorf("%s: none of its %d features has an outline, so there is nothing to report on", source, len(features))
	}
	names := map[string]string{}
	for _, z := range s.Zones {
		if other, ok := names[z.Name]; ok && z.Name != "" {
			s.Notes = append(s.Notes, fmt.Sprintf("zones %s and %s are both called %q", other, z.ID, z.Name))
		}
		names[z.Name] = z.ID
	}
	var merged []string
	for _, z := range s.Zones {
		if z.Features > 1 {
			merged = append(merged, fmt.Sprintf("%s (%d)", z.ID, z.Features))
		}
	}
	if n := len(merged); n > 0 {
		if n > 5 {
			merged = append(merged[:5], fmt.Sprintf("%d more", n-5))
		}
		s.Notes = append(s.Notes, "features that share an id are one zone: "+strings.Join(merged, ", "))
	}
	return s, s.repair()
}

// values lists the values of fields, the most frequent first.
func values(features []feature, fields []string) string {
	var parts []string
	for _, name := range fields {
		count := map[string]int{}
		var order []string
		for _, f := range features {
			text, ok := f.texts[name]
			if !ok {
				text = "nothing"
			}
			if count[text]++; count[text] == 1 {
				order = append(order, text)
			}
		}
		slices.SortStableFunc(order, func(a, b string) int { return count[b] - count[a] })
		more := ""
		if len(order) > 10 {
			more = fmt.Sprintf(" and %d more", len(order)-10)
			order = order[:10]
		}
		parts = append(parts, fmt.Sprintf("%s is %s%s", name, strings.Join(order, ", "), more))
	}
	return strings.Join(parts, "; ")
}

// chooseFields settles the id and name fields and notes what was chosen.
func (s *Set) chooseFields(features []feature, fields []string, sel Selection) (id, name string, err error) {
	for _, want := range []struct{ field, option string }{{sel.IDField, "--zone-id"}, {sel.NameField, "--zone-name"}} {
		if want.field != "" && !slices.Contains(fields, want.field) {
			return "", "", fmt.Errorf("%s: it has no field %q%s: choose one with %s (fields: %s)",
				s.Source, want.field, nearly(want.field, fields), want.option, strings.Join(fields, ", "))
		}
	}
	id, name = sel.IDField, sel.NameField
	first := func(candidates ...string) string {
		for _, c := range candidates {
			if slices.Contains(fields, c) {
				return c
			}
		}
		return ""
	}
	if id == "" {
		own := true
		for _, f := range features {
			own = own && f.id != ""
		}
		if !own {
			id = first("zone_id", "id", "code")
			if id == "" {
				s.Notes = append(s.Notes, fmt.Sprintf("no --zone-id was given, so zones are numbered in the order of the file (fields: %s)", strings.Join(fields, ", ")))
			} else {
				s.Notes = append(s.Notes, fmt.Sprintf("no --zone-id was given; the field %q is used", id))
			}
			for i := range features {
				features[i].id = ""
			}
		}
	}
	if name == "" {
		name = first("zone_name", "name")
		if name == id {
			name = ""
		}
	}
	return id, name, nil
}

// nearly suggests a field whose name differs in case only or by a letter or two.
func nearly(want string, fields []string) string {
	best, distance := "", 3
	for _, f := range fields {
		d := editDistance(strings.ToLower(want), strings.ToLower(f))
		if d < distance {
			best, distance = f, d
		}
	}
	if best == "" {
		return ""
	}
	return fmt.Sprintf(" (did you mean %q?)", best)
}

func editDistance(a, b string) int {
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := range len(a) {
		last := row[0]
		row[0] = i + 1
		for j := range len(b) {
			cost := last
			if a[i] != b[j] {
				cost = 1 + min(last, row[j], row[j+1])
			}
			last, row[j+1] = row[j+1], cost
		}
	}
	return row[len(b)]
}

// describe tells what the fields of the features hold.
func describe(features []feature, fields []string) []Field {
	out := make([]Field, len(fields))
	for i, name := range fields {
		f := Field{Name: name}
		distinct := map[string]bool{}
		for _, feat := range features {
			v, ok := feat.attributes[name]
			if !ok || v == nil {
				continue
			}
			kind := "mixed"
			switch v.(type) {
			case string:
				kind = "text"
			case float64:
				kind = "number"
			case bool:
				kind = "true/false"
			}
			if f.Values > 0 && f.Kind != kind {
				kind = "mixed"
			}
			f.Kind = kind
			f.Values++
			if f.Example == "" {
				f.Example = feat.texts[name]
			}
			distinct[feat.texts[name]] = true
		}
		f.Distinct = len(distinct)
		out[i] = f
	}
	return out
}
