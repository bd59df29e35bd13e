package cli

import (
	"fmt"
	"math"
	"slices"

	"github.com/verdex-land/verdex/core/account"
	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/job"
	"github.com/verdex-land/verdex/core/text"
)

// paintRemaining draws the account of each zone for the last year, and what was converted in every year.
func paintRemaining(c *canvas, a *job.RemainingAccount) error {
	most := 0.0
	for _, r := range a.Rows {
		most = math.Max(most, r.Closing/a.Unit.M2)
	}
	number := func(m2 float64) string { return text.Number(m2/a.Unit.M2, text.Decimals(most)) }
	last := a.Rows[len(a.Rows)-1].Year
	var origins []int // the categories that something was converted from
	for k := range cover.Categories {
		if slices.ContainsFunc(a.Rows, func(r account.RemainingRow) bool { return r.Year == last && r.From != nil && r.From[k] > 0 }) {
			origins = append(origins, k)
		}
	}
	c.line(c.bold(fmt.Sprintf("Land remaining in its category at the end of %d, and converted to it within %g years, in %s of true ground", last, a.Years, a.Unit.Label)))
	for of := range a.Zones() {
		if of[0].Year != last {
			continue
		}
		g := &grid{c: c, name: title(of[0].Zone), head: []string{fmt.Sprint("end of ", last-1), "additions", "reductions", fmt.Sprint("end of ", last), "remaining", "converted"}}
		for _, k := range origins {
			g.head = append(g.head, "from "+cover.Categories[k])
		}
		sums := make([]float64, 6+len(origins))
		for _, r := range of {
			if r.From == nil {
				g.add(r.Category, []string{"", "", "", number(r.Closing)}, false, true)
				continue
			}
			values := []float64{r.Opening, r.Additions, r.Reductions, r.Closing, r.Remaining, r.Converted}
			for _, k := range origins {
				values = append(values, r.From[k])
			}
			var cells []string
			for i, v := range values {
				sums[i] += v
				if cells = append(cells, number(v)); i >= 6 && v == 0 {
					cells[i] = "·"
				}
			}
			g.add(r.Category, cells, false, false)
		}
		var cells []string
		for _, v := range sums {
			cells = append(cells, number(v))
		}
		g.add("all categories", cells, true, false)
		c.line()
		g.paint()
	}
	c.line()
	c.line(c.dim(fmt.Sprintf("Files have every year from %d on: --out remaining.csv", a.Rows[0].Year)))
	return c.flush()
}
