package cli

import (
	"context"
	"fmt"
	"slices"

	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/core/account"
	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/cql"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/tally"
	vectors "github.com/verdex-land/verdex/core/vector/open"
	"github.com/verdex-land/verdex/core/zone"
	"github.com/verdex-land/verdex/internal/book"
	"github.com/verdex-land/verdex/internal/table"
)

func measureCommand() *cli.Command {
	return &cli.Command{
		Name:      "measure",
		Usage:     "extent and percent of each class in each zone",
		ArgsUsage: "COVER...",
		Description: `Measures the true area of each class of a cover raster in each zone. Zones are carried to
the raster's grid, never the raster to the zones; cells that an outline cuts count by their exact share.

  verdex measure cover.tif --zones wards.geojson --zone-id code --legend legend.csv
  verdex measure cover.tif --zones wards.geojson --zone-id code --crosswalk codes.csv --legend legend.csv
  verdex measure cover.tif --out extents.csv               the whole raster as one zone
  verdex measure cover.tif --zones bbox:12.4,58.2,12.6,58.3
  verdex measure cover.tif --zones "geo:58.31,12.52;u=5000" a circle of 5 km
  verdex measure "tiles/*.tif" --nodata 0                  tiles, as one raster
  verdex measure --rules rules.yaml --layer cover=cover.tif --layer slope=slope.tif --legend legend.csv
  verdex measure scenes.tif@2                              band 2
  verdex measure habitats.gpkg --class-field kind --zones wards.gpkg    polygons instead of cells
  verdex measure cover.tif --zones parishes.gpkg --within counties.gpkg    with larger units
  verdex measure cover.tif --zones wards.gpkg --legend legend.csv --epoch 2020 --post orrin.book --account wards`,
		Flags: slices.Concat(zoneFlags(), rasterFlags(), classFlags(), checkFlags(), layerFlags(), []cli.Flag{
			&cli.StringFlag{Name: "crosswalk", Usage: "CSV `FILE` that turns values into legend classes: from,to,note"},
			&cli.StringFlag{Name: "rules", Usage: "YAML `FILE` of rules over --layer, instead of a raster of classes"},
			&cli.StringFlag{Name: "epoch", Usage: "`LABEL` of the date, for the epoch column"},
			&cli.StringFlag{Name: "layout", Value: "long", Usage: "`long` (a row for each class) or wide (a row for each zone)"},
			&cli.StringFlag{Name: "class-field", Usage: "`FIELD` with the class, when the cover is a file of polygons"},
			&cli.StringFlag{Name: "within", Usage: "`FILE` of larger units: tell which one each zone lies in, and measure them too"},
			&cli.StringFlag{Name: "within-id", Usage: "`FIELD` that tells the larger units apart"},
			&cli.StringFlag{Name: "within-name", Usage: "`FIELD` with their names"},
			checkAllFlag(), listFlag(),
			&cli.StringFlag{Name: "attach", Usage: "write the zones with the areas as columns to `FILE`, too: " + vectors.Writable},
		}, postFlags(), outputFlags()),
		Action: measure,
	}
}

func measure(ctx context.Context, c *cli.Command) error {
	switch named := c.Args().Len() > 0 || c.String("from-list") != ""; {
	case c.String("rules") != "" && named:
		return usage("with --rules the rasters are named by --layer NAME=RASTER, not %q", c.Args().First())
	case c.String("rules") == "" && len(c.StringSlice("layer")) > 0:
		return usage("--layer needs --rules, which say what becomes of the layers")
	case c.String("rules") != "" && c.String("crosswalk") != "":
		return usage("--rules give classes already: leave --crosswalk away")
	case c.String("rules") == "" && !named:
		return usage("measure needs a raster (verdex measure --help shows examples)")
	}
	r := newReporter(c)
	if err := checkPost(ctx, c); err != nil {
		return err
	}
	out, err := chooseOutput(c)
	if err != nil {
		return err
	}
	checks, err := readChecking(c)
	if err != nil {
		return err
	}
	with := c.String("attach")
	if with != "" {
		if where := c.String("zones"); where == "" || zone.IsText(where) {
			return usage("--attach puts the areas onto the zones of a file, which --zones is to name")
		}
	}
	var comp *account.Composition
	var edges []account.Check
	if c.Args().Len() == 1 && isPolygonCover(c, c.Args().First()) {
		comp, err = overlay(ctx, c, c.Args().First(), r)
	} else if c.String("class-field") != "" {
		return usage("--class-field is for a cover of polygons, and %s is none", c.Args().First())
	} else {
		comp, edges, err = compose(ctx, c, checks, r)
	}
	if err != nil {
		return err
	}
	out.checks = checks.all(append(comp.Check(checks.bounds), edges...), comp.Extents, comp.Unit)
	made := postings(c, func() []*book.Posting { return []*book.Posting{book.FromComposition(comp)} })
	out.sheets = func() []*table.Sheet { return accountSheets(made(), comp.Unit) }
	switch layout := c.String("layout"); {
	case out.format == "table":
	case layout == "long":
		err = out.write(ctx, longTable(comp))
	default:
		err = out.write(ctx, wideTable(comp))
	}
	if err != nil {
		return err
	}
	if with != "" {
		columns, err := ofComposition(comp)
		if err != nil {
			return err
		}
		if err := attachTo(ctx, c, columns, "zone_id", with, r); err != nil {
			return err
		}
	}
	if err := checks.stage(ctx, out.checks); err != nil {
		return err
	}
	postTo(ctx, c, made, r)
	if err := commit(ctx); err != nil {
		return err
	}
	if out.format == "table" {
		if err := paintComposition(newCanvas(out.stdout), comp); err != nil {
			return err
		}
	} else { // the drawn table says it itself
		r.notes(comp.Notes)
	}
	r.warnings(comp.Warnings)
	return checks.tell(r, out.checks)
}

// compose measures one raster or several as one, and checks what the edges of zones do.
func compose(ctx context.Context, c *cli.Command, checks *checking, r *reporter) (*account.Composition, []account.Check, error) {
	if l := c.String("layout"); l != "long" && l != "wide" {
		return nil, nil, usage("--layout %s is not known: choose long or wide", l)
	}
	t, err := readTerms(c)
	if err != nil {
		return nil, nil, err
	}
	paths, err := coverPaths(c)
	if err != nil {
		return nil, nil, err
	}
	l, err := openLayer(c, paths, &t, r)
	if err != nil {
		return nil, nil, err
	}
	defer l.Close()
	set, place, err := readZones(ctx, c, l.source.Header().Grid, r)
	if err != nil {
		return nil, nil, err
	}
	two, err := addUnits(c, set, place, r)
	if err != nil {
		return nil, nil, err
	}
	if len(set.Zones) > 10_000 {
		collect(100) // what is kept of so many zones is much, and garbage of four times as much is too much
	}
	tallied := func(centres bool, what string) (*account.Composition, error) {
		tell, end := r.progress(what)
		sums, err := tally.Measure(ctx, tally.Request{Layers: []raster.Source{l.source}, Zones: two.set, Placement: two.place, Units: two.first,
			Centres: centres, Threads: c.Int("threads"), Progress: tell})
		end()
		if err != nil {
			return nil, t.explainGap(ctx, err, l.plain, l.walk, c.Int("threads"))
		}
		comp, err := account.Compose(account.Input{
			Epoch: c.String("epoch"), Raster: l.name, Tally: sums, Zones: two.set, Placement: two.place, Palette: l.palette, Centres: centres, Coder: l.coder,
		}, t.unit)
		return comp, t.explainGap(ctx, err, l.plain, l.walk, c.Int("threads"))
	}
	comp, err := tallied(t.centres, "measuring")
	if err != nil {
		return nil, nil, err
	}
	for _, a := range l.moved {
		r.note(movesNote(a))
	}
	var edges []account.Check
	if c.String("zones") != "" && checks.wants("edges") {
		rows := 0
		for _, z := range comp.Zones {
			rows += len(z.Rows)
		}
		if !readsAgain(c, two.place) || rows > 1<<21 && !c.Bool("check-all") { // a second composition takes the memory of the first again
			edges = append(edges, account.Check{Name: "edges", Outcome: account.NotMade, Text: "it reads the raster again: ask for it with --check-all"})
		} else {
			other, err := tallied(!t.centres, "checking edges")
			if err != nil {
				return nil, nil, err
			}
			edges = append(edges, comp.CheckEdges(other, checks.bounds))
		}
	}
	two.arrange(comp)
	return comp, edges, nil
}

// measured is the layer that is measured: classes, or values that the coder turns into them.
type measured struct {
	name    string
	source  raster.Source
	plain   raster.Source // before a crosswalk was applied to its cells
	walk    *cover.Crosswalk
	coder   *cover.Coder
	palette []raster.Color
	moved   []*raster.Aligned
	Close   func()
}

// openLayer opens the raster to measure, with its crosswalk; or the layers that rules make classes of.
func openLayer(c *cli.Command, paths []string, t *terms, r *reporter) (*measured, error) {
	if path := c.String("rules"); path != "" {
		return openRules(c, path, t, r)
	}
	m := &measured{}
	var err error
	if path := c.String("crosswalk"); path != "" {
		if m.walk, err = readCrosswalk(c, path, t.legend); err != nil {
			return nil, err
		}
	}
	src, err := openCover(c, paths, r)
	if err != nil {
		return nil, err
	}
	m.name, m.plain, m.palette, m.Close = src.path, src, src.Header().Palette, src.Close
	if err = src.needCRS(); err == nil {
		m.source, m.coder, err = t.coder(src, m.walk)
	}
	if err != nil {
		src.Close()
		return nil, err
	}
	return m, nil
}

// openRules opens the layers of --rules.
func openRules(c *cli.Command, path string, t *terms, r *reporter) (*measured, error) {
	rules, err := cover.ReadRules(path, t.legend)
	if err != nil {
		return nil, err
	}
	l, err := openLayers(c, r)
	if err != nil {
		return nil, err
	}
	m := &measured{name: path, moved: l.moved, Close: l.Close}
	var conditions []*cql.Expr
	for _, rule := range rules.List {
		conditions = append(conditions, rule.When)
	}
	g := l.List[0].Header()
	switch err = refuseCodes(c, l, conditions...); {
	case err != nil:
	case g.Grid.CRS == nil:
		err = fmt.Errorf("%s: %s", g.Name, g.CRSProblem)
	default:
		var view *cover.RuleView
		if view, err = cover.NewRuleView(rules, l.Layers, t.legend, false); err == nil {
			m.source, m.plain = view, view
			m.coder = &cover.Coder{Legend: t.legend, NoData: view.Header().NoData, Groups: t.groups}
			return m, nil
		}
	}
	l.Close()
	return nil, err
}

var longColumns = []string{"epoch", "zone_id", "zone_name", "kind", "class_code", "class_name", "area", "unit",
	"pct_of_zone", "pct_of_classified", "cells", "nominal_area"}

func longTable(c *account.Composition) *table.Table {
	t := &table.Table{Name: "extents", Title: "Extents in " + c.Unit.Label, Columns: longColumns}
	if c.HasUnits {
		t.Columns = slices.Concat(longColumns, unitColumns)
	}
	for _, z := range c.Zones {
		t.Count += len(z.Rows)
	}
	t.Each = func(yield func([]any) bool) {
		row := make([]any, 0, len(t.Columns))
		epoch, unit := any(c.Epoch), any(c.Unit.Name)
		for _, z := range c.Zones {
			id, name := any(z.ID), any(z.Name)
			for i := range z.Rows {
				r := &z.Rows[i]
				classified, nominal := any(nil), any(nil)
				if r.Kind == cover.Classified {
					classified = r.PctOfClassified
				}
				if c.HasNominal && r.Kind != cover.Outside {
					nominal = r.NominalArea
				}
				cells := any(r.Cells)
				if r.Kind == cover.Outside {
					cells = nil
				}
				row = append(row[:0], epoch, id, name, r.Kind.String(), r.Code, r.Name, r.Area, unit, r.PctOfZone, classified, cells, nominal)
				if c.HasUnits {
					row = append(row, z.WithinID, z.WithinName)
				}
				if !yield(row) {
					return
				}
			}
		}
	}
	return t
}

// unitColumns are added where there are larger units.
var unitColumns = []string{"within_id", "within_name"}

// partPlaces are the places of classes in the legend, by what they are known by.
func partPlaces(c *account.Composition) map[string]int {
	at := map[string]int{}
	for i, class := range c.Legend.Classes {
		at[class.ID()] = i
	}
	return at
}

// partAreas are the areas of a zone's parts: one for each class of the legend, then nodata, unlisted
// and outside.
func partAreas(at map[string]int, z account.ZoneSum) []float64 {
	n := len(at)
	out := make([]float64, n+3)
	for _, r := range z.Rows {
		switch r.Kind {
		case cover.Classified:
			out[at[r.Code]] += r.Area
		default:
			out[n+int(r.Kind)-1] += r.Area
		}
	}
	return out
}

func wideTable(c *account.Composition) *table.Table {
	t := &table.Table{Name: "extents", Title: "Extents in " + c.Unit.Label, Columns: []string{"epoch", "zone_id", "zone_name", "unit", "zone_area"}}
	for _, class := range c.Legend.Classes {
		t.Columns = append(t.Columns, class.Name)
	}
	t.Columns = append(t.Columns, "nodata", "unlisted", "outside")
	if c.HasUnits {
		t.Columns = append(t.Columns, unitColumns...)
	}
	at := partPlaces(c)
	t.Count = len(c.Zones)
	t.Each = func(yield func([]any) bool) {
		for _, z := range c.Zones {
			row := []any{c.Epoch, z.ID, z.Name, c.Unit.Name, z.Area}
			for _, a := range partAreas(at, z) {
				row = append(row, a)
			}
			if c.HasUnits {
				row = append(row, z.WithinID, z.WithinName)
			}
			if !yield(row) {
				return
			}
		}
	}
	return t
}
