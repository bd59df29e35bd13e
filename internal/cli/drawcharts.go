package cli

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/decimal"
	"github.com/verdex-land/verdex/core/epoch"
	"github.com/verdex-land/verdex/core/job"
	"github.com/verdex-land/verdex/core/rows"
	"github.com/verdex-land/verdex/core/text"
	"github.com/verdex-land/verdex/internal/draw"
	"github.com/verdex-land/verdex/internal/sheets"
)

type barsFigureOptions struct {
	job.CompositionOptions
	Epoch string `opt:"epoch" help:"the <LABEL> of the epoch; the last one by default"`
	Show  string `opt:"show" choose:"percent,area" help:"<percent> of what is classified, or area"`
	Sort  string `opt:"sort" help:"by the share of a <CLASS>, by code or name; by area by default"`
	setOption
	figureOptions `group:"output"`
}

func barsFigureCommand() *cli.Command {
	return figureCommand(cli.Command{
		Name: "bars", Usage: "the composition of zones",
		Description: `Draws a bar for each zone, divided by classes.

  verdex draw bars extents.csv --legend legend.csv --out bars.png
  verdex draw bars extents.csv --legend legend.csv --show area --sort Woodland --out bars.svg`,
	}, func(o *barsFigureOptions) *figureOptions { return &o.figureOptions }, func(s *session, o *barsFigureOptions, _ draw.Options) (draw.Figure, error) {
		a, err := job.Composition(s.ctx, s.env(), o.CompositionOptions)
		if err != nil {
			return nil, err
		}
		s.drawn(a.Checks)
		return barsOf(a, o)
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
	slices.SortStableFunc(bars, func(x, y bar) int { return cmp.Compare(y.by, x.by) })
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
	Zone    string `opt:"zone" help:"of one <ZONE>, by its id or name; of all together by default"`
	Samples string `opt:"accuracy" in:"table" help:"<TABLE> of account accuracy of the last epoch, whose adjusted extents and intervals are drawn too"`
	setOption
	figureOptions `group:"output"`
}

func trendFigureCommand() *cli.Command {
	return figureCommand(cli.Command{
		Name: "trend", Usage: "extents over time, at their real dates",
		Description: `Draws a line for each class through its extents at all epochs.

  verdex draw trend extents_2004.csv extents_2012.csv extents_2020.csv --legend legend.csv --out trend.png
  verdex draw trend extents_*.csv --legend legend.csv --zone W3 --out w3.svg`,
	}, func(o *trendFigureOptions) *figureOptions { return &o.figureOptions }, func(s *session, o *trendFigureOptions, _ draw.Options) (draw.Figure, error) {
		a, err := job.Series(s.ctx, s.env(), o.SeriesOptions)
		if err != nil {
			return nil, err
		}
		s.drawn(a.Checks)
		return s.trendOf(a, o)
	})
}

func (s *session) trendOf(a *job.ExtentSeries, o *trendFigureOptions) (draw.Figure, error) {
	f := &draw.TrendFigure{Labels: a.Epochs, Times: timesOf(a.Epochs), Unit: a.Unit.Name}
	zones := slices.DeleteFunc(slices.Clone(a.Zones), func(z cover.Named) bool { return a.IsUnit(z.ID) })
	if o.Zone != "" {
		k, err := cover.FindZone(a.Zones, o.Zone, "the tables")
		if err != nil {
			return nil, err
		}
		zones = a.Zones[k : k+1]
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

// timesOf are epochs in years; a label that is no date comes a year after the one before.
func timesOf(labels []string) (out []float64) {
	for i, l := range labels {
		when, _, ok := epoch.When(l)
		if out = append(out, float64(i)); ok {
			out[i] = float64(when.Unix()) / (365.2425 * 86400)
		} else if i > 0 {
			out[i] = out[i-1] + 1
		}
	}
	return out
}

// adjust adds the confidence intervals of the last epoch.
func (s *session) adjust(f *draw.TrendFigure, a *job.ExtentSeries, table string) error {
	found := false
	_, _, err := s.readTable(s.ctx, table, []string{"class_code", "adjusted", "adjusted_ci95"}, []string{"class_name", "unit"}, func(r rows.Row) error {
		k := slices.IndexFunc(a.Classes, func(c cover.Named) bool { return c.ID == r.Cell["class_code"] && c.ID != "" })
		half, err := decimal.Parse(r.Cell["adjusted_ci95"])
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
	Zone  string `opt:"zone" help:"of one <ZONE>, by its id or name; of all together by default"`
	Since string `opt:"since" help:"the <LABEL> of the earlier epoch; the first one by default"`
	Epoch string `opt:"epoch" help:"the <LABEL> of the later epoch; the last one by default"`
	setOption
	figureOptions `group:"output"`
}

func matrixFigureCommand() *cli.Command {
	return figureCommand(cli.Command{
		Name: "matrix", Usage: "how much went from each class to each other",
		Description: `Draws the transitions of a table of change --table matrix as a square; what stayed is set apart.

  verdex draw matrix matrix.csv --legend legend.csv --out matrix.png`,
	}, func(o *matrixFigureOptions) *figureOptions { return &o.figureOptions }, func(s *session, o *matrixFigureOptions, _ draw.Options) (draw.Figure, error) {
		a, err := job.Matrix(s.ctx, s.env(), o.MatrixOptions)
		if err != nil {
			return nil, err
		}
		s.drawn(a.Checks)
		from, to, err := pairIn(a.Pairs, o.Since, o.Epoch)
		if err != nil {
			return nil, err
		}
		f := &draw.MatrixFigure{From: from, To: to, Keys: classKeys(a.Classes, a.Legend), Unit: a.Unit.Name}
		if f.Cells, err = cellsOf(a, [2]string{from, to}, o.Zone); err != nil {
			return nil, err
		}
		f.Title, f.Sub = fmt.Sprintf("From what to what, %s to %s", from, to), a.Unit.Name+" of true ground that both epochs map; outlined is what stayed"
		f.Sub = ofZone(o.Zone, f.Sub)
		return f, nil
	})
}

// ofZone begins a subtitle with the zone that a figure is of, if it is of one.
func ofZone(zone, sub string) string {
	if zone == "" {
		return sub
	}
	return zone + ": " + sub
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
	if zone != "" {
		k, err := cover.FindZone(a.Zones, zone, "the tables")
		if err != nil {
			return nil, err
		}
		zone = a.Zones[k].ID
	}
	at := map[string]int{}
	for i, c := range a.Classes {
		at[c.ID] = i
	}
	for _, m := range a.Grouped() {
		if m.Pair != pair || m.Outside || m.From == "" || m.To == "" {
			continue
		}
		if zone != "" && m.Zone != zone {
			continue
		}
		cells[at[m.From]][at[m.To]] += m.M2 / a.Unit.M2
	}
	return cells, nil
}

type flowsFigureOptions struct {
	job.MatrixOptions
	Zone string `opt:"zone" help:"of one <ZONE>, by its id or name; of all together by default"`
	setOption
	figureOptions `group:"output"`
}

func flowsFigureCommand() *cli.Command {
	return figureCommand(cli.Command{
		Name: "flows", Usage: "what went where, as bands whose width is area",
		Description: `Draws the transitions of a table of change --table matrix as bands between the epochs. What stayed is pale.

  verdex draw flows matrix.csv --legend legend.csv --out flows.png`,
	}, func(o *flowsFigureOptions) *figureOptions { return &o.figureOptions }, func(s *session, o *flowsFigureOptions, _ draw.Options) (draw.Figure, error) {
		a, err := job.Matrix(s.ctx, s.env(), o.MatrixOptions)
		if err != nil {
			return nil, err
		}
		s.drawn(a.Checks)
		f := &draw.FlowsFigure{Keys: classKeys(a.Classes, a.Legend), Unit: a.Unit.Name}
		pairs := slices.Clone(a.Pairs) // those that follow one another
		slices.SortStableFunc(pairs, func(x, y [2]string) int {
			later := epoch.Years(y[0], x[0]) + epoch.Years(y[1], x[1])/1e6
			if math.IsNaN(later) { // labels that are no dates stay in the order of the tables
				return 0
			}
			return cmp.Compare(later, 0)
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
		f.Sub = ofZone(o.Zone, f.Sub)
		return f, nil
	})
}

type ranksFigureOptions struct {
	job.CompositionOptions
	Epoch string `opt:"epoch" help:"the <LABEL> of the epoch; the last one by default"`
	Show  string `opt:"show" choose:"area,percent" help:"<area>, or percent of the zone"`
	setOption
	figureOptions `group:"output"`
}

func ranksFigureCommand() *cli.Command {
	return figureCommand(cli.Command{
		Name: "ranks", Usage: "zones by the extent of a class",
		Description: `Draws the zones from the greatest to the least extent of a class.

  verdex draw ranks extents.csv --rank "Built-up" --legend legend.csv --out ranks.png`,
	}, func(o *ranksFigureOptions) *figureOptions { return &o.figureOptions }, func(s *session, o *ranksFigureOptions, _ draw.Options) (draw.Figure, error) {
		if o.Rank == "" {
			return nil, usage("draw ranks needs the class: name it with --rank")
		}
		a, err := job.Composition(s.ctx, s.env(), o.CompositionOptions)
		if err != nil {
			return nil, err
		}
		s.drawn(a.Checks)
		at, err := epochIn(a.Epochs, o.Epoch)
		if err != nil {
			return nil, err
		}
		f := &draw.RanksFigure{Nothing: "no zone has the class"}
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
			slices.SortStableFunc(f.List, func(x, y draw.Rank) int { return cmp.Compare(y.Amount, x.Amount) })
			for i := range f.List {
				_, name, _ := strings.Cut(f.List[i].Name, "  ")
				f.List[i].Name = fmt.Sprintf("%d  %s", i+1, name)
			}
		}
		f.Title, f.Sub = a.Rank.Label()+" "+at, "zones by "+map[string]string{"area": "area", "percent": "percent of the zone"}[o.Show]
		return f, nil
	})
}

type checkFigureOptions struct {
	Table []string `arg:"TABLE" in:"table"`
	setOption
	figureOptions `group:"output"`
}

func checkFigureCommand() *cli.Command {
	return figureCommand(cli.Command{
		Name: "check", Usage: "what fell short, and by how much",
		Description: `Draws the findings of a table of checks (--checks FILE).

  verdex measure cover.tif --zones wards.gpkg --checks checks.csv --out extents.csv
  verdex draw check checks.csv --out checks.png`,
	}, func(o *checkFigureOptions) *figureOptions { return &o.figureOptions }, func(s *session, o *checkFigureOptions, _ draw.Options) (draw.Figure, error) {
		if len(o.Table) != 1 {
			return nil, usage("draw check takes one table, and %s", text.Given(len(o.Table)))
		}
		f := &draw.RanksFigure{Nothing: "nothing fell short"}
		holds := []string{}
		_, _, err := s.readTable(s.ctx, o.Table[0], []string{"check", "outcome"}, []string{"epoch", "zone_id", "class_code", "value", "text"}, func(r rows.Row) error {
			if r.Cell["outcome"] != "falls short" {
				if r.Cell["outcome"] == "holds" && !slices.Contains(holds, r.Cell["check"]) {
					holds = append(holds, r.Cell["check"])
				}
				return nil
			}
			v, err := decimal.Parse(r.Cell["value"])
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
		f.Title = text.Count(len(holds), "check") + " without findings, and " + text.Count(len(f.List), "finding")
		f.Sub, f.Note = "what fell short, each with the number that was found", "without findings: "+strings.Join(holds, ", ")
		if len(holds) == 0 {
			f.Note = ""
		}
		return f, nil
	})
}
