// Package zone reads zones and turns their outlines into cells.
//
// The way of the data: [FromLayer] makes a [Set] of the features of a file, in its CRS; repair.go
// mends what can be mended without changing an area and reports the rest; outline.go carries
// outlines to the cells of a grid and measures them on the ellipsoid; cutter.go
// gives, row by row, the cells that lie wholly in a zone and the exact shares of those that its
// outline cuts.
package zone

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"

	"github.com/verdex-land/verdex/core/cql"
	"github.com/verdex-land/verdex/core/decimal"
	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/fault"
	"github.com/verdex-land/verdex/core/text"
	"github.com/verdex-land/verdex/core/vector"
)

// Point, Ring and Polygon are those of package vector.
type (
	Point   = vector.Point
	Ring    = vector.Ring
	Polygon = vector.Polygon
)

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
	Notes  []string // for the user: what was assumed, merged or mended
}

// Selection says which features become which zones.
type Selection struct {
	IDField, NameField string    // "" chooses by itself
	Condition          *cql.Expr // nil takes all features
	// The options that choose the fields, for messages; "" for zone-id and zone-name.
	IDOption, NameOption string
}

func (s Selection) idOption() string   { return cmp.Or(s.IDOption, "zone-id") }
func (s Selection) nameOption() string { return cmp.Or(s.NameOption, "zone-name") }

// FromLayer makes zones of the features of a layer: those for which the condition holds; features that share an id
// are one zone.
func FromLayer(l *vector.Layer, sel Selection) (*Set, error) {
	if l.CRS == nil {
		return nil, fault.Errorf("%s: %s", l.Source, l.CRSProblem).By("give its CRS", "zones-crs", "")
	}
	if len(l.Features) == 0 {
		return nil, fmt.Errorf("%s: it holds no features, so there is nothing to report on", l.Source)
	}
	s := &Set{Source: l.Source, CRS: l.CRS, Notes: slices.Clone(l.Notes)}
	keys, err := s.chooseFields(l, sel)
	if err != nil {
		return nil, err
	}
	picked, err := Pick(l, sel.Condition)
	if err != nil {
		return nil, err
	}
	at := make(map[string]int, len(picked))
	s.Zones = make([]Zone, 0, len(picked))
	for _, i := range picked {
		f := &l.Features[i]
		id, err := keys.id(l, i)
		if err != nil {
			return nil, err
		}
		name := ""
		if keys.nameField >= 0 {
			name = l.Cell(i, keys.nameField)
		}
		if len(f.Geometry.Polygons) == 0 {
			if t := f.Geometry.Type; t != "" && t != "Polygon" && t != "MultiPolygon" {
				switch {
				case strings.EqualFold(t, "Polygon") || strings.EqualFold(t, "MultiPolygon"):
					return nil, fmt.Errorf("%s: feature %d (%s) has the type of geometry %q, which GeoJSON writes as Polygon or MultiPolygon: correct the file", l.Source, i+1, id, t)
				case t == "GeometryCollection":
					return nil, fmt.Errorf("%s: feature %d (%s) is a GeometryCollection, of which no zone can be made: save its polygons as a MultiPolygon", l.Source, i+1, id)
				}
				wrong := fault.Errorf("%s: feature %d (%s) is a %s, but zones are polygons", l.Source, i+1, id, t)
				if len(f.Geometry.Points) > 0 {
					wrong.Through("make circles around the points", "zones buffer")
				}
				return nil, wrong
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
			return nil, fault.Errorf("%s: zone %s is called both %q and %q, so two places share the id", s.Source, id, z.Name, name).
				By("choose a field that identifies them, one of "+strings.Join(l.FieldNames(), ", ")+",", sel.idOption(), "FIELD")
		}
		z.Features++
		if z.Polygons == nil {
			z.Polygons = slices.Clip(f.Geometry.Polygons)
		} else {
			z.Polygons = append(z.Polygons, f.Geometry.Polygons...)
		}
	}
	if len(s.Zones) == 0 {
		return nil, fmt.Errorf("%s: none of its %d features has an outline, so there is nothing to report on", l.Source, len(l.Features))
	}
	s.noteNames()
	return s, s.repair()
}

// noteNames notes names that several zones have, and zones of several features.
func (s *Set) noteNames() {
	names := map[string]string{}
	var twins []string
	for _, z := range s.Zones {
		if z.Name == "" {
			continue
		}
		if other, ok := names[z.Name]; ok {
			twins = append(twins, fmt.Sprintf("zones %s and %s are both called %q", other, z.ID, z.Name))
		}
		names[z.Name] = z.ID
	}
	if n := len(twins); n > 5 {
		twins = append(twins[:5], fmt.Sprintf("%d more zones share their names with others", n-5))
	}
	s.Notes = append(s.Notes, twins...)
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
}

// Pick gives the numbers of the features for which a condition holds; all without one. A condition that picks none
// is an error that shows the values of its fields.
func Pick(l *vector.Layer, condition *cql.Expr) ([]int, error) {
	var out []int
	if condition == nil {
		for i := range l.Features {
			out = append(out, i)
		}
		return out, nil
	}
	if err := condition.Known(l.FieldNames(), "field"); err != nil {
		return nil, fmt.Errorf("%s: %w", l.Source, err)
	}
	at := map[string]int{}
	for i, f := range l.Fields {
		at[f.Name] = i
	}
	for i := range l.Features {
		keep, err := condition.Holds(func(name string) any {
			v := l.Features[i].Values[at[name]]
			if n, ok := vector.Number(v); ok && math.Abs(n) < decimal.Exact {
				return n
			}
			return v
		})
		if err != nil {
			return nil, fmt.Errorf("%s: feature %d: %w", l.Source, i+1, err)
		}
		if keep {
			out = append(out, i)
		}
	}
	if len(out) == 0 {
		return nil, fmt.Errorf("%s: the condition picks none of its %d features: %s", l.Source, len(l.Features), values(l, condition.Names()))
	}
	return out, nil
}

// values lists the values of fields, the most frequent first.
func values(l *vector.Layer, fields []string) string {
	var parts []string
	for _, name := range fields {
		k := l.Field(name)
		count := map[string]int{}
		var order []string
		for i, f := range l.Features {
			text := "nothing"
			if f.Values[k] != nil {
				text = l.Cell(i, k)
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

// keys are what identifies features.
type keys struct {
	idField, nameField int    // -1 for none
	own                bool   // the file's own identifiers are ids
	option             string // that chooses the id field
}

func (k keys) id(l *vector.Layer, feature int) (string, error) {
	f := &l.Features[feature]
	switch {
	case k.idField >= 0:
		id, err := l.ID(feature, k.idField)
		if err != nil {
			return "", fmt.Errorf("%s: feature %d, field %s: %w", l.Source, feature+1, l.Fields[k.idField].Name, err)
		}
		if id == "" {
			return "", fault.Errorf("%s: feature %d has no value in the id field %q", l.Source, feature+1, l.Fields[k.idField].Name).Do("fill it in").By("choose another", k.option, "FIELD")
		}
		return id, nil
	case k.own:
		return strings.TrimSpace(f.ID), nil
	}
	return fmt.Sprint(feature + 1), nil
}

// Need finds a field of a layer by its name, which an option gives.
func Need(l *vector.Layer, field, option string) (int, error) {
	k := l.Field(field)
	if k < 0 {
		return k, fault.Errorf("%s: it has no field %q%s", l.Source, field, nearly(field, l.FieldNames())).By("choose one of "+strings.Join(l.FieldNames(), ", "), option, "FIELD")
	}
	return k, nil
}

// chooseFields settles the id and name fields and notes what was chosen.
func (s *Set) chooseFields(l *vector.Layer, sel Selection) (k keys, err error) {
	k.idField, k.nameField, k.option = -1, -1, sel.idOption()
	if sel.IDField != "" {
		if k.idField, err = Need(l, sel.IDField, sel.idOption()); err != nil {
			return k, err
		}
	}
	if sel.NameField != "" {
		if k.nameField, err = Need(l, sel.NameField, sel.nameOption()); err != nil {
			return k, err
		}
	}
	first := func(candidates ...string) int {
		for _, c := range candidates {
			if i := l.Field(c); i >= 0 {
				return i
			}
		}
		return -1
	}
	if k.idField < 0 {
		k.own = !slices.ContainsFunc(l.Features, func(f vector.Feature) bool { return f.ID == "" })
		if !k.own {
			if k.idField = first("zone_id", "id", "code", "patch_id"); k.idField < 0 {
				s.Notes = append(s.Notes, fmt.Sprintf("no field of ids was chosen, so zones are numbered in the order of the file (fields: %s)", strings.Join(l.FieldNames(), ", ")))
			} else {
				s.Notes = append(s.Notes, fmt.Sprintf("no field of ids was chosen, so the field %q is used", l.Fields[k.idField].Name))
			}
		}
	}
	if k.idField >= 0 {
		l.Written(k.idField)
	}
	if k.nameField < 0 {
		if k.nameField = first("zone_name", "name"); k.nameField == k.idField {
			k.nameField = -1
		}
	}
	return k, nil
}

// nearly suggests a field whose name differs in case only or by a letter or two.
func nearly(want string, fields []string) string {
	best, distance := "", 3
	for _, f := range fields {
		d := text.Distance(strings.ToLower(want), strings.ToLower(f))
		if d < distance {
			best, distance = f, d
		}
	}
	if best == "" {
		return ""
	}
	return fmt.Sprintf(" (did you mean %q?)", best)
}
