package account

import (
	"fmt"
	"math"

	"github.com/verdex-land/verdex/core/area"
	"github.com/verdex-land/verdex/core/check"
	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/epoch"
)

// Check checks the tables that moves were read from.
func (m *Moves) Check() check.Check { return rowsCheck(m.missing) }

// CheckStatements checks extent accounts made from tables.
func CheckStatements(list []Statement, classes []cover.Named, b check.Bounds) []check.Check {
	var balance []check.Finding
	pairs := check.Pairs{Bounds: b}
	for _, s := range list {
		if s.Zone == AllZones {
			continue
		}
		between, zone := s.Pair[0]+"–"+s.Pair[1], s.Zone.ID
		byKind := map[EntryKind]Entry{}
		for _, e := range s.Entries {
			byKind[e.Kind] = e
		}
		open, closing := byKind[Opening], byKind[Closing]
		for i, c := range classes {
			off := open.Values[i] + byKind[Additions].Values[i] - byKind[Reductions].Values[i] - closing.Values[i]
			if math.Abs(off) > 1e-9*open.Total {
				balance = append(balance, pairs.At(between, zone, off, "%s", c.Label()))
			}
			pairs.Class(between, zone, c, open.Values[i] != 0, closing.Values[i] != 0, closing.Values[i]-open.Values[i])
		}
		whole := open.Total + s.OnlyFirst + s.OnlySecond + s.Neither + s.Outside
		pairs.Ground(between, zone, s.OnlyFirst, s.OnlySecond, whole)
		pairs.Rate(between, zone, "", area.Percent(byKind[Additions].Total, open.Total)/epoch.Years(s.Pair[0], s.Pair[1]))
	}
	mapped, extents, pace, vanish := pairs.Checks("account", check.NoDates)
	return []check.Check{
		check.Judge("balance", "opening + additions − reductions = closing for every class", "classes do not balance", balance),
		mapped, extents, pace, vanish,
	}
}

// StatementExtents are the opening and closing extents of accounts, for control totals.
func StatementExtents(list []Statement, classes []cover.Named) (out []check.Mapped) {
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
					out = append(out, check.Mapped{Zone: s.Zone.ID, Class: c.ID, Epoch: epoch, M2: e.Values[i]})
				}
			}
		}
	}
	return out
}

// Check checks extents from tables: classes without ground, and what differs between epochs that follow one another.
func (e *Extents) Check(b check.Bounds) []check.Check {
	var ground, nodata []check.Finding
	pairs := check.Pairs{Bounds: b}
	for _, c := range e.Classes {
		sum := 0.0
		for _, at := range e.Epochs {
			for _, z := range e.Zones {
				sum += e.Area(at, z.ID, c.ID)
			}
		}
		if sum == 0 {
			ground = append(ground, check.Finding{Class: c.ID, Text: c.Label()})
		}
	}
	classified := func(at, zone string) (sum float64) {
		for _, c := range e.Classes {
			sum += e.Area(at, zone, c.ID)
		}
		return sum
	}
	for i, at := range e.Epochs {
		for _, z := range e.Zones {
			if !e.Has(at, z.ID) {
				continue
			}
			now, whole := classified(at, z.ID), e.Whole(at, z.ID)
			if v := 100 - area.Percent(now, whole); v > b["nodata"] {
				nodata = append(nodata, check.Finding{Epoch: at, ZoneID: z.ID, Value: v, Text: fmt.Sprintf("%s %.3g %%", z.ID, v)})
			}
			if i == 0 || !e.Has(e.Epochs[i-1], z.ID) {
				continue
			}
			before := e.Epochs[i-1]
			between := before + "–" + at
			pairs.Differs(between, z.ID, area.Percent(now-classified(before, z.ID), whole))
			moved := 0.0
			for _, c := range e.Classes {
				x, y := e.Area(before, z.ID, c.ID), e.Area(at, z.ID, c.ID)
				moved += math.Abs(y-x) / 2
				pairs.Class(between, z.ID, c, x != 0, y != 0, y-x)
			}
			pairs.Rate(between, z.ID, "at least ", area.Percent(moved, now)/epoch.Years(before, at))
		}
	}
	_, extents, pace, vanish := pairs.Checks("account", "it needs two epochs whose labels are years or dates")
	if len(e.Epochs) < 2 {
		for _, k := range []*check.Check{&extents, &vanish} {
			k.Outcome, k.Text = check.NotMade, "it takes two epochs"
		}
	}
	return []check.Check{
		rowsCheck(e.missing),
		check.Judge("nodata", fmt.Sprintf("no zone is more than %g %% without a class", b["nodata"]), "zones are mostly without a class", nodata),
		check.Judge("ground", "every class has ground in some zone", "classes without any ground in these zones", ground),
		extents, pace, vanish,
	}
}

// Mapped are the extents of the classes, for control totals.
func (e *Extents) Mapped() (out []check.Mapped) {
	for _, epoch := range e.Epochs {
		for _, z := range e.Zones {
			if e.units[z.ID] || !e.Has(epoch, z.ID) {
				continue
			}
			for _, c := range e.Classes {
				out = append(out, check.Mapped{Zone: z.ID, Class: c.ID, Epoch: epoch, M2: e.Area(epoch, z.ID, c.ID)})
			}
		}
	}
	return out
}
