package cli

import (
	"cmp"
	"fmt"
	"image/color"
	"math"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/core/account"
	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/extent"
	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/job"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/text"
	"github.com/verdex-land/verdex/core/zone"
	"github.com/verdex-land/verdex/internal/draw"
)

type mapFigureOptions struct {
	job.MapOptions
	Zone          string `opt:"zone" group:"zones" help:"fill the frame with one <ZONE>, by its id or its name, and dim the rest"`
	Show          string `opt:"show" choose:"area,percent" group:"classes" help:"<area> in the legend, or percent of the zones"`
	figureOptions `group:"output"`
}

func mapFigureCommand() *cli.Command {
	return figureCommand(cli.Command{
		Name: "map", Usage: "a cover with the outlines of zones",
		Description: `Draws a cover in the colours of its legend, with outlines and labels of zones, true areas in the legend, and a scale bar that is true in the
middle. Ground without a class is hatched. Only what is shown is read, from the overviews where the file has them.

  verdex draw map cover.tif --zones wards.gpkg --zone-id code --legend legend.csv --out map.png
  verdex draw map cover.tif --zones wards.gpkg --zone-id code --legend legend.csv --zone W3 --out w3.png`,
	}, func(o *mapFigureOptions) *figureOptions { return &o.figureOptions }, func(s *session, o *mapFigureOptions, d draw.Options) (draw.Figure, error) {
		m, err := job.ReadMap(s.ctx, s.env(), o.MapOptions)
		if err != nil {
			return nil, err
		}
		defer m.Close()
		return s.mapOf(m, o, d)
	})
}

// shownPath is the name of a file as a figure shows it: one of a plan from the plan's folder, wherever the program was started, and with slashes on every system.
func (s *session) shownPath(text string) string {
	if s.plan == nil || files.IsURL(text) {
		return filepath.ToSlash(text)
	}
	dir, err1 := filepath.Abs(s.plan.dir)
	path, err2 := filepath.Abs(text)
	from, err3 := filepath.Rel(dir, path)
	file, _, _ := strings.Cut(text, "#")
	if _, err := os.Stat(file); err1 != nil || err2 != nil || err3 != nil || err != nil && strings.HasPrefix(from, "..") { // a name that is no path, such as that of a layer
		return filepath.ToSlash(text)
	}
	return filepath.ToSlash(from)
}

// mapOf makes a map.
func (s *session) mapOf(m *job.Mapped, o *mapFigureOptions, d draw.Options) (draw.Figure, error) {
	chosen := -1
	if o.Zone != "" {
		var err error
		if chosen, err = cover.FindZone(job.NamedZones(m.Zones), o.Zone, m.Zones.Source); err != nil {
			return nil, err
		}
	}
	f := &draw.MapFigure{Plane: planeOf(m.Placement, chosen, m.Whole), Areas: areasOf(m.Zones, m.Placement, chosen, m.Whole)}
	samples, err := raster.Sample(s.ctx, m.Source, frameOf(f.Plane, d, 1), s.threads)
	if err != nil {
		return nil, err
	}
	legend := m.Legend
	if legend == nil {
		legend = legendOfSamples(samples, m.Source.Header().Palette)
	}
	f.Pixels = pixelsOf(samples.Width, classesIn(samples, m.Coder, legend), legend)
	f.Title, f.Sub = "Land cover", "in "+s.shownPath(m.Zones.Source)
	if m.Whole {
		f.Sub = s.shownPath(m.Name)
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
	f.Note = s.shownPath(m.Name)
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

// frameOf is the frame of a map, of which n stand beside one another, with the pixels that it has in a figure.
func frameOf(p draw.Plane, d draw.Options, n int) raster.Frame {
	w, h := draw.PixelSize(d, p, n)
	return raster.Frame{X0: p.Frame[0], Y0: p.Frame[1], X1: p.Frame[2], Y1: p.Frame[3], Width: w, Height: h}
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

// classesIn are the places of the classes of samples in a legend, -1 for what is no class.
func classesIn(s *raster.Samples, coder *cover.Coder, legend *cover.Legend) []int {
	out := make([]int, len(s.Values))
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
		out[i] = k
	}
	return out
}

// epochClasses are the places in the legend of the classes of an epoch of a comparison, in a frame.
func (s *session) epochClasses(r *job.Changed, epoch int, f raster.Frame) ([]int, error) {
	layer, coder := r.Layer(epoch)
	samples, err := raster.Sample(s.ctx, layer, f, s.threads)
	if err != nil {
		return nil, err
	}
	return classesIn(samples, coder, r.Legend), nil
}

// newPixels are pixels without a colour.
func newPixels(width, n int) *draw.Pixels {
	return &draw.Pixels{Width: width, Height: n / width, Colors: make([]color.NRGBA, n), Void: make([]bool, n)}
}

// pixelsOf are the colours of classes, row by row.
func pixelsOf(width int, classes []int, legend *cover.Legend) *draw.Pixels {
	p := newPixels(width, len(classes))
	for i, k := range classes {
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

type pairFigureOptions struct {
	From []string `arg:"[PLAN]" in:"plan"`
	job.ChangeOptions
	figureOptions `group:"output"`
}

func pairFigureCommand() *cli.Command {
	return figureCommand(cli.Command{
		Name: "pair", Usage: "two epochs side by side, in the same frame",
		Description: `Draws the first and the last epoch beside one another.

  verdex draw pair --epoch 2004=a.tif --epoch 2020=b.tif --crosswalk 2004=codes.csv --zones wards.gpkg --legend legend.csv --out pair.png`,
	}, func(o *pairFigureOptions) *figureOptions { return &o.figureOptions }, func(s *session, o *pairFigureOptions, d draw.Options) (draw.Figure, error) {
		r, err := s.compared(&o.ChangeOptions)
		if err != nil {
			return nil, err
		}
		defer r.Close()
		set, place := r.Placed()
		whole := o.Zones == ""
		n := len(r.Epochs)
		f := &draw.PairFigure{Plane: planeOf(place, -1, whole), Areas: areasOf(set, place, -1, whole), Labels: [2]string{r.Epochs[0], r.Epochs[n-1]}}
		frame := frameOf(f.Plane, d, 2)
		for k, e := range []int{0, n - 1} {
			classes, err := s.epochClasses(r, e, frame)
			if err != nil {
				return nil, err
			}
			f.Pixels[k] = pixelsOf(frame.Width, classes, r.Legend)
		}
		f.Title = fmt.Sprintf("Land cover, %s and %s", f.Labels[0], f.Labels[1])
		f.Keys = keysOf(r.Legend, nil, -1, "")
		return f, nil
	})
}

// compared compares epochs without the checks that read them again.
func (s *session) compared(o *job.ChangeOptions) (*job.Changed, error) {
	one := *o
	one.Skip = "speckle"
	r, err := job.Change(s.ctx, s.env(), one)
	if err == nil {
		s.drawn(r.Checks)
	}
	return r, err
}

type differenceFigureOptions struct {
	From []string `arg:"[PLAN]" in:"plan"`
	job.ChangeOptions
	job.FlowsOption `group:"classes"`
	figureOptions   `group:"output"`
}

func differenceFigureCommand() *cli.Command {
	return figureCommand(cli.Command{
		Name: "difference", Usage: "where the cover changed, by what it became or by flow",
		Description: `Draws the ground that changed its class between the first and the last epoch, in the colour of what it became; or with --flows by the process that
changed it. What stayed is pale, and what an epoch does not map is hatched.

  verdex draw difference --epoch 2004=a.tif --epoch 2020=b.tif --crosswalk 2004=codes.csv --zones wards.gpkg --legend legend.csv --out difference.png`,
	}, func(o *differenceFigureOptions) *figureOptions { return &o.figureOptions }, func(s *session, o *differenceFigureOptions, d draw.Options) (draw.Figure, error) {
		return s.difference(o, d)
	})
}

// flowColors are those of flows, which no legend colours.
var flowColors = []color.NRGBA{{0xb4, 0x53, 0x2e, 255}, {0x2f, 0x6f, 0x8a, 255}, {0x5d, 0x7f, 0x3c, 255}, {0xc7, 0x97, 0x2f, 255}, {0x6d, 0x5a, 0x8c, 255}, {0x1f, 0x8f, 0x86, 255}, {0x8a, 0x5a, 0x3c, 255}, {0x4c, 0x56, 0x63, 255}}

// difference makes a map of change.
func (s *session) difference(o *differenceFigureOptions, d draw.Options) (draw.Figure, error) {
	var flows *account.Flows
	if o.Flows != "" {
		var err error
		if flows, err = account.ReadFlows(s.system, o.Flows); err != nil {
			return nil, err
		}
	}
	r, err := s.compared(&o.ChangeOptions)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	return s.differenceOf(r, o.Zones == "", flows, d)
}

// transitionGroups are what transitions have in common on a map of change: the class that the ground became, or the flow.
type transitionGroups struct {
	classes []cover.Class
	flows   *account.Flows // nil for the classes
	names   []string
	colors  []color.NRGBA
}

// of is the place of the group of a transition, which is taken in.
func (g *transitionGroups) of(from, to int) int {
	name, c := g.classes[to].Name, colorOf(g.classes[to].Color)
	if g.flows != nil {
		flow := g.flows.Of(g.classes[from].ID(), g.classes[to].ID())
		name, c = flow.Name, flowColors[len(flowColors)-1]
		if at := slices.Index(g.flows.Names(), flow); at >= 0 {
			c = flowColors[at%len(flowColors)]
		}
	}
	k := slices.Index(g.names, name)
	if k < 0 {
		k = len(g.names)
		g.names, g.colors = append(g.names, name), append(g.colors, c)
	}
	return k
}

// differenceOf makes a map of the change between the first and the last epoch; whole when no zones are named.
func (s *session) differenceOf(r *job.Changed, whole bool, flows *account.Flows, d draw.Options) (draw.Figure, error) {
	set, place := r.Placed()
	n := len(r.Epochs)
	f := &draw.MapFigure{Plane: planeOf(place, -1, whole), Areas: areasOf(set, place, -1, whole)}
	frame := frameOf(f.Plane, d, 1)
	first, err := s.epochClasses(r, 0, frame)
	if err != nil {
		return nil, err
	}
	last, err := s.epochClasses(r, n-1, frame)
	if err != nil {
		return nil, err
	}
	groups := &transitionGroups{classes: r.Legend.Classes, flows: flows}
	pale := color.NRGBA{0xe4, 0xe1, 0xd8, 255}
	if d.Dark {
		pale = color.NRGBA{0x2b, 0x31, 0x3b, 255}
	}
	f.Pixels = newPixels(frame.Width, len(first))
	for i, from := range first {
		switch to := last[i]; {
		case from < 0 || to < 0:
			f.Pixels.Void[i] = true
		case from == to:
			f.Pixels.Colors[i] = pale
		default:
			k := groups.of(from, to)
			f.Pixels.Colors[i] = groups.colors[k]
		}
	}
	pair := r.Pairs[len(r.Pairs)-1] // of the first and the last epoch
	areas := map[int]float64{}
	stayed, not := 0.0, 0.0
	for _, z := range pair.Zones {
		not += z.OnlyFirst + z.OnlySecond + z.Neither
		for _, t := range z.Transitions {
			switch a, b := int(t.From), int(t.To); {
			case a >= len(r.Legend.Classes) || b >= len(r.Legend.Classes):
			case a == b:
				stayed += pair.Area(t.Extent)
			default:
				areas[groups.of(a, b)] += pair.Area(t.Extent)
			}
		}
	}
	f.Title = fmt.Sprintf("What changed from %s to %s", r.Epochs[0], r.Epochs[n-1])
	f.Sub, f.KeysTitle = "by what the ground became", r.Unit.Name+" that became"
	if flows != nil {
		f.Sub, f.KeysTitle = "by flow", r.Unit.Name+" by flow"
	}
	order := make([]int, len(groups.names))
	for i := range order {
		order[i] = i
	}
	slices.SortStableFunc(order, func(a, b int) int { return cmp.Compare(areas[b], areas[a]) })
	for _, k := range order {
		f.Keys = append(f.Keys, draw.Key{Name: groups.names[k], Color: groups.colors[k], Value: text.Number(areas[k], 0), Border: true})
	}
	f.Keys = append(f.Keys, draw.Key{Name: "unchanged", Color: pale, Value: text.Number(stayed, 0), Border: true}, draw.Key{Name: "not mapped at both", Hatch: true, Value: text.Number(not, 0)})
	return f, nil
}
