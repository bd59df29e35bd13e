package cli

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"github.com/verdex-land/verdex/core/change"

	"github.com/mattn/go-runewidth"

	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/job"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/text"
	"github.com/verdex-land/verdex/internal/model"
)

// pairTitle is the headline of what is drawn for a pair of epochs.
func (c *canvas) pairTitle(k int, ch *change.Change, what string) {
	if k > 0 {
		c.line()
		c.line()
	}
	if ch.Whole {
		what += " (in all)"
	}
	c.line(c.bold(what + ", " + text.Count(len(ch.Zones), "zone")))
}

// paintSummary draws for each zone the account of each class.
func paintSummary(c *canvas, all *job.Changed) error {
	for k, ch := range all.Pairs {
		c.pairTitle(k, ch, fmt.Sprintf("Change %s to %s in %s of true ground", ch.Epochs[0], ch.Epochs[1], ch.Unit.Label))
		c.summary(ch)
	}
	return c.flush()
}

func (c *canvas) summary(ch *change.Change) {
	names, _ := classNames(ch.Legend, 0, 28)
	most := 0.0
	for _, z := range ch.Zones {
		most = math.Max(most, z.Mapped)
	}
	marks := letters(names)
	decimals := text.Decimals(most)
	head := []string{ch.Epochs[0], "added", "lost", "net", ch.Epochs[1], "%", "%\u00a0a\u00a0year"}
	c.line()
	var grids []*grid
	for _, z := range ch.Zones {
		g := &grid{c: c, head: head, above: c.bold(title(cover.Named{ID: z.ID, Name: z.Name})) + c.dim(fmt.Sprintf("  %s %s; %s %% of what both epochs map changed its class",
			text.Number(z.Area, decimals), ch.Unit.Name, text.Number(z.Changed/math.Max(z.Mapped, 1e-300)*100, 1)))}
		for i, b := range ch.Balances(&z) {
			if b.Opening.IsZero() && b.Closing.IsZero() {
				continue
			}
			yearly := "–"
			if !math.IsNaN(b.PctPerYear) {
				yearly = text.Signed(b.PctPerYear, 2)
			}
			g.add("  "+c.swatch(b.Class.Color, marks[i])+" "+b.Class.Name, []string{text.Number(b.OpeningArea, decimals), c.move(b.AdditionsArea, decimals, 0), c.move(-b.ReductionsArea, decimals, 0),
				c.net(b.NetArea, decimals), text.Number(b.ClosingArea, decimals), text.Signed(b.PctChange, 1), yearly}, false, false)
		}
		for _, a := range model.Apart(ch, &z) {
			if !(a.Opening > 0) && !(a.Closing > 0) {
				continue
			}
			cells := make([]string, len(head))
			if !math.IsNaN(a.Opening) {
				cells[0] = text.Number(a.Opening, decimals)
			}
			if !math.IsNaN(a.Closing) {
				cells[4] = text.Number(a.Closing, decimals)
			}
			indent := strings.Repeat(" ", 3+screenWidth(c.swatch(raster.Color{}, 'A')))
			g.add(indent+a.What, cells, false, true)
		}
		grids = append(grids, g)
	}
	if len(grids) > 0 {
		paintGrids(grids...)
	}
}

// paintChangeMatrix draws for each zone from which class (rows) the ground moved to which (columns).
func paintChangeMatrix(c *canvas, r *job.Changed) error {
	return paintSquares(c, model.SquaresOf(r.Changes, r.Keep), &job.Terms{Unit: r.Unit, Legend: r.Legend}, func(pair [2]string) bool {
		return slices.ContainsFunc(r.Pairs, func(p *change.Change) bool { return p.Whole && p.Epochs == pair })
	})
}

// paintParts draws what the change of each class is made of: a bar of quantity, exchange and shift.
func paintParts(c *canvas, all *job.Changed) error {
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
			decimals := text.Decimals(math.Max(most, whole.QuantityArea+whole.ExchangeArea+whole.ShiftArea))
			number := max(10, runewidth.StringWidth(text.Number(z.Area, decimals))+1)
			bar := max(12, min(40, c.width-width-5*number-9))
			c.line()
			c.line(c.bold(title(cover.Named{ID: z.ID, Name: z.Name})), c.dim(fmt.Sprintf("  %s %s of %s %s that both epochs map changed its class",
				text.Number(z.Changed, decimals), ch.Unit.Name, text.Number(z.Mapped, decimals), ch.Unit.Name)))
			c.line(c.dim(left("", width+indent) + right("gain", number) + right("loss", number) + right("quantity", number) + right("exchange", number) + right("shift", number)))
			for j, p := range classes {
				total := p.GainArea + p.LossArea
				if total == 0 {
					continue
				}
				c.line("  ", c.swatch(p.Class.Color, marks[j]), " ", left(p.Class.Name, width), c.move(p.GainArea, decimals, number), c.move(-p.LossArea, decimals, number),
					right(text.Number(p.QuantityArea, decimals), number), right(text.Number(p.ExchangeArea, decimals), number), right(text.Number(p.ShiftArea, decimals), number),
					"  ", c.partsBar(p, most, bar))
			}
			c.line(c.bold(left("      all change"[6-indent:], width+indent)+left("", 2*number)+right(text.Number(whole.QuantityArea, decimals), number)+
				right(text.Number(whole.ExchangeArea, decimals), number)+right(text.Number(whole.ShiftArea, decimals), number)),
				c.dim(fmt.Sprintf("  together %s", text.Number(whole.QuantityArea+whole.ExchangeArea+whole.ShiftArea, decimals))))
		}
	}
	c.line()
	c.line("  ", c.partsBar(change.Parts{QuantityArea: 1}, 1, 2), c.dim(" quantity: more of the class, or less   "),
		c.partsBar(change.Parts{ExchangeArea: 1}, 1, 2), c.dim(" exchange: two classes swap places   "), c.partsBar(change.Parts{ShiftArea: 1}, 1, 2), c.dim(" shift: the rest"))
	return c.flush()
}

// partsBar is a bar of the parts of change; most is what fills the width.
func (c *canvas) partsBar(p change.Parts, most float64, width int) string {
	return c.bar([]part{
		{share: p.QuantityArea / most, color: raster.Color{R: 217, G: 119, B: 87}, letter: 'Q'},
		{share: p.ExchangeArea / most, color: raster.Color{R: 106, G: 155, B: 204}, letter: 'E'},
		{share: p.ShiftArea / most, color: raster.Color{R: 160, G: 160, B: 150}, letter: 's'},
	}, width)
}

// paintIntensity draws how fast classes gained and lost beside the even rate, and which transitions are targeted.
func paintIntensity(c *canvas, all *job.Changed) error {
	for k, ch := range all.Pairs {
		per := "a year"
		if math.IsNaN(ch.Years) {
			per = "of the period"
		}
		c.pairTitle(k, ch, fmt.Sprintf("Intensity of change %s to %s in percent %s", ch.Epochs[0], ch.Epochs[1], per))
		_, width := classNames(ch.Legend, 10, 24)
		for i := range ch.Zones {
			z := &ch.Zones[i]
			list := ch.Intensities(z, change.UniformRate(all.Pairs, i))
			c.line()
			whole := list[0]
			line := fmt.Sprintf("  %.3f %% %s changed", whole.Percent, per)
			if len(all.Pairs) > 1 {
				line += fmt.Sprintf("; over all intervals %.3f %%: %s", whole.Uniform, whole.Stands)
			}
			c.line(c.bold(title(cover.Named{ID: z.ID, Name: z.Name})), c.dim(line))
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
