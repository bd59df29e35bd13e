package cli

import (
	"fmt"
	"iter"
	"math"
	"slices"
	"strconv"
	"strings"

	"github.com/verdex-land/verdex/core/area"
	"github.com/verdex-land/verdex/core/cover"

	"github.com/verdex-land/verdex/core/account"
	"github.com/verdex-land/verdex/core/job"
	"github.com/verdex-land/verdex/core/text"
	"github.com/verdex-land/verdex/internal/model"
)

// paintExtent draws extent accounts: one for each zone, or by zones a block for each entry.
func paintExtent(c *canvas, a *job.ExtentAccounts, byZones bool) error {
	most := 0.0
	for _, x := range a.List {
		most = math.Max(most, x.Entries[0].Total/a.Unit.M2)
	}
	decimals := text.Decimals(most)
	first := true
	for of := range a.Pairs() {
		if !first {
			c.line()
		}
		first = false
		c.line(c.bold(fmt.Sprintf("Extent account %s to %s in %s of true ground", of[0].Pair[0], of[0].Pair[1], a.Unit.Label)))
		c.line()
		var grids []*grid
		if byZones {
			for i, e := range of[0].Entries {
				g := c.classGrid(a.Classes, a.Legend, e.Name)
				for _, x := range of {
					g.add(title(x.Zone), entryCells(x.Entries[i], a.Unit, decimals), x.Zone == account.AllZones, false)
				}
				grids = append(grids, g)
			}
		} else {
			for i := range of {
				grids = append(grids, accountGrid(c, a, &of[i], decimals))
			}
		}
		paintGrids(grids...)
	}
	return c.flush()
}

// accountGrid is the account of one zone.
func accountGrid(c *canvas, a *job.ExtentAccounts, x *account.Statement, decimals int) *grid {
	g := c.classGrid(a.Classes, a.Legend, title(x.Zone))
	for _, e := range x.Entries {
		if e.Total == 0 && strings.HasSuffix(e.Name, account.NotAssigned) {
			continue
		}
		g.add(e.Name, entryCells(e, a.Unit, decimals), e.Kind == account.Opening || e.Kind == account.Closing, e.Kind == account.Addition || e.Kind == account.Reduction)
	}
	for _, r := range model.Rest(x) {
		cells := make([]string, len(a.Classes)+1)
		cells[len(a.Classes)] = text.Number(r.M2/a.Unit.M2, decimals)
		g.add(r.What, cells, false, true)
	}
	return g
}

// entryCells are the numbers of an entry, with signs where they are changes.
func entryCells(e account.Entry, unit area.Unit, decimals int) []string {
	var out []string
	for _, v := range append(slices.Clone(e.Values), e.Total) {
		switch v /= unit.M2; {
		case e.Kind == account.Opening || e.Kind == account.Closing:
			out = append(out, text.Number(v, decimals))
		case strings.Trim(text.Number(v, decimals), "0.−") == "": // also what rounding leaves of a total that is nothing
			out = append(out, "·")
		case e.Kind == account.Reduction || e.Kind == account.Reductions:
			out = append(out, text.Signed(-v, decimals))
		default:
			out = append(out, text.Signed(v, decimals))
		}
	}
	return out
}

// paintClasses draws the composition of zones at each epoch. Percentages are rounded to sum to 100 with a number of decimals, unless that
// is negative.
func paintClasses(c *canvas, e *account.Extents, t *job.Terms, round int) error {
	most := 0.0
	for rows := range e.Composition() {
		for _, r := range rows {
			most = math.Max(most, r.M2/t.Unit.M2)
		}
	}
	decimals := text.Decimals(most)
	for i, epoch := range e.Epochs {
		if i > 0 {
			c.line()
		}
		c.line(c.bold(strings.TrimSpace("Composition "+epoch) + " in " + t.Unit.Label + " of true ground, percent of the zone beneath"))
		c.line()
		g := c.classGrid(e.Classes, t.Legend, "zone")
		g.head = g.head[:len(e.Classes)]
		for of := range e.Composition() {
			if of[0].Epoch != epoch {
				continue
			}
			if round >= 0 {
				account.RoundRows(of, round)
			}
			var areas, shares []string
			for _, r := range of {
				areas = append(areas, text.Number(r.M2/t.Unit.M2, decimals))
				shares = append(shares, fmt.Sprintf("%s %% #%d", text.Number(r.PctOfZone, 1), r.Rank))
			}
			g.add(title(of[0].Zone), areas, of[0].Zone == account.AllZones, false)
			g.add("", shares, false, true)
		}
		g.paint()
	}
	c.line()
	c.line(c.dim("# is the rank of a class in its zone, by area."))
	return c.flush()
}

// paintRanks draws zones by the extent of a class.
func paintRanks(c *canvas, a *job.Compositions) error {
	var g *grid
	most := 0.0
	for i, r := range a.Ranks {
		if i == 0 || r.Epoch != a.Ranks[i-1].Epoch {
			if g != nil {
				g.paint()
				c.line()
			}
			most = r.M2 / a.Unit.M2
			c.line(c.bold(strings.TrimSpace(a.Rank.Label()+" "+r.Epoch) + " by zone, in " + a.Unit.Label))
			g = &grid{c: c, name: "zone", head: []string{a.Unit.Name, "% of the zone", "% of the class"}}
		}
		g.add(fmt.Sprintf("%d. %s", r.Place, title(r.Zone)), []string{text.Number(r.M2/a.Unit.M2, text.Decimals(most)), text.Number(r.PctOfZone, 1), text.Number(r.PctOfClass, 1)}, false, false)
	}
	if g != nil {
		g.paint()
	}
	return c.flush()
}

// paintSquares draws from which class (rows) the ground of each zone moved to which (columns). whole, when not nil, says which pairs of epochs
// span others.
func paintSquares(c *canvas, squares iter.Seq[*model.Square], t *job.Terms, whole func(pair [2]string) bool) error {
	var pair [2]string
	for s := range squares {
		if s.Pair != pair {
			what := fmt.Sprintf("Transitions %s (rows) to %s (columns) in %s of true ground", s.Pair[0], s.Pair[1], t.Unit.Label)
			if whole != nil && whole(s.Pair) {
				what += " (in all)"
			}
			if pair != [2]string{} {
				c.line()
			}
			c.line(c.bold(what))
			pair = s.Pair
		}
		c.line()
		paintSquare(c, s, t)
	}
	return c.flush()
}

func paintSquare(c *canvas, s *model.Square, t *job.Terms) {
	shown := s.Shown()
	if len(shown) == 0 {
		c.line(c.bold(title(s.Zone)), c.dim("  no such transition"))
		return
	}
	most := 0.0
	for _, v := range s.Cells {
		most = math.Max(most, v)
	}
	decimals := text.Decimals(most)
	g := &grid{c: c, name: title(s.Zone)}
	marks := c.swatches(s.Classes, t.Legend)
	for _, i := range shown {
		g.head = append(g.head, s.Label(i))
		if i < len(marks) {
			g.keys = append(g.keys, marks[i])
		}
	}
	g.head = append(g.head, s.Pair[0])
	for _, i := range shown {
		var texts []string
		for _, j := range shown {
			v := text.Number(s.At(i, j), decimals)
			if s.At(i, j) == 0 {
				v = "·"
			}
			texts = append(texts, v)
		}
		g.add(s.Label(i), append(texts, text.Number(s.Row(i), decimals)), false, false)
	}
	var texts []string
	for _, j := range shown {
		texts = append(texts, text.Number(s.Column(j), decimals))
	}
	g.add(s.Pair[1], append(texts, text.Number(s.Total(), decimals)), true, false)
	g.paint()
}

// paintFlows draws how much ground each process moved.
func paintFlows(c *canvas, a *job.FlowAccounts) error {
	most := 0.0
	for _, r := range a.Rows {
		most = math.Max(most, r.M2/a.Unit.M2)
	}
	decimals := text.Decimals(most)
	var pair [2]string
	for of := range a.Zones() {
		if of[0].Pair != pair {
			if pair != [2]string{} {
				c.line()
			}
			pair = of[0].Pair
			c.line(c.bold(fmt.Sprintf("Flows %s to %s in %s of true ground", pair[0], pair[1], a.Unit.Label)))
		}
		g := &grid{c: c, name: title(of[0].Zone), head: []string{a.Unit.Name, "% of mapped", "% of changed"}}
		for _, r := range of {
			name := r.Flow.Name
			if r.Flow.Managed != "" {
				name += " (" + r.Flow.Managed + ")"
			}
			g.add(name, []string{text.Number(r.M2/a.Unit.M2, decimals), text.Number(r.PctOfMapped, 2), text.Number(r.PctOfChanged, 1)}, false, r.Flow.Name == account.NoChange)
		}
		c.line()
		g.paint()
	}
	return c.flush()
}

// paintSeries draws the extents of each zone over the epochs.
func paintSeries(c *canvas, e *account.Extents, t *job.Terms) error {
	most, n := 0.0, len(e.Epochs)
	for r := range e.Series() {
		most = math.Max(most, r.M2/t.Unit.M2)
	}
	decimals := text.Decimals(most)
	c.line(c.bold(fmt.Sprintf("Extents %s to %s in %s of true ground", e.Epochs[0], e.Epochs[n-1], t.Unit.Label)))
	marks := c.swatches(e.Classes, t.Legend)
	at := map[cover.Named]int{}
	for i, k := range e.Classes {
		at[k] = i
	}
	epochs := map[string]int{}
	var head []string
	for i, epoch := range e.Epochs {
		epochs[epoch] = i
		head = append(head, epoch)
		if i > 0 {
			head = append(head, "since "+e.Epochs[i-1])
		}
	}
	head = append(head, "% since "+e.Epochs[0], "% a year")
	columns, line := len(head), c.drawn && n > 2 // a sparkline of what is at the epochs
	if line {
		head = append(head, "")
	}
	var g *grid
	var zone, class cover.Named
	var cells []string
	values := make([]float64, n)
	flush := func() {
		if cells != nil {
			if line {
				cells[columns] = sparkline(values)
			}
			g.add(marks[at[class]]+" "+class.Label(), cells, false, false)
		}
		cells = nil
	}
	for r := range e.Series() {
		if g == nil || r.Zone != zone {
			if flush(); g != nil {
				g.paint()
				if err := c.flush(); err != nil {
					return err
				}
			}
			zone, g = r.Zone, &grid{c: c, name: title(r.Zone), head: head}
			c.line()
		}
		if cells == nil || r.Class != class {
			flush()
			class, cells = r.Class, make([]string, len(head))
			for i := range values {
				values[i] = math.NaN()
			}
		}
		i := epochs[r.Epoch]
		values[i] = r.M2
		cells[max(0, 2*i-1)] = text.Number(r.M2/t.Unit.M2, decimals)
		if i > 0 {
			cells[2*i] = c.arrow(r.SincePrevious/t.Unit.M2, decimals)
		}
		cells[columns-2], cells[columns-1] = text.Signed(r.PctSinceFirst, 1), text.Signed(r.PctPerYearSinceFirst, 2)
	}
	if flush(); g != nil {
		g.paint()
	}
	return c.flush()
}

// accuracyTitle is the line above what is drawn of an accuracy.
func accuracyTitle(c *canvas, a *job.Assessed) (samples int) {
	for _, k := range a.Samples {
		samples += k
	}
	c.line(c.bold(fmt.Sprintf("Accuracy of the map from %s: %.1f ± %.1f %% of the area is right", text.Count(samples, "sample"), a.Overall.Value*100, a.Overall.Half*100)))
	c.line()
	return samples
}

// paintErrorMatrix draws the error matrix in proportions of the area.
func paintErrorMatrix(c *canvas, a *job.Assessed) error {
	samples := accuracyTitle(c, a)
	marks := c.swatches(a.Classes, a.Legend)
	g := c.classGrid(a.Classes, a.Legend, "map (rows), reference (columns)")
	g.head = append(g.head, "samples")
	columns := make([]float64, len(a.Classes)+1)
	for i, k := range a.Classes {
		var texts []string
		total := 0.0
		for j, p := range a.Proportions[i] {
			total += p
			columns[j] += p
			cell := fmt.Sprintf("%.4f", p)
			if p == 0 {
				cell = "·"
			}
			texts = append(texts, cell)
		}
		columns[len(a.Classes)] += total
		g.add(marks[i]+" "+k.Label(), append(texts, fmt.Sprintf("%.4f", total), strconv.Itoa(a.Samples[i])), false, false)
	}
	var texts []string
	for _, v := range columns {
		texts = append(texts, fmt.Sprintf("%.4f", v))
	}
	g.add("reference", append(texts, strconv.Itoa(samples)), true, false)
	g.paint()
	c.line()
	c.line(c.dim("Proportions of the area of the map."))
	return c.flush()
}

// paintAccuracy draws the accuracy and the extents of each class.
func paintAccuracy(c *canvas, a *job.Assessed) error {
	accuracyTitle(c, a)
	marks := c.swatches(a.Classes, a.Legend)
	most, m2 := 0.0, a.Unit.M2
	for i := range a.Mapped {
		most = math.Max(most, math.Max(a.Mapped[i], a.Adjusted[i].Value)/m2)
	}
	decimals := text.Decimals(most)
	g := &grid{c: c, name: "class", head: []string{"samples", "user's %", "± %", "producer's %", "± %", "mapped " + a.Unit.Name, "adjusted " + a.Unit.Name, "± " + a.Unit.Name}}
	pct := func(v float64) string { return text.Number(v*100, 1) }
	for i, k := range a.Classes {
		if a.Samples[i] == 0 && a.Adjusted[i].Value == 0 {
			continue
		}
		g.add(marks[i]+" "+k.Label(), []string{strconv.Itoa(a.Samples[i]), pct(a.Users[i].Value), pct(a.Users[i].Half), pct(a.Producers[i].Value), pct(a.Producers[i].Half),
			text.Number(a.Mapped[i]/m2, decimals), text.Number(a.Adjusted[i].Value/m2, decimals), text.Number(a.Adjusted[i].Half/m2, decimals)}, false, false)
	}
	g.paint()
	c.line()
	c.line(c.dim("User's: how much of what is mapped as the class is that class. Producer's: how much of the class is mapped as it. ± is half a 95 % interval."))
	return c.flush()
}
