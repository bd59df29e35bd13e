// Package change turns a tally of several epochs into what changed between them, with its parts and its intensity.
package change

import (
	"cmp"
	"slices"

	"github.com/verdex-land/verdex/core/raster/view"

	"github.com/verdex-land/verdex/core/area"
	"github.com/verdex-land/verdex/core/epoch"
	"github.com/verdex-land/verdex/core/extent"

	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/spread"
	"github.com/verdex-land/verdex/core/tally"
	"github.com/verdex-land/verdex/core/zone"
)

// Input is a tally of the combinations of values of two epochs or more, in the groups of [Groups].
type Input struct {
	Epochs    []string
	Rasters   []string
	Coders    []*cover.Coder
	Tally     *tally.Tally
	Zones     *zone.Set
	Placement *zone.Placement
	Palette   []raster.Color
	// Steady is for how many epochs a class has to hold between epochs of another one, not to be taken for that one. See [Changes.Steady].
	Steady int
	Errors *Confusion // of the maps; nil where nothing is known
}

// Groups are the groups of layers whose combinations give the change between n epochs: every three that follow
// one another, which shows ground that goes back to what it was, and the first with the last. With histories it is one of all epochs, of which these are sums.
func Groups(n int, histories bool) [][]int {
	if n < 3 {
		return [][]int{{0, 1}}
	}
	if histories {
		all := make([]int, n)
		for e := range all {
			all[e] = e
		}
		return [][]int{all}
	}
	var out [][]int
	for i := range n - 2 {
		out = append(out, []int{i, i + 1, i + 2})
	}
	if n > 3 {
		out = append(out, []int{0, n - 1})
	}
	return out
}

// Changes are what changed in all zones between epochs that follow one another, and between the first and the last.
type Changes struct {
	Epochs []string
	Unit   area.Unit
	Legend *cover.Legend
	Pairs  []*Change
	Flips  []Flip // of every three epochs that follow one another
	// Unlisted are the values of each epoch that are in no class of the legend and so not mapped, with their area.
	Unlisted []map[float64]float64
	// Steady is for how many epochs a class has to hold between epochs of another one, or that one has been put in its place everywhere: see [mend]. It is 0 where nothing was mended.
	Steady  int
	Mended  []float64 // by zone: the ground on which something was mended
	Errors  bool      // it is known what errors of the maps make: see [FlipPair]
	courses *courses  // of the group of all epochs, nil without one
}

// Change is what changed in all zones between two epochs.
type Change struct {
	Epochs  [2]string
	Unit    area.Unit
	Legend  *cover.Legend
	Years   float64 // between the epochs, NaN when the labels are not years or dates
	Zones   []ZoneChange
	Whole   bool // from the first of more than two epochs to the last
	quantum float64
}

// ZoneChange is what changed in a zone.
type ZoneChange struct {
	ID, Name    string
	Area        float64
	Transitions []Transition // by class of the first epoch, then of the second; those that occur
	OnlyFirst   float64      // ground that only the first epoch maps
	OnlySecond  float64
	Neither     float64
	Outside     float64
	Changed     float64 // ground that both map and that changed its class
	Mapped      float64 // ground that both map
}

// Transition is what moved from one class to another in a zone. There may be millions of them.
type Transition struct {
	From, To int32 // places in the legend; its length stands for ground that the epoch does not map
	Extent   tally.Extent
}

// Balance is the summary of one class in a zone, on the ground that both epochs map.
type Balance struct {
	Class                                   cover.Class
	Opening, Additions, Reductions, Closing tally.Extent // exact: opening + additions - reductions = closing
	OpeningArea, AdditionsArea              float64
	ReductionsArea, NetArea, ClosingArea    float64
	// Percent of the opening extent; NaN where that is nothing or the labels are not dates.
	PctChange  float64
	PctPerYear float64 // simple: the change divided by the years
	PctYearly  float64 // compound: the yearly rate that makes closing of opening
}

// Flip is ground that changed its class and had the first one back an epoch later, by zone.
type Flip struct {
	Epochs  [3]string
	Back    []float64 // in the unit
	Changed []float64 // what changed its class between the first two, where all three map
	Pairs   [][]FlipPair
	Lone    []float64 // the part of Back that is single cells; nil when nobody looked
}

const notMapped = "not mapped"

// Compare makes the changes between epochs.
func Compare(in Input, unit area.Unit) (*Changes, error) {
	if err := epoch.InOrder(in.Epochs); err != nil {
		return nil, err
	}
	n := len(in.Epochs)
	groups := in.Tally.Members
	meanings := make([][]cover.Meaning, n)
	var all []cover.Meaning
	var occurs []bool
	c := &Changes{Epochs: in.Epochs, Unit: unit, Legend: in.Coders[0].Shown(), Unlisted: make([]map[float64]float64, n)}
	for g, members := range groups {
		for k, e := range members {
			if meanings[e] != nil {
				continue
			}
			m, err := extent.Meanings(in.Coders[e], in.Rasters[e], in.Tally, g, k)
			if err != nil {
				return nil, err
			}
			meanings[e] = m
			c.Unlisted[e] = unlisted(in.Tally, g, k, m, in.Tally.Quantum/unit.M2)
			all, occurs = append(all, m...), append(occurs, extent.Occurring(in.Tally, g, k)...)
		}
	}
	if c.Legend == nil {
		c.Legend = extent.LegendOf(all, occurs, in.Palette)
	}
	at := map[int]int32{}
	for k, class := range c.Legend.Classes {
		at[class.Code] = int32(k)
	}
	places := make([][]int32, n) // by epoch and slot: the place in the legend, whose length stands for ground that is not mapped
	for e := range places {
		places[e] = make([]int32, len(meanings[e]))
		for s, m := range meanings[e] {
			places[e][s] = int32(len(c.Legend.Classes))
			if k, ok := at[m.Code]; ok && m.Kind == cover.Classified {
				places[e][s] = k
			}
		}
	}
	c.courses = newCourses(&in, places, int32(len(c.Legend.Classes)))
	if in.Steady > 0 {
		c.Steady, c.Mended = in.Steady, c.mended(&in)
	}
	pair := func(a, b int) {
		y := epoch.Years(in.Epochs[a], in.Epochs[b])
		x := &Change{Epochs: [2]string{in.Epochs[a], in.Epochs[b]}, Unit: unit, Legend: c.Legend, Years: y, Whole: b-a > 1, quantum: in.Tally.Quantum}
		for g, members := range groups {
			i, j := slices.Index(members, a), slices.Index(members, b)
			if i < 0 || j < 0 {
				continue
			}
			x.Zones = make([]ZoneChange, len(in.Zones.Zones))
			spread.Over(len(x.Zones), func() func(int) {
				var room transitions
				at := c.courses.reader()
				return func(z int) {
					of := &in.Tally.Groups[g][z]
					if c.byCourses() {
						for k := range of.Values {
							p, _ := at(&of.Values[k])
							room.add(p[a], p[b], of.Extents[k], len(c.Legend.Classes))
						}
						x.Zones[z] = x.zone(in, z, room.take(len(c.Legend.Classes)))
						return
					}
					for k, v := range of.Values {
						room.add(places[a][v[i]], places[b][v[j]], of.Extents[k], len(c.Legend.Classes))
					}
					x.Zones[z] = x.zone(in, z, room.take(len(c.Legend.Classes)))
				}
			})
			break
		}
		c.Pairs = append(c.Pairs, x)
	}
	for e := range n - 1 {
		pair(e, e+1)
	}
	if n > 2 {
		pair(0, n-1)
		errors := in.Errors.of(c.Legend)
		c.Errors = errors != nil
		for e := range n - 2 {
			c.Flips = append(c.Flips, c.flip(in, e, places, errors))
		}
	}
	return c, nil
}

// unlisted sums the area of values of the k-th layer of a group that are in no class.
func unlisted(t *tally.Tally, group, k int, meanings []cover.Meaning, unit float64) map[float64]float64 {
	if !slices.ContainsFunc(meanings, func(m cover.Meaning) bool { return m.Kind == cover.Unlisted }) { // mostly
		return map[float64]float64{}
	}
	sums := make([]tally.Extent, len(meanings))
	for _, z := range t.Groups[group] {
		for i := range z.Values {
			if s := t.SlotOf(group, k, &z.Values[i]); meanings[s].Kind == cover.Unlisted {
				sums[s].Add(z.Extents[i])
			}
		}
	}
	out := map[float64]float64{}
	for s, e := range sums {
		if !e.IsZero() {
			out[t.Number(group, k, tally.Slot(s))] = e.Area(unit)
		}
	}
	return out
}

// flip finds ground that epoch e+1 has in another class than e, and e+2 in the same.
func (c *Changes) flip(in Input, e int, places [][]int32, errors *errorsOfMaps) Flip {
	f := Flip{Epochs: [3]string(in.Epochs[e : e+3])}
	none := int32(len(c.Legend.Classes))
	group, at := e, c.courses.reader()
	if c.byCourses() {
		group = c.courses.group
	}
	for _, z := range in.Tally.Groups[group] {
		var back, changed tally.Extent
		pairs, mapped := map[[2]int32]tally.Extent{}, make([]tally.Extent, none)
		for k, v := range z.Values {
			var x, y, w int32
			if c.byCourses() {
				p, _ := at(&v)
				x, y, w = p[e], p[e+1], p[e+2]
			} else {
				x, y, w = places[e][v[0]], places[e+1][v[1]], places[e+2][v[2]]
			}
			if x == none || y == none || w == none {
				continue
			}
			if mapped[x].Add(z.Extents[k]); x == y {
				continue
			}
			changed.Add(z.Extents[k])
			if x == w {
				back.Add(z.Extents[k])
				e := pairs[[2]int32{x, y}]
				e.Add(z.Extents[k])
				pairs[[2]int32{x, y}] = e
			}
		}
		f.Pairs = append(f.Pairs, c.flicker(pairs, mapped, in.Tally.Quantum, errors))
		f.Back = append(f.Back, back.Area(in.Tally.Quantum)/c.Unit.M2)
		f.Changed = append(f.Changed, changed.Area(in.Tally.Quantum)/c.Unit.M2)
	}
	return f
}

// FindLone finds the part of Flips that is single cells, in the tally of a raster of flips; e is the first of the three epochs.
func (c *Changes) FindLone(e int, t *tally.Tally) {
	f := &c.Flips[e]
	f.Lone = make([]float64, len(t.Zones))
	for i, z := range t.Zones {
		for k, v := range z.Values {
			if t.Number(0, 0, v[0]) == view.LoneFlip {
				f.Lone[i] = z.Extents[k].Area(t.Quantum) / c.Unit.M2
			}
		}
	}
}

// Area is the area of an extent in the unit of the change.
func (c *Change) Area(e tally.Extent) float64 { return e.Area(c.quantum) / c.Unit.M2 }

// Class is the class at a place of a transition; Name is "not mapped" and Code 0 for ground that the epoch does not map.
func (c *Change) Class(at int32) (cl cover.Class, mapped bool) {
	if int(at) < len(c.Legend.Classes) {
		return c.Legend.Classes[at], true
	}
	return cover.Class{Name: notMapped}, false
}

// transitions gathers those of one zone after another.
type transitions struct {
	dense []tally.Extent // by pair of places, where there are few
	list  []Transition
}

// fewClasses is how many classes have room for each pair of them.
const fewClasses = 63

func (t *transitions) add(from, to int32, e tally.Extent, classes int) {
	if classes > fewClasses {
		t.list = append(t.list, Transition{from, to, e})
		return
	}
	if n := (classes + 1) * (classes + 1); len(t.dense) < n {
		t.dense = make([]tally.Extent, n)
	}
	t.dense[int(from)*(classes+1)+int(to)].Add(e)
}

// take gives the transitions that occur in order, and starts anew.
func (t *transitions) take(classes int) []Transition {
	if classes <= fewClasses {
		for k, e := range t.dense {
			if !e.IsZero() {
				t.list = append(t.list, Transition{int32(k / (classes + 1)), int32(k % (classes + 1)), e})
				t.dense[k] = tally.Extent{}
			}
		}
	} else {
		slices.SortFunc(t.list, func(a, b Transition) int { return cmp.Or(cmp.Compare(a.From, b.From), cmp.Compare(a.To, b.To)) })
		kept := t.list[:0]
		for _, x := range t.list {
			if k := len(kept) - 1; k >= 0 && kept[k].From == x.From && kept[k].To == x.To {
				kept[k].Extent.Add(x.Extent)
			} else {
				kept = append(kept, x)
			}
		}
		t.list = kept
	}
	out := slices.Clone(t.list)
	t.list = t.list[:0]
	return out
}

func (c *Change) zone(in Input, i int, moved []Transition) ZoneChange {
	o := in.Placement.Outlines[i]
	n := int32(len(c.Legend.Classes))
	out := ZoneChange{ID: in.Zones.Zones[i].ID, Name: in.Zones.Zones[i].Name, Area: o.Area / c.Unit.M2, Outside: o.Outside / c.Unit.M2, Transitions: moved}
	var mapped, changed tally.Extent
	var only [3]tally.Extent
	for _, t := range out.Transitions {
		switch {
		case t.From < n && t.To < n:
			mapped.Add(t.Extent)
			if t.From != t.To {
				changed.Add(t.Extent)
			}
		case t.From < n:
			only[0].Add(t.Extent)
		case t.To < n:
			only[1].Add(t.Extent)
		default:
			only[2].Add(t.Extent)
		}
	}
	out.Mapped, out.Changed = c.Area(mapped), c.Area(changed)
	out.OnlyFirst, out.OnlySecond, out.Neither = c.Area(only[0]), c.Area(only[1]), c.Area(only[2])
	return out
}

// Balances gives the balance of every class of the legend in a zone.
func (c *Change) Balances(z *ZoneChange) []Balance {
	out := make([]Balance, len(c.Legend.Classes))
	for _, t := range z.Transitions {
		if int(t.From) >= len(out) || int(t.To) >= len(out) {
			continue
		}
		a, b := &out[t.From], &out[t.To]
		a.Opening.Add(t.Extent)
		b.Closing.Add(t.Extent)
		if t.From != t.To {
			a.Reductions.Add(t.Extent)
			b.Additions.Add(t.Extent)
		}
	}
	for k := range out {
		b := &out[k]
		b.Class = c.Legend.Classes[k]
		b.OpeningArea, b.AdditionsArea = c.Area(b.Opening), c.Area(b.Additions)
		b.ReductionsArea, b.ClosingArea = c.Area(b.Reductions), c.Area(b.Closing)
		b.NetArea = c.Area(b.Closing.Minus(b.Opening))
		b.PctChange, b.PctPerYear, b.PctYearly = epoch.Rates(b.OpeningArea, b.ClosingArea, b.NetArea, c.Years)
	}
	return out
}
