package cli

import (
	"fmt"
	"iter"
	"math"
	"slices"
	"strconv"

	"github.com/mattn/go-runewidth"

	"github.com/verdex-land/verdex/core/change"
	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/job"
	"github.com/verdex-land/verdex/core/tally"
	"github.com/verdex-land/verdex/core/text"
	"github.com/verdex-land/verdex/internal/model"
)

// shownHistories is how many histories of a zone are drawn where nothing says how many.
const shownHistories = 12

// paintHistories draws for each zone its histories, the largest first, and how much ground there is of each course.
func paintHistories(c *canvas, h *change.Histories, top int) error {
	if top == 0 {
		top = shownHistories
	}
	c.line(c.bold(fmt.Sprintf("Histories %s to %s over %s in %s of true ground, %s", h.Epochs[0], h.Epochs[len(h.Epochs)-1], text.Count(len(h.Epochs), "epoch"), h.Unit.Label, text.Count(len(h.Zones), "zone"))))
	for i := range h.Zones {
		z := &h.Zones[i]
		whole, most := z.Outside, 0.0
		var courses [change.NeverMapped + 1]tally.Extent
		for k := range z.List {
			a := h.Area(z.List[k].Extent)
			whole += a
			most = max(most, a)
			courses[z.List[k].Course()].Add(z.List[k].Extent)
		}
		rare := 0
		var grouped tally.Extent
		for course, r := range z.Rare {
			rare += r.Histories
			grouped.Add(r.Extent)
			courses[course].Add(r.Extent)
		}
		whole += h.Area(grouped)
		decimals := text.Decimals(most)
		number := max(8, runewidth.StringWidth(text.Number(most, decimals))+2)
		percent := func(a float64) string { return right(text.Number(a/whole*100, 1), 7) + " %" }
		c.line()
		c.line(c.bold(title(cover.Named{ID: z.ID, Name: z.Name})))
		var others tally.Extent
		for k := range z.List {
			x := &z.List[k]
			if k >= top {
				others.Add(x.Extent)
				continue
			}
			a := h.Area(x.Extent)
			c.line("  ", c.historyMarks(h, x), right(text.Number(a, decimals), number), percent(a), "  ", historyPath(h, x), c.dim("  "+x.Course().String()))
		}
		pad := left("", 2*len(h.Epochs)+1)
		if n := len(z.List) - top; n > 0 {
			a := h.Area(others)
			c.line("  ", pad, right(text.Number(a, decimals), number), percent(a), "  ", text.Count(n, "other history"))
		}
		if rare > 0 {
			a := h.Area(grouped)
			c.line("  ", pad, right(text.Number(a, decimals), number), percent(a), "  ", text.Count(rare, "rare history"))
		}
		if z.Outside > 0 {
			c.line("  ", pad, right(text.Number(z.Outside, decimals), number), percent(z.Outside), "  outside the rasters")
		}
		for course, e := range courses {
			if !e.IsZero() {
				a := h.Area(e)
				c.line(c.dim("  "), pad, c.dim(right(text.Number(a, decimals), number)+percent(a)+"  in all "+change.Course(course).String()))
			}
		}
	}
	return c.flush()
}

// historyMarks shows the colours of a history, two columns for each epoch and one behind them.
func (c *canvas) historyMarks(h *change.Histories, x *change.History) (out string) {
	for _, code := range x.Codes {
		class, ok := h.Legend.Find(int(code))
		switch {
		case code == change.Unmapped || !ok:
			out += c.dim("· ")
		case c.color:
			out += c.swatch(class.Color, 0)
		default:
			out += left(runewidth.Truncate(strconv.Itoa(int(code)), 2, ""), 2)
		}
	}
	return out + " "
}

// historyPath says what a history went through: its classes, each but the first with the epoch that has it first.
func historyPath(h *change.Histories, x *change.History) string {
	out := ""
	for e, code := range x.Codes {
		if e > 0 && code == x.Codes[e-1] {
			continue
		}
		name := "not mapped"
		if class, ok := h.Legend.Find(int(code)); ok && code != change.Unmapped {
			name = class.Name
		}
		if e > 0 {
			out += " › "
			name += " " + h.Epochs[e]
		}
		out += name
	}
	return out
}

// paintSince draws for each zone how long the ground of each class has been that class: its area by the epoch since which it has.
func paintSince(c *canvas, r *job.Changed) error {
	h := r.Traced
	last := len(h.Epochs) - 1
	c.line(c.bold(fmt.Sprintf("Since when the ground of %s is what it is, in %s of true ground, %s", h.Epochs[last], h.Unit.Label, text.Count(len(h.Zones), "zone"))))
	names, width := classNames(h.Legend, 10, 28)
	marks := letters(names)
	var row []any
	next, stop := iter.Pull(model.SinceOf(h).Rows)
	defer stop()
	row, ok := next()
	for i := range h.Zones {
		z := &h.Zones[i]
		c.line()
		c.line(c.bold(title(cover.Named{ID: z.ID, Name: z.Name})))
		head := left("", width+6)
		for _, since := range job.EpochClasses(h.Epochs) {
			head += right(since.Name, 14)
		}
		c.line(c.dim(head + right("mean years", 12)))
		for j, class := range h.Legend.Classes {
			if !ok || row[0] != z.ID || row[3] != class.ID() {
				continue
			}
			areas, years := make([]string, last+1), math.NaN()
			for ok && row[0] == z.ID && row[3] == class.ID() {
				e := slices.Index(h.Epochs, row[5].(string))
				areas[e] = text.Number(row[7].(float64), 1)
				years = row[10].(float64)
				row, ok = next()
			}
			line := "  " + c.swatch(class.Color, marks[j]) + " " + left(class.Name, width+1)
			for _, a := range areas {
				line += right(a, 14)
			}
			mean := ""
			if !math.IsNaN(years) {
				mean = text.Number(years, 1)
			}
			c.line(line + right(mean, 12))
		}
	}
	return c.flush()
}

// paintFlicker draws for each zone what changes its class and has its old one back.
func paintFlicker(c *canvas, r *job.Changed) error {
	for n, f := range r.Flips {
		if n > 0 {
			c.line()
		}
		c.line(c.bold(fmt.Sprintf("What is of another class in %s, and in %s again what it was in %s, in %s of true ground", f.Epochs[1], f.Epochs[2], f.Epochs[0], r.Unit.Label)))
		for i, list := range f.Pairs {
			z := &r.Pairs[0].Zones[i]
			g := &grid{c: c, name: title(cover.Named{ID: z.ID, Name: z.Name}), head: []string{r.Unit.Name, "% of changed"}}
			if r.Errors {
				g.head = append(g.head, "errors make", "unexplained")
			}
			most := 0.0
			for _, p := range list {
				most = max(most, p.Area)
			}
			cells := func(area, expected, unexplained float64) []string {
				d := text.Decimals(most)
				out := []string{text.Number(area, d), text.Number(area/f.Changed[i]*100, 1)}
				if r.Errors {
					out = append(out, text.Number(expected, d), text.Number(unexplained, d))
				}
				return out
			}
			sum, expected, unexplained := 0.0, 0.0, 0.0
			for _, p := range list {
				a, b := r.Legend.Classes[p.Class].Name, r.Legend.Classes[p.Between].Name
				if sum, unexplained = sum+p.Area, unexplained+p.Unexplained(); !math.IsNaN(p.Expected) {
					expected += p.Expected
				}
				g.add(a+" › "+b+" › "+a, cells(p.Area, p.Expected, p.Unexplained()), false, false)
			}
			c.line()
			if len(list) == 0 {
				c.line(c.bold(g.name), c.dim("  nothing"))
				continue
			}
			g.add("in all", cells(sum, expected, unexplained), true, false)
			g.paint()
		}
	}
	return c.flush()
}
