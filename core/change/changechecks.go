package change

import (
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"

	"github.com/verdex-land/verdex/core/area"
	"github.com/verdex-land/verdex/core/check"
	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/text"
)

// Check checks changes.
func (c *Changes) Check(b check.Bounds) []check.Check {
	var balance, outline, inside, nodata, unlisted, flicker, speckle []check.Finding
	pairs := check.Pairs{Bounds: b}
	for _, p := range c.Pairs {
		between := p.Epochs[0] + "–" + p.Epochs[1]
		for i := range p.Zones {
			z := &p.Zones[i]
			for _, x := range p.Balances(z) {
				got := x.Opening
				got.Add(x.Additions)
				if !got.Minus(x.Reductions).Same(x.Closing) {
					balance = append(balance, pairs.At(between, z.ID, 0, "%s", x.Class.Name))
				}
				if !p.Whole {
					pairs.Class(between, z.ID, cover.Named{ID: x.Class.ID(), Name: x.Class.Name}, !x.Opening.IsZero(), !x.Closing.IsZero(), x.NetArea)
				}
			}
			if p.Whole {
				continue
			}
			if d := area.Percent(z.Mapped+z.OnlyFirst+z.OnlySecond+z.Neither+z.Outside-z.Area, z.Area); math.Abs(d) > 1e-5 {
				outline = append(outline, pairs.At(between, z.ID, d, "%.3g %%", d))
			}
			if v := area.Percent(z.Outside, z.Area); v > b["inside"] && p == c.Pairs[0] {
				inside = append(inside, pairs.At(between, z.ID, v, "%.3g %%", v))
			}
			if v := 100 - area.Percent(z.Mapped, z.Area); v > b["nodata"] {
				nodata = append(nodata, pairs.At(between, z.ID, v, "%.3g %% (%s)", v, between))
			}
			pairs.Ground(between, z.ID, z.OnlyFirst, z.OnlySecond, z.Area)
			if !math.IsNaN(p.Years) {
				pairs.Rate(between, z.ID, "", z.Rate(p.Years))
			}
		}
	}
	for e, of := range c.Unlisted {
		for _, v := range slices.Sorted(maps.Keys(of)) {
			unlisted = append(unlisted, check.Finding{Epoch: c.Epochs[e], Class: fmt.Sprint(v), Value: of[v], Text: fmt.Sprintf("%v in %s (%.4g %s)", v, c.Epochs[e], of[v], c.Unit.Name)})
		}
	}
	looked := false
	for _, f := range c.Flips {
		between := strings.Join(f.Epochs[:], "–")
		for i, changed := range f.Changed {
			z := c.Pairs[0].Zones[i].ID
			if f.Lone != nil {
				looked = true
				if v := area.Percent(f.Lone[i], changed); v > b["speckle"] {
					speckle = append(speckle, pairs.At(between, z, v, "%.1f %% of what changed by %s", v, f.Epochs[1]))
				}
			}
			unexplained, most := 0.0, FlipPair{}
			for _, p := range f.Pairs[i] {
				if unexplained += p.Unexplained(); p.Unexplained() > most.Unexplained() {
					most = p
				}
			}
			if v := area.Percent(unexplained, changed); v > b["flicker"] {
				what := "%.1f %% of what changed by %s is back by %s, most of it %s (%.4g %s)"
				if c.Errors {
					what = "%.1f %% of what changed by %s is back by %s and more than errors of the maps make, most of it %s (%.4g %s)"
				}
				class := func(at int32) string { return c.Legend.Classes[at].Name }
				flicker = append(flicker, pairs.At(between, z, v, what, v, f.Epochs[1], f.Epochs[2], class(most.Class)+" › "+class(most.Between)+" › "+class(most.Class), most.Unexplained(), c.Unit.Name))
			}
		}
	}
	mapped, extents, pace, vanish := pairs.Checks("change", check.NoDates)
	holds, short := "little of what changes goes back to what it was", "much of what changes goes back to what it was, as errors of maps do"
	if c.Errors {
		holds, short = "little of what changes goes back to what it was but for what errors of the maps make", "much of what changes goes back to what it was, and errors of the maps do not explain it"
	}
	flickers := check.Judge("flicker", holds, short, flicker)
	speckles := check.Judge("speckle", "single cells that change and go back are few", "single cells change and go back, as errors of maps do", speckle)
	if !looked {
		speckles = check.Skipped("speckle")
	}
	if c.Steady > 0 {
		speckles.Text = "what changes for fewer epochs than are wanted is mended"
	}
	if len(c.Flips) == 0 {
		for _, k := range []*check.Check{&flickers, &speckles} {
			k.Outcome, k.Text = check.NotMade, "it takes three epochs"
		}
	}
	all := []check.Check{
		check.Judge("balance", "opening + additions − reductions = closing for every class, to the last unit", "classes do not balance", balance),
		check.Judge("outline", "mapped and unmapped ground of each zone make the area of its outline", "the ground of zones differs from the area of the outline", outline),
		check.Judge("inside", "every zone lies in the rasters", "zones lie partly outside the rasters", inside),
		mapped, extents, pace, vanish, flickers, speckles,
		check.Judge("nodata", fmt.Sprintf("at least %g %% of every zone is mapped by both epochs", 100-b["nodata"]), "zones of which both epochs map little", nodata),
		check.Judge("unlisted", "every value is in the legend", "values that are not in the legend and so not mapped", unlisted),
	}
	if c.Steady > 0 {
		mended, share := c.MendedShare()
		all = append(all, check.Check{Name: "steady", Text: fmt.Sprintf("%.4g %s (%.3g %% of what the first two epochs map) had a class for fewer than %s between epochs of another one, and are taken for that one",
			mended, c.Unit.Name, share, text.Count(c.Steady, "epoch"))})
	}
	return all
}

// Extents are those of the classes at each epoch, whether other epochs map the ground or not.
func (c *Changes) Extents() (out []check.Mapped) {
	for k, p := range c.Pairs {
		if p.Whole {
			continue
		}
		for _, z := range p.Zones {
			for e := range 2 {
				if e == 1 && k+1 < len(c.Pairs) && !c.Pairs[k+1].Whole {
					continue // the next pair reports it
				}
				sums := make([]float64, len(c.Legend.Classes))
				for _, t := range z.Transitions {
					if at := []int32{t.From, t.To}[e]; int(at) < len(sums) {
						sums[at] += p.Area(t.Extent) * c.Unit.M2
					}
				}
				for i, v := range sums {
					out = append(out, check.Mapped{Zone: z.ID, Class: c.Legend.Classes[i].ID(), Epoch: p.Epochs[e], M2: v})
				}
			}
		}
	}
	return out
}
