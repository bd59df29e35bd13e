package cli

import (
	"context"
	"fmt"
	"image/color"
	"io"
	"math"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/extent"
	"github.com/verdex-land/verdex/core/job"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/text"
	"github.com/verdex-land/verdex/core/zone"
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

type mapFigureOptions struct {
	job.MapOptions
	Zone          string `opt:"zone" group:"zones" help:"fill the frame with one <ZONE>, by its id or its name, and dim the rest"`
	Show          string `opt:"show" choose:"area,percent" group:"classes" help:"<area> in the legend, or percent of the zones"`
	figureOptions `group:"output"`
}

func mapFigureCommand() *cli.Command {
	return command(cli.Command{
		Name: "map", Usage: "a cover with the outlines of zones",
		Description: `Draws a cover in the colours of its legend, with outlines and labels of zones, true areas in the legend, and a scale bar that is true in the
middle. Ground without a class is hatched. Only what is shown is read, from the overviews where the file has them.

  verdex draw map cover.tif --zones wards.gpkg --zone-id code --legend legend.csv --out map.png
  verdex draw map cover.tif --zones wards.gpkg --zone-id code --legend legend.csv --zone W3 --out w3.png`,
	}, func(s *session, o *mapFigureOptions) error {
		return s.drawFigure(&o.figureOptions, func(d draw.Options) (draw.Figure, error) {
			m, err := job.ReadMap(s.ctx, s.env(), o.MapOptions)
			if err != nil {
				return nil, err
			}
			defer m.Close()
			return mapOf(s.ctx, m, o, d)
		})
	})
}

// mapOf makes a map.
func mapOf(ctx context.Context, m *job.Mapped, o *mapFigureOptions, d draw.Options) (draw.Figure, error) {
	chosen := -1
	if o.Zone != "" {
		if chosen = slices.IndexFunc(m.Zones.Zones, func(z zone.Zone) bool { return z.ID == o.Zone || z.Name == o.Zone }); chosen < 0 {
			var ids []string
			for _, z := range m.Zones.Zones {
				ids = append(ids, z.ID)
			}
			return nil, usage("--zone %s is none of the zones of %s (%s)", o.Zone, m.Zones.Source, text.List(ids, 20))
		}
	}
	f := &draw.MapFigure{Plane: planeOf(m.Placement, chosen, m.Whole), Areas: areasOf(m.Zones, m.Placement, chosen, m.Whole)}
	var err error
	w, h := draw.PixelSize(d, f.Plane, 1)
	samples, err := raster.Sample(ctx, m.Source, frameOf(f.Plane), w, h)
	if err != nil {
		return nil, err
	}
	legend := m.Legend
	if legend == nil {
		legend = legendOfSamples(samples, m.Source.Header().Palette)
	}
	f.Pixels = pixelsOf(samples, m.Coder, legend)
	f.Title, f.Sub = "Land cover", "in "+m.Zones.Source
	if m.Whole {
		f.Sub = m.Name
	}
	if m.Epoch != "" {
		f.Title += " " + m.Epoch
	}
	f.KeysTitle, f.Keys = "classes", keysOf(legend, m.Extents, chosen, o.Show)
	if m.Extents != nil {
		f.KeysTitle = "hectares of true ground"
		if u := m.Extents.Unit.Name; u != "ha" {
			f.KeysTitle = u + " of true ground"
		}
		if o.Show == "percent" {
			f.KeysTitle = "percent of true ground"
		}
		if chosen >= 0 {
			f.KeysTitle += " in " + labelOf(m.Zones.Zones[chosen])
		}
	}
	f.Note = m.Name
	if samples.Reduced {
		f.Note += "; drawn from a reduced copy, measured from all cells"
	}
	return f, nil
}

func labelOf(z zone.Zone) string {
	if z.Name != "" {
		return z.Name
	}
	return z.ID
}

// planeOf is the frame of a map: around all zones, or one, with a margin; or all of a raster.
func planeOf(p *zone.Placement, chosen int, whole bool) draw.Plane {
	g := p.Grid
	x0, y0, x1, y1 := math.Inf(1), math.Inf(1), math.Inf(-1), math.Inf(-1)
	for i, o := range p.Outlines {
		if chosen >= 0 && i != chosen {
			continue
		}
		for _, r := range o.Rings {
			for _, q := range r {
				x0, y0, x1, y1 = math.Min(x0, q[0]), math.Min(y0, q[1]), math.Max(x1, q[0]), math.Max(y1, q[1])
			}
		}
	}
	if whole || x0 > x1 {
		x0, y0, x1, y1 = 0, 0, float64(g.Width), float64(g.Height)
	} else {
		edge := 0.03 * math.Max(x1-x0, y1-y0)
		x0, y0, x1, y1 = x0-edge, y0-edge, x1+edge, y1+edge
	}
	out := draw.Plane{Frame: [4]float64{x0, y0, x1, y1}, CRS: fmt.Sprint(g.CRS), North: g.DY < 0}
	mid := g
	mid.X0, mid.Y0 = g.Point((x0+x1)/2, (y0+y1)/2)
	mid.X0, mid.Y0, mid.Width, mid.Height = mid.X0-g.DX/2, mid.Y0-g.DY/2, 1, 1
	ew, ns, ok := mid.GroundSize()
	if !ok || !(ew > 0) || !(ns > 0) {
		ew, ns, _ = g.GroundSize()
	}
	out.MetresX, out.MetresY = ew, ns
	return out
}

func frameOf(p draw.Plane) raster.Frame {
	return raster.Frame{X0: p.Frame[0], Y0: p.Frame[1], X1: p.Frame[2], Y1: p.Frame[3]}
}

// areasOf are the zones of a map.
func areasOf(set *zone.Set, p *zone.Placement, chosen int, whole bool) (out []draw.Area) {
	if whole {
		return nil
	}
	for i, o := range p.Outlines {
		a := draw.Area{Label: labelOf(set.Zones[i]), Chosen: i == chosen}
		for _, r := range o.Rings {
			ring := make(draw.Ring, len(r))
			for k, q := range r {
				ring[k] = [2]float64{q[0], q[1]}
			}
			a.Rings = append(a.Rings, ring)
		}
		a.At = draw.LabelPoint(a.Rings)
		out = append(out, a)
	}
	return out
}

func legendOfSamples(s *raster.Samples, palette []raster.Color) *cover.Legend {
	seen := map[float64]bool{}
	var values []float64
	for _, v := range s.Values {
		if v == v && !seen[v] && len(seen) < 1<<12 {
			seen[v] = true
			values = append(values, v)
		}
	}
	slices.Sort(values)
	return cover.LegendOfValues(values, palette)
}

// pixelsOf are the colours of samples.
func pixelsOf(s *raster.Samples, coder *cover.Coder, legend *cover.Legend) *draw.Pixels {
	p := &draw.Pixels{Width: s.Width, Height: s.Height, Colors: make([]color.NRGBA, len(s.Values)), Void: make([]bool, len(s.Values))}
	known := map[float64]int{}
	for i, v := range s.Values {
		k, ok := known[v]
		if !ok {
			k = -1
			if m, is := coder.Code(v); is && v == v && m.Kind == cover.Classified {
				k = slices.IndexFunc(legend.Classes, func(c cover.Class) bool { return c.Code == m.Code })
			}
			if v == v && len(known) < 1<<16 {
				known[v] = k
			}
		}
		if p.Void[i] = k < 0; k >= 0 {
			p.Colors[i] = colorOf(legend.Classes[k].Color)
		}
	}
	return p
}

func colorOf(c raster.Color) color.NRGBA { return color.NRGBA{R: c.R, G: c.G, B: c.B, A: 255} }

// keysOf is the legend of a map, with the areas of all zones or of one, or their percentages.
func keysOf(legend *cover.Legend, sums *extent.Composition, chosen int, show string) (out []draw.Key) {
	areas := map[string]float64{}
	void, all := 0.0, 0.0
	if sums != nil {
		for i := range sums.Zones {
			if chosen >= 0 && i != chosen {
				continue
			}
			for _, r := range sums.Zones[i].Rows() {
				all += r.Area
				if r.Kind == cover.Classified {
					areas[r.Code+"\n"+r.Name] += r.Area
				} else {
					void += r.Area
				}
			}
		}
	}
	number := func(area float64) string {
		if show == "percent" {
			return text.Number(area/all*100, 1)
		}
		return text.Number(area, 0)
	}
	for _, c := range legend.Classes {
		k := draw.Key{Name: c.Name, Color: colorOf(c.Color), Border: true}
		if sums != nil {
			k.Value = number(areas[c.ID()+"\n"+c.Name])
		}
		out = append(out, k)
	}
	last := draw.Key{Name: "no class", Hatch: true}
	if sums != nil {
		last.Value = number(void)
	}
	return append(out, last)
}
