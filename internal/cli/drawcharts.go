package cli

import (
	"fmt"
	"image/color"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/core/account"
	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/epoch"
	"github.com/verdex-land/verdex/core/job"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/rows"
	"github.com/verdex-land/verdex/core/text"
	"github.com/verdex-land/verdex/internal/draw"
	"github.com/verdex-land/verdex/internal/sheets"
)

type pairFigureOptions struct {
	Rest []string `arg:"-"` // it takes none
	job.ChangeOptions
	figureOptions `group:"output"`
}

func pairFigureCommand() *cli.Command {
	return command(cli.Command{
		Name: "pair", Usage: "two epochs side by side, in the same frame",
		Description: `Draws the first and the last epoch beside one another.

  verdex draw pair --epoch 2004=a.tif --epoch 2020=b.tif --crosswalk 2004=codes.csv --zones wards.gpkg --legend legend.csv --out pair.png`,
	}, func(s *session, o *pairFigureOptions) error {
		return s.drawFigure(&o.figureOptions, func(d draw.Options) (draw.Figure, error) {
			r, err := s.compared(&o.ChangeOptions)
			if err != nil {
				return nil, err
			}
			defer r.Close()
			set, place := r.Placed()
			whole := o.Zones == ""
			n := len(r.Epochs)
			f := &draw.PairFigure{Plane: planeOf(place, -1, whole), Areas: areasOf(set, place, -1, whole), Labels: [2]string{r.Epochs[0], r.Epochs[n-1]}}
			w, h := draw.PixelSize(d, f.Plane, 2)
			for k, e := range []int{0, n - 1} {
				layer, coder := r.Layer(e)
				samples, err := raster.Sample(s.ctx, layer, frameOf(f.Plane), w, h)
				if err != nil {
					return nil, err
				}
				f.Pixels[k] = pixelsOf(samples, coder, r.Legend)
			}
			f.Title = fmt.Sprintf("Land cover, %s and %s", f.Labels[0], f.Labels[1])
			for _, c := range r.Legend.Classes {
				f.Keys = append(f.Keys, draw.Key{Name: c.Name, Color: colorOf(c.Color), Border: true})
			}
			f.Keys = append(f.Keys, draw.Key{Name: "no class", Hatch: true})
			return f, nil
		})
	})
}

// compared compares epochs without the checks that read them again.
func (s *session) compared(o *job.ChangeOptions) (*job.Changed, error) {
	one := *o
	one.Ignore = append(slices.Clone(o.Ignore), "speckle")
	return job.Change(s.ctx, s.env(), one)
}

type differenceFigureOptions struct {
	Rest []string `arg:"-"` // it takes none
	job.ChangeOptions
	job.FlowsOption `group:"classes"`
	figureOptions   `group:"output"`
}

func differenceFigureCommand() *cli.Command {
	return command(cli.Command{
		Name: "difference", Usage: "where the cover changed, by what it became or by flow",
		Description: `Draws the ground that changed its class between the first and the last epoch, in the colour of what it became; or with --flows by the process that
changed it. What stayed is pale, and what an epoch does not map is hatched.

  verdex draw difference --epoch 2004=a.tif --epoch 2020=b.tif --crosswalk 2004=codes.csv --zones wards.gpkg --legend legend.csv --out difference.png`,
	}, func(s *session, o *differenceFigureOptions) error {
		return s.drawFigure(&o.figureOptions, func(d draw.Options) (draw.Figure, error) { return s.difference(o, d) })
	})
}

// flowColors are those of flows, which no legend colours.
var flowColors = []color.NRGBA{{0xb4, 0x53, 0x2e, 255}, {0x2f, 0x6f, 0x8a, 255}, {0x5d, 0x7f, 0x3c, 255}, {0xc7, 0x97, 0x2f, 255}, {0x6d, 0x5a, 0x8c, 255}, {0x1f, 0x8f, 0x86, 255}, {0x8a, 0x5a, 0x3c, 255}, {0x4c, 0x56, 0x63, 255}}

// difference makes a map of change.
func (s *session) difference(o *differenceFigureOptions, d draw.Options) (draw.Figure, error) {
	var flows *account.Flows
	if o.Flows != "" {
		var err error
		if flows, err = account.ReadFlows(o.Flows); err != nil {
			return nil, err
		}
	}
	r, err := s.compared(&o.ChangeOptions)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	set, place := r.Placed()
	whole := o.Zones == ""
	n := len(r.Epochs)
	f := &draw.MapFigure{Plane: planeOf(place, -1, whole), Areas: areasOf(set, place, -1, whole)}
	w, h := draw.PixelSize(d, f.Plane, 1)
	var layers [2]*raster.Samples
	var coders [2]*cover.Coder
	for k, e := range []int{0, n - 1} {
		layer, coder := r.Layer(e)
		coders[k] = coder
		if layers[k], err = raster.Sample(s.ctx, layer, frameOf(f.Plane), w, h); err != nil {
			return nil, err
		}
	}
	classes := r.Legend.Classes
	at := func(k int, v float64) int {
		if m, ok := coders[k].Code(v); ok && v == v && m.Kind == cover.Classified {
			return slices.IndexFunc(classes, func(c cover.Class) bool { return c.Code == m.Code })
		}
		return -1
	}
	groups, colors := []string{}, []color.NRGBA{}
	of := func(from, to int) int { // the group of a transition
		name, c := classes[to].Name, colorOf(classes[to].Color)
		if flows != nil {
			flow := flows.Of(classes[from].ID(), classes[to].ID())
			names := flows.Names()
			at := slices.Index(names, flow)
			if name, c = flow.Name, flowColors[len(flowColors)-1]; at >= 0 {
				c = flowColors[at%len(flowColors)]
			}
		}
		k := slices.Index(groups, name)
		if k < 0 {
			k = len(groups)
			groups, colors = append(groups, name), append(colors, c)
		}
		return k
	}
	pale := color.NRGBA{0xe4, 0xe1, 0xd8, 255}
	if d.Dark {
		pale = color.NRGBA{0x2b, 0x31, 0x3b, 255}
	}
	f.Pixels = &draw.Pixels{Width: w, Height: h, Colors: make([]color.NRGBA, w*h), Void: make([]bool, w*h)}
	for i := range f.Pixels.Colors {
		from, to := at(0, layers[0].Values[i]), at(1, layers[1].Values[i])
		switch {
		case from < 0 || to < 0:
			f.Pixels.Void[i] = true
		case from == to:
			f.Pixels.Colors[i] = pale
		default:
			f.Pixels.Colors[i] = colors[of(from, to)]
		}
	}
	last := r.Pairs[len(r.Pairs)-1] // of the first and the last epoch
	areas := map[int]float64{}
	stayed, not := 0.0, 0.0
	for _, z := range last.Zones {
		not += z.OnlyFirst + z.OnlySecond + z.Neither
		for _, t := range z.Transitions {
			switch a, b := int(t.From), int(t.To); {
			case a >= len(classes) || b >= len(classes):
			case a == b:
				stayed += last.Area(t.Extent)
			default:
				areas[of(a, b)] += last.Area(t.Extent)
			}
		}
	}
	f.Title = fmt.Sprintf("What changed from %s to %s", r.Epochs[0], r.Epochs[n-1])
	f.Sub, f.KeysTitle = "by what the ground became", r.Unit.Name+" that became"
	if flows != nil {
		f.Sub, f.KeysTitle = "by flow", r.Unit.Name+" by flow"
	}
	order := make([]int, len(groups))
	for i := range order {
		order[i] = i
	}
	slices.SortStableFunc(order, func(a, b int) int { return int(math.Copysign(1, areas[b]-areas[a])) })
	for _, k := range order {
		f.Keys = append(f.Keys, draw.Key{Name: groups[k], Color: colors[k], Value: text.Number(areas[k], 0), Border: true})
	}
	f.Keys = append(f.Keys, draw.Key{Name: "unchanged", Color: pale, Value: text.Number(stayed, 0), Border: true}, draw.Key{Name: "not mapped at both", Hatch: true, Value: text.Number(not, 0)})
	return f, nil
}

type shadeFigureOptions struct {
	Table           []string `arg:"TABLE" in:"table"`
	Column          string   `opt:"column" help:"<COLUMN> of numbers; pct_of_zone by default"`
	Class           string   `opt:"class" help:"only rows of a <CLASS>, by code or name"`
	Epoch           string   `opt:"epoch" help:"only rows of an epoch, by its <LABEL>; of a change that of the later one"`
	Since           string   `opt:"since" help:"of a change, only rows from an epoch, by its <LABEL>"`
	Key             string   `opt:"key" default:"zone_id" help:"<COLUMN> of the table with the ids of zones"`
	Breaks          string   `opt:"breaks" choose:"equal,quantiles,natural" help:"<equal> intervals, quantiles, or natural breaks"`
	Steps           int      `opt:"steps" default:"5" least:"2" most:"9" help:"<NUMBER> of classes of numbers"`
	Limits          string   `opt:"limits" help:"<NUMBERS> between which the classes lie, such as 0,5,10,50, instead of breaks"`
	job.ZoneOptions `group:"zones"`
	job.OverrideOption
	figureOptions `group:"output"`
}

func shadeFigureCommand() *cli.Command {
	return command(cli.Command{
		Name: "shade", Usage: "zones coloured by a number",
		Description: `Colours zones by a column of a table: from pale to dark for amounts, and for numbers of both signs from loss through nothing to gain. Zones without a number
are hatched.

  verdex draw shade extents.csv --class "Built-up" --epoch 2020 --zones wards.gpkg --zone-id code --out built-up.png
  verdex draw shade change.csv --column net_change --class Woodland --zones wards.gpkg --zone-id code --breaks natural --out woodland.png`,
	}, func(s *session, o *shadeFigureOptions) error {
		return s.drawFigure(&o.figureOptions, func(d draw.Options) (draw.Figure, error) { return s.shade(o) })
	})
}

// shade makes a map of shaded zones.
func (s *session) shade(o *shadeFigureOptions) (draw.Figure, error) {
	if len(o.Table) != 1 {
		return nil, usage("draw shade takes one table, and %s", text.Given(len(o.Table)))
	}
	if o.Zones == "" {
		return nil, usage("draw shade needs the zones: name them with --zones")
	}
	values, unit, err := s.shadeValues(o)
	if err != nil {
		return nil, err
	}
	set, place, err := job.PlaceZones(s.ctx, s.env(), o.ZoneOptions, o.OverrideCRS)
	if err != nil {
		return nil, err
	}
	f := &draw.ShadeFigure{Plane: planeOf(place, -1, false), Areas: areasOf(set, place, -1, false)}
	var numbers []float64
	rest := maps.Clone(values)
	for _, z := range set.Zones {
		v, ok := values[z.ID]
		if !ok {
			v = math.NaN()
		}
		delete(rest, z.ID)
		numbers = append(numbers, v)
	}
	if n := len(rest); n > 0 && n < len(values) {
		s.notes([]string{fmt.Sprintf("%s: %s that %s does not have: %s: not drawn", o.Table[0], text.Count(n, "zone"), o.Zones, text.List(slices.Sorted(maps.Keys(rest)), 5))})
	}
	if len(rest) == len(values) {
		return nil, fmt.Errorf("%s: none of its zones is one of %s: check --key and --zone-id", o.Table[0], o.Zones)
	}
	var b *draw.Breaks
	if o.Limits != "" {
		var limits []float64
		for _, t := range strings.Split(o.Limits, ",") {
			v, err := strconv.ParseFloat(strings.TrimSpace(t), 64)
			if err != nil {
				return nil, usage("--limits %s: %q is not a number", o.Limits, t)
			}
			limits = append(limits, v)
		}
		if b, err = draw.StatedBreaks(limits); err != nil {
			return nil, usage("--limits %s: %w", o.Limits, err)
		}
	} else if b, err = draw.NewBreaks(numbers, o.Breaks, o.Steps); err != nil {
		return nil, fmt.Errorf("%s: %w", o.Table[0], err)
	}
	if strings.Contains(o.Column, "change") { // of which zero is the middle, also where all of it is gain
		b.Diverging = true
	}
	colors := b.Colors()
	void := false
	for i, v := range numbers {
		k := b.Of(v)
		f.Void = append(f.Void, k < 0)
		c := color.NRGBA{}
		if k >= 0 {
			c = colors[k]
			f.Areas[i].Label += "  " + rounded(v)
		}
		void = void || k < 0
		f.Colors = append(f.Colors, c)
	}
	for k := len(colors) - 1; k >= 0; k-- {
		f.Keys = append(f.Keys, draw.Key{Name: rounded(b.Limits[k]) + " to " + rounded(b.Limits[k+1]), Color: colors[k], Border: true})
	}
	if void {
		f.Keys = append(f.Keys, draw.Key{Name: "no number", Hatch: true})
	}
	f.Title, f.KeysTitle, f.Note = columnTitle(o), unit, o.Table[0]
	if f.Sub = o.Epoch; o.Since != "" && o.Epoch != "" {
		f.Sub = o.Since + " to " + o.Epoch
	}
	return f, nil
}

// rounded is a number with three digits that count.
func rounded(v float64) string {
	decimals := 0
	if a := math.Abs(v); a > 0 && a < 100 {
		decimals = max(0, min(6, 2-int(math.Floor(math.Log10(a)))))
	}
	out := text.Number(v, decimals)
	if strings.Contains(out, ".") {
		out = strings.TrimRight(strings.TrimRight(out, "0"), ".")
	}
	return out
}

func columnTitle(o *shadeFigureOptions) string {
	name := strings.ReplaceAll(o.Column, "_", " ")
	if o.Column == "" || o.Column == "pct_of_zone" {
		name = "percent of the zone"
	}
	if o.Class != "" {
		return o.Class + ": " + name
	}
	return strings.ToUpper(name[:1]) + name[1:]
}

// shadeValues are the numbers of a table by zone, and their unit.
func (s *session) shadeValues(o *shadeFigureOptions) (map[string]float64, string, error) {
	column := o.Column
	if column == "" {
		column = "pct_of_zone"
	}
	values := map[string]float64{}
	unit := ""
	_, _, err := s.readTable(s.ctx, o.Table[0], []string{o.Key, column}, []string{"class_code", "class_name", "epoch", "from_epoch", "to_epoch", "unit", "kind"}, func(r rows.Row) error {
		if o.Class != "" && r.Cell["class_code"] != o.Class && r.Cell["class_name"] != o.Class {
			return nil
		}
		if o.Epoch != "" && r.Cell["epoch"] != o.Epoch && r.Cell["to_epoch"] != o.Epoch || o.Since != "" && r.Cell["from_epoch"] != o.Since {
			return nil
		}
		cell := r.Cell[column]
		if cell == "" {
			return nil
		}
		v, err := strconv.ParseFloat(cell, 64)
		if err != nil || math.IsNaN(v) || math.IsInf(v, 0) {
			return fmt.Errorf("%s: line %d: %s is %q, which is not a number: choose another column", o.Table[0], r.Line, column, cell)
		}
		if old, twice := values[r.Cell[o.Key]]; twice && old != v {
			return fmt.Errorf("%s: several rows are about zone %s: pick some with --class, --epoch and --since", o.Table[0], r.Cell[o.Key])
		}
		values[r.Cell[o.Key]] = v
		if unit = r.Cell["unit"]; strings.HasPrefix(column, "pct") {
			unit = "%"
		}
		return nil
	})
	if err == nil && len(values) == 0 {
		err = fmt.Errorf("%s: no row has a number in %s for what was picked: check --class and --epoch", o.Table[0], column)
	}
	return values, unit, err
}

type barsFigureOptions struct {
	job.CompositionOptions
	Epoch         string `opt:"epoch" help:"the <LABEL> of the epoch; the last one by default"`
	Show          string `opt:"show" choose:"percent,area" help:"<percent> of what is classified, or area"`
	Sort          string `opt:"sort" help:"by the share of a <CLASS>, by code or name; by area by default"`
	figureOptions `group:"output"`
}

func barsFigureCommand() *cli.Command {
	return command(cli.Command{
		Name: "bars", Usage: "the composition of zones",
		Description: `Draws a bar for each zone, divided by classes.

  verdex draw bars extents.csv --legend legend.csv --out bars.png
  verdex draw bars extents.csv --legend legend.csv --show area --sort Woodland --out bars.svg`,
	}, func(s *session, o *barsFigureOptions) error {
		return s.drawFigure(&o.figureOptions, func(draw.Options) (draw.Figure, error) {
			a, err := job.Composition(s.ctx, s.env(), o.CompositionOptions)
			if err != nil {
				return nil, err
			}
			return barsOf(a, o)
		})
	})
}

// epochIn is the epoch of extents that is asked for, or the last one.
func epochIn(epochs []string, asked string) (string, error) {
	if asked == "" {
		return epochs[len(epochs)-1], nil
	}
	if !slices.Contains(epochs, asked) {
		return "", usage("--epoch %s is none of the epochs of the tables (%s)", asked, strings.Join(epochs, ", "))
	}
	return asked, nil
}

func barsOf(a *job.Compositions, o *barsFigureOptions) (draw.Figure, error) {
	at, err := epochIn(a.Epochs, o.Epoch)
	if err != nil {
		return nil, err
	}
	f := &draw.BarsFigure{Share: o.Show == "percent", Unit: a.Unit.Name, Keys: classKeys(a.Classes, a.Legend)}
	sorted := -1
	if o.Sort != "" {
		if sorted = slices.IndexFunc(a.Classes, func(c cover.Named) bool { return c.ID == o.Sort || c.Name == o.Sort }); sorted < 0 {
			return nil, usage("--sort %s is not a class of the tables", o.Sort)
		}
	}
	type bar struct {
		name  string
		parts []float64
		by    float64
	}
	var bars []bar
	for _, z := range a.Zones {
		if a.IsUnit(z.ID) || !a.Has(at, z.ID) {
			continue
		}
		b := bar{name: z.Label()}
		sum := 0.0
		for _, c := range a.Classes {
			v := a.Area(at, z.ID, c.ID) / a.Unit.M2
			b.parts = append(b.parts, v)
			sum += v
		}
		b.by = sum
		if sorted >= 0 {
			if b.by = b.parts[sorted]; f.Share && sum > 0 {
				b.by /= sum
			}
		}
		bars = append(bars, b)
	}
	slices.SortStableFunc(bars, func(x, y bar) int {
		switch {
		case x.by > y.by:
			return -1
		case x.by < y.by:
			return 1
		}
		return 0
	})
	for _, b := range bars {
		f.Names, f.Parts = append(f.Names, b.name), append(f.Parts, b.parts)
	}
	f.Title, f.Sub = "Composition "+at, "percent of what is classified in each zone"
	if !f.Share {
		f.Sub = a.Unit.Name + " of true ground"
	}
	return f, nil
}

// classKeys are classes with their colours.
func classKeys(classes []cover.Named, legend *cover.Legend) (out []draw.Key) {
	for i, c := range classes {
		out = append(out, draw.Key{Name: c.Label(), Color: colorOf(sheets.ColorOf(legend, i, c)), Border: true})
	}
	return out
}

type trendFigureOptions struct {
	job.SeriesOptions
	Zone          string `opt:"zone" help:"of one <ZONE>, by its id or name; of all together by default"`
	Samples       string `opt:"accuracy" in:"table" help:"<TABLE> of account accuracy of the last epoch, whose adjusted extents and intervals are drawn too"`
	figureOptions `group:"output"`
}

func trendFigureCommand() *cli.Command {
	return command(cli.Command{
		Name: "trend", Usage: "extents over time, at their real dates",
		Description: `Draws a line for each class through its extents at all epochs.

  verdex draw trend extents_2004.csv extents_2012.csv extents_2020.csv --legend legend.csv --out trend.png
  verdex draw trend extents_*.csv --legend legend.csv --zone W3 --out w3.svg`,
	}, func(s *session, o *trendFigureOptions) error {
		return s.drawFigure(&o.figureOptions, func(draw.Options) (draw.Figure, error) {
			a, err := job.Series(s.ctx, s.env(), o.SeriesOptions)
			if err != nil {
				return nil, err
			}
			return s.trendOf(a, o)
		})
	})
}

func (s *session) trendOf(a *job.ExtentSeries, o *trendFigureOptions) (draw.Figure, error) {
	f := &draw.TrendFigure{Labels: a.Epochs, Unit: a.Unit.Name}
	for i, e := range a.Epochs {
		when, _, ok := epoch.When(e)
		if f.Times = append(f.Times, float64(i)); ok {
			f.Times[i] = float64(when.Unix()) / (365.2425 * 86400)
		} else if i > 0 {
			f.Times[i] = f.Times[i-1] + 1
		}
	}
	var zones []cover.Named
	for _, z := range a.Zones {
		if o.Zone == "" && !a.IsUnit(z.ID) || o.Zone != "" && (z.ID == o.Zone || z.Name == o.Zone) {
			zones = append(zones, z)
		}
	}
	if len(zones) == 0 {
		return nil, usage("--zone %s is none of the zones of the tables", o.Zone)
	}
	for i, c := range a.Classes {
		l := draw.Line{Key: draw.Key{Name: c.Label(), Color: colorOf(sheets.ColorOf(a.Legend, i, c))}}
		for _, e := range a.Epochs {
			sum, all := 0.0, true
			for _, z := range zones {
				sum += a.Area(e, z.ID, c.ID) / a.Unit.M2
				all = all && a.Has(e, z.ID)
			}
			if !all {
				sum = math.NaN()
			}
			l.Values = append(l.Values, sum)
		}
		f.Lines = append(f.Lines, l)
	}
	if o.Samples != "" {
		if err := s.adjust(f, a, o.Samples); err != nil {
			return nil, err
		}
	}
	f.Title, f.Sub = "Extents "+a.Epochs[0]+" to "+a.Epochs[len(a.Epochs)-1], "all zones together"
	if o.Zone != "" {
		f.Sub = zones[0].Label()
	}
	f.Sub += ", " + a.Unit.Name + " of true ground"
	return f, nil
}

// adjust adds the confidence intervals of the last epoch.
func (s *session) adjust(f *draw.TrendFigure, a *job.ExtentSeries, table string) error {
	found := false
	_, _, err := s.readTable(s.ctx, table, []string{"class_code", "adjusted", "adjusted_ci95"}, []string{"class_name", "unit"}, func(r rows.Row) error {
		k := slices.IndexFunc(a.Classes, func(c cover.Named) bool { return c.ID == r.Cell["class_code"] && c.ID != "" })
		half, err := strconv.ParseFloat(r.Cell["adjusted_ci95"], 64)
		if k < 0 || err != nil {
			return nil
		}
		found = true
		f.Lines[k].Half = slices.Repeat([]float64{math.NaN()}, len(a.Epochs))
		f.Lines[k].Half[len(a.Epochs)-1] = half * unitSize(r.Cell["unit"]) / a.Unit.M2
		return nil
	})
	if err == nil && !found {
		err = fmt.Errorf("%s: it has none of the classes: is it a table of account accuracy?", table)
	}
	return err
}

type matrixFigureOptions struct {
	job.MatrixOptions
	Zone          string `opt:"zone" help:"of one <ZONE>, by its id or name; of all together by default"`
	Since         string `opt:"since" help:"the <LABEL> of the earlier epoch; the first one by default"`
	Epoch         string `opt:"epoch" help:"the <LABEL> of the later epoch; the last one by default"`
	figureOptions `group:"output"`
}

func matrixFigureCommand() *cli.Command {
	return command(cli.Command{
		Name: "matrix", Usage: "how much went from each class to each other",
		Description: `Draws the transitions of a table of change --table matrix as a square; what stayed is set apart.

  verdex draw matrix matrix.csv --legend legend.csv --out matrix.png`,
	}, func(s *session, o *matrixFigureOptions) error {
		return s.drawFigure(&o.figureOptions, func(draw.Options) (draw.Figure, error) {
			a, err := job.Matrix(s.ctx, s.env(), o.MatrixOptions)
			if err != nil {
				return nil, err
			}
			from, to, err := pairIn(a.Pairs, o.Since, o.Epoch)
			if err != nil {
				return nil, err
			}
			f := &draw.MatrixFigure{From: from, To: to, Keys: classKeys(a.Classes, a.Legend), Unit: a.Unit.Name}
			if f.Cells, err = cellsOf(a, [2]string{from, to}, o.Zone); err != nil {
				return nil, err
			}
			f.Title, f.Sub = fmt.Sprintf("From what to what, %s to %s", from, to), a.Unit.Name+" of true ground that both epochs map; outlined is what stayed"
			if o.Zone != "" {
				f.Sub = o.Zone + ": " + f.Sub
			}
			return f, nil
		})
	})
}

// pairIn is the pair of epochs that is asked for, or the first with the last.
func pairIn(pairs [][2]string, since, until string) (from, to string, err error) {
	from, to = pairs[0][0], pairs[0][1]
	for _, p := range pairs {
		if epoch.Years(p[0], from) > 0 {
			from = p[0]
		}
		if epoch.Years(to, p[1]) > 0 {
			to = p[1]
		}
	}
	if since != "" {
		from = since
	}
	if until != "" {
		to = until
	}
	if !slices.Contains(pairs, [2]string{from, to}) {
		var list []string
		for _, p := range pairs {
			list = append(list, p[0]+"–"+p[1])
		}
		return "", "", usage("the tables do not compare %s with %s: they have %s", from, to, strings.Join(list, ", "))
	}
	return from, to, nil
}

// cellsOf is the ground from each class to each other, in a zone or in all.
func cellsOf(a *job.Matrices, pair [2]string, zone string) ([][]float64, error) {
	n := len(a.Classes)
	cells := make([][]float64, n)
	for i := range cells {
		cells[i] = make([]float64, n)
	}
	if zone != "" && !slices.ContainsFunc(a.Zones, func(z cover.Named) bool { return z.ID == zone || z.Name == zone }) {
		return nil, usage("--zone %s is none of the zones of the tables", zone)
	}
	at := map[string]int{}
	for i, c := range a.Classes {
		at[c.ID] = i
	}
	for _, m := range a.Grouped() {
		if m.Pair != pair || m.Outside || m.From == "" || m.To == "" {
			continue
		}
		if zone != "" && m.Zone != zone && !slices.ContainsFunc(a.Zones, func(z cover.Named) bool { return z.ID == m.Zone && z.Name == zone }) {
			continue
		}
		cells[at[m.From]][at[m.To]] += m.M2 / a.Unit.M2
	}
	return cells, nil
}

type flowsFigureOptions struct {
	job.MatrixOptions
	Zone          string `opt:"zone" help:"of one <ZONE>, by its id or name; of all together by default"`
	figureOptions `group:"output"`
}

func flowsFigureCommand() *cli.Command {
	return command(cli.Command{
		Name: "flows", Usage: "what went where, as bands whose width is area",
		Description: `Draws the transitions of a table of change --table matrix as bands between the epochs. What stayed is pale.

  verdex draw flows matrix.csv --legend legend.csv --out flows.png`,
	}, func(s *session, o *flowsFigureOptions) error {
		return s.drawFigure(&o.figureOptions, func(draw.Options) (draw.Figure, error) {
			a, err := job.Matrix(s.ctx, s.env(), o.MatrixOptions)
			if err != nil {
				return nil, err
			}
			f := &draw.FlowsFigure{Keys: classKeys(a.Classes, a.Legend), Unit: a.Unit.Name}
			pairs := slices.Clone(a.Pairs) // those that follow one another
			slices.SortStableFunc(pairs, func(x, y [2]string) int {
				return int(math.Copysign(1, epoch.Years(y[0], x[0])+epoch.Years(y[1], x[1])/1e6))
			})
			pairs = slices.DeleteFunc(pairs, func(p [2]string) bool {
				return slices.ContainsFunc(a.Pairs, func(q [2]string) bool { return q[0] == p[0] && epoch.Years(q[1], p[1]) > 0 })
			})
			for i, p := range pairs {
				if i == 0 {
					f.Epochs = []string{p[0]}
				} else if p[0] != f.Epochs[len(f.Epochs)-1] {
					break
				}
				cells, err := cellsOf(a, p, o.Zone)
				if err != nil {
					return nil, err
				}
				f.Epochs, f.Moves = append(f.Epochs, p[1]), append(f.Moves, cells)
			}
			f.Title, f.Sub = "What went where, "+f.Epochs[0]+" to "+f.Epochs[len(f.Epochs)-1], a.Unit.Name+" of true ground; bands have the colour of what the ground was, and pale ones stayed"
			if o.Zone != "" {
				f.Sub = o.Zone + ": " + f.Sub
			}
			return f, nil
		})
	})
}

type ranksFigureOptions struct {
	job.CompositionOptions
	Epoch         string `opt:"epoch" help:"the <LABEL> of the epoch; the last one by default"`
	Show          string `opt:"show" choose:"area,percent" help:"<area>, or percent of the zone"`
	figureOptions `group:"output"`
}

func ranksFigureCommand() *cli.Command {
	return command(cli.Command{
		Name: "ranks", Usage: "zones by the extent of a class",
		Description: `Draws the zones from the greatest to the least extent of a class.

  verdex draw ranks extents.csv --rank "Built-up" --legend legend.csv --out ranks.png`,
	}, func(s *session, o *ranksFigureOptions) error {
		return s.drawFigure(&o.figureOptions, func(draw.Options) (draw.Figure, error) {
			if o.Rank == "" {
				return nil, usage("draw ranks needs the class: name it with --rank")
			}
			a, err := job.Composition(s.ctx, s.env(), o.CompositionOptions)
			if err != nil {
				return nil, err
			}
			at, err := epochIn(a.Epochs, o.Epoch)
			if err != nil {
				return nil, err
			}
			f := &draw.RanksFigure{}
			k := slices.Index(a.Classes, a.Rank)
			for _, r := range a.Ranks {
				if r.Epoch != at {
					continue
				}
				one := draw.Rank{Name: fmt.Sprintf("%d  %s", r.Place, r.Zone.Label()), Amount: r.M2 / a.Unit.M2, Color: colorOf(sheets.ColorOf(a.Legend, k, a.Rank))}
				one.Value = text.Number(one.Amount, 0) + " " + a.Unit.Name + ", " + text.Number(r.PctOfZone, 1) + " %"
				if o.Show == "percent" {
					one.Amount = r.PctOfZone
				}
				f.List = append(f.List, one)
			}
			if o.Show == "percent" {
				slices.SortStableFunc(f.List, func(x, y draw.Rank) int { return int(math.Copysign(1, y.Amount-x.Amount)) })
				for i := range f.List {
					_, name, _ := strings.Cut(f.List[i].Name, "  ")
					f.List[i].Name = fmt.Sprintf("%d  %s", i+1, name)
				}
			}
			f.Title, f.Sub = a.Rank.Label()+" "+at, "zones by "+map[string]string{"area": "area", "percent": "percent of the zone"}[o.Show]
			return f, nil
		})
	})
}

type checkFigureOptions struct {
	Table         []string `arg:"TABLE" in:"table"`
	figureOptions `group:"output"`
}

func checkFigureCommand() *cli.Command {
	return command(cli.Command{
		Name: "check", Usage: "what fell short, and by how much",
		Description: `Draws the findings of a table of checks (--checks FILE).

  verdex measure cover.tif --zones wards.gpkg --checks checks.csv --out extents.csv
  verdex draw check checks.csv --out checks.png`,
	}, func(s *session, o *checkFigureOptions) error {
		return s.drawFigure(&o.figureOptions, func(draw.Options) (draw.Figure, error) {
			if len(o.Table) != 1 {
				return nil, usage("draw check takes one table, and %s", text.Given(len(o.Table)))
			}
			f := &draw.RanksFigure{}
			holds := []string{}
			_, _, err := s.readTable(s.ctx, o.Table[0], []string{"check", "outcome"}, []string{"epoch", "zone_id", "class_code", "value", "text"}, func(r rows.Row) error {
				if r.Cell["outcome"] != "falls short" {
					if r.Cell["outcome"] == "holds" && !slices.Contains(holds, r.Cell["check"]) {
						holds = append(holds, r.Cell["check"])
					}
					return nil
				}
				v, err := strconv.ParseFloat(r.Cell["value"], 64)
				if err != nil {
					v = math.NaN()
				}
				name := strings.Join(strings.Fields(r.Cell["check"]+"  "+r.Cell["zone_id"]+" "+r.Cell["class_code"]+" "+r.Cell["epoch"]), " ")
				value := ""
				if v == v {
					value = rounded(v)
				}
				f.List = append(f.List, draw.Rank{Name: name, Group: r.Cell["check"], Amount: v, Value: value, Color: flowColors[0]})
				return nil
			})
			if err != nil {
				return nil, err
			}
			f.Title = fmt.Sprintf("Checks: %d hold, %s", len(holds), text.Count(len(f.List), "finding"))
			f.Sub, f.Note = "what fell short, each with the number that was found", "hold: "+strings.Join(holds, ", ")
			if len(holds) == 0 {
				f.Note = ""
			}
			return f, nil
		})
	})
}
