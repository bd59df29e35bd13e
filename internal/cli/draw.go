package cli

import (
	"io"
	"math"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/internal/draw"
)

func drawCommand() *cli.Command {
	return &cli.Command{
		Name:  "draw",
		Usage: "figures: maps, shaded zones, bars, trends, matrices, flows, ranks, checks",
		Description: `Draws a figure as PNG, SVG or PDF; the ending of --out chooses the format. Colours are those of the legend.

  verdex draw map cover.tif --zones wards.gpkg --legend legend.csv --out map.png
  verdex draw pair --epoch 2004=a.tif --epoch 2020=b.tif --legend legend.csv --out pair.png
  verdex draw difference --epoch 2004=a.tif --epoch 2020=b.tif --legend legend.csv --out difference.png
  verdex draw shade extents.csv --zones wards.gpkg --zone-id code --class "Built-up" --out built-up.svg
  verdex draw bars extents.csv --legend legend.csv --out bars.pdf
  verdex draw trend extents_*.csv --legend legend.csv --out trend.png`,
		Commands: []*cli.Command{mapFigureCommand(), pairFigureCommand(), differenceFigureCommand(), shadeFigureCommand(), barsFigureCommand(), trendFigureCommand(),
			matrixFigureCommand(), flowsFigureCommand(), ranksFigureCommand(), checkFigureCommand()},
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
	width, err1 := strconv.ParseFloat(w, 64)
	height, err2 := strconv.ParseFloat(h, 64)
	if !ok || err1 != nil || err2 != nil || !(width > 0) || !(height > 0) || math.IsInf(width+height, 0) {
		return out, usage("--size %s does not have the form WIDTHxHEIGHT, such as 1280x800", o.Size)
	}
	out = draw.Options{Width: width, Height: height, DPI: o.DPI, Dark: o.Dark, Title: o.Title}
	if err := out.Check(); err != nil {
		return out, usage("--size %s: %w", o.Size, err)
	}
	return out, nil
}

// drawFigure makes a figure and stages it.
func (s *session) drawFigure(o *figureOptions, make func(draw.Options) (draw.Figure, error)) error {
	if err := needOut(s, o.Out); err != nil {
		return err
	}
	for _, in := range inputsOf(s.options) {
		if ext := strings.ToLower(filepath.Ext(in.Path)); ext == ".yaml" || ext == ".yml" {
			return usage("%s: it is a plan: give it an output with make: %s and run it, or make a page of all of it with verdex report %s", in.Path, s.name, in.Path)
		}
	}
	options, err := o.options()
	if err != nil {
		return err
	}
	format, err := draw.FormatOf(o.Out)
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
