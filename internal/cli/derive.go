package cli

import (
	"context"
	"fmt"
	"math"
	"slices"
	"strings"

	"github.com/mattn/go-runewidth"
	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/core/account"
	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/cql"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/raster/open"
	"github.com/verdex-land/verdex/core/tally"
)

// layerFlags name the rasters that are computed with.
func layerFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringSliceFlag{Name: "layer", Usage: "`NAME=RASTER` or NAME=RASTER@BAND, once for each layer"},
		&cli.StringFlag{Name: "grid", Usage: "`like:NAME`, the layer on whose cells others meet"},
		&cli.BoolFlag{Name: "codes-as-numbers", Usage: "allow layers with a palette, whose values are codes, in arithmetic"},
	}
}

// deriveClassFlags put what is derived into classes.
func deriveClassFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "crosswalk", Usage: "CSV `FILE` whose intervals turn the values into classes"},
		&cli.StringFlag{Name: "legend", Usage: "CSV `FILE` of the classes: code,name,color,group"},
		&cli.StringSliceFlag{Name: "nodata", Usage: "`VALUE` that means no data, for all layers or as NAME=VALUE for one"},
		&cli.StringFlag{Name: "crs", Usage: "`CRS` of the rasters, when the files do not say"},
	}
}

func exprCommand() *cli.Command {
	return &cli.Command{
		Name:      "expr",
		Usage:     "an arithmetic expression over layers",
		ArgsUsage: "EXPRESSION",
		Description: `Computes + - * / % div ^ over layers, cell by cell, as float32. Where a layer is nodata, and where
something is divided by zero, the outcome is nodata. With --crosswalk the values become classes at once.

  verdex derive expr --layer nir=s.tif@4 --layer red=s.tif@3 "(nir - red) / (nir + red)" --out index.tif
  verdex derive expr --layer a=2004.tif --layer b=2020.tif "b - a" --crosswalk steps.csv --legend l.csv --out classes.tif`,
		Flags:  slices.Concat(layerFlags(), deriveClassFlags(), rasterOutFlags()),
		Action: deriveExpr,
	}
}

func deriveCommand() *cli.Command {
	rules := &cli.Command{
		Name:  "rules",
		Usage: "classes by an ordered list of conditions over layers",
		Description: `Gives each cell the class of the first rule that holds. Rules are a YAML file:

  rules:
    - class: 3
      when: cover IN (41, 42) AND slope > 25
      note: steep woodland
  else: nodata

  verdex derive rules --layer cover=cover.tif --layer slope=slope.tif --rules rules.yaml --legend legend.csv --out classes.tif
  verdex derive rules --layer cover=cover.tif --layer slope=slope.tif --rules rules.yaml --explain-rules`,
		Flags: slices.Concat([]cli.Flag{
			&cli.StringFlag{Name: "rules", Usage: "YAML `FILE` of the rules"},
			&cli.BoolFlag{Name: "explain-rules", Usage: "show what each rule took; without --out write nothing"},
		}, layerFlags(), deriveClassFlags()[1:], rasterOutFlags()),
		Action: deriveRules,
	}
	slope := &cli.Command{
		Name:      "slope",
		Usage:     "steepness from an elevation raster",
		ArgsUsage: "ELEVATION",
		Description: `The slope of each cell from its eight neighbours (Horn 1981), with true distances on the ellipsoid, in
percent or degrees, right in metres and in degrees. Elevations are in metres.

  verdex derive slope elevation.tif --out slope.tif
  verdex derive slope elevation.tif --in degrees --crosswalk steepness.csv --legend l.csv --out steepness.tif`,
		Flags: slices.Concat([]cli.Flag{
			&cli.StringFlag{Name: "in", Value: "percent", Usage: "`percent` or degrees"},
		}, deriveClassFlags(), rasterOutFlags()),
		Action: deriveSlope,
	}
	return &cli.Command{
		Name:     "derive",
		Usage:    "a new raster from others: an expression, rules, slope, a composite",
		Commands: []*cli.Command{exprCommand(), rules, slope, compositeCommand()},
	}
}

// layers opens the layers on one grid.
type layers struct {
	*raster.Layers
	files []open.File
	moved []*raster.Aligned
}

func (l *layers) Close() {
	for _, f := range l.files {
		f.Close()
	}
}

// openLayers opens --layer, with --nodata, --crs and --grid applied.
func openLayers(c *cli.Command, r *reporter) (_ *layers, err error) {
	given := c.StringSlice("layer")
	if len(given) == 0 {
		return nil, usage("%s needs --layer NAME=RASTER (verdex %s --help shows examples)", commandName(c), commandName(c))
	}
	out := &layers{}
	defer func() {
		if err != nil {
			out.Close()
		}
	}()
	var list []raster.Layer
	names := map[string]int{}
	for _, text := range given {
		name, arg, ok := strings.Cut(text, "=")
		if !ok || name == "" || arg == "" {
			return nil, usage("--layer %q is not of the form NAME=RASTER", text)
		}
		if _, twice := names[name]; twice {
			return nil, usage("two layers are called %s", name)
		}
		names[name] = len(list)
		f, path, err := oneRaster(arg)
		if err != nil {
			return nil, err
		}
		out.files = append(out.files, f)
		nodata := ""
		for _, v := range c.StringSlice("nodata") {
			if value, ok := strings.CutPrefix(v, name+"="); ok {
				nodata = value
			} else if nodata == "" && !strings.Contains(v, "=") {
				nodata = v
			}
		}
		s, err := adjust(c, f, path, nodata, r)
		if err != nil {
			return nil, err
		}
		list = append(list, raster.Layer{Name: name, Source: s})
	}
	if where := c.String("grid"); where != "" {
		name, ok := strings.CutPrefix(where, "like:")
		k, known := names[name]
		if !ok || !known {
			return nil, usage("--grid %q is not like:NAME with the name of a layer", where)
		}
		g := list[k].Header().Grid
		for i, l := range list {
			if g.Aligned(l.Header().Grid) == nil {
				continue
			}
			how := raster.Nearest
			if l.Header().Type.Floating() {
				how = raster.Bilinear
			}
			a, err := raster.Align(l.Source, g, how)
			if err != nil {
				return nil, err
			}
			out.moved = append(out.moved, a)
			list[i].Source = a
		}
	}
	out.Layers, err = raster.NewLayers(list)
	return out, err
}

// refuseCodes refuses layers whose values are codes in arithmetic.
func refuseCodes(c *cli.Command, l *layers, exprs ...*cql.Expr) error {
	if c.Bool("codes-as-numbers") {
		return nil
	}
	for _, e := range exprs {
		for _, name := range e.Arithmetic() {
			for _, layer := range l.List {
				if layer.Name == name && len(layer.Header().Palette) > 0 {
					return fmt.Errorf("the layer %s (%s) holds codes of classes, for it has a palette, and arithmetic with codes means nothing: compare them (%s = 3), or allow it with --codes-as-numbers",
						name, layer.Header().Name, name)
				}
			}
		}
	}
	return nil
}

// finish puts what was derived into classes where a crosswalk is given, and writes it.
func finish(ctx context.Context, c *cli.Command, s raster.Source, r *reporter) error {
	out := c.String("out")
	if out == "" {
		return usage("%s needs --out, the file to write", commandName(c))
	}
	path := c.String("crosswalk")
	if path == "" {
		return writeRaster(ctx, c, out, s, r)
	}
	legend, err := readLegend(c)
	if err != nil {
		return err
	}
	walk, err := readCrosswalk(c, path, legend)
	if err != nil {
		return err
	}
	coder := &cover.Coder{Legend: legend, Crosswalk: walk, NoData: s.Header().NoData}
	survey, err := account.TakeSurvey(ctx, s, coder, nil, c.Int("threads"), nil)
	if err != nil {
		return err
	}
	canvas := newCanvas(c.Root().Writer)
	paintSurvey(canvas, survey, legend)
	if err := canvas.flush(); err != nil {
		return err
	}
	if survey.Gap.Cells > 0 {
		return gapError(survey)
	}
	for _, l := range survey.Idle() {
		r.warn(fmt.Sprintf("%s: line %d (%s) never applies to %s", walk.Source, l.Number, l.From, survey.Raster))
	}
	view, err := cover.View(s, coder, nil)
	if err != nil {
		return err
	}
	return writeRaster(ctx, c, out, view, r)
}

func deriveExpr(ctx context.Context, c *cli.Command) error {
	if c.Args().Len() != 1 {
		return usage("derive expr takes one expression, in quotes, but %d were given", c.Args().Len())
	}
	r := newReporter(c)
	e, err := cql.ParseNumber(c.Args().First())
	if err != nil {
		return usageError{err}
	}
	l, err := openLayers(c, r)
	if err != nil {
		return err
	}
	defer l.Close()
	if err := refuseCodes(c, l, e); err != nil {
		return err
	}
	x, err := raster.NewExpression(l.Layers, e)
	if err != nil {
		return err
	}
	if err := finish(ctx, c, x, r); err != nil {
		return err
	}
	for _, a := range l.moved {
		r.note(movesNote(a))
	}
	if n := x.ZeroDivisions(); n > 0 {
		if c.String("crosswalk") != "" {
			n /= 2 // read once to check and once to write
		}
		r.note(fmt.Sprintf("%s cells are nodata because something was divided by zero there", group(float64(n), 0)))
	}
	if n := x.TooLarge(); n > 0 {
		if c.String("crosswalk") != "" {
			n /= 2
		}
		r.warn(fmt.Sprintf("%s cells are nodata because the result there is too large for a float32 number: scale the expression", group(float64(n), 0)))
	}
	return nil
}

func deriveSlope(ctx context.Context, c *cli.Command) error {
	if c.Args().Len() != 1 {
		return usage("derive slope takes one elevation raster, but %d were given", c.Args().Len())
	}
	r := newReporter(c)
	in := c.String("in")
	if in != "percent" && in != "degrees" {
		return usage("--in %s is not known: choose percent or degrees", in)
	}
	src, err := openCover(c, c.Args().Slice(), r)
	if err != nil {
		return err
	}
	defer src.Close()
	if err := src.needCRS(); err != nil {
		return err
	}
	if len(src.Header().Palette) > 0 {
		return fmt.Errorf("%s: it has a palette, so it holds codes of classes and no elevations", src.path)
	}
	s, err := raster.Slope(src, in == "degrees")
	if err != nil {
		return err
	}
	return finish(ctx, c, s, r)
}

func deriveRules(ctx context.Context, c *cli.Command) error {
	if c.Args().Len() != 0 {
		return usage("derive rules takes its rasters as --layer NAME=RASTER, not %q", c.Args().First())
	}
	r := newReporter(c)
	if c.String("rules") == "" {
		return usage("derive rules needs --rules, the file of the rules")
	}
	if c.String("out") == "" && !c.Bool("explain-rules") {
		return usage("derive rules needs --out, or --explain-rules to show what each rule takes")
	}
	legend, err := readLegend(c)
	if err != nil {
		return err
	}
	rules, err := cover.ReadRules(c.String("rules"), legend)
	if err != nil {
		return err
	}
	l, err := openLayers(c, r)
	if err != nil {
		return err
	}
	defer l.Close()
	var conditions []*cql.Expr
	for _, rule := range rules.List {
		conditions = append(conditions, rule.When)
	}
	if err := refuseCodes(c, l, conditions...); err != nil {
		return err
	}
	if c.Bool("explain-rules") {
		if err := explainRules(ctx, c, rules, l, legend, r); err != nil {
			return err
		}
	}
	if c.String("out") != "" {
		view, err := cover.NewRuleView(rules, l.Layers, legend, false)
		if err != nil {
			return err
		}
		if err := writeRaster(ctx, c, c.String("out"), view, r); err != nil {
			return err
		}
	}
	for _, a := range l.moved {
		r.note(movesNote(a))
	}
	return nil
}

// explainRules shows what each rule took.
func explainRules(ctx context.Context, c *cli.Command, rules *cover.Rules, l *layers, legend *cover.Legend, r *reporter) error {
	view, err := cover.NewRuleView(rules, l.Layers, legend, true)
	if err != nil {
		return err
	}
	set, place, err := tally.Whole(view.Header().Grid)
	if err != nil {
		return err
	}
	tell, end := r.progress("explaining")
	t, err := tally.Measure(ctx, tally.Request{Layers: []raster.Source{view}, Zones: set, Placement: place, Threads: c.Int("threads"), Progress: tell})
	end()
	if err != nil {
		return err
	}
	areas, total := map[int]float64{}, 0.0
	for i, v := range t.Zones[0].Values {
		a := t.Zones[0].Extents[i].Area(t.Unit) / 1e4
		k := math.MaxUint16 // nodata in every layer
		if v[0] != tally.Missing {
			k = int(t.Number(0, 0, v[0]))
		}
		areas[k] += a
		total += a
	}
	canvas := newCanvas(c.Root().Writer)
	canvas.line(canvas.bold("What each rule took, in the order in which they are asked"))
	canvas.line()
	name := 12
	for _, rule := range rules.List {
		name = max(name, min(28, runewidth.StringWidth(targetName(rule.Class, legend))))
	}
	canvas.line(canvas.dim(right("rule", 5) + "     " + left("class", name) + right("cells", 14) + right("hectares", 14) + right("%", 8) + right("taken before", 14) + "  when"))
	row := func(number string, to cover.Target, k int, when string) {
		key := "  "
		if class, ok := legend.Find(to.Code); ok && !to.NoData && canvas.color {
			key = canvas.swatch(class.Color, ' ')
		}
		before := right(group(float64(view.Before(k)), 0), 14)
		if when == "" {
			before = right("", 14)
		}
		line := right(number, 5) + "  " + key + " " + left(targetName(to, legend), name) + right(group(float64(view.Took(k)), 0), 14) +
			right(group(areas[k+1], 1), 14) + right(group(areas[k+1]/math.Max(total, 1e-300)*100, 2), 8) + before
		canvas.line(line + "  " + runewidth.Truncate(strings.Join(strings.Fields(when), " "), max(16, canvas.width-runewidth.StringWidth(line)-2), "…"))
	}
	for k, rule := range rules.List {
		row(fmt.Sprint(k+1), rule.Class, k, rule.When.Text)
	}
	if rules.Else != nil {
		row("else", *rules.Else, len(rules.List), "")
	}
	if a := areas[math.MaxUint16]; a > 0 {
		canvas.line(right("", 10) + left("nodata in every layer", name+14) + right(group(a, 1), 14) + right(group(a/total*100, 2), 8))
	}
	if err := canvas.flush(); err != nil {
		return err
	}
	for k, rule := range rules.List {
		switch {
		case view.Took(k) == 0 && view.Before(k) > 0:
			r.warn(fmt.Sprintf("%s: rule %d never decides: earlier rules take all of its %s cells", rules.Source, k+1, group(float64(view.Before(k)), 0)))
		case view.Took(k) == 0:
			r.warn(fmt.Sprintf("%s: rule %d holds nowhere: %s", rules.Source, k+1, rule.When.Text))
		}
	}
	return nil
}
