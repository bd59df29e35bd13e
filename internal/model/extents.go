package model

import (
	"iter"
	"math"
	"slices"

	"github.com/verdex-land/verdex/core/area"
	"github.com/verdex-land/verdex/core/check"
	"github.com/verdex-land/verdex/core/extent"

	"github.com/verdex-land/verdex/core/cover"
)

// Zone is what the long table of extents says of a zone at an epoch. Areas are in the unit of the table.
type Zone struct {
	Epoch, ID, Name      string
	WithinID, WithinName string // the larger unit, "" for none
	Parts                []Part
}

// Part is the extent of a class in a zone, or of ground of no class.
type Part struct {
	Kind       string // class, nodata, unlisted or outside
	Code, Name string
	Area       float64
	Cells      float64 // NaN where there are none
	Nominal    float64 // NaN where there is none
}

var (
	extentColumns = extentsKind.Columns
	withinColumns = pick("within_id,within_name")
)

// Extents is the long table of extents: a row for each part of each zone. count is how many rows there are, -1 when it is not known.
func Extents(unit area.Unit, within bool, count int, zones iter.Seq[*Zone]) *Table {
	t := &Table{Name: "extents", Title: "Extents in " + unit.Label, Columns: extentColumns, Count: count}
	if within {
		t.Columns = slices.Concat(extentColumns, withinColumns)
	}
	t.Rows = boxed(rowsOf(unit, within, zones))
	return t
}

// rowsOf are the rows of zones in the long table of extents, as [Stretch] has them.
func rowsOf(unit area.Unit, within bool, zones iter.Seq[*Zone]) iter.Seq[[]any] {
	return func(yield func([]any) bool) {
		row := make([]any, 0, len(extentColumns)+len(withinColumns))
		unitName := any(unit.Name)
		var share, pct, cells, nominal float64
		// The part of a zone at a place is mostly of the same class as that of the zone before, and a text as a value of a row takes memory of its own.
		type texts struct {
			kind, code, name                string
			kindValue, codeValue, nameValue any
		}
		var last []texts
		for z := range zones {
			epoch, id, name := any(z.Epoch), any(z.ID), any(z.Name)
			whole, classified := Sums(z.Parts)
			for i := range z.Parts {
				p := &z.Parts[i]
				if i == len(last) {
					last = append(last, texts{})
				}
				of := &last[i]
				if of.kind != p.Kind || of.code != p.Code || of.name != p.Name || of.kindValue == nil {
					*of = texts{p.Kind, p.Code, p.Name, p.Kind, p.Code, p.Name}
				}
				share, pct, cells, nominal = area.Percent(p.Area, whole), math.NaN(), p.Cells, p.Nominal
				if p.Kind == "class" {
					pct = area.Percent(p.Area, classified)
				}
				row = append(row[:0], epoch, id, name, of.kindValue, of.codeValue, of.nameValue, &p.Area, unitName, &share, &pct, &cells, &nominal)
				if within {
					row = append(row, z.WithinID, z.WithinName)
				}
				if !yield(row) {
					return
				}
			}
		}
	}
}

// boxed are rows of a stretch with numbers that stay what they are.
func boxed(rows iter.Seq[[]any]) iter.Seq[[]any] {
	return func(yield func([]any) bool) {
		var out []any
		for row := range rows {
			out = append(out[:0], row...)
			var last any // a number as a value takes memory of its own, and an area is often its nominal area too
			for i, v := range out {
				if p, ok := v.(*float64); ok {
					if f, ok := last.(float64); !ok || math.Float64bits(f) != math.Float64bits(*p) { // minus nothing is another
						last = *p
					}
					out[i] = last
				}
			}
			if !yield(out) {
				return
			}
		}
	}
}

// Sums are the area of all parts of a zone, and of those that are classes.
func Sums(parts []Part) (whole, classified float64) {
	for i := range parts {
		whole += parts[i].Area
		if parts[i].Kind == "class" {
			classified += parts[i].Area
		}
	}
	return whole, classified
}

// zonesInStretch is how many zones of a composition are made rows together.
const zonesInStretch = 128

// ExtentsOf is the long table of a composition.
func ExtentsOf(c *extent.Composition) *Table {
	countOf := func(zones []extent.ZoneSum) (n int) {
		for i := range zones {
			n += zones[i].Len()
		}
		return n
	}
	t := Extents(c.Unit, c.HasLarger, countOf(c.Zones), ZonesOf(c, c.Zones))
	t.Stretches = func(yield func(Stretch) bool) {
		for zones := range slices.Chunk(c.Zones, zonesInStretch) {
			if !yield(Stretch{countOf(zones), rowsOf(c.Unit, c.HasLarger, ZonesOf(c, zones))}) {
				return
			}
		}
	}
	return t
}

// WithErrors adds the error to expect of each extent to a table of extents, as a function of the class, its extent and that of its zone in m².
func WithErrors(t *Table, c *extent.Composition, expected func(class string, extent, zone float64) float64) *Table {
	out := t.with(slices.Concat(t.Columns, pick("expected_error_pct")))
	out.Rows = func(yield func([]any) bool) {
		zones := map[string]float64{}
		for i := range c.Zones {
			zones[c.Zones[i].ID] = c.Zones[i].Area
		}
		at := map[string]int{}
		for k, n := range t.Names() {
			at[n] = k
		}
		var wider []any
		for row := range t.Rows {
			id, _ := row[at["zone_id"]].(string)
			class, _ := row[at["class_code"]].(string)
			area, _ := row[at["area"]].(float64)
			e := math.NaN()
			if row[at["kind"]] == cover.Classified.String() {
				e = expected(class, area*c.Unit.M2, zones[id]*c.Unit.M2)
			}
			if wider = append(append(wider[:0], row...), e); !yield(wider) {
				return
			}
		}
	}
	return out
}

// ZonesOf are zones of a composition. A zone serves until the next one.
func ZonesOf(c *extent.Composition, zones []extent.ZoneSum) iter.Seq[*Zone] {
	return func(yield func(*Zone) bool) {
		var out Zone
		for i := range zones {
			z := &zones[i]
			out.Epoch, out.ID, out.Name, out.WithinID, out.WithinName, out.Parts = c.Epoch, z.ID, z.Name, z.WithinID, z.WithinName, out.Parts[:0]
			for k := range z.Len() {
				kind, code, name, area, cells, nominal := z.Part(k)
				if kind == cover.Outside || !c.HasNominal {
					nominal = math.NaN()
				}
				if kind == cover.Outside {
					cells = math.NaN()
				}
				out.Parts = append(out.Parts, Part{kind.String(), code, name, area, cells, nominal})
			}
			if !yield(&out) {
				return
			}
		}
	}
}

// ClassAreas divides the area of a zone by class: one for each class of the legend, then nodata, unlisted and outside.
type ClassAreas struct {
	at map[string]int
	n  int
}

// NewClassAreas prepares to divide zones of a composition.
func NewClassAreas(l *cover.Legend) *ClassAreas {
	a := &ClassAreas{map[string]int{}, len(l.Classes)}
	for i, class := range l.Classes {
		a.at[class.ID()] = i
	}
	return a
}

// Of are the areas of a zone, in the unit of its composition.
func (a *ClassAreas) Of(z *extent.ZoneSum) []float64 {
	out := make([]float64, a.n+3)
	rows := z.Rows()
	for i := range rows {
		r := &rows[i]
		switch r.Kind {
		case cover.Classified:
			out[a.at[r.Code]] += r.Area
		default:
			out[a.n+int(r.Kind)-1] += r.Area
		}
	}
	return out
}

// WideExtentsOf has a row for each zone of a composition, with the classes across.
func WideExtentsOf(c *extent.Composition) *Table {
	t := &Table{Name: "extents", Title: "Extents in " + c.Unit.Label, Columns: slices.Clone(wideExtentsKind.Columns[:5]), Count: len(c.Zones)}
	for _, class := range c.Legend.Classes {
		t.Columns = append(t.Columns, classColumn(class.Name))
	}
	t.Columns = append(t.Columns, wideExtentsKind.Columns[5:]...)
	if c.HasLarger {
		t.Columns = append(t.Columns, withinColumns...)
	}
	areas := NewClassAreas(c.Legend)
	t.Rows = func(yield func([]any) bool) {
		for i := range c.Zones {
			z := &c.Zones[i]
			row := []any{c.Epoch, z.ID, z.Name, c.Unit.Name, z.Area}
			for _, a := range areas.Of(z) {
				row = append(row, a)
			}
			if c.HasLarger {
				row = append(row, z.WithinID, z.WithinName)
			}
			if !yield(row) {
				return
			}
		}
	}
	return t
}

// Checks is the table of what checks found.
func Checks(checks []check.Check) *Table {
	var rows [][]any
	for _, c := range checks {
		if len(c.Findings) == 0 {
			rows = append(rows, []any{c.Name, c.Outcome.String(), "", "", "", nil, c.Text})
		}
		for _, f := range c.Findings {
			rows = append(rows, []any{c.Name, c.Outcome.String(), f.Epoch, f.ZoneID, f.Class, f.Value, f.Text})
		}
	}
	return Of("checks", "What the checks found", checksKind.Columns, rows)
}
