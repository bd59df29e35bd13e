package account

import (
	"fmt"
	"math"
)

// pairChecks gathers what the checks of two epochs find in one zone after another, of changes and of tables alike.
type pairChecks struct {
	bounds                        Bounds
	mapped, extents, pace, vanish []Finding
	paced                         bool
}

// at is a finding in a zone between two epochs.
func (p *pairChecks) at(between, zone string, v float64, format string, args ...any) Finding {
	return Finding{Epoch: between, ZoneID: zone, Value: v, Text: zone + " " + fmt.Sprintf(format, args...)}
}

// ground compares what both epochs map: the areas that the first and the second map alone, and that of the zone.
func (p *pairChecks) ground(between, zone string, first, second, whole float64) {
	if v := Percent(first+second, whole); v > p.bounds["mapped"] {
		p.mapped = append(p.mapped, p.at(between, zone, v, "%.1f %% (%s)", v, between))
	}
	p.more(between, zone, Percent(second-first, whole))
}

// more compares how much the epochs map: the second by v percent of the zone more.
func (p *pairChecks) more(between, zone string, v float64) {
	if math.Abs(v) > p.bounds["extents"] {
		p.extents = append(p.extents, p.at(between, zone, v, "%+.2f %% (%s)", v, between))
	}
}

// rate is the percent of the ground that changes in a year; NaN where the labels are no dates. atLeast is for a lower bound of it.
func (p *pairChecks) rate(between, zone, atLeast string, v float64) {
	if math.IsNaN(v) {
		return
	}
	p.paced = true
	if v > p.bounds["pace"] {
		p.pace = append(p.pace, p.at(between, zone, v, "%s%.2f %% a year (%s)", atLeast, v, between))
	}
}

// class notes a class that has ground in one epoch only; net is what it gained.
func (p *pairChecks) class(between, zone string, class Named, before, after bool, net float64) {
	if before == after {
		return
	}
	what := "vanishes"
	if after {
		what = "appears"
	}
	f := p.at(between, zone, net, "%s %s %s", class.Label(), what, between)
	f.Class = class.ID
	p.vanish = append(p.vanish, f)
}

// checks are those of mapped ground, of extents, of pace and of classes that vanish. part is what ground takes no part in.
func (p *pairChecks) checks(part, dates string) (mapped, extents, pace, vanish Check) {
	mapped = judge("mapped", fmt.Sprintf("no more than %g %% of a zone is mapped in one epoch only", p.bounds["mapped"]), "ground that is mapped in one epoch only takes no part in the "+part, p.mapped)
	extents = judge("extents", "all epochs map as much ground in each zone", "what is mapped differs in extent between epochs", p.extents)
	pace = judge("pace", fmt.Sprintf("nowhere does more than %g %% of the ground change in a year", p.bounds["pace"]), "more ground changes in a year than is likely", p.pace)
	if !p.paced {
		pace.Outcome, pace.Text = NotMade, dates
	}
	return mapped, extents, pace, judge("vanish", "no class vanishes from a zone or appears in one", "classes that vanish or appear", p.vanish)
}

// noDates is why pace cannot be told.
const noDates = "the labels of the epochs are neither years nor dates"
