package account

import (
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"

	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/text"
)

// Check is a question whether a number rings true, and its answer.
type Check struct {
	Name     string
	Outcome  Outcome
	Text     string    // what was asked and found, in a sentence
	Findings []Finding // where it falls short
}

// Outcome is that of a check.
type Outcome int

// The outcomes.
const (
	Holds Outcome = iota
	FallsShort
	NotMade
)

func (o Outcome) String() string { return [...]string{"holds", "falls short", "not made"}[o] }

// Finding is a place where a check falls short.
type Finding struct {
	Epoch, ZoneID, Class string  // what it concerns; "" for all
	Value                float64 // what was found
	Text                 string
}

// CheckNotMade is a check that reads rasters again, which was not asked for.
func CheckNotMade(name string) Check {
	return Check{Name: name, Outcome: NotMade, Text: "it reads the rasters again, which takes as long as measuring them: ask for all checks"}
}

// Bounds are the limits of checks by name; each has its own meaning, see [DefaultBounds].
type Bounds map[string]float64

// DefaultBounds are the limits that hold unless others are given, all in percent.
var DefaultBounds = Bounds{
	"inside":   1,   // of a zone, that lies outside the raster
	"nodata":   50,  // of a zone, that is no data
	"unlisted": 0,   // of a zone, whose values are in no class
	"mapped":   1,   // of a zone, that one epoch only maps
	"extents":  0.1, // of a zone, by which what two epochs map differs
	"pace":     5,   // of the ground mapped, that changes its class in a year
	"flicker":  10,  // of what changes its class, that has its old one back an epoch later
	"speckle":  1,   // of what changes its class, that does so in single cells
	"edges":    1,   // of a zone, by which the extent of a class differs between split and centre
	"nominal":  1,   // by which cells × nominal size differs from true ground
	"control":  0,   // by which an extent may differ from a control total without tolerance of its own
}

// CheckNames are all checks, in the order in which they are told.
var CheckNames = []string{"balance", "rows", "outline", "inside", "nodata", "unlisted", "ground", "mapped", "extents", "pace", "vanish", "flicker", "speckle",
	"edges", "nominal", "control"}

// judge makes a check of findings.
func judge(name, holds, short string, findings []Finding) Check {
	c := Check{Name: name, Text: holds, Findings: findings}
	if len(findings) > 0 {
		var texts []string
		for _, f := range findings {
			texts = append(texts, f.Text)
		}
		c.Outcome, c.Text = FallsShort, short+": "+text.List(texts, 5)
	}
	return c
}

// Check checks a composition.
func (c *Composition) Check(b Bounds) []Check {
	var balance, outline, inside, nodata, unlisted, ground []Finding
	present := make([]float64, len(c.Legend.Classes))
	place := map[string]int{}
	for k, class := range c.Legend.Classes {
		place[class.ID()] = k
	}
	var trueSum, count float64
	for i := range c.Zones {
		z := &c.Zones[i]
		sum, parts := 0.0, [4]float64{}
		rows := z.Rows()
		for k := range rows {
			r := &rows[k]
			sum += r.Area
			parts[r.Kind] += r.Area
			if r.Kind != cover.Outside && !z.Unit {
				trueSum, count = trueSum+r.Area, count+r.NominalArea
			}
			if r.Kind == cover.Classified {
				if k, ok := place[r.Code]; ok {
					present[k] += r.Area
				}
			}
		}
		sum = Percent(sum, z.Area)
		at := func(share float64, what string) Finding {
			return Finding{Epoch: c.Epoch, ZoneID: z.ID, Value: share, Text: fmt.Sprintf("%s %.3g %%%s", z.ID, share, what)}
		}
		if math.Abs(sum-100) > 0.01 && math.Abs(sum-100) > 2*math.Abs(z.Residual)*100 {
			balance = append(balance, at(sum, ""))
		}
		if !z.Balances {
			outline = append(outline, at(z.Residual*100, ""))
		}
		pct := func(k cover.Kind) float64 { return Percent(parts[k], z.Area) }
		if v := pct(cover.Outside); v > b["inside"] {
			inside = append(inside, at(v, ""))
		}
		if v := pct(cover.NoData); v > b["nodata"] {
			nodata = append(nodata, at(v, ""))
		}
		if v := pct(cover.Unlisted); v > b["unlisted"] {
			unlisted = append(unlisted, at(v, ""))
		}
	}
	for k, class := range c.Legend.Classes {
		if present[k] == 0 {
			ground = append(ground, Finding{Epoch: c.Epoch, Class: class.ID(), Text: class.Name})
		}
	}
	out := []Check{
		judge("balance", "the parts of each zone make 100 %", "the parts of zones do not make 100 %", balance),
		judge("outline", "what was measured in each zone is the area of its outline", "what was measured differs from the area of the outline", outline),
		judge("inside", "every zone lies in the raster", "zones lie partly outside the raster", inside),
		judge("nodata", fmt.Sprintf("no zone is more than %g %% no data", b["nodata"]), "zones are mostly no data", nodata),
		judge("unlisted", "every value is in the legend", "zones have values that are not in the legend", unlisted),
		judge("ground", "every class has ground in some zone", "classes without any ground in these zones", ground),
	}
	if c.HasNominal && trueSum > 0 {
		out = append(out, nominalCheck(trueSum, count, b["nominal"]))
	}
	return out
}

func nominalCheck(trueSum, count, bound float64) Check {
	d := (count - trueSum) / trueSum * 100
	var f []Finding
	if math.Abs(d) > bound {
		f = []Finding{{Value: d, Text: fmt.Sprintf("%+.4f %%", d)}}
	}
	return judge("nominal", fmt.Sprintf("cells × nominal size would be off by %+.4f %%", d), "cells × nominal size, which is not used here, would be far off true ground", f)
}

// Check checks changes.
func (c *Changes) Check(b Bounds) []Check {
	var balance, outline, inside, nodata, unlisted, flicker, speckle []Finding
	pairs := pairChecks{bounds: b}
	for _, p := range c.Pairs {
		between := p.Epochs[0] + "–" + p.Epochs[1]
		for i := range p.Zones {
			z := &p.Zones[i]
			for _, x := range p.Balances(z) {
				got := x.Opening
				got.Add(x.Additions)
				if !got.Minus(x.Reductions).Same(x.Closing) {
					balance = append(balance, pairs.at(between, z.ID, 0, "%s", x.Class.Name))
				}
				if !p.Whole {
					pairs.class(between, z.ID, Named{x.Class.ID(), x.Class.Name}, !x.Opening.IsZero(), !x.Closing.IsZero(), x.NetArea)
				}
			}
			if p.Whole {
				continue
			}
			if d := Percent(z.Mapped+z.OnlyFirst+z.OnlySecond+z.Neither+z.Outside-z.Area, z.Area); math.Abs(d) > 1e-5 {
				outline = append(outline, pairs.at(between, z.ID, d, "%.3g %%", d))
			}
			if v := Percent(z.Outside, z.Area); v > b["inside"] && p == c.Pairs[0] {
				inside = append(inside, pairs.at(between, z.ID, v, "%.3g %%", v))
			}
			if v := 100 - Percent(z.Mapped, z.Area); v > b["nodata"] {
				nodata = append(nodata, pairs.at(between, z.ID, v, "%.3g %% (%s)", v, between))
			}
			pairs.ground(between, z.ID, z.OnlyFirst, z.OnlySecond, z.Area)
			if !math.IsNaN(p.Years) {
				pairs.rate(between, z.ID, "", z.Rate(p.Years))
			}
		}
	}
	for e, of := range c.Unlisted {
		for _, v := range slices.Sorted(maps.Keys(of)) {
			unlisted = append(unlisted, Finding{Epoch: c.Epochs[e], Class: fmt.Sprint(v), Value: of[v], Text: fmt.Sprintf("%v in %s (%.4g %s)", v, c.Epochs[e], of[v], c.Unit.Name)})
		}
	}
	looked := false
	for _, f := range c.Flips {
		between := strings.Join(f.Epochs[:], "–")
		for i, changed := range f.Changed {
			z := c.Pairs[0].Zones[i].ID
			if f.Lone != nil {
				looked = true
				if v := Percent(f.Lone[i], changed); v > b["speckle"] {
					speckle = append(speckle, pairs.at(between, z, v, "%.1f %% of what changed by %s", v, f.Epochs[1]))
				}
			}
			if v := Percent(f.Back[i], changed); v > b["flicker"] {
				flicker = append(flicker, pairs.at(between, z, v, "%.1f %% of what changed by %s is back by %s", v, f.Epochs[1], f.Epochs[2]))
			}
		}
	}
	mapped, extents, pace, vanish := pairs.checks("change", noDates)
	flickers := judge("flicker", "little of what changes goes back to what it was", "much of what changes goes back to what it was, as errors of maps do", flicker)
	speckles := judge("speckle", "single cells that change and go back are few", "single cells change and go back, as errors of maps do", speckle)
	if !looked {
		speckles = CheckNotMade("speckle")
	}
	if len(c.Flips) == 0 {
		for _, k := range []*Check{&flickers, &speckles} {
			k.Outcome, k.Text = NotMade, "it takes three epochs"
		}
	}
	return []Check{
		judge("balance", "opening + additions − reductions = closing for every class, to the last unit", "classes do not balance", balance),
		judge("outline", "mapped and unmapped ground of each zone make the area of its outline", "the ground of zones differs from the area of the outline", outline),
		judge("inside", "every zone lies in the rasters", "zones lie partly outside the rasters", inside),
		mapped, extents, pace, vanish, flickers, speckles,
		judge("nodata", fmt.Sprintf("at least %g %% of every zone is mapped by both epochs", 100-b["nodata"]), "zones of which both epochs map little", nodata),
		judge("unlisted", "every value is in the legend", "values that are not in the legend and so not mapped", unlisted),
	}
}

// CheckEdges compares the extents of classes by exact shares with those by cell centres.
func (c *Composition) CheckEdges(centre *Composition, b Bounds) Check {
	var found []Finding
	most := 0.0
	for i, z := range c.Zones {
		worst, class := 0.0, ""
		other := map[string]float64{} // by code: without a legend, a class that only cut cells have is missing
		for _, r := range centre.Zones[i].Rows() {
			if r.Kind == cover.Classified {
				other[r.Code] = r.PctOfZone
			}
		}
		for _, r := range z.Rows() {
			if r.Kind != cover.Classified {
				continue
			}
			if d := math.Abs(r.PctOfZone - other[r.Code]); d > worst {
				worst, class = d, r.Name
			}
		}
		most = math.Max(most, worst)
		if worst > b["edges"] {
			found = append(found, Finding{Epoch: c.Epoch, ZoneID: z.ID, Value: worst, Text: fmt.Sprintf("%s %.2f %% of it (%s)", z.ID, worst, class)})
		}
	}
	return judge("edges", fmt.Sprintf("split and centre differ by no more than %.2g %% of a zone", most),
		"extents depend on how cells at the edge are counted, because the zones have few cells", found)
}
