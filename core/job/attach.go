package job

import (
	"context"
	"fmt"
	"strings"
	"unicode"

	"github.com/verdex-land/verdex/core/decimal"
	"github.com/verdex-land/verdex/core/vector/tables"

	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/extent"

	"github.com/verdex-land/verdex/core/fault"
	"github.com/verdex-land/verdex/core/text"
	"github.com/verdex-land/verdex/core/vector"
	"github.com/verdex-land/verdex/core/zone"
)

// JoinOptions name the zones that columns are put onto.
type JoinOptions struct {
	Zones          string `opt:"zones" in:"zones" help:"<FILE> of zones"`
	ZoneID         string `opt:"zone-id" help:"<FIELD> that identifies zones; features that share a value are one zone"`
	FeatureOptions `group:"zones"`
	ZoneNames      string
}

// PartialOption allows a join that is not whole.
type PartialOption struct {
	AllowPartial bool `opt:"allow-partial" help:"write also when rows or zones are left over"`
}

// AttachOptions are those of [Attach].
type AttachOptions struct {
	Table          []string `arg:"TABLE" in:"table"` // one
	Key            string   `opt:"key" default:"zone_id" help:"<COLUMN> of the table with the ids of zones"`
	JoinOptions    `group:"zones"`
	PartialOption  `group:"zones"`
	OverrideOption `group:"zones"`
}

// Attach puts the columns of a table onto zones. Of a long tally each class becomes columns of its own.
func Attach(ctx context.Context, env Env, o AttachOptions) (*Features, error) {
	w, report, err := begin(ctx, env, &o, o.OverrideCRS)
	if err != nil {
		return nil, err
	}
	switch {
	case len(o.Table) != 1:
		return nil, fault.Misusef("", "", "one table is needed, and %s", text.Given(len(o.Table)))
	case o.Zones == "":
		return nil, fault.Misusef("", "", "no zones are named that get the columns").By("name them", "zones", "FILE")
	}
	path := o.Table[0]
	w.reads("table", path)
	table, err := tables.Layer(w.env.files(), path, o.Key)
	if err != nil {
		return nil, err
	}
	w.note(table.Notes...)
	table.Notes = nil
	if isTally(table) {
		if table, err = spread(table); err != nil {
			return nil, err
		}
		w.note(path + ": it is a long tally, so each class becomes columns of its own")
	}
	l, err := w.join(table, "key", o.Key, o.JoinOptions, o.AllowPartial)
	return w.features(l, report, err)
}

// AttachTable puts the columns of a table in memory, with the column zone_id, onto zones.
func AttachTable(ctx context.Context, env Env, table *vector.Layer, o JoinOptions, partial, override bool) (*Features, error) {
	w, report, err := begin(ctx, env, &o, override)
	if err != nil {
		return nil, err
	}
	l, err := w.join(table, "", "zone_id", o, partial)
	return w.features(l, report, err)
}

// gather reads zones, one feature for each id.
func (w *work) gather(o JoinOptions) (*vector.Layer, []string, error) {
	l, err := w.loadLayer("zones", o.Zones, SelectionOptions{FeatureOptions: o.FeatureOptions}, o.ZoneNames)
	if err != nil {
		return nil, nil, err
	}
	if err := needLayerCRS(l); err != nil {
		return nil, nil, err
	}
	e, err := condition(o.Where)
	if err != nil {
		return nil, nil, err
	}
	return zone.Gather(l, zone.Selection{IDField: o.ZoneID, Condition: e})
}

// join joins a table to zones by a key, which an option chooses if there is one, and reports the match.
func (w *work) join(table *vector.Layer, option, key string, o JoinOptions, partial bool) (*vector.Layer, error) {
	zones, ids, err := w.gather(o)
	if err != nil {
		return nil, err
	}
	joined, m, err := zone.Attach(zones, ids, table, key)
	if err != nil {
		return nil, err
	}
	w.note(matchText(m))
	remedy := func(e *fault.Error) *fault.Error {
		if option == "" {
			return e.By("correct the field of ids", "zone-id", "")
		}
		return e.By("correct the column of keys", option, "").By("correct the field of ids", "zone-id", "")
	}
	if m.Partial() && !partial {
		return nil, remedy(fault.Errorf("%s and %s do not match completely, so nothing was written", table.Source, zones.Source)).By("write what matches", "allow-partial", "")
	}
	if m.Matched == 0 {
		return nil, remedy(fault.Errorf("no row of %s matches a zone of %s, so nothing was written", table.Source, zones.Source))
	}
	dropKey(joined)
	return joined, nil
}

// dropKey leaves out the number that a GeoPackage gives its features: the new file numbers its own.
func dropKey(l *vector.Layer) {
	if k := l.Field("fid"); k == 0 {
		l.Fields = l.Fields[1:]
		for i := range l.Features {
			l.Features[i].Values = l.Features[i].Values[1:]
		}
	}
}

func matchText(m *zone.Match) string {
	have := "have"
	if m.Matched == 1 {
		have = "has"
	}
	out := fmt.Sprintf("%s of %s %s a row of the table", text.Number(float64(m.Matched), 0), text.Count(m.Zones, "zone"), have)
	if n := len(m.WithoutRow); n > 0 {
		out += fmt.Sprintf("; %s without a row: %s", text.Count(n, "zone"), text.List(m.WithoutRow, 8))
	}
	if n := len(m.WithoutZone); n > 0 {
		out += fmt.Sprintf("; %s without a zone: %s", text.Count(n, "row"), text.List(m.WithoutZone, 8))
	}
	return out
}

// isTally reports whether a table has the columns of a long tally.
func isTally(t *vector.Layer) bool {
	for _, name := range []string{"zone_id", "kind", "class_code", "class_name", "area", "unit", "pct_of_zone"} {
		if t.Field(name) < 0 {
			return false
		}
	}
	return true
}

// spread makes one row for each zone of a long tally, with columns for each class and epoch.
func spread(t *vector.Layer) (*vector.Layer, error) {
	col := func(name string) int { return t.Field(name) }
	id, class, kind, area, unit, pct, epoch := col("zone_id"), col("class_name"), col("kind"), col("area"), col("unit"), col("pct_of_zone"), col("epoch")
	w := NewZoneColumns(t.Source)
	for i := range t.Features {
		when := ""
		if epoch >= 0 {
			when = t.Cell(i, epoch)
		}
		name := t.Cell(i, class)
		if k := t.Cell(i, kind); k != "class" {
			name = k
		}
		a, err1 := decimal.Finite(t.Cell(i, area))
		p, err2 := decimal.Finite(t.Cell(i, pct))
		if err1 != nil || err2 != nil {
			return nil, fault.Errorf("%s: row %d: its area or percent is not a number", t.Source, i+1)
		}
		if err := w.Add(t.Cell(i, id), name, when, t.Cell(i, unit), a, p); err != nil {
			return nil, fmt.Errorf("%s: row %d: %w", t.Source, i+1, err)
		}
	}
	return w.Layer(), nil
}

// ZoneColumns gathers the areas of zones into one row each, with two columns for each class and epoch: area and percent of the zone.
type ZoneColumns struct {
	source  string
	ids     []string
	columns []string
	at      map[string]int    // of columns
	safe    map[string]string // of names of classes and labels of epochs, such that no two are alike
	taken   map[string]bool
	values  map[string][]float64 // by zone: a value for each column, as many as there are; NaN is not stored, see has
	has     map[string][]bool
}

// NewZoneColumns returns empty columns of what source names in messages.
func NewZoneColumns(source string) *ZoneColumns {
	return &ZoneColumns{source: source, at: map[string]int{}, safe: map[string]string{}, taken: map[string]bool{}, values: map[string][]float64{}, has: map[string][]bool{}}
}

// Add enters the area and percent of a class in a zone.
func (w *ZoneColumns) Add(id, class, epoch, unit string, area, pct float64) error {
	if w.values[id] == nil {
		w.values[id], w.has[id] = []float64{}, []bool{}
		w.ids = append(w.ids, id)
	}
	for _, c := range []struct {
		suffix string
		v      float64
	}{{unit, area}, {"pct", pct}} {
		name := w.safeName("class", class) + "_" + c.suffix
		if epoch != "" {
			name += "_" + w.safeName("epoch", epoch)
		}
		k, known := w.at[name]
		if !known {
			k = len(w.columns)
			w.at[name], w.columns = k, append(w.columns, name)
		}
		for len(w.values[id]) <= k {
			w.values[id], w.has[id] = append(w.values[id], 0), append(w.has[id], false)
		}
		if w.has[id][k] {
			return fault.Errorf("the class %s occurs twice in zone %s", class, id).Do("give the rows an epoch, or keep one")
		}
		w.values[id][k], w.has[id][k] = c.v, true
	}
	return nil
}

// Layer returns the rows as a table with the column zone_id first.
func (w *ZoneColumns) Layer() *vector.Layer {
	l := &vector.Layer{Source: w.source, Fields: []vector.Field{{Name: "zone_id", Kind: vector.Text}}}
	for _, c := range w.columns {
		l.Fields = append(l.Fields, vector.Field{Name: c, Kind: vector.Real})
	}
	for _, id := range w.ids {
		f := vector.Feature{Values: make([]any, 1, len(w.columns)+1)}
		f.Values[0] = id
		for k := range w.columns {
			var v any
			if k < len(w.has[id]) && w.has[id][k] {
				v = w.values[id][k]
			}
			f.Values = append(f.Values, v)
		}
		l.Features = append(l.Features, f)
	}
	return l
}

// safeName is the safe name of a class or an epoch. One that differs from others in signs or the case of letters only has a number behind its name.
func (w *ZoneColumns) safeName(what, name string) string {
	key := what + "\x00" + name
	safe, known := w.safe[key]
	if !known {
		plain := safeName(name)
		safe = plain
		for n := 2; w.taken[what+"\x00"+safe]; n++ {
			safe = fmt.Sprintf("%s_%d", plain, n)
		}
		w.safe[key], w.taken[what+"\x00"+safe] = safe, true
	}
	return safe
}

// safeName is a name of letters, digits and underscores in lower case, as every format and database takes it.
func safeName(s string) string {
	var b strings.Builder
	for _, r := range strings.ToLower(s) {
		switch {
		case unicode.IsLetter(r) || unicode.IsDigit(r):
			b.WriteRune(r)
		case b.Len() > 0 && !strings.HasSuffix(b.String(), "_"):
			b.WriteByte('_')
		}
	}
	return strings.TrimSuffix(b.String(), "_")
}

// ColumnsOf are the extents of a composition as columns of its zones, without the larger units.
func ColumnsOf(comp *extent.Composition) (*vector.Layer, error) {
	w := NewZoneColumns("the tally")
	for _, z := range comp.Zones {
		if z.Larger { // the larger units are not zones of the file
			continue
		}
		for _, row := range z.Rows() {
			name := row.Name
			if k := row.Kind.String(); k != "class" {
				name = k
			}
			if err := w.Add(row.ZoneID, name, row.Epoch, comp.Unit.Name, row.Area, row.PctOfZone); err != nil {
				return nil, err
			}
		}
	}
	return w.Layer(), nil
}

// OutlinesOf reads the outlines of some zones, by id, in the order in which they are wanted; ids without an outline are returned apart.
func OutlinesOf(ctx context.Context, env Env, o JoinOptions, override bool, wanted []cover.Named) (*Features, []string, error) {
	w, report, err := begin(ctx, env, &o, override)
	if err != nil {
		return nil, nil, err
	}
	zones, ids, err := w.gather(o)
	if err != nil {
		return nil, nil, err
	}
	out := &vector.Layer{Source: zones.Source, CRS: zones.CRS, Fields: []vector.Field{{Name: "zone_id", Kind: vector.Text}, {Name: "zone_name", Kind: vector.Text}}}
	at := make(map[string]int, len(ids))
	for i, id := range ids {
		at[id] = i
	}
	var missing []string
	for _, z := range wanted {
		k, ok := at[z.ID]
		if !ok {
			missing = append(missing, z.ID)
			continue
		}
		out.Features = append(out.Features, vector.Feature{Geometry: zones.Features[k].Geometry, Values: []any{z.ID, z.Name}})
	}
	return &Features{out, report}, missing, nil
}
