package cli

import (
	"context"
	"fmt"
	"math"
	"slices"
	"strings"

	"github.com/mattn/go-runewidth"
	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/core/account"
	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/tally"
	"github.com/verdex-land/verdex/internal/table"
)

func changeCommand() *cli.Command {
	return &cli.Command{
		Name:  "change",
		Usage: "what changed between two epochs in each zone",
		Description: `Compares two cover rasters in one pass over both. Opening extent plus
additions less reductions is the closing extent, exactly, on the ground that both epochs map; ground that
only one of them maps is shown apart.

  verdex change --epoch 2004=a.tif --epoch 2020=b.tif --zones wards.geojson --zone-id code
  verdex change --epoch 2004=a.tif --epoch 2020=b.tif --crosswalk 2004=old.csv --legend legend.csv
  verdex change --epoch 2004=a.tif --epoch 2020=b.tif --table matrix --out matrix.csv
  verdex change --epoch 2012="tiles/*.tif" --nodata 2012=0 --epoch 2020=b.tif`,
		Flags: slices.Concat([]cli.Flag{
			&cli.StringSliceFlag{Name: "epoch", Usage: "`LABEL=COVER`, the earlier one first; several with one label are one raster"},
			&cli.StringFlag{Name: "table", Value: "summary", Usage: "`summary` (a row for each class) or matrix (a row for each transition)"},
			&cli.StringSliceFlag{Name: "crosswalk", Usage: "CSV `FILE` for both epochs, or LABEL=FILE for one"},
		}, zoneFlags, rasterFlags, classFlags, outputFlags),
		Action: change,
	}
}

func change(ctx context.Context, c *cli.Command) error {
	if c.Args().Len() > 0 {
		return usage("change takes its rasters as --epoch LABEL=COVER, not %q", c.Args().First())
	}
	r := newReporter(c)
	which := c.String("table")
	if which != "summary" && which != "matrix" {
		return usage("--table %s is not known: choose summary or matrix", which)
	}
	out, err := chooseOutput(c)
	if err != nil {
		return err
	}
	ch, err := compare(ctx, c, r)
	if err != nil {
		return err
	}
	switch {
	case out.format != "table" && which == "summary":
		err = out.write(summaryTable(ch))
	case out.format != "table":
		err = out.write(matrixTable(ch))
	case which == "summary":
		err = paintSummary(newCanvas(out.stdout), ch)
	default:
		err = paintMatrix(newCanvas(out.stdout), ch)
	}
	if err != nil {
		return err
	}
	for _, z := range ch.Zones {
		if apart := z.OnlyFirst + z.OnlySecond; apart > 0.01*z.Area {
			r.warn(fmt.Sprintf("zone %s: %.1f %% of it is mapped in one epoch only and takes no part in the change", z.ID, apart/z.Area*100))
		}
	}
	if c.Bool("strict") && r.warned > 0 {
		return errStrict
	}
	return nil
}

// epochs reads the --epoch options: two labels, each with one raster or several that are one.
func epochs(c *cli.Command) (labels [2]string, paths [2][]string, err error) {
	n := 0
	for _, e := range c.StringSlice("epoch") {
		label, path, ok := strings.Cut(e, "=")
		if !ok || label == "" || path == "" {
			return labels, paths, usage("--epoch %q is not of the form LABEL=COVER, such as 2004=a.tif", e)
		}
		k := slices.Index(labels[:n], label)
		if k < 0 {
			if k = n; k == 2 {
				return labels, paths, usage("change compares two epochs, but %s is a third: write --epoch 2004=a.tif --epoch 2020=b.tif", label)
			}
			labels[k] = label
			n++
		}
		paths[k] = append(paths[k], path)
	}
	if n != 2 {
		return labels, paths, usage("change compares two epochs, but %d was given: write --epoch 2004=a.tif --epoch 2020=b.tif", n)
	}
	return labels, paths, nil
}

// labelled splits options of the form VALUE or LABEL=VALUE by epoch: a value without label is for all.
func labelled(given []string, labels [2]string, option string) (out [2]string, err error) {
	for _, text := range given {
		n, value := -1, text
		for i, l := range labels {
			if v, ok := strings.CutPrefix(text, l+"="); ok {
				n, value = i, v
			}
		}
		for i := range out {
			if n >= 0 && n != i {
				continue
			}
			if out[i] != "" {
				return out, usage("%s is given twice for epoch %s", option, labels[i])
			}
			out[i] = value
		}
	}
	return out, nil
}

// crosswalks reads --crosswalk for each epoch.
func crosswalks(c *cli.Command, labels [2]string, legend *cover.Legend) (out [2]*cover.Crosswalk, err error) {
	paths, err := labelled(c.StringSlice("crosswalk"), labels, "--crosswalk")
	for i, path := range paths {
		if err == nil && path != "" {
			out[i], err = cover.ReadCrosswalk(path, legend)
		}
	}
	return out, err
}

func compare(ctx context.Context, c *cli.Command, r *reporter) (*account.Change, error) {
	labels, paths, err := epochs(c)
	if err != nil {
		return nil, err
	}
	t, err := readTerms(c)
	if err != nil {
		return nil, err
	}
	walks, err := crosswalks(c, labels, t.legend)
	if err != nil {
		return nil, err
	}
	nodata, err := labelled(c.StringSlice("nodata"), labels, "--nodata")
	if err != nil {
		return nil, err
	}
	in := account.ChangeInput{Epochs: labels}
	var layers []raster.Source
	for i := range paths {
		s, err := openRasters(c, paths[i], nodata[i], r)
		if err != nil {
			return nil, err
		}
		defer s.Close()
		if err := s.needCRS(); err != nil {
			return nil, err
		}
		in.Rasters[i] = s.path
		if h := s.Header(); len(in.Palette) == 0 {
			in.Palette = h.Palette
		}
		layers = append(layers, s)
	}
	layers, moved, err := raster.Together(layers, c.String("resample") == "nearest")
	if err != nil {
		return nil, err
	}
	plain := slices.Clone(layers)
	for i, l := range plain {
		if layers[i], in.Coders[i], err = t.coder(l, walks[i]); err != nil {
			return nil, err
		}
	}
	g := layers[0].Header().Grid
	if in.Zones, in.Placement, err = readZones(ctx, c, g, r); err != nil {
		return nil, err
	}
	tell, end := r.progress("comparing")
	in.Tally, err = tally.Measure(ctx, tally.Request{Layers: layers, Zones: in.Zones, Placement: in.Placement,
		Centres: t.centres, Threads: c.Int("threads"), Progress: tell})
	end()
	if err != nil {
		for i := range plain {
			err = t.explainGap(ctx, err, plain[i], walks[i], c.Int("threads"))
		}
		return nil, err
	}
	r.notes(account.SharedGround(in.Tally, in.Zones))
	for _, a := range moved {
		r.notes(a.Notes)
		r.note(movesNote(a))
	}
	return account.Compare(in, t.unit)
}

var matrixColumns = []string{"zone_id", "zone_name", "from_epoch", "to_epoch", "from_code", "from_name", "to_code", "to_name",
	"area", "unit", "pct_of_zone", "pct_of_opening"}

func matrixTable(c *account.Change) *table.Table {
	t := &table.Table{Columns: matrixColumns}
	for _, z := range c.Zones {
		for _, x := range z.Transitions {
			t.Rows = append(t.Rows, []any{z.ID, z.Name, c.Epochs[0], c.Epochs[1], x.From, x.FromName, x.To, x.ToName,
				x.Area, c.Unit.Name, x.PctOfZone, x.PctOfOpening})
		}
		if z.Outside > 0 {
			t.Rows = append(t.Rows, []any{z.ID, z.Name, c.Epochs[0], c.Epochs[1], "", "outside", "", "outside",
				z.Outside, c.Unit.Name, z.Outside / z.Area * 100, nil})
		}
	}
	return t
}

var summaryColumns = []string{"zone_id", "zone_name", "from_epoch", "to_epoch", "class_code", "class_name", "opening", "additions",
	"reductions", "net_change", "closing", "unit", "pct_change", "pct_change_per_year"}

func summaryTable(c *account.Change) *table.Table {
	t := &table.Table{Columns: summaryColumns}
	for _, z := range c.Zones {
		for _, b := range z.Balances {
			t.Rows = append(t.Rows, []any{z.ID, z.Name, c.Epochs[0], c.Epochs[1], b.Class.Code, b.Class.Name, b.OpeningArea,
				b.AdditionsArea, b.ReductionsArea, b.NetArea, b.ClosingArea, c.Unit.Name, b.PctChange, b.PctPerYear})
		}
		for _, a := range apart(c, z) {
			t.Rows = append(t.Rows, []any{z.ID, z.Name, c.Epochs[0], c.Epochs[1], "", a.what, a.opening, nil, nil, nil, a.closing, c.Unit.Name, nil, nil})
		}
	}
	return t
}

// apartRow is ground that takes no part in the change.
type apartRow struct {
	what             string
	opening, closing any // area where the epoch maps it, nil where it does not
}

func apart(c *account.Change, z account.ZoneChange) []apartRow {
	return []apartRow{
		{"mapped in " + c.Epochs[0] + " only", z.OnlyFirst, nil},
		{"mapped in " + c.Epochs[1] + " only", nil, z.OnlySecond},
		{"mapped in neither", z.Neither, z.Neither},
		{"outside", z.Outside, z.Outside},
	}
}

// paintSummary draws for each zone the account of each class.
func paintSummary(c *canvas, ch *account.Change) error {
	names, width := classNames(ch.Legend, runewidth.StringWidth("mapped in "+ch.Epochs[0]+" only"), 28)
	most := 0.0
	for _, z := range ch.Zones {
		most = math.Max(most, z.Mapped)
	}
	marks := letters(names)
	decimals := decimalsFor(most)
	number := max(10, runewidth.StringWidth(group(most, decimals))+1)
	c.line(c.bold(fmt.Sprintf("Change %s to %s in %s of true ground, %d zone(s)", ch.Epochs[0], ch.Epochs[1], ch.Unit.Label, len(ch.Zones))))
	key := 3
	if c.color {
		key = 2
	}
	for _, z := range ch.Zones {
		c.line()
		c.line(c.bold(title(z.ID, z.Name)), c.dim(fmt.Sprintf("  %s %s; %s %% of what both epochs map changed its class",
			group(z.Area, decimals), ch.Unit.Name, group(z.Changed/math.Max(z.Mapped, 1e-300)*100, 1))))
		c.line(c.dim(left("", width+key+3) + right(ch.Epochs[0], number) + right("added", number) + right("lost", number) +
			right("net", number) + right(ch.Epochs[1], number) + right("%", 9) + right("% a year", 10)))
		for i, b := range z.Balances {
			if b.Opening.IsZero() && b.Closing.IsZero() {
				continue
			}
			yearly := "–"
			if !math.IsNaN(b.PctPerYear) {
				yearly = signed(b.PctPerYear, 2)
			}
			c.line("  ", c.swatch(b.Class.Color, marks[i]), " ", left(b.Class.Name, width),
				right(group(b.OpeningArea, decimals), number), c.move(b.AdditionsArea, decimals, number),
				c.move(-b.ReductionsArea, decimals, number), c.bold(c.move(b.NetArea, decimals, number)),
				right(group(b.ClosingArea, decimals), number), right(signed(b.PctChange, 1), 9), right(yearly, 10))
		}
		for _, a := range apart(ch, z) {
			open, okA := a.opening.(float64)
			closing, okB := a.closing.(float64)
			if open+closing == 0 {
				continue
			}
			row := "  " + left("", key+1) + left(a.what, width)
			if okA {
				row += right(group(open, decimals), number)
			} else {
				row += left("", number)
			}
			row += left("", 3*number)
			if okB {
				row += right(group(closing, decimals), number)
			}
			c.line(c.dim(row))
		}
	}
	return c.flush()
}

// paintMatrix draws for each zone from which class (rows) the ground moved to which (columns).
func paintMatrix(c *canvas, ch *account.Change) error {
	n := len(ch.Legend.Classes)
	names, width := classNames(ch.Legend, 10, 24)
	most := 0.0
	for _, z := range ch.Zones {
		most = math.Max(most, z.Area)
	}
	marks := letters(names)
	decimals := decimalsFor(most)
	number := max(9, runewidth.StringWidth(group(most, decimals))+1)
	c.line(c.bold(fmt.Sprintf("Transitions %s (rows) to %s (columns) in %s of true ground, %d zone(s)", ch.Epochs[0], ch.Epochs[1], ch.Unit.Label, len(ch.Zones))))
	for _, z := range ch.Zones {
		grid := make([]float64, (n+1)*(n+1))
		for _, t := range z.Transitions {
			grid[t.FromAt*(n+1)+t.ToAt] += t.Area
		}
		var show []int
		for i := range n + 1 {
			total := 0.0
			for j := range n + 1 {
				total += grid[i*(n+1)+j] + grid[j*(n+1)+i]
			}
			if total > 0 {
				show = append(show, i)
			}
		}
		c.line()
		c.line(c.bold(title(z.ID, z.Name)), c.dim(fmt.Sprintf("  %s %s", group(z.Area, decimals), ch.Unit.Name)))
		upper, lower := left("", width+6), left("", width+6)
		for _, j := range show {
			name := "not mapped"
			if j < n {
				name = names[j]
			}
			a, b := twoLines(name, number-1)
			upper += right(a, number)
			lower += right(b, number)
		}
		c.line(c.dim(upper))
		c.line(c.dim(lower + right(ch.Epochs[0], number+1)))
		sums := make([]float64, n+1)
		for _, i := range show {
			key, name := "   ", "not mapped"
			if i < n {
				key, name = c.swatch(ch.Legend.Classes[i].Color, marks[i]), names[i]
				if c.color {
					key += " "
				}
			}
			row, total := "  "+key+" "+left(name, width), 0.0
			for _, j := range show {
				v := grid[i*(n+1)+j]
				total += v
				sums[j] += v
				cell := right(group(v, decimals), number)
				switch {
				case v == 0:
					cell = c.dim(right("·", number))
				case i == j:
					cell = c.dim(cell)
				}
				row += cell
			}
			c.line(row, c.bold(right(group(total, decimals), number+1)))
		}
		foot := "      " + left(ch.Epochs[1], width)
		for _, j := range show {
			foot += right(group(sums[j], decimals), number)
		}
		c.line(c.bold(foot))
	}
	return c.flush()
}

// classNames are the names of a legend and the width of a column for them, from least to most.
func classNames(l *cover.Legend, least, most int) (names []string, width int) {
	width = least
	for _, class := range l.Classes {
		names = append(names, class.Name)
		width = max(width, runewidth.StringWidth(class.Name))
	}
	return names, min(width, most)
}
