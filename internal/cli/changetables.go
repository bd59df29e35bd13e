package cli

import (
	"fmt"
	"math"

	"github.com/mattn/go-runewidth"

	"github.com/verdex-land/verdex/core/account"
	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/internal/table"
)

var matrixColumns = []string{"zone_id", "zone_name", "from_epoch", "to_epoch", "from_code", "from_name", "to_code", "to_name",
	"area", "unit", "pct_of_zone", "pct_of_opening"}

func matrixTable(ch *account.Changes, keep func(account.Transition) bool) *table.Table {
	t := &table.Table{Name: "transitions", Title: "Transitions between epochs", Columns: matrixColumns}
	for _, c := range ch.Pairs {
		for i := range c.Zones {
			z := &c.Zones[i]
			balances := c.Balances(z)
			whole := z.Outside
			for _, x := range z.Transitions {
				whole += c.Area(x.Extent)
			}
			for _, x := range z.Transitions {
				if !keep(x) {
					continue
				}
				from, mapped := c.Class(x.From)
				to, both := c.Class(x.To)
				area, opening := c.Area(x.Extent), any(nil)
				if mapped && both {
					opening = area / balances[x.From].OpeningArea * 100
				}
				t.Rows = append(t.Rows, []any{z.ID, z.Name, c.Epochs[0], c.Epochs[1], codeOf(from, mapped), from.Name, codeOf(to, both), to.Name,
					area, c.Unit.Name, account.Percent(area, whole), opening})
			}
			if z.Outside > 0 && keep(account.Transition{From: int32(len(c.Legend.Classes)), To: int32(len(c.Legend.Classes))}) {
				t.Rows = append(t.Rows, []any{z.ID, z.Name, c.Epochs[0], c.Epochs[1], "", "outside", "", "outside",
					z.Outside, c.Unit.Name, account.Percent(z.Outside, whole), nil})
			}
		}
	}
	return t
}

// codeOf is the code of a class as it stands in a table, "" for ground that is not mapped.
func codeOf(class cover.Class, mapped bool) string {
	if !mapped {
		return ""
	}
	return class.ID()
}

var summaryColumns = []string{"zone_id", "zone_name", "from_epoch", "to_epoch", "class_code", "class_name", "opening", "additions",
	"reductions", "net_change", "closing", "unit", "pct_change", "pct_change_per_year", "pct_change_per_year_compound"}

func summaryTable(ch *account.Changes, _ func(account.Transition) bool) *table.Table {
	t := &table.Table{Name: "change", Title: "Change between epochs", Columns: summaryColumns}
	for _, c := range ch.Pairs {
		for i := range c.Zones {
			z := &c.Zones[i]
			for _, b := range c.Balances(z) {
				t.Rows = append(t.Rows, []any{z.ID, z.Name, c.Epochs[0], c.Epochs[1], b.Class.Code, b.Class.Name, b.OpeningArea,
					b.AdditionsArea, b.ReductionsArea, b.NetArea, b.ClosingArea, c.Unit.Name, b.PctChange, b.PctPerYear, b.PctYearly})
			}
			for _, a := range apart(c, *z) {
				t.Rows = append(t.Rows, []any{z.ID, z.Name, c.Epochs[0], c.Epochs[1], "", a.what, a.opening, nil, nil, nil, a.closing, c.Unit.Name, nil, nil, nil})
			}
		}
	}
	return t
}

var partsColumns = []string{"zone_id", "zone_name", "from_epoch", "to_epoch", "class_code", "class_name", "gain", "loss", "net_change",
	"quantity", "exchange", "shift", "unit"}

func partsTable(ch *account.Changes, _ func(account.Transition) bool) *table.Table {
	t := &table.Table{Name: "parts", Title: "Parts of change", Columns: partsColumns}
	for _, c := range ch.Pairs {
		for i := range c.Zones {
			z := &c.Zones[i]
			classes, whole := c.Parts(z)
			row := func(code any, name string, p account.Parts) {
				t.Rows = append(t.Rows, []any{z.ID, z.Name, c.Epochs[0], c.Epochs[1], code, name, p.GainArea, p.LossArea, p.NetArea,
					p.QuantityArea, p.ExchangeArea, p.ShiftArea, c.Unit.Name})
			}
			for _, p := range classes {
				row(p.Class.Code, p.Class.Name, p)
			}
			row("", "all change", whole)
		}
	}
	return t
}

var intensityColumns = []string{"zone_id", "zone_name", "from_epoch", "to_epoch", "level", "from_code", "from_name", "to_code", "to_name",
	"area_per_year", "unit", "intensity_pct", "uniform_pct", "stands", "per"}

func intensityTable(ch *account.Changes, _ func(account.Transition) bool) *table.Table {
	t := &table.Table{Name: "intensity", Title: "Intensity of change", Columns: intensityColumns}
	for _, c := range ch.Pairs {
		for i := range c.Zones {
			z := &c.Zones[i]
			for _, x := range c.Intensities(z, account.UniformRate(ch.Pairs, i)) {
				var names [4]string
				for k, at := range []int32{x.From, x.To} {
					if at >= 0 {
						class, _ := c.Class(at)
						names[2*k], names[2*k+1] = class.ID(), class.Name
					}
				}
				per := "year"
				if x.PerPeriod {
					per = "period"
				}
				t.Rows = append(t.Rows, []any{z.ID, z.Name, c.Epochs[0], c.Epochs[1], x.Level, names[0], names[1], names[2], names[3],
					x.Yearly, c.Unit.Name, x.Percent, x.Uniform, x.Stands, per})
			}
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

// pairTitle is the headline of what is drawn for a pair of epochs.
func (c *canvas) pairTitle(k int, ch *account.Change, what string) {
	if k > 0 {
		c.line()
		c.line()
	}
	if ch.Whole {
		what += " (in all)"
	}
	c.line(c.bold(fmt.Sprintf(what+", %d zone(s)", len(ch.Zones))))
}

// paintSummary draws for each zone the account of each class.
func paintSummary(c *canvas, all *account.Changes, _ func(account.Transition) bool) error {
	for k, ch := range all.Pairs {
		c.pairTitle(k, ch, fmt.Sprintf("Change %s to %s in %s of true ground", ch.Epochs[0], ch.Epochs[1], ch.Unit.Label))
		c.summary(ch)
	}
	return c.flush()
}

func (c *canvas) summary(ch *account.Change) {
	names, width := classNames(ch.Legend, runewidth.StringWidth("mapped in "+ch.Epochs[0]+" only"), 28)
	most := 0.0
	for _, z := range ch.Zones {
		most = math.Max(most, z.Mapped)
	}
	marks := letters(names)
	decimals := decimalsFor(most)
	number := max(10, runewidth.StringWidth(group(most, decimals))+1)
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
		for i, b := range ch.Balances(&z) {
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
}

// paintMatrix draws for each zone from which class (rows) the ground moved to which (columns).
func paintMatrix(c *canvas, all *account.Changes, keep func(account.Transition) bool) error {
	for k, ch := range all.Pairs {
		c.pairTitle(k, ch, fmt.Sprintf("Transitions %s (rows) to %s (columns) in %s of true ground", ch.Epochs[0], ch.Epochs[1], ch.Unit.Label))
		c.matrix(ch, keep)
	}
	return c.flush()
}

func (c *canvas) matrix(ch *account.Change, keep func(account.Transition) bool) {
	n := len(ch.Legend.Classes)
	names, width := classNames(ch.Legend, 10, 24)
	most := 0.0
	for _, z := range ch.Zones {
		most = math.Max(most, z.Area)
	}
	marks := letters(names)
	decimals := decimalsFor(most)
	number := max(9, runewidth.StringWidth(group(most, decimals))+1)
	for _, z := range ch.Zones {
		grid := make([]float64, (n+1)*(n+1))
		for _, t := range z.Transitions {
			if keep(t) {
				grid[int(t.From)*(n+1)+int(t.To)] += ch.Area(t.Extent)
			}
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
		if len(show) == 0 {
			c.line(c.dim("  no such transition"))
			continue
		}
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
}

// paintParts draws what the change of each class is made of: a bar of quantity, exchange and shift.
func paintParts(c *canvas, all *account.Changes, _ func(account.Transition) bool) error {
	for k, ch := range all.Pairs {
		c.pairTitle(k, ch, fmt.Sprintf("Parts of change %s to %s in %s of true ground", ch.Epochs[0], ch.Epochs[1], ch.Unit.Label))
		names, width := classNames(ch.Legend, 10, 28)
		marks := letters(names)
		indent := 6
		if c.color {
			indent = 5
		}
		for i := range ch.Zones {
			z := &ch.Zones[i]
			classes, whole := ch.Parts(z)
			most := 0.0
			for _, p := range classes {
				most = math.Max(most, p.GainArea+p.LossArea)
			}
			decimals := decimalsFor(math.Max(most, whole.QuantityArea+whole.ExchangeArea+whole.ShiftArea))
			number := max(10, runewidth.StringWidth(group(z.Area, decimals))+1)
			bar := max(12, min(40, c.width-width-5*number-9))
			c.line()
			c.line(c.bold(title(z.ID, z.Name)), c.dim(fmt.Sprintf("  %s %s of %s %s that both epochs map changed its class",
				group(z.Changed, decimals), ch.Unit.Name, group(z.Mapped, decimals), ch.Unit.Name)))
			c.line(c.dim(left("", width+indent) + right("gain", number) + right("loss", number) + right("quantity", number) + right("exchange", number) + right("shift", number)))
			for j, p := range classes {
				total := p.GainArea + p.LossArea
				if total == 0 {
					continue
				}
				c.line("  ", c.swatch(p.Class.Color, marks[j]), " ", left(p.Class.Name, width), c.move(p.GainArea, decimals, number), c.move(-p.LossArea, decimals, number),
					right(group(p.QuantityArea, decimals), number), right(group(p.ExchangeArea, decimals), number), right(group(p.ShiftArea, decimals), number),
					"  ", c.partsBar(p, most, bar))
			}
			c.line(c.bold(left("      all change"[6-indent:], width+indent)+left("", 2*number)+right(group(whole.QuantityArea, decimals), number)+
				right(group(whole.ExchangeArea, decimals), number)+right(group(whole.ShiftArea, decimals), number)),
				c.dim(fmt.Sprintf("  together %s", group(whole.QuantityArea+whole.ExchangeArea+whole.ShiftArea, decimals))))
		}
	}
	c.line()
	c.line("  ", c.partsBar(account.Parts{QuantityArea: 1}, 1, 2), c.dim(" quantity: more of the class, or less   "),
		c.partsBar(account.Parts{ExchangeArea: 1}, 1, 2), c.dim(" exchange: two classes swap places   "), c.partsBar(account.Parts{ShiftArea: 1}, 1, 2), c.dim(" shift: the rest"))
	return c.flush()
}

// partsBar is a bar of the parts of change; most is what fills the width.
func (c *canvas) partsBar(p account.Parts, most float64, width int) string {
	return c.bar([]part{
		{share: p.QuantityArea / most, color: raster.Color{R: 217, G: 119, B: 87}, letter: 'Q'},
		{share: p.ExchangeArea / most, color: raster.Color{R: 106, G: 155, B: 204}, letter: 'E'},
		{share: p.ShiftArea / most, color: raster.Color{R: 160, G: 160, B: 150}, letter: 's'},
	}, width)
}

// paintIntensity draws how fast classes gained and lost beside the even rate, and which transitions are targeted.
func paintIntensity(c *canvas, all *account.Changes, _ func(account.Transition) bool) error {
	for k, ch := range all.Pairs {
		per := "a year"
		if math.IsNaN(ch.Years) {
			per = "of the period"
		}
		c.pairTitle(k, ch, fmt.Sprintf("Intensity of change %s to %s in percent %s", ch.Epochs[0], ch.Epochs[1], per))
		_, width := classNames(ch.Legend, 10, 24)
		for i := range ch.Zones {
			z := &ch.Zones[i]
			list := ch.Intensities(z, account.UniformRate(all.Pairs, i))
			c.line()
			whole := list[0]
			text := fmt.Sprintf("  %.3f %% %s changed", whole.Percent, per)
			if len(all.Pairs) > 1 {
				text += fmt.Sprintf("; over all intervals %.3f %%: %s", whole.Uniform, whole.Stands)
			}
			c.line(c.bold(title(z.ID, z.Name)), c.dim(text))
			name := func(at int32) string {
				if at < 0 {
					return ""
				}
				class, _ := ch.Class(at)
				return class.Name
			}
			for _, level := range []string{"gain", "loss", "transition", "transition-loss"} {
				head := map[string]string{"gain": "gain of", "loss": "loss of", "transition": "gains from", "transition-loss": "losses of"}[level]
				second := ""
				switch level {
				case "transition":
					second = "by"
				case "transition-loss":
					second = "to"
				}
				c.line(c.dim("  " + left(head, width) + "  " + left(second, width) + right("intensity", 12) + right("even rate", 12)))
				for _, x := range list[1:] {
					if x.Level != level || x.Percent == 0 && (level == "gain" || level == "loss") {
						continue
					}
					first, other := name(x.From), name(x.To)
					if level == "gain" {
						first, other = other, ""
					}
					stands := c.dim(x.Stands)
					if x.Percent > x.Uniform {
						stands = c.bold(x.Stands)
					}
					c.line("  ", left(first, width), "  ", left(other, width), right(fmt.Sprintf("%.3f", x.Percent), 12), right(fmt.Sprintf("%.3f", x.Uniform), 12), "  ", stands)
				}
			}
		}
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
