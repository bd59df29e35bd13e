package cli

import (
	"fmt"
	"math"

	"github.com/verdex-land/verdex/core/survey"

	"github.com/mattn/go-runewidth"
	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/job"
	"github.com/verdex-land/verdex/core/text"
)

// reclassifyOptions are those of reclassify.
type reclassifyOptions struct {
	job.ReclassifyOptions
	Check        bool   `opt:"check" help:"show what would become of what, and write nothing"`
	OutDir       string `opt:"out-dir" out:"rasters" help:"<FOLDER> for several rasters, each by itself under its own name"`
	rasterOutput `group:"output"`
	strictOption `group:"checks"`
}

func reclassifyCommand() *cli.Command {
	return command(cli.Command{
		Name:  "reclassify",
		Usage: "put a raster's values into classes, and write it",
		Description: `Turns values into the classes of a legend by a crosswalk, which is held to the values that
occur: values without a line fail, lines that never apply are pointed out, and the table of what became
of what is shown with cells and areas. measure and change do the same inside the pass, with nothing written.

  verdex reclassify cover_2004.tif --crosswalk codes.csv --legend legend.csv --out classes_2004.tif
  verdex reclassify index.tif --crosswalk thresholds.csv --legend legend.csv --out classes.tif
  verdex reclassify "cover_*.tif" --crosswalk codes.csv --legend legend.csv --out-dir classes
  verdex reclassify cover.tif --crosswalk codes.csv --check        only show what would become of what`,
	}, runReclassify)
}

func runReclassify(s *session, o *reclassifyOptions) error {
	if !o.Check && (o.OutDir == "") == (o.Out == "") {
		return usage("reclassify needs --out for one raster, or --out-dir for several each by itself")
	}
	o.Each = o.OutDir != ""
	_, err := job.Reclassify(s.ctx, s.env(), o.ReclassifyOptions, func(r *job.Reclassified) error {
		if !o.Check { // the survey is made while the raster is written
			out := o.Out
			if o.Each {
				out = intoFolder(o.OutDir, []string{r.Name})[0]
			}
			if err := s.writeRaster(out, r.Raster, o.rasterOptions); err != nil {
				return err
			}
		}
		survey, err := r.Survey()
		if err != nil {
			return err
		}
		return s.showSurvey(survey, r.Legend)
	})
	if err != nil {
		return s.withSurvey(err)
	}
	return s.strict(o.Strict)
}

// showSurvey draws what a crosswalk does to a raster.
func (s *session) showSurvey(survey *survey.Survey, legend *cover.Legend) error {
	c := s.canvas()
	paintSurvey(c, survey, legend)
	return c.flush()
}

// paintSurvey draws the table from → to.
func paintSurvey(c *canvas, s *survey.Survey, legend *cover.Legend) {
	c.line(c.bold(fmt.Sprintf("%s by %s", s.Raster, s.Crosswalk.Source)))
	c.line()
	from, name, widest := 7, 12, 0
	for _, m := range s.Lines {
		from = max(from, min(24, runewidth.StringWidth(m.Line.From)))
		name = max(name, min(28, runewidth.StringWidth(targetName(m.Line.To, legend))))
		widest = max(widest, runewidth.StringWidth(m.Line.Note))
	}
	head := right("line", 5) + "  " + left("from", from) + "     " + left("to", name+4) + right("cells", 16) + right("hectares", 16) + right("%", 9)
	if widest > 0 {
		head += "  note"
	}
	c.line(c.dim(head))
	row := func(line, source, key, target string, m survey.Moved, note string) {
		out := right(line, 5) + "  " + left(source, from) + "  " + key + " " + left(target, name+4) + right(text.Number(float64(m.Cells), 0), 16) +
			right(text.Number(m.Area/1e4, 1), 16) + right(text.Number(m.Area/math.Max(s.Total, 1e-300)*100, 2), 9)
		if note != "" {
			out += "  " + runewidth.Truncate(note, max(10, c.width-runewidth.StringWidth(out)-2), "…")
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
