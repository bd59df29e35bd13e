package check

import (
	"fmt"
	"math"

	"github.com/verdex-land/verdex/core/area"
	"github.com/verdex-land/verdex/core/cover"
)

// Pairs gathers what the checks of two epochs find in one zone after another, of changes and of tables alike.
type Pairs struct {
	Bounds                        Bounds
	mapped, extents, pace, vanish []Finding
	paced                         bool
}

// At is a finding in a zone between two epochs.
func (p *Pairs) At(between, zone string, v float64, format string, args ...any) Finding {
	return Finding{Epoch: between, ZoneID: zone, Value: v, Text: zone + " " + fmt.Sprintf(format, args...)}
}

// Ground compares what both epochs map: the areas that the first and the second map alone, and that of the zone.
func (p *Pairs) Ground(between, zone string, first, second, whole float64) {
	if v := area.Percent(first+second, whole); v > p.Bounds["mapped"] {
		p.mapped = append(p.mapped, p.At(between, zone, v, "%.1f %% (%s)", v, between))
	}
	p.Differs(between, zone, area.Percent(second-first, whole))
}

// Differs compares how much the epochs map: the second by v percent of the zone more.
func (p *Pairs) Differs(between, zone string, v float64) {
	if math.Abs(v) > p.Bounds["extents"] {
		p.extents = append(p.extents, p.At(between, zone, v, "%+.2f %% (%s)", v, between))
	}
}

// Rate is the percent of the ground that changes in a year; NaN where the labels are not dates. atLeast is for a lower bound of it.
func (p *Pairs) Rate(between, zone, atLeast string, v float64) {
	if math.IsNaN(v) {
		return
	}
	p.paced = true
	if v > p.Bounds["pace"] {
		p.pace = append(p.pace, p.At(between, zone, v, "%s%.2f %% a year (%s)", atLeast, v, between))
	}
}

// Class notes a class that has ground in one epoch only; net is what it gained.
func (p *Pairs) Class(between, zone string, class cover.Named, before, after bool, net float64) {
	if before == after {
		return
	}
	what := "vanishes"
	if after {
		what = "appears"
	}
	f := p.At(between, zone, net, "%s %s %s", class.Label(), what, between)
	f.Class = class.ID
	p.vanish = append(p.vanish, f)
}

// Checks are those of mapped ground, of extents, of pace and of classes that vanish. part is what ground takes no part in.
func (p *Pairs) Checks(part, dates string) (mapped, extents, pace, vanish Check) {
	mapped = Judge("mapped", fmt.Sprintf("no more than %g %% of a zone is mapped in one epoch only", p.Bounds["mapped"]), "ground that is mapped in one epoch only takes no part in the "+part, p.mapped)
	extents = Judge("extents", "all epochs map as much ground in each zone", "what is mapped differs in extent between epochs", p.extents)
	pace = Judge("pace", fmt.Sprintf("nowhere does more than %g %% of the ground change in a year", p.Bounds["pace"]), "more ground changes in a year than is likely", p.pace)
	if !p.paced {
		pace.Outcome, pace.Text = NotMade, dates
	}
	return mapped, extents, pace, Judge("vanish", "no class vanishes from a zone or appears in one", "classes that vanish or appear", p.vanish)
}

// noDates is why pace cannot be told.
const NoDates = "the labels of the epochs are neither years nor dates"
