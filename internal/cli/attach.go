package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"unicode"

	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/core/account"
	"github.com/verdex-land/verdex/core/vector"
	"github.com/verdex-land/verdex/core/vector/delimited"
	vectors "github.com/verdex-land/verdex/core/vector/open"
	"github.com/verdex-land/verdex/core/zone"
)

func attachCommand() *cli.Command {
	return &cli.Command{
		Name:      "attach",
		Usage:     "put a table's columns onto the zones, and say how many matched",
		ArgsUsage: "TABLE",
		Description: `Joins the rows of a CSV table to zones by their ids and writes the zones with its columns. Rows
without a zone and zones without a row are told, and nothing is written then unless --allow-partial
says so. Of a long tally, as measure writes it, each class becomes columns of its own: its area and
its percent of the zone. Features that share an id are one zone.

  verdex attach extents.csv --zones wards.gpkg --zone-id code --out wards-with.gpkg
  verdex attach people.csv --key ward --zones wards.gpkg --zone-id code --allow-partial --out wards-with.geojson`,
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "zones", Usage: "`FILE` of zones"},
			&cli.StringFlag{Name: "zone-id", Usage: "`FIELD` of the zones that the key is looked up in"},
			&cli.StringFlag{Name: "where", Usage: "only the zones for which a `CONDITION` in CQL2 holds"},
			&cli.StringFlag{Name: "zones-crs", Usage: "`CRS` of the zones, when the file does not say"},
			&cli.StringFlag{Name: "key", Value: "zone_id", Usage: "`COLUMN` of the table with the ids of zones"},
			&cli.BoolFlag{Name: "allow-partial", Usage: "write also when rows or zones are left over"},
			&cli.StringFlag{Name: "out", Usage: "`FILE` to write: " + vectors.Writable},
			&cli.BoolFlag{Name: "force", Usage: "replace an output that exists"},
		},
		Action: attach,
	}
}

func attach(ctx context.Context, c *cli.Command) error {
	switch {
	case c.Args().Len() != 1:
		return usage("attach takes one table (verdex attach --help shows examples)")
	case c.String("zones") == "":
		return usage("attach needs --zones, the file whose zones get the columns")
	case c.String("out") == "":
		return usage("attach needs --out, the file to write")
	}
	out, path := c.String("out"), c.Args().First()
	r := newReporter(c)
	table, err := delimited.ReadTable(path)
	if err != nil {
		return err
	}
	r.notes(table.Notes)
	table.Notes = nil
	key := c.String("key")
	if isTally(table) {
		if table, err = spread(table); err != nil {
			return err
		}
		r.note(fmt.Sprintf("%s: it is a long tally: each class becomes columns of its own", path))
	}
	return attachTo(ctx, c, table, key, out, r)
}

// attachTo joins a table to the zones of --zones, tells the match, and writes.
func attachTo(ctx context.Context, c *cli.Command, table *vector.Layer, key, out string, r *reporter) error {
	l, err := loadLayer(ctx, c, c.String("zones"))
	if err != nil {
		return err
	}
	if l.CRS == nil {
		return fmt.Errorf("%s: %s: name its CRS with --zones-crs", l.Source, l.CRSProblem)
	}
	e, err := condition(c)
	if err != nil {
		return err
	}
	zones, ids, err := zone.Gather(l, zone.Selection{IDField: c.String("zone-id"), Condition: e})
	if err != nil {
		return err
	}
	joined, m, err := zone.Attach(zones, ids, table, key)
	if err != nil {
		return err
	}
	r.notes(joined.Notes)
	r.note(matchText(m))
	if m.Partial() && !c.Bool("allow-partial") {
		return fmt.Errorf("%s and %s do not go together wholly, so nothing was written: %s", table.Source, l.Source, joinRemedy(c, true))
	}
	if m.Matched == 0 {
		return fmt.Errorf("no row of %s matches a zone of %s, so nothing was written: %s", table.Source, l.Source, joinRemedy(c, false))
	}
	dropKey(joined)
	return writeLayer(ctx, out, joined, r)
}

// joinRemedy says what to do about rows and zones that do not match, by the options that the command has.
func joinRemedy(c *cli.Command, some bool) string {
	text := "correct --zone-id"
	if has(c, "key") {
		text = "correct --key or --zone-id"
	}
	if some && has(c, "allow-partial") {
		text += ", or write what matches with --allow-partial"
	}
	return text
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
	text := fmt.Sprintf("%s of %s zones have a row of the table", group(float64(m.Matched), 0), group(float64(m.Zones), 0))
	some := func(list []string) string {
		if n := len(list); n > 8 {
			list = append(slices.Clone(list[:8]), fmt.Sprintf("%d more", n-8))
		}
		return strings.Join(list, ", ")
	}
	if n := len(m.WithoutRow); n > 0 {
		text += fmt.Sprintf("; %d zone(s) without a row: %s", n, some(m.WithoutRow))
	}
	if n := len(m.WithoutZone); n > 0 {
		text += fmt.Sprintf("; %d row(s) without a zone: %s", n, some(m.WithoutZone))
	}
	return text
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
	w := &wideZones{key: "zone_id", source: t.Source}
	for i := range t.Features {
		v := t.Features[i].Values
		when := ""
		if epoch >= 0 {
			when = vector.TextOf(v[epoch])
		}
		name := vector.TextOf(v[class])
		if k := vector.TextOf(v[kind]); k != "class" {
			name = k
		}
		a, ok := vector.Number(v[area])
		p, ok2 := vector.Number(v[pct])
		if !ok || !ok2 {
			return nil, fmt.Errorf("%s: row %d: its area or percent is no number", t.Source, i+1)
		}
		if err := w.add(vector.TextOf(v[id]), name, when, vector.TextOf(v[unit]), a, p); err != nil {
			return nil, fmt.Errorf("%s: row %d: %w", t.Source, i+1, err)
		}
	}
	return w.layer(), nil
}

// wideZones gathers areas by zone into one row each.
type wideZones struct {
	key, source string
	ids         []string
	columns     []string
	values      map[string]map[string]float64 // by zone and column
}

// add enters the area and percent of a class in a zone.
func (w *wideZones) add(id, class, epoch, unit string, area, pct float64) error {
	if w.values == nil {
		w.values = map[string]map[string]float64{}
	}
	if w.values[id] == nil {
		w.values[id] = map[string]float64{}
		w.ids = append(w.ids, id)
	}
	for _, c := range []struct {
		suffix string
		v      float64
	}{{unit, area}, {"pct", pct}} {
		name := safeName(class) + "_" + c.suffix
		if epoch != "" {
			name += "_" + safeName(epoch)
		}
		if _, twice := w.values[id][name]; twice {
			return fmt.Errorf("the class %s comes twice in zone %s: give the rows an epoch, or keep one", class, id)
		}
		w.values[id][name] = c.v
		if !slices.Contains(w.columns, name) {
			w.columns = append(w.columns, name)
		}
	}
	return nil
}

func (w *wideZones) layer() *vector.Layer {
	l := &vector.Layer{Source: w.source, Fields: []vector.Field{{Name: w.key, Kind: vector.Text}}}
	for _, c := range w.columns {
		l.Fields = append(l.Fields, vector.Field{Name: c, Kind: vector.Real})
	}
	for _, id := range w.ids {
		f := vector.Feature{Values: []any{id}}
		for _, c := range w.columns {
			var v any
			if x, ok := w.values[id][c]; ok {
				v = x
			}
			f.Values = append(f.Values, v)
		}
		l.Features = append(l.Features, f)
	}
	return l
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

// ofComposition is the wide table of a composition.
func ofComposition(comp *account.Composition) (*vector.Layer, error) {
	w := &wideZones{key: "zone_id", source: "the tally"}
	for _, z := range comp.Zones {
		if z.Unit { // the larger units are no zones of the file
			continue
		}
		for _, row := range z.Rows {
			name := row.Name
			if k := row.Kind.String(); k != "class" {
				name = k
			}
			if err := w.add(row.ZoneID, name, row.Epoch, comp.Unit.Name, row.Area, row.PctOfZone); err != nil {
				return nil, err
			}
		}
	}
	return w.layer(), nil
}
