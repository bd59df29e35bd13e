package cli

import (
	"fmt"
	"image/color"
	"maps"
	"math"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/core/decimal"
	"github.com/verdex-land/verdex/core/job"
	"github.com/verdex-land/verdex/core/rows"
	"github.com/verdex-land/verdex/core/text"
	"github.com/verdex-land/verdex/internal/draw"
)

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
	return figureCommand(cli.Command{
		Name: "shade", Usage: "zones coloured by a number",
		Description: `Colours zones by a column of a table: from pale to dark for amounts, and for numbers of both signs from loss through nothing to gain. Zones without a number
are hatched.

  verdex draw shade extents.csv --class "Built-up" --epoch 2020 --zones wards.gpkg --zone-id code --out built-up.png
  verdex draw shade change.csv --column net_change --class Woodland --zones wards.gpkg --zone-id code --breaks natural --out woodland.png`,
	}, func(o *shadeFigureOptions) *figureOptions { return &o.figureOptions }, func(s *session, o *shadeFigureOptions, d draw.Options) (draw.Figure, error) {
		return s.shade(o)
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
	values, class, unit, err := s.shadeValues(o)
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
			v, err := decimal.Parse(strings.TrimSpace(t))
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
	limits := limitTexts(b.Limits)
	for k := len(colors) - 1; k >= 0; k-- {
		name := limits[k]
		if b.Limits[k] != b.Limits[k+1] {
			name += " to " + limits[k+1]
		}
		f.Keys = append(f.Keys, draw.Key{Name: name, Color: colors[k], Border: true})
	}
	if void {
		f.Keys = append(f.Keys, draw.Key{Name: "no number", Hatch: true})
	}
	f.Title, f.KeysTitle, f.Note = columnTitle(o.Column, class), unit, s.shownPath(o.Table[0])
	if f.Sub = o.Epoch; o.Since != "" && o.Epoch != "" {
		f.Sub = o.Since + " to " + o.Epoch
	}
	return f, nil
}

// rounded is a number with three digits that count.
func rounded(v float64) string { return roundedTo(v, 0) }

// limitTexts are limits as they are rounded, with as many decimals more as it takes to tell them apart.
func limitTexts(limits []float64) []string {
	out := make([]string, len(limits))
	for more := range 12 {
		apart := true
		for i, v := range limits {
			out[i] = roundedTo(v, more)
			apart = apart && (i == 0 || v == limits[i-1] || out[i] != out[i-1])
		}
		if apart {
			break
		}
	}
	return out
}

func roundedTo(v float64, more int) string {
	decimals := 0
	if a := math.Abs(v); a > 0 && a < 100 {
		decimals = max(0, min(6, 2-int(math.Floor(math.Log10(a)))))
	}
	out := text.Number(v, decimals+more)
	if strings.Contains(out, ".") {
		out = strings.TrimRight(strings.TrimRight(out, "0"), ".")
	}
	return out
}

func columnTitle(column, class string) string {
	name := strings.ReplaceAll(column, "_", " ")
	if column == "" || column == "pct_of_zone" {
		name = "percent of the zone"
	}
	if class != "" {
		return class + ": " + name
	}
	return strings.ToUpper(name[:1]) + name[1:]
}

// shadeValues are the numbers of a table by zone, the class that they are about as the table names it, and their unit.
func (s *session) shadeValues(o *shadeFigureOptions) (values map[string]float64, class, unit string, err error) {
	column := o.Column
	if column == "" {
		column = "pct_of_zone"
	}
	values, class = map[string]float64{}, o.Class
	_, _, err = s.readTable(s.ctx, o.Table[0], []string{o.Key, column}, []string{"class_code", "class_name", "epoch", "from_epoch", "to_epoch", "unit", "kind"}, func(r rows.Row) error {
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
		v, err := decimal.Parse(cell)
		if err != nil || math.IsNaN(v) || math.IsInf(v, 0) {
			return fmt.Errorf("%s: line %d: %s is %q, which is not a number: choose another column", o.Table[0], r.Line, column, cell)
		}
		if old, twice := values[r.Cell[o.Key]]; twice && old != v {
			return fmt.Errorf("%s: several rows are about zone %s: pick some with --class, --epoch and --since", o.Table[0], r.Cell[o.Key])
		}
		values[r.Cell[o.Key]] = v
		if o.Class != "" && r.Cell["class_name"] != "" {
			class = r.Cell["class_name"]
		}
		if unit = r.Cell["unit"]; strings.HasPrefix(column, "pct") {
			unit = "%"
		}
		return nil
	})
	if err == nil && len(values) == 0 {
		err = fmt.Errorf("%s: no row has a number in %s for what was picked: check --class and --epoch", o.Table[0], column)
	}
	return values, class, unit, err
}
