package change

import (
	"cmp"
	"math"
	"slices"

	"github.com/verdex-land/verdex/core/area"
	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/spread"
	"github.com/verdex-land/verdex/core/tally"
)

// Unmapped stands in a history for an epoch that does not map the ground.
const Unmapped = math.MinInt32

// Histories are what each piece of ground went through, over all epochs: in every zone the extent of each sequence of classes.
type Histories struct {
	Epochs  []string
	Unit    area.Unit
	Legend  *cover.Legend
	Zones   []ZoneHistories
	quantum float64
}

// ZoneHistories are those of a zone, the largest first, and where two are alike in the order of their codes.
type ZoneHistories struct {
	ID, Name string
	Outside  float64 // ground beyond the rasters
	List     []History
	Rare     [NeverMapped + 1]Rare // by course: those that [Histories.GroupRare] has grouped
}

// Rare are histories that are shown as one.
type Rare struct {
	Histories int
	Extent    tally.Extent
}

// History is the ground of one sequence of classes.
type History struct {
	Codes  []int32 // by epoch: the code of the class, or Unmapped
	Extent tally.Extent
	number int32 // among those of all zones
}

// Course is what a history is.
type Course int

// The courses of histories.
const (
	Stable       Course = iota // one class throughout
	ChangedOnce                // one class, then another
	WentOn                     // three classes or more, none of which comes again
	CameBack                   // one class, another, and the first again
	Unsteady                   // every other history in which a class comes again
	PartlyMapped               // some epoch does not map the ground
	NeverMapped                // none does
)

// String names the course.
func (c Course) String() string {
	return [...]string{"stable", "changed once", "changed and went on", "went and came back", "unsteady", "partly mapped", "never mapped"}[c]
}

// Course is what a history is.
func (h *History) Course() Course {
	unmapped := 0
	for _, c := range h.Codes {
		if c == Unmapped {
			unmapped++
		}
	}
	switch {
	case unmapped == len(h.Codes):
		return NeverMapped
	case unmapped > 0:
		return PartlyMapped
	}
	path := slices.Compact(slices.Clone(h.Codes))
	seen := map[int32]bool{}
	again := false
	for _, c := range path {
		again = again || seen[c]
		seen[c] = true
	}
	switch {
	case len(path) == 1:
		return Stable
	case len(path) == 2:
		return ChangedOnce
	case !again:
		return WentOn
	case len(path) == 3:
		return CameBack
	}
	return Unsteady
}

// Mend does for a history what [Changes.Steady] does for all.
func (h *History) Mend(steady int) { mend(h.Codes, steady, Unmapped) }

// Changes is how often the class changes from one epoch to the next, where both map the ground.
func (h *History) Changes() (n int) {
	for e := 1; e < len(h.Codes); e++ {
		if a, b := h.Codes[e-1], h.Codes[e]; a != b && a != Unmapped && b != Unmapped {
			n++
		}
	}
	return n
}

// Since is the first epoch from which on the ground has been what it is at the last, -1 where the last does not map it.
func (h *History) Since() int {
	last := len(h.Codes) - 1
	if h.Codes[last] == Unmapped {
		return -1
	}
	e := last
	for e > 0 && h.Codes[e-1] == h.Codes[last] {
		e--
	}
	return e
}

// Area is the area of an extent in the unit.
func (h *Histories) Area(e tally.Extent) float64 { return e.Area(h.quantum) / h.Unit.M2 }

// Trace makes histories of the tally that the changes were made of, which has a group of all epochs: see [Groups].
func (c *Changes) Trace(in Input) *Histories {
	out := &Histories{Epochs: c.Epochs, Unit: c.Unit, Legend: c.Legend, quantum: in.Tally.Quantum, Zones: make([]ZoneHistories, len(in.Zones.Zones))}
	zones := in.Tally.Groups[c.courses.group]
	number, codes := c.courses.numbered(c.Legend, zones)
	spread.Over(len(out.Zones), func() func(int) {
		var at []int // by history: one more than the place in the list of the zone at hand
		return func(i int) {
			z := &out.Zones[i]
			z.ID, z.Name, z.Outside = in.Zones.Zones[i].ID, in.Zones.Zones[i].Name, in.Placement.Outlines[i].Outside/c.Unit.M2
			at = append(at, make([]int, len(codes)-len(at))...)
			for k := range zones[i].Values {
				e := zones[i].Extents[k]
				if e.IsZero() {
					continue
				}
				n := number(&zones[i].Values[k])
				if at[n] == 0 {
					z.List = append(z.List, History{Codes: codes[n], number: n})
					at[n] = len(z.List)
				}
				z.List[at[n]-1].Extent.Add(e)
			}
			for k := range z.List {
				at[z.List[k].number] = 0
			}
			slices.SortFunc(z.List, func(a, b History) int {
				return cmp.Or(-cmp.Compare(out.Area(a.Extent), out.Area(b.Extent)), slices.Compare(a.Codes, b.Codes))
			})
			z.List = slices.Clip(z.List)
		}
	})
	return out
}

// GroupRare groups histories that have less than an area, in the unit, in all zones together, by their course. Every zone keeps the ground that it has of each course. It returns how many were grouped, and their area.
func (h *Histories) GroupRare(least float64) (n int, grouped float64) {
	sums := map[int32]tally.Extent{}
	for i := range h.Zones {
		for k := range h.Zones[i].List {
			x := &h.Zones[i].List[k]
			e := sums[x.number]
			e.Add(x.Extent)
			sums[x.number] = e
		}
	}
	for _, e := range sums {
		if a := h.Area(e); a < least {
			n++
			grouped += a
		}
	}
	for i := range h.Zones {
		z := &h.Zones[i]
		kept := z.List[:0]
		for _, x := range z.List {
			if h.Area(sums[x.number]) >= least {
				kept = append(kept, x)
				continue
			}
			g := &z.Rare[x.Course()]
			g.Histories++
			g.Extent.Add(x.Extent)
		}
		z.List = slices.Clip(kept)
	}
	return n, grouped
}
