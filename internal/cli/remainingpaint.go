package cli

import (
	"fmt"
	"math"
	"slices"
	"strings"

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
	c.line(c.bold(fmt.Sprintf("Land remaining in its category at the end of %d, and converted to it within %g years, in %s of true ground", last, a.Years, a.Unit.Label)))
	for of := range a.Zones() {
		if of[0].Year != last {
			continue
		}
		g := &grid{c: c, name: title(of[0].Zone), head: []string{fmt.Sprint("end of ", last-1), "additions", "reductions", fmt.Sprint("end of ", last), "remaining", "converted", "from"}}
		var sum [6]float64
		for _, r := range of {
			if r.From == nil {
				g.add(r.Category, []string{"", "", "", number(r.Closing), "", "", ""}, false, true)
				continue
			}
			for i, v := range []float64{r.Opening, r.Additions, r.Reductions, r.Closing, r.Remaining, r.Converted} {
				sum[i] += v
			}
			g.add(r.Category, []string{number(r.Opening), number(r.Additions), number(r.Reductions), number(r.Closing), number(r.Remaining), number(r.Converted), origins(r.From, number)}, false, false)
		}
		g.add("all categories", []string{number(sum[0]), number(sum[1]), number(sum[2]), number(sum[3]), number(sum[4]), number(sum[5]), ""}, true, false)
		c.line()
		g.paint()
	}
	first := a.Rows[0].Year
	c.line()
	c.line(c.dim(fmt.Sprintf("Every year from %d on is in the files: --out remaining.csv", first)))
	return c.flush()
}

// origins lists where land was converted from, the largest first.
func origins(from []float64, number func(m2 float64) string) string {
	var at []int
	for k, v := range from {
		if v > 0 {
			at = append(at, k)
		}
	}
	slices.SortStableFunc(at, func(a, b int) int {
		if from[a] > from[b] {
			return -1
		}
		return 1
	})
	var out []string
	for _, k := range at {
		out = append(out, cover.Categories[k]+" "+number(from[k]))
	}
	return strings.Join(out, ", ")
}
