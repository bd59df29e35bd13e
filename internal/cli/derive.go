package cli

import (
	"errors"
	"fmt"
	"math"
	"strings"

	"github.com/mattn/go-runewidth"
	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/job"
	"github.com/verdex-land/verdex/core/raster/geotiff"
	"github.com/verdex-land/verdex/core/text"
)

func deriveCommand() *cli.Command {
	return &cli.Command{
		Name:     "derive",
		Usage:    "a new raster from others: an expression, rules, slope, a composite",
		Commands: []*cli.Command{expressionCommand(), rulesCommand(), slopeCommand(), compositeCommand()},
	}
}

type expressionOptions struct {
	job.ExpressionOptions
	rasterOutput `group:"output"`
}

func expressionCommand() *cli.Command {
	return command(cli.Command{
		Name:  "expr",
		Usage: "an arithmetic expression over layers",
		Description: `Computes + - * / % div ^ over layers, cell by cell, as float32. Where a layer is nodata, and where
something is divided by zero, the result is nodata. With --crosswalk the values become classes at once.

  verdex derive expr --layer nir=s.tif#4 --layer red=s.tif#3 "(nir - red) / (nir + red)" --out index.tif
  verdex derive expr --layer a=2004.tif --layer b=2020.tif "b - a" --crosswalk steps.csv --legend l.csv --out classes.tif`,
	}, func(s *session, o *expressionOptions) error {
		return s.makeDerived(o.rasterOutput, func() (*job.Derived, error) { return job.DeriveExpression(s.ctx, s.env(), o.ExpressionOptions) })
	})
}

type slopeOptions struct {
	job.SlopeOptions
	rasterOutput `group:"output"`
}

func slopeCommand() *cli.Command {
	return command(cli.Command{
		Name:  "slope",
		Usage: "steepness from an elevation raster",
		Description: `The slope of each cell from its eight neighbours (Horn 1981), with true distances on the ellipsoid, in
percent or degrees, right in metres and in degrees. Elevations are in metres.

  verdex derive slope elevation.tif --out slope.tif
  verdex derive slope elevation.tif --in degrees --crosswalk steepness.csv --legend l.csv --out steepness.tif`,
	}, func(s *session, o *slopeOptions) error {
		return s.makeDerived(o.rasterOutput, func() (*job.Derived, error) { return job.DeriveSlope(s.ctx, s.env(), o.SlopeOptions) })
	})
}

// makeDerived makes a raster that a crosswalk may put into classes, shows what it does, and writes it.
func (s *session) makeDerived(o rasterOutput, make func() (*job.Derived, error)) error {
	if err := needOut(s, o.Out); err != nil {
		return err
	}
	r, err := make()
	if err != nil {
		return s.withSurvey(err)
	}
	defer r.Close()
	if r.Survey != nil {
		if err := s.showSurvey(r.Survey, r.Legend); err != nil {
			return err
		}
	}
	return s.writeRaster(o.Out, r.Raster, o.rasterOptions)
}

// withSurvey shows the survey that comes with an error.
func (s *session) withSurvey(err error) error {
	var survey *job.SurveyError
	if errors.As(err, &survey) {
		if err := s.showSurvey(survey.Survey, survey.Legend); err != nil {
			return err
		}
	}
	return err
}

type compositeOptions struct {
	job.CompositeOptions
	rasterOutput `group:"output"`
}

func compositeCommand() *cli.Command {
	return command(cli.Command{
		Name:  "composite",
		Usage: "one raster of a stack: the majority class, or a statistic of values",
		Description: `Keeps for each cell the class that most rasters of the stack hold, or the least, greatest, mean or
median value, or how many hold data. The stack is in the order of time; a tie goes to the latest, or as --ties says.
A pattern with {date} groups files: those of one date are one raster first, so that none counts twice where its
tiles overlap.

  verdex derive composite "scenes/{date}_{tile}.tif" --out usual.tif
  verdex derive composite 2018.tif 2019.tif 2020.tif --ties 3,1 --out usual.tif
  verdex derive composite "ndvi/{date}.tif" --of median --out median.tif`,
	}, func(s *session, o *compositeOptions) error {
		return s.makeRaster(o.rasterOutput, func() (*job.Raster, error) { return job.DeriveComposite(s.ctx, s.env(), o.CompositeOptions) })
	})
}

type rulesOptions struct {
	Rest []string `arg:"-"` // it takes none
	job.RulesOptions
	rasterOutput `group:"output"`
}

func rulesCommand() *cli.Command {
	return command(cli.Command{
		Name:  "rules",
		Usage: "classes by an ordered list of conditions over layers",
		Description: `Gives each cell the class of the first rule that holds. Rules are a YAML file:

  rules:
    - class: 3
      when: cover IN (41, 42) AND slope > 25
      note: steep woodland
  else: nodata

  verdex derive rules --layer cover=cover.tif --layer slope=slope.tif --rules rules.yaml --legend legend.csv --out classes.tif
  verdex derive rules --layer cover=cover.tif --layer slope=slope.tif --rules rules.yaml --explain-rules    writes nothing`,
	}, deriveRules)
}

func deriveRules(s *session, o *rulesOptions) error {
	if len(o.Rest) > 0 {
		return usage("derive rules takes its rasters as --layer NAME=RASTER, not %q", o.Rest[0])
	}
	if o.Out == "" && !o.ExplainRules {
		return usage("derive rules needs --out, or --explain-rules to show what each rule takes")
	}
	r, err := job.DeriveRules(s.ctx, s.env(), o.RulesOptions)
	if err != nil {
		return err
	}
	defer r.Close()
	if r.Explained != nil {
		if err := paintRules(s.canvas(), r); err != nil {
			return err
		}
	}
	if o.Out == "" {
		r.Done()
		return nil
	}
	if err := r.Watch(geotiff.TileSize); err != nil {
		return err
	}
	return s.writeRaster(o.Out, r.Raster, o.rasterOptions)
}

// paintRules draws what each rule took.
func paintRules(c *canvas, r *job.RuledRaster) error {
	c.line(c.bold("What each rule took, in the order in which they are asked"))
	c.line()
	name := 12
	for _, rule := range r.Rules.List {
		name = max(name, min(28, runewidth.StringWidth(targetName(rule.Class, r.Legend))))
	}
	c.line(c.dim(right("rule", 5) + "     " + left("class", name) + right("cells", 14) + right("hectares", 14) + right("%", 8) + right("taken before", 14) + "  when"))
	total := math.Max(r.Explained.Total, 1e-300)
	row := func(number string, to cover.Target, took job.RuleShare, when string) {
		key := "  "
		if class, ok := r.Legend.Find(to.Code); ok && !to.NoData && c.color {
			key = c.swatch(class.Color, ' ')
		}
		before := right(text.Number(float64(took.Before), 0), 14)
		if when == "" {
			before = right("", 14)
		}
		line := right(number, 5) + "  " + key + " " + left(targetName(to, r.Legend), name) + right(text.Number(float64(took.Cells), 0), 14) +
			right(text.Number(took.Area/1e4, 1), 14) + right(text.Number(took.Area/total*100, 2), 8) + before
		c.line(line + "  " + runewidth.Truncate(strings.Join(strings.Fields(when), " "), max(16, c.width-runewidth.StringWidth(line)-2), "…"))
	}
	for k, rule := range r.Rules.List {
		row(fmt.Sprint(k+1), rule.Class, r.Explained.Took[k], rule.When.Text)
	}
	if r.Explained.HasElse {
		row("else", *r.Rules.Else, r.Explained.Took[len(r.Rules.List)], "")
	}
	if open := r.Explained.Open; open.Cells > 0 {
		c.line(right("", 10) + left("undecided", name) + right(text.Number(float64(open.Cells), 0), 14) + right(text.Number(open.Area/1e4, 1), 14) + right(text.Number(open.Area/total*100, 2), 8))
	}
	if a := r.Explained.NoData; a > 0 {
		c.line(right("", 10) + left("nodata in every layer", name+14) + right(text.Number(a/1e4, 1), 14) + right(text.Number(a/total*100, 2), 8))
	}
	return c.flush()
}
