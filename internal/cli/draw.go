package cli

import (
	"io"
	"math"
	"strings"

	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/internal/draw"

	"github.com/verdex-land/verdex/core/decimal"
)

func drawCommand() *cli.Command {
	return &cli.Command{
		Name:  "draw",
		Usage: "figures: maps, shaded zones, bars, trends, matrices, flows, ranks, checks",
		Description: `Draws a figure as PNG, SVG or PDF; the ending of --out chooses the format. Colours are those of the legend. A plan may
stand for the files of a figure: it then has the zones, the epochs and the legend of the plan, and tables are made as they are needed.

  verdex draw map cover.tif --zones wards.gpkg --legend legend.csv --out map.png
  verdex draw pair --epoch 2004=a.tif --epoch 2020=b.tif --legend legend.csv --out pair.png
  verdex draw difference --epoch 2004=a.tif --epoch 2020=b.tif --legend legend.csv --out difference.png
  verdex draw shade extents.csv --zones wards.gpkg --zone-id code --class "Built-up" --out built-up.svg
  verdex draw bars extents.csv --legend legend.csv --out bars.pdf
  verdex draw trend extents_*.csv --legend legend.csv --out trend.png
  verdex draw map plan.yaml --zones wards --epoch 2004 --zone W3 --out w3.png`,
		Commands: []*cli.Command{mapFigureCommand(), pairFigureCommand(), differenceFigureCommand(), shadeFigureCommand(), barsFigureCommand(), trendFigureCommand(),
			matrixFigureCommand(), flowsFigureCommand(), historiesFigureCommand(), sinceFigureCommand(), ranksFigureCommand(), checkFigureCommand()},
	}
}

// figureOptions say how a figure is drawn and where it goes.
type figureOptions struct {
	Out   string  `opt:"out" out:"figure" help:"<FILE> to write: .png, .svg or .pdf"`
	Size  string  `opt:"size" default:"1280x800" help:"<SIZE> in pixels at 96 dots an inch: width x height"`
	DPI   float64 `opt:"dpi" default:"96" least:"24" most:"1200" help:"<DOTS> an inch, of PNG"`
	Dark  bool    `opt:"dark" help:"light letters on a dark ground"`
	Title string  `opt:"title" help:"<TEXT> above the figure instead of its own; - for none"`
	forceOption
	savePlanOption
}

// options are those of the figure.
func (o *figureOptions) options() (out draw.Options, err error) {
	w, h, ok := strings.Cut(strings.ToLower(o.Size), "x")
	width, err1 := decimal.Parse(w)
	height, err2 := decimal.Parse(h)
	if !ok || err1 != nil || err2 != nil || !(width > 0) || !(height > 0) || math.IsInf(width+height, 0) {
		return out, usage("--size %s does not have the form WIDTHxHEIGHT, such as 1280x800", o.Size)
	}
	out = draw.Options{Width: width, Height: height, DPI: o.DPI, Dark: o.Dark, Title: o.Title}
	if err := out.Check(); err != nil {
		return out, usage("--size %s: %w", o.Size, err)
	}
	return out, nil
}

// figureCommand makes a command that draws a figure. It takes a plan instead of the files of the figure, whose options are then those that the plan has.
func figureCommand[O any](c cli.Command, of func(*O) *figureOptions, make func(s *session, o *O, d draw.Options) (draw.Figure, error)) *cli.Command {
	return command(c, func(s *session, o *O) error {
		s, full, err := s.ofPlan(o)
		if err != nil {
			return err
		}
		o = full.(*O)
		return s.drawFigure(of(o), func(d draw.Options) (draw.Figure, error) { return make(s, o, d) })
	})
}

// drawFigure makes a figure and stages it.
func (s *session) drawFigure(o *figureOptions, make func(draw.Options) (draw.Figure, error)) error {
	if err := needOut(s, o.Out); err != nil {
		return err
	}
	options, err := o.options()
	if err != nil {
		return err
	}
	format, err := draw.FormatOf(named(o.Out, "figure", ".png"))
	if err != nil {
		return usageError{err}
	}
	f, err := make(options)
	if err != nil {
		return err
	}
	var notes []string
	err = s.Write(o.Out, func(w io.Writer) (err error) {
		notes, err = draw.Write(w, format, f, options)
		return err
	})
	s.notes(notes)
	return err
}
