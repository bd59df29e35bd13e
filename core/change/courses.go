package change

import (
	"encoding/binary"
	"slices"

	"github.com/verdex-land/verdex/core/area"
	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/tally"
)

// courses are what the values of the group of all epochs are at each epoch: places in the legend, whose length stands for ground that is not mapped.
type courses struct {
	group  int
	places [][]int32 // by epoch and slot
	none   int32
	steady int
	of     [][]int32 // by sequence, where the group has some; mended
	mended []bool
}

// byCourses reports whether the values of the tally have to be looked up as courses: they are sequences, or something is mended.
func (c *Changes) byCourses() bool { return c.Steady > 0 || c.courses != nil && c.courses.of != nil }

// newCourses is nil for a tally without a group of all epochs.
func newCourses(in *Input, places [][]int32, none int32) *courses {
	n := len(in.Epochs)
	group := slices.IndexFunc(in.Tally.Members, func(members []int) bool { return len(members) == n })
	if group < 0 {
		return nil
	}
	c := &courses{group: group, places: places, none: none, steady: in.Steady}
	if n > len(tally.Value{}) {
		c.of = [][]int32{} // there are none where no cell meets a zone
		for _, s := range in.Tally.Sequences[group] {
			course := make([]int32, n)
			c.mended = append(c.mended, c.course(course, s))
			c.of = append(c.of, course)
		}
	}
	return c
}

// course fills dst with the places of slots, and reports whether something was mended.
func (c *courses) course(dst []int32, slots []tally.Slot) bool {
	for e, s := range slots {
		dst[e] = c.places[e][s]
	}
	return mend(dst, c.steady, c.none)
}

// reader returns a function that gives the places of a value, for one goroutine at a time, and whether something was mended. The list serves until the next call.
func (c *courses) reader() func(v *tally.Value) ([]int32, bool) {
	if c == nil {
		return nil
	}
	if n := len(c.places); c.of == nil {
		dst := make([]int32, n)
		return func(v *tally.Value) ([]int32, bool) { return dst, c.course(dst, v[:n]) }
	}
	return func(v *tally.Value) ([]int32, bool) { return c.of[v[0]], c.mended[v[0]] }
}

// numbered numbers the histories that zones have: it returns a function that gives that of a value, and the codes of each.
func (c *courses) numbered(l *cover.Legend, zones []tally.Zone) (number func(v *tally.Value) int32, codes [][]int32) {
	numbers := map[string]int32{}
	add := func(course []int32) int32 {
		key, list := make([]byte, 0, 4*len(course)), make([]int32, len(course))
		for e, p := range course { // why ground is not mapped makes no other history
			if list[e] = Unmapped; p < c.none {
				list[e] = int32(l.Classes[p].Code)
			}
			key = binary.LittleEndian.AppendUint32(key, uint32(list[e]))
		}
		n, ok := numbers[string(key)]
		if !ok {
			n = int32(len(codes))
			numbers[string(key)] = n
			codes = append(codes, list)
		}
		return n
	}
	if c.of != nil {
		var by []int32 // by sequence
		for _, course := range c.of {
			by = append(by, add(course))
		}
		return func(v *tally.Value) int32 { return by[v[0]] }, codes
	}
	by, at := map[tally.Value]int32{}, c.reader()
	for i := range zones {
		for k := range zones[i].Values {
			v := &zones[i].Values[k]
			if _, known := by[*v]; !known {
				course, _ := at(v)
				by[*v] = add(course)
			}
		}
	}
	return func(v *tally.Value) int32 { return by[*v] }, codes
}

// mended is the ground of each zone on which something is mended.
func (c *Changes) mended(in *Input) []float64 {
	out := make([]float64, len(in.Zones.Zones))
	at := c.courses.reader()
	for i := range out {
		var sum tally.Extent
		z := &in.Tally.Groups[c.courses.group][i]
		for k := range z.Values {
			if _, mended := at(&z.Values[k]); mended {
				sum.Add(z.Extents[k])
			}
		}
		out[i] = sum.Area(in.Tally.Quantum) / c.Unit.M2
	}
	return out
}

// MendedShare is what part of the ground that both ends of the first pair map was mended in all zones, in percent.
func (c *Changes) MendedShare() (mended, percent float64) {
	mapped := 0.0
	for i, m := range c.Mended {
		mended += m
		mapped += c.Pairs[0].Zones[i].Mapped
	}
	return mended, area.Percent(mended, mapped)
}

// mend changes a course in which a class holds for fewer than n epochs between epochs of another one, the same before and after: it becomes that one, always the earliest first, until there is none.
// Epochs that do not map the ground, at which the course has none, are neither mended nor are they such neighbours. It reports whether it has changed anything.
func mend(course []int32, n int, none int32) (changed bool) {
	for i := 1; n > 1 && i < len(course); {
		from := i
		for i < len(course) && course[i] == course[from] {
			i++
		}
		before := course[from-1]
		if i < len(course) && i-from < n && course[from] != none && before != none && course[from] != before && course[i] == before {
			for e := from; e < i; e++ {
				course[e] = before
			}
			changed, i = true, 1 // what is longer now may be between others
		}
	}
	return changed
}
