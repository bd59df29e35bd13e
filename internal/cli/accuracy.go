package cli

import (
	"context"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/core/account"
	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/tally"
	"github.com/verdex-land/verdex/core/vector"
	"github.com/verdex-land/verdex/internal/table"
)

func accuracyCommand() *cli.Command {
	return &cli.Command{
		Name:      "accuracy",
		Usage:     "error matrix, accuracy, and extents adjusted for the errors of the map",
		ArgsUsage: "SAMPLES",
		Description: `Estimates from reference samples, drawn at random within each class of the map, how true the map is and what extents the
classes have on the ground, with 95 % intervals (stratified estimation, Olofsson and others 2014). SAMPLES are points with the
true class in the column reference, at which --cover is read; or counts with the columns map, reference and count. A map of
change is assessed in the same way: its transitions are its classes.

  verdex account accuracy points.csv --cover cover.tif --legend legend.csv
  verdex account accuracy counts.csv --areas extents.csv --legend legend.csv
  verdex account accuracy points.gpkg --reference seen --cover moved.tif --legend moved.legend.csv --table matrix`,
		Flags: slices.Concat([]cli.Flag{
			&cli.StringFlag{Name: "cover", Usage: "`RASTER` that is the map"},
			&cli.StringFlag{Name: "crosswalk", Usage: "CSV `FILE` that puts the map's values into classes"},
			&cli.StringFlag{Name: "reference", Value: "reference", Usage: "`FIELD` of the points with the true class, by code or name"},
			&cli.StringFlag{Name: "areas", Usage: "`FILE` with the areas of the map's classes (a table of measure, or class_code,area,unit); with --cover they are measured"},
			&cli.StringFlag{Name: "strata", Usage: "`FIELD` or column with the stratum of each sample, where samples were not drawn in the map's classes; --areas then has the areas of the strata (stratum,area,unit)"},
			&cli.BoolFlag{Name: "skip-outside", Usage: "leave out points beyond the map, or where it has no class"},
			&cli.StringFlag{Name: "table", Value: "extents", Usage: "`extents` (accuracy, mapped and adjusted extent of each class) or matrix (proportions of the area)"},
			&cli.BoolFlag{Name: "strict", Usage: "end with status 3 when an interval holds zero"},
		}, statementFlags(), rasterFlags(), outputFlags()),
		Action: accuracy,
	}
}

func accuracy(ctx context.Context, c *cli.Command) error {
	if c.Args().Len() != 1 {
		return usage("account accuracy takes one file of samples (verdex account accuracy --help shows examples)")
	}
	which := c.String("table")
	if which != "extents" && which != "matrix" {
		return usage("--table %s is not known: choose extents or matrix", which)
	}
	out, err := chooseOutput(c)
	if err != nil {
		return err
	}
	r := newReporter(c)
	t, err := readTerms(c)
	if err != nil {
		return err
	}
	var s account.Samples
	path := c.Args().First()
	strata := c.String("strata")
	switch {
	case strata != "" && c.String("areas") == "":
		return usage("--strata needs --areas, the areas of the strata: a table with the columns stratum, area and unit")
	case c.String("cover") != "":
		s, err = samplesOnMap(ctx, c, path, &t, r)
	case c.String("areas") == "":
		return usage("the areas of the map's classes are needed: name the map with --cover, or give --areas")
	default:
		var classes []account.Named
		if t.legend != nil {
			classes = account.NamedClasses(t.legend)
		}
		if s, err = account.ReadCounts(path, classes, strata); err == nil && strata == "" {
			err = s.ReadAreas(c.String("areas"))
		}
	}
	if err == nil && strata != "" {
		err = s.ReadStrata(c.String("areas"))
	}
	r.notes(s.Notes)
	if err == nil && t.groups != nil {
		s, err = s.Group(t.groups)
	}
	if err != nil {
		return err
	}
	a, err := account.Assess(s)
	if err != nil {
		return fmt.Errorf("%s: %w", path, err)
	}
	p := &statement{r: r, out: out, unit: t.unit, legend: t.legend}
	if t.groups != nil {
		p.legend = t.groups.Legend
	}
	err = p.show(ctx, func() *table.Table { return p.accuracyTable(a, which) }, func(c *canvas) error { return p.paintAccuracy(c, a, which) })
	if err != nil {
		return err
	}
	zero := false
	for i, e := range a.Adjusted {
		if e.HoldsZero() && (a.Samples[i] > 0 || e.Half > 0) {
			zero = true
			r.warn(fmt.Sprintf("%s: the 95 %% interval of its extent holds zero, so the samples do not show that there is any", a.Classes[i].Label()))
		}
	}
	if zero && c.Bool("strict") {
		return errStrict
	}
	return nil
}

// samplesOnMap reads the map at the points of a file, and measures the areas of its classes.
func samplesOnMap(ctx context.Context, c *cli.Command, path string, t *terms, r *reporter) (s account.Samples, err error) {
	layer, err := readFeatures(path)
	if err != nil {
		return s, err
	}
	k := layer.Field(c.String("reference"))
	if k < 0 {
		return s, fmt.Errorf("%s: it has no field %q with the true class: name it with --reference (fields: %s)", path, c.String("reference"), strings.Join(layer.FieldNames(), ", "))
	}
	byClass := *t // groups are made of the error matrix, last
	byClass.groups = nil
	t = &byClass
	strata := -1
	if name := c.String("strata"); name != "" {
		if strata = layer.Field(name); strata < 0 {
			return s, fmt.Errorf("%s: it has no field %q with the stratum: name it with --strata (fields: %s)", path, name, strings.Join(layer.FieldNames(), ", "))
		}
	}
	m, err := openLayer(c, []string{c.String("cover")}, t, r)
	if err != nil {
		return s, err
	}
	defer m.Close()
	g := m.source.Header().Grid
	set, place, err := tally.Whole(g)
	if err != nil {
		return s, err
	}
	tell, end := r.progress("measuring the map")
	sums, err := tally.Measure(ctx, tally.Request{Layers: []raster.Source{m.source}, Zones: set, Placement: place, Threads: c.Int("threads"), Progress: tell})
	end()
	if err != nil {
		return s, t.explainGap(ctx, err, m.plain, m.walk, c.Int("threads"))
	}
	comp, err := account.Compose(account.Input{Raster: m.name, Tally: sums, Zones: set, Placement: place, Palette: m.palette, Coder: m.coder}, account.Units[1])
	if err != nil {
		return s, t.explainGap(ctx, err, m.plain, m.walk, c.Int("threads"))
	}
	s = account.NewSamples(account.NamedClasses(comp.Legend)) // by class also where groups are shown
	for _, row := range comp.Zones[0].Rows {
		if i, ok := s.ClassOf(row.Code); ok && row.Kind == cover.Classified {
			s.Areas[i] = row.Area
		}
	}
	s.Mapped = s.Areas
	if areas := c.String("areas"); areas != "" && strata < 0 {
		s.Areas = make([]float64, len(s.Classes))
		if err := s.ReadAreas(areas); err != nil {
			return s, err
		}
	}
	placed, note, err := vector.Carry(layer, g.CRS)
	if err != nil {
		return s, err
	}
	if note != "" {
		r.note(note)
	}
	reader := raster.Cached(m.source, 64<<20).NewReader() // points that lie in one block decode it once
	var cells raster.Cells
	var outside []string
	for i, f := range placed.Features {
		if len(f.Geometry.Points) != 1 {
			return s, fmt.Errorf("%s: feature %d is no point, but samples are points", path, i+1)
		}
		at := -1
		x, y := g.Cell(f.Geometry.Points[0][0], f.Geometry.Points[0][1])
		if x >= 0 && y >= 0 && x < float64(g.Width) && y < float64(g.Height) {
			if err := reader.Read(raster.Window{Col: int(math.Floor(x)), Row: int(math.Floor(y)), Width: 1, Height: 1}, &cells); err != nil {
				return s, err
			}
			if meaning, ok := m.coder.Code(cells.At(0, 0)); ok && meaning.Kind == cover.Classified {
				if class, ok := comp.Legend.Find(meaning.Code); ok {
					at, _ = s.ClassOf(class.ID())
				}
			}
		}
		if at < 0 {
			outside = append(outside, strconv.Itoa(i+1))
			continue
		}
		text := vector.TextOf(f.Values[k])
		truth, ok := s.ClassOf(text)
		if !ok {
			return s, fmt.Errorf("%s: feature %d: the true class %q is not in the legend: write a code or a name of it", path, i+1, text)
		}
		stratum := ""
		if strata >= 0 {
			if stratum = vector.TextOf(f.Values[strata]); stratum == "" {
				return s, fmt.Errorf("%s: feature %d has no stratum in the field %q", path, i+1, c.String("strata"))
			}
		}
		s.Add(stratum, at, truth, 1)
	}
	if len(outside) > 0 {
		what := fmt.Sprintf("%d of %d samples lie beyond %s or where it has no class: number %s", len(outside), len(placed.Features), m.name, firstOf(outside, 10))
		if !c.Bool("skip-outside") {
			return s, fmt.Errorf("%s: %s: check their CRS, or leave them out with --skip-outside", path, what)
		}
		r.note(what + "; they are left out")
	}
	return s, nil
}

func (s *statement) accuracyTable(a *account.Accuracy, which string) *table.Table {
	if which == "matrix" {
		t := &table.Table{Name: "error_matrix", Title: "Error matrix in proportions of area", Columns: []string{"map_code", "map_name"}}
		for _, n := range a.Classes {
			t.Columns = append(t.Columns, n.Label())
		}
		t.Columns = append(t.Columns, "total", "samples")
		for i, n := range a.Classes {
			row, total := []any{n.ID, n.Name}, 0.0
			for _, p := range a.Proportions[i] {
				row, total = append(row, p), total+p
			}
			t.Rows = append(t.Rows, append(row, total, a.Samples[i]))
		}
		return t
	}
	t := &table.Table{Name: "accuracy", Title: "Accuracy and adjusted extents", Columns: []string{"class_code", "class_name", "samples", "users_accuracy", "users_ci95", "producers_accuracy", "producers_ci95",
		"mapped", "adjusted", "adjusted_ci95", "unit"}}
	n := 0
	for i, k := range a.Classes {
		n += a.Samples[i]
		t.Rows = append(t.Rows, []any{k.ID, k.Name, a.Samples[i], a.Users[i].Value, a.Users[i].Half, a.Producers[i].Value, a.Producers[i].Half,
			s.area(a.Mapped[i]), s.area(a.Adjusted[i].Value), s.area(a.Adjusted[i].Half), s.unit.Name})
	}
	t.Rows = append(t.Rows, []any{"", "overall", n, a.Overall.Value, a.Overall.Half, nil, nil, nil, nil, nil, s.unit.Name})
	return t
}

func (s *statement) paintAccuracy(c *canvas, a *account.Accuracy, which string) error {
	marks := s.swatches(c, a.Classes)
	n := 0
	for _, k := range a.Samples {
		n += k
	}
	c.line(c.bold(fmt.Sprintf("Accuracy of the map from %d samples: %.1f ± %.1f %% of the area is right", n, a.Overall.Value*100, a.Overall.Half*100)))
	c.line()
	if which == "matrix" {
		g := s.classGrid(c, a.Classes, "map (rows), reference (columns)")
		g.head = append(g.head, "samples")
		columns := make([]float64, len(a.Classes)+1)
		for i, k := range a.Classes {
			var texts []string
			total := 0.0
			for j, p := range a.Proportions[i] {
				total += p
				columns[j] += p
				text := fmt.Sprintf("%.4f", p)
				if p == 0 {
					text = "·"
				}
				texts = append(texts, text)
			}
			columns[len(a.Classes)] += total
			g.add(marks[i]+" "+k.Label(), append(texts, fmt.Sprintf("%.4f", total), strconv.Itoa(a.Samples[i])), false, false)
		}
		var texts []string
		for _, v := range columns {
			texts = append(texts, fmt.Sprintf("%.4f", v))
		}
		g.add("reference", append(texts, strconv.Itoa(n)), true, false)
		g.paint()
		c.line()
		c.line(c.dim("Proportions of the area of the map."))
		return c.flush()
	}
	most := 0.0
	for i := range a.Mapped {
		most = math.Max(most, s.area(math.Max(a.Mapped[i], a.Adjusted[i].Value)))
	}
	decimals := decimalsFor(most)
	g := &grid{c: c, name: "class", head: []string{"samples", "user's %", "± %", "producer's %", "± %", "mapped " + s.unit.Name, "adjusted " + s.unit.Name, "± " + s.unit.Name}}
	pct := func(v float64) string { return group(v*100, 1) }
	for i, k := range a.Classes {
		if a.Samples[i] == 0 && a.Adjusted[i].Value == 0 {
			continue
		}
		g.add(marks[i]+" "+k.Label(), []string{strconv.Itoa(a.Samples[i]), pct(a.Users[i].Value), pct(a.Users[i].Half), pct(a.Producers[i].Value), pct(a.Producers[i].Half),
			group(s.area(a.Mapped[i]), decimals), group(s.area(a.Adjusted[i].Value), decimals), group(s.area(a.Adjusted[i].Half), decimals)}, false, false)
	}
	g.paint()
	c.line()
	c.line(c.dim("User's: how much of what is mapped as the class is it. Producer's: how much of the class is mapped as it. ± is half a 95 % interval."))
	return c.flush()
}
