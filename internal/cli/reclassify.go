package cli

import (
	"context"
	"fmt"
	"math"
	"slices"

	"github.com/mattn/go-runewidth"
	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/core/account"
	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/patch"
	"github.com/verdex-land/verdex/core/raster"
)

func reclassifyCommand() *cli.Command {
	return &cli.Command{
		Name:      "reclassify",
		Usage:     "put a raster's values into classes, and write it",
		ArgsUsage: "RASTER...",
		Description: `Turns values into the classes of a legend by a crosswalk, after checking it against the values
that occur: values without a line fail, lines that never apply are pointed out, and the table of what became
of what is shown with cells and areas. measure and change do the same inside the pass, with nothing written.

  verdex reclassify cover_2004.tif --crosswalk codes.csv --legend legend.csv --out classes_2004.tif
  verdex reclassify index.tif --crosswalk thresholds.csv --legend legend.csv --out classes.tif
  verdex reclassify "cover_*.tif" --crosswalk codes.csv --legend legend.csv --out-dir classes
  verdex reclassify cover.tif --crosswalk codes.csv --check        only show what would become of what`,
		Flags: slices.Concat([]cli.Flag{
			&cli.StringFlag{Name: "crosswalk", Usage: "CSV `FILE` that turns values into classes: from,to,note"},
			&cli.StringFlag{Name: "legend", Usage: "CSV `FILE` of the classes: code,name,color,group"},
			&cli.StringFlag{Name: "out-dir", Usage: "`FOLDER` for several rasters, each by itself under its own name"},
			&cli.FloatFlag{Name: "min-patch", Validator: notNegative, Usage: "fold pieces of less than `HECTARES` into the neighbour with which they share the longest border"},
			&cli.StringFlag{Name: "type", Usage: "cell `TYPE`: uint8, int16, uint16, int32, uint32; the narrowest that holds the codes by itself"},
			&cli.BoolFlag{Name: "check", Usage: "show what would become of what, and write nothing"},
			&cli.BoolFlag{Name: "strict", Usage: "end with status 3 when a line never applies or a value occurs in one raster only"},
			listFlag(),
		}, rasterFlags(), rasterOutFlags()),
		Action: reclassify,
	}
}

func reclassify(ctx context.Context, c *cli.Command) error {
	r := newReporter(c)
	paths, err := coverPaths(c)
	if err != nil {
		return err
	}
	dir, out := c.String("out-dir"), c.String("out")
	switch {
	case len(paths) == 0:
		return usage("reclassify needs a raster (verdex reclassify --help shows examples)")
	case c.String("crosswalk") == "":
		return usage("reclassify needs --crosswalk, which says what becomes of the values")
	case !c.Bool("check") && (dir == "") == (out == ""):
		return usage("reclassify needs --out for one raster, or --out-dir for several each by itself")
	}
	legend, err := readLegend(c)
	if err != nil {
		return err
	}
	walk, problems, err := cover.InspectCrosswalk(c.String("crosswalk"), legend)
	if err != nil {
		return err
	}
	r.notes(walk.Notes)
	var want *raster.CellType
	if name := c.String("type"); name != "" {
		t, ok := raster.ParseCellType(name)
		if !ok || t.Floating() {
			return usage("--type %s is not known: choose uint8, int8, uint16, int16, uint32 or int32", name)
		}
		want = &t
	}
	jobs := [][]string{paths}
	outs := []string{out}
	if dir != "" {
		jobs = nil
		for _, p := range paths {
			jobs = append(jobs, []string{p})
		}
		outs = intoFolder(dir, paths)
	}
	var surveys []*account.Survey
	for i, job := range jobs {
		s, err := reclassifyOne(ctx, c, job, outs[i], legend, walk, problems, want, r)
		if err != nil {
			return err
		}
		surveys = append(surveys, s)
	}
	compareSurveys(surveys, r)
	if c.Bool("strict") && r.warned > 0 {
		return errStrict
	}
	return nil
}

// reclassifyOne surveys one raster (or several as one), shows what becomes of what, and writes it.
func reclassifyOne(ctx context.Context, c *cli.Command, paths []string, out string, legend *cover.Legend, walk *cover.Crosswalk, problems []cover.Problem, want *raster.CellType, r *reporter) (*account.Survey, error) {
	src, err := openCover(c, paths, r)
	if err != nil {
		return nil, err
	}
	defer src.Close()
	if err := src.needCRS(); err != nil {
		return nil, err
	}
	coder := &cover.Coder{Legend: legend, Crosswalk: walk, NoData: src.Header().NoData}
	tell, end := r.progress("checking")
	survey, err := account.TakeSurvey(ctx, src, coder, problems, c.Int("threads"), tell)
	end()
	if err != nil {
		return nil, err
	}
	canvas := newCanvas(c.Root().Writer)
	paintSurvey(canvas, survey, legend)
	if err := canvas.flush(); err != nil {
		return nil, err
	}
	for _, p := range survey.Problems {
		r.warn(fmt.Sprintf("%s: %s (%s cells, %s ha)", walk.Source, p.What, group(float64(p.Cells), 0), group(p.Area/1e4, 1)))
	}
	switch n := len(survey.Problems); {
	case n > 0 && survey.Gap.Cells > 0:
		return nil, fmt.Errorf("%w; and mend the %d problem(s) above", gapError(survey), n)
	case n > 0:
		return nil, fmt.Errorf("%s: %d problem(s), told above: mend them before anything is written", walk.Source, n)
	case survey.Gap.Cells > 0:
		return nil, gapError(survey)
	}
	for _, l := range survey.Idle() {
		r.warn(fmt.Sprintf("%s: line %d (%s) never applies to %s", walk.Source, l.Number, l.From, survey.Raster))
	}
	for _, g := range walk.Gaps {
		r.note(fmt.Sprintf("%s: no line holds %v; no cell of %s lies there", walk.Source, g, survey.Raster))
	}
	view, err := cover.View(src, coder, want)
	if err != nil {
		return nil, err
	}
	if c.Bool("check") {
		return survey, nil
	}
	if least := c.Float("min-patch"); least > 0 {
		tell, end := r.progress("folding")
		f, err := patch.Fold(ctx, view, least*1e4, tell)
		end()
		if err != nil {
			return nil, err
		}
		r.note(fmt.Sprintf("%s: %d piece(s) of less than %v ha, %s ha in all, were folded into their neighbours", survey.Raster, f.Found, least, group(f.Area/1e4, 1)))
		if f.Alone > 0 {
			r.note(fmt.Sprintf("%s: %d small piece(s) have no neighbour with a class and stay", survey.Raster, f.Alone))
		}
		view = f
	}
	return survey, writeRaster(ctx, c, out, view, r)
}

// gapError lists the values that have no line.
func gapError(s *account.Survey) error {
	values := "values"
	if n := len(s.Gap.Values); n > 0 {
		var items []string
		for _, v := range s.Gap.Values {
			items = append(items, fmt.Sprint(v))
		}
		values = fmt.Sprintf("%d value(s) that occur: %s", n, shown(items, 12))
	}
	return fmt.Errorf("%s: %s has no line for %s, with %s cells and %s ha: add lines for them, or one for else", s.Raster, s.Crosswalk.Source, values,
		group(float64(s.Gap.Cells), 0), group(s.Gap.Area/1e4, 1))
}

// paintSurvey draws the table from → to.
func paintSurvey(c *canvas, s *account.Survey, legend *cover.Legend) {
	c.line(c.bold(fmt.Sprintf("%s by %s", s.Raster, s.Crosswalk.Source)))
	c.line()
	from, name, note := 7, 12, 0
	for _, m := range s.Lines {
		from = max(from, min(24, runewidth.StringWidth(m.Line.From)))
		name = max(name, min(28, runewidth.StringWidth(targetName(m.Line.To, legend))))
		note = max(note, runewidth.StringWidth(m.Line.Note))
	}
	head := right("line", 5) + "  " + left("from", from) + "     " + left("to", name+4) + right("cells", 16) + right("hectares", 16) + right("%", 9)
	if note > 0 {
		head += "  note"
	}
	c.line(c.dim(head))
	row := func(line, source, key, target string, m account.Moved, text string) {
		out := right(line, 5) + "  " + left(source, from) + "  " + key + " " + left(target, name+4) + right(group(float64(m.Cells), 0), 16) +
			right(group(m.Area/1e4, 1), 16) + right(group(m.Area/math.Max(s.Total, 1e-300)*100, 2), 9)
		if text != "" {
			out += "  " + runewidth.Truncate(text, max(10, c.width-runewidth.StringWidth(out)-2), "…")
		}
		c.line(out)
	}
	for _, m := range s.Lines {
		key := "  "
		if class, ok := legend.Find(m.Line.To.Code); ok && !m.Line.To.Keep && !m.Line.To.NoData && c.color {
			key = c.swatch(class.Color, ' ')
		}
		target := targetName(m.Line.To, legend)
		row(fmt.Sprint(m.Line.Number), m.Line.From, key, target, m, m.Line.Note)
	}
	if s.Missing.Cells > 0 {
		row("", "nodata", "  ", "nodata", s.Missing, "stays")
	}
	if s.Gap.Cells > 0 {
		row("", "no line", "  ", "?", s.Gap, "")
	}
}

func targetName(t cover.Target, legend *cover.Legend) string {
	if class, ok := legend.Find(t.Code); ok && !t.Keep && !t.NoData {
		return fmt.Sprintf("%d %s", t.Code, class.Name)
	}
	return t.String()
}

// compareSurveys points out values that occur in one raster only, where one crosswalk serves several.
func compareSurveys(surveys []*account.Survey, r *reporter) {
	if len(surveys) < 2 {
		return
	}
	in := map[float64][]string{}
	for _, s := range surveys {
		if s.Values == nil {
			return
		}
		for _, v := range s.Values {
			in[v] = append(in[v], s.Raster)
		}
	}
	only := map[string][]string{}
	var values []float64
	for v := range in {
		values = append(values, v)
	}
	slices.Sort(values)
	for _, v := range values {
		if len(in[v]) == 1 {
			only[in[v][0]] = append(only[in[v][0]], fmt.Sprint(v))
		}
	}
	for _, s := range surveys {
		if list := only[s.Raster]; len(list) > 0 {
			r.warn(fmt.Sprintf("only %s holds %s: is that so, or does it have codes of its own?", s.Raster, shown(list, 12)))
		}
	}
}
