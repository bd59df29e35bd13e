package account

import (
	"fmt"
	"math"
)

// CheckStatements checks extent accounts made from tables.
func CheckStatements(list []Statement, classes []Named, b Bounds) []Check {
	var balance, mapped, extents, pace, vanish []Finding
	paced := false
	for _, s := range list {
		if s.Zone == AllZones {
			continue
		}
		between := s.Pair[0] + "–" + s.Pair[1]
		at := func(v float64, format string, args ...any) Finding {
			return Finding{Epoch: between, ZoneID: s.Zone.ID, Value: v, Text: s.Zone.ID + " " + fmt.Sprintf(format, args...)}
		}
		byKind := map[EntryKind]Entry{}
		for _, e := range s.Entries {
			byKind[e.Kind] = e
		}
		open, closing := byKind[Opening], byKind[Closing]
		for i, c := range classes {
			off := open.Values[i] + byKind[Additions].Values[i] - byKind[Reductions].Values[i] - closing.Values[i]
			if math.Abs(off) > 1e-9*open.Total {
				balance = append(balance, at(off, "%s", c.Label()))
			}
			if (open.Values[i] == 0) != (closing.Values[i] == 0) {
				what := "vanishes"
				if open.Values[i] == 0 {
					what = "appears"
				}
				f := at(closing.Values[i]-open.Values[i], "%s %s %s", c.Label(), what, between)
				f.Class = c.ID
				vanish = append(vanish, f)
			}
		}
		whole := open.Total + s.OnlyFirst + s.OnlySecond + s.Neither + s.Outside
		if v := percent(s.OnlyFirst+s.OnlySecond, whole); v > b["mapped"] {
			mapped = append(mapped, at(v, "%.1f %% (%s)", v, between))
		}
		if v := percent(s.OnlySecond-s.OnlyFirst, whole); math.Abs(v) > b["extents"] {
			extents = append(extents, at(v, "%+.2f %% (%s)", v, between))
		}
		if y := years(s.Pair[0], s.Pair[1]); !math.IsNaN(y) {
			paced = true
			if v := percent(byKind[Additions].Total, open.Total) / y; v > b["pace"] {
				pace = append(pace, at(v, "%.2f %% a year (%s)", v, between))
			}
		}
	}
	out := []Check{
		judge("balance", "opening + additions − reductions = closing for every class", "classes do not balance", balance),
		judge("mapped", fmt.Sprintf("no more than %g %% of a zone is mapped in one epoch only", b["mapped"]), "ground that is mapped in one epoch only takes no part in the account", mapped),
		judge("extents", "all epochs map as much ground in each zone", "what is mapped differs in extent between epochs", extents),
		judge("pace", fmt.Sprintf("nowhere does more than %g %% of the ground change in a year", b["pace"]), "more ground changes in a year than is likely", pace),
		judge("vanish", "no class vanishes from a zone or appears in one", "classes that vanish or appear", vanish),
	}
	if !paced {
		out[3].Outcome, out[3].Text = NotMade, "the labels of the epochs are neither years nor dates"
	}
	return out
}

// StatementExtents are the opening and closing extents of accounts, for control totals.
func StatementExtents(list []Statement, classes []Named) (out []Mapped) {
	seen := map[[3]string]bool{}
	for _, s := range list {
		if s.Zone == AllZones {
			continue
		}
		for _, e := range s.Entries {
			epoch := s.Pair[0]
			if e.Kind == Closing {
				epoch = s.Pair[1]
			} else if e.Kind != Opening {
				continue
			}
			for i, c := range classes {
				if key := [3]string{s.Zone.ID, c.ID, epoch}; !seen[key] {
					seen[key] = true
					out = append(out, Mapped{s.Zone.ID, c.ID, epoch, e.Values[i]})
				}
			}
		}
	}
	return out
}

// Check checks extents from tables: classes without ground, and what differs between epochs that follow one another.
func (e *Extents) Check(b Bounds) []Check {
	var ground, nodata, extents, pace, vanish []Finding
	for _, c := range e.Classes {
		sum := 0.0
		for _, epoch := range e.Epochs {
			for _, z := range e.Zones {
				sum += e.Area(epoch, z.ID, c.ID)
			}
		}
		if sum == 0 {
			ground = append(ground, Finding{Class: c.ID, Text: c.Label()})
		}
	}
	classified := func(epoch, zone string) (sum float64) {
		for _, c := range e.Classes {
			sum += e.Area(epoch, zone, c.ID)
		}
		return sum
	}
	paced := false
	for i, epoch := range e.Epochs {
		for _, z := range e.Zones {
			if !e.Has(epoch, z.ID) {
				continue
			}
			now, whole := classified(epoch, z.ID), e.Whole(epoch, z.ID)
			if v := 100 - percent(now, whole); v > b["nodata"] {
				nodata = append(nodata, Finding{Epoch: epoch, ZoneID: z.ID, Value: v, Text: fmt.Sprintf("%s %.3g %%", z.ID, v)})
			}
			if i == 0 || !e.Has(e.Epochs[i-1], z.ID) {
				continue
			}
			before := e.Epochs[i-1]
			between := before + "–" + epoch
			at := func(v float64, format string, args ...any) Finding {
				return Finding{Epoch: between, ZoneID: z.ID, Value: v, Text: z.ID + " " + fmt.Sprintf(format, args...)}
			}
			if v := percent(now-classified(before, z.ID), whole); math.Abs(v) > b["extents"] {
				extents = append(extents, at(v, "%+.2f %% (%s)", v, between))
			}
			moved := 0.0
			for _, c := range e.Classes {
				x, y := e.Area(before, z.ID, c.ID), e.Area(epoch, z.ID, c.ID)
				moved += math.Abs(y-x) / 2
				if (x == 0) != (y == 0) {
					what := "vanishes"
					if x == 0 {
						what = "appears"
					}
					f := at(y-x, "%s %s %s", c.Label(), what, between)
					f.Class = c.ID
					vanish = append(vanish, f)
				}
			}
			if t := years(before, epoch); !math.IsNaN(t) {
				paced = true
				if v := percent(moved, now) / t; v > b["pace"] {
					pace = append(pace, at(v, "at least %.2f %% a year (%s)", v, between))
				}
			}
		}
	}
	out := []Check{
		judge("nodata", fmt.Sprintf("no zone is more than %g %% without a class", b["nodata"]), "zones are mostly without a class", nodata),
		judge("ground", "every class has ground in some zone", "classes without any ground in these zones", ground),
		judge("extents", "all epochs map as much ground in each zone", "what is mapped differs in extent between epochs", extents),
		judge("pace", fmt.Sprintf("nowhere does more than %g %% of the ground change in a year", b["pace"]), "more ground changes in a year than is likely", pace),
		judge("vanish", "no class vanishes from a zone or appears in one", "classes that vanish or appear", vanish),
	}
	if !paced {
		out[3].Outcome, out[3].Text = NotMade, "it takes two epochs whose labels are years or dates"
	}
	if len(e.Epochs) < 2 {
		out[2].Outcome, out[2].Text = NotMade, "it takes two epochs"
		out[4].Outcome, out[4].Text = NotMade, "it takes two epochs"
	}
	return out
}

// Mapped are the extents of the classes, for control totals.
func (e *Extents) Mapped() (out []Mapped) {
	for _, epoch := range e.Epochs {
		for _, z := range e.Zones {
			if e.units[z.ID] || !e.Has(epoch, z.ID) {
				continue
			}
			for _, c := range e.Classes {
				out = append(out, Mapped{z.ID, c.ID, epoch, e.Area(epoch, z.ID, c.ID)})
			}
		}
	}
	return out
}
