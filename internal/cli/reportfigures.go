package cli

import (
	"bytes"
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"

	"github.com/verdex-land/verdex/core/account"
	"github.com/verdex-land/verdex/core/change"
	"github.com/verdex-land/verdex/core/check"
	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/job"
	"github.com/verdex-land/verdex/core/text"
	"github.com/verdex-land/verdex/internal/draw"
	"github.com/verdex-land/verdex/internal/report"
)

// account is what became of each class between the first and the last epoch.
func (b *reportBuilder) account(m moved) {
	for k := range b.classes {
		x := report.Balance{Class: k}
		for o := range b.classes {
			x.Opening += m.cells[k][o]
			x.Closing += m.cells[o][k]
			if o != k {
				x.Reductions += m.cells[k][o]
				x.Additions += m.cells[o][k]
			}
		}
		if x.Opening == 0 && x.Closing == 0 {
			continue
		}
		x.Net = x.Additions - x.Reductions
		x.Pct = x.Net / x.Opening * 100
		b.out.Account = append(b.out.Account, x)
	}
}

// totals are the extents of classes in all zones at an epoch; NaN where a zone was not measured.
func (b *reportBuilder) totals(n int) []float64 {
	out := make([]float64, len(b.classes))
	for _, z := range b.out.Zones {
		for k, v := range z.Extents[n] {
			out[k] += v
		}
	}
	return out
}

// sentences are the headline figures.
func (b *reportBuilder) sentences() {
	r := b.out
	say := func(link, format string, args ...any) {
		r.Sentences = append(r.Sentences, report.Sentence{Text: fmt.Sprintf(format, args...), Link: link})
	}
	last := b.totals(len(r.Epochs) - 1)
	whole, most := 0.0, -1
	for k, v := range last {
		if whole += v; most < 0 || v > last[most] {
			most = k
		}
	}
	at := ""
	if e := r.Epochs[len(r.Epochs)-1]; e != "" {
		at = " in " + e
	}
	if whole > 0 {
		say("extents", "%s is the largest class%s: %s %s, %s %% of the classified ground.", r.Classes[most].Name, at, text.Number(last[most], 0), r.Unit, text.Number(last[most]/whole*100, 1))
	}
	var changed, mapped float64
	for _, x := range r.Account {
		changed, mapped = changed+x.Additions, mapped+x.Opening
	}
	if mapped > 0 {
		say("change", "%s %s, %s %% of the ground that both epochs map, changed its class from %s to %s.", text.Number(changed, 0), r.Unit, text.Number(changed/mapped*100, 1), r.Epochs[0], r.Epochs[len(r.Epochs)-1])
	}
	order := slices.Clone(r.Account)
	slices.SortStableFunc(order, func(x, y report.Balance) int { return cmp.Compare(y.Net, x.Net) })
	of := func(x report.Balance) string {
		if x.Opening > 0 {
			return fmt.Sprintf(", %s %% of what it was", text.Signed(x.Pct, 1))
		}
		return ""
	}
	if n := len(order); n > 0 && order[0].Net > 0 {
		say("change", "%s gained most: %s %s%s.", r.Classes[order[0].Class].Name, text.Signed(order[0].Net, 0), r.Unit, of(order[0]))
		if x := order[n-1]; x.Net < 0 {
			say("change", "%s lost most: %s %s%s.", r.Classes[x.Class].Name, text.Signed(x.Net, 0), r.Unit, of(x))
		}
	}
	if a := r.Accuracy; a != nil {
		say("accuracy", "%s", a.Overall)
	}
	held, fell := 0, 0
	for _, c := range r.Checks {
		if c.Outcome == check.Holds.String() {
			held++
		} else if c.Outcome == check.FallsShort.String() {
			fell++
		}
	}
	if fell == 0 {
		say("checks", "All %s that were made hold.", text.Count(held, "check"))
	} else {
		say("checks", "%s hold, and %d fell short.", text.Count(held, "check"), fell)
	}
}

// figureWidth is how wide the drawings of a page are.
const figureWidth = 1100

// figure adds a drawing.
func (b *reportBuilder) figure(part, id, title, alt, format string, f draw.Figure, height float64) error {
	var data bytes.Buffer
	notes, err := draw.Write(&data, format, f, draw.Options{Width: figureWidth, Height: height, Title: "-"})
	if err != nil {
		return err
	}
	for _, n := range notes {
		if !slices.Contains(b.said.notes, n) {
			b.Note(n)
			b.maker.Note(n)
		}
	}
	kind := map[string]string{"svg": "image/svg+xml", "png": "image/png"}[format]
	b.out.Figures = append(b.out.Figures, report.Figure{Part: part, ID: id, Title: title, Alt: alt, Type: kind, Data: data.Bytes()})
	return nil
}

// figures draws the composition of the zones, the trend, the matrix and the flows.
func (b *reportBuilder) figures() error {
	r, n := b.out, len(b.out.Epochs)
	bars := &draw.BarsFigure{Keys: b.keys, Share: true, Unit: r.Unit}
	for i, z := range r.Zones {
		if i == 40 { // the table has them all
			break
		}
		bars.Names, bars.Parts = append(bars.Names, z.Label()), append(bars.Parts, z.Extents[n-1])
	}
	title := strings.TrimSpace("Composition of the zones " + r.Epochs[n-1])
	if len(r.Zones) > 40 {
		title += ", the first 40"
	}
	height := math.Max(260, math.Min(900, 90+34*float64(len(bars.Names))))
	if err := b.figure("extents", "composition", title, title+": a bar for each zone, divided by the shares of its classes. The table below has the numbers.", "svg", bars, height); err != nil {
		return err
	}
	if n < 2 {
		return nil
	}
	trend := &draw.TrendFigure{Labels: r.Epochs, Times: timesOf(r.Epochs), Unit: r.Unit}
	for _, key := range b.keys {
		trend.Lines = append(trend.Lines, draw.Line{Key: key})
	}
	for e := range r.Epochs {
		for k, v := range b.totals(e) {
			trend.Lines[k].Values = append(trend.Lines[k].Values, v)
		}
	}
	if err := b.figure("extents", "trend", "Extents over time, all zones together, on all ground that each epoch maps", "A line for each class through its extents at "+strings.Join(r.Epochs, ", ")+". The tables of the zones have the numbers.", "svg", trend, 520); err != nil {
		return err
	}
	var flows draw.FlowsFigure
	flows.Keys, flows.Unit = b.keys, r.Unit
	for _, m := range b.moves {
		if m.whole {
			matrix := &draw.MatrixFigure{From: m.from, To: m.to, Keys: b.keys, Cells: m.cells, Unit: r.Unit}
			what := fmt.Sprintf("From what to what, %s to %s, in %s", m.from, m.to, r.UnitLabel)
			if err := b.figure("change", "matrix", what, what+": a row for each class of "+m.from+", a column for each class of "+m.to+"; what stayed is outlined.", "svg", matrix, math.Max(320, 130+46*float64(len(b.classes)))); err != nil {
				return err
			}
		}
		if !m.whole || len(b.moves) == 1 {
			if len(flows.Epochs) == 0 {
				flows.Epochs = append(flows.Epochs, m.from)
			}
			flows.Epochs, flows.Moves = append(flows.Epochs, m.to), append(flows.Moves, m.cells)
		}
	}
	if len(flows.Moves) == 0 {
		return nil
	}
	if err := b.figure("change", "flows", "What went where, "+strings.Join(flows.Epochs, ", "), "Bands between the classes of epochs that follow one another, as wide as the ground that went from one to the other. The matrix has the numbers.", "svg", &flows, 620); err != nil {
		return err
	}
	return b.histories()
}

// histories draws what each piece of ground went through, and since when it is what it is.
func (b *reportBuilder) histories() error {
	if b.traced == nil || len(b.traced.Epochs) < 3 {
		return nil
	}
	h := b.traced
	list := tracedIn(h)
	epochs := strings.Join(h.Epochs, ", ")
	if err := b.figure("change", "histories", "What each piece of ground went through, "+epochs, "Bands through all epochs, as wide as the ground that has one history, in the colour of its course.", "svg",
		bandsOf(h.Epochs, b.classes, b.keys, list, 1, b.out.Unit), 660); err != nil {
		return err
	}
	return b.figure("change", "since", "Since when the ground of "+h.Epochs[len(h.Epochs)-1]+" is what it is", "A bar for each class, divided by the epochs since which its ground has been that class.", "svg",
		sinceBars(h.Epochs, b.classes, list, 1, b.out.Unit), 90+50*float64(len(b.classes)))
}

// tracedIn are the histories of all zones together, in the unit that they were traced in.
func tracedIn(h *change.Histories) []account.History {
	all := &account.Histories{}
	for i := range h.Zones {
		all.Zones = append(all.Zones, cover.Named{ID: h.Zones[i].ID})
		for k := range h.Zones[i].List {
			x := &h.Zones[i].List[k]
			one := account.History{Zone: i, M2: h.Area(x.Extent)}
			for _, code := range x.Codes {
				id := ""
				if class, ok := h.Legend.Find(int(code)); ok && code != change.Unmapped {
					id = class.ID()
				}
				one.Codes = append(one.Codes, id)
			}
			all.List = append(all.List, one)
		}
	}
	list, _ := historiesIn(all, "") // fails for a zone only
	return list
}

// drawDifference draws where the ground changed; whole when no zones are named.
func (b *reportBuilder) drawDifference(r *job.Changed, whole bool) error {
	const height = 760
	f, err := b.differenceOf(r, whole, nil, draw.Options{Width: figureWidth, Height: height, Title: "-"})
	if err != nil {
		return err
	}
	what := fmt.Sprintf("Where the ground changed, %s to %s", r.Epochs[0], r.Epochs[len(r.Epochs)-1])
	return b.figure("change", "difference", what, what+": in the colour of the class that it became. The tables below have the numbers.", "png", f, height)
}
