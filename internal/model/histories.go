package model

import (
	"slices"
	"strconv"
	"strings"

	"github.com/verdex-land/verdex/core/area"
	"github.com/verdex-land/verdex/core/change"
	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/epoch"
	"github.com/verdex-land/verdex/core/tally"
)

// HistoriesOf is the table of histories, of which each zone shows at most top by themselves, 0 for all; the others are one row.
func HistoriesOf(h *change.Histories, top int) *Table {
	t := &Table{Name: historiesKind.Name, Title: "Histories in " + h.Unit.Label, Columns: historiesKind.Columns, Count: -1}
	t.Rows = func(yield func([]any) bool) {
		row := make([]any, 0, len(t.Columns))
		epochs := strings.Join(h.Epochs, ";")
		for i := range h.Zones {
			z := &h.Zones[i]
			whole := z.Outside
			for k := range z.List {
				whole += h.Area(z.List[k].Extent)
			}
			for _, r := range z.Rare {
				whole += h.Area(r.Extent)
			}
			var others tally.Extent
			for k := range z.List {
				x := &z.List[k]
				if top > 0 && k >= top {
					others.Add(x.Extent)
					continue
				}
				since := any(nil)
				if e := x.Since(); e >= 0 {
					since = h.Epochs[e]
				}
				a := h.Area(x.Extent)
				row = append(row[:0], z.ID, z.Name, epochs, historyNames(h, x), historyCodes(h, x), x.Course().String(), 1, x.Changes(), since, a, h.Unit.Name, area.Percent(a, whole))
				if !yield(row) {
					return
				}
			}
			type rest struct {
				name string
				n    any
				area float64
				is   bool
			}
			list := []rest{{"other", len(z.List) - top, h.Area(others), top > 0 && len(z.List) > top}}
			for course, r := range z.Rare {
				list = append(list, rest{change.Course(course).String(), r.Histories, h.Area(r.Extent), r.Histories > 0})
			}
			for _, r := range append(list, rest{"outside", nil, z.Outside, z.Outside > 0}) {
				if r.is {
					row = append(row[:0], z.ID, z.Name, epochs, nil, nil, r.name, r.n, nil, nil, r.area, h.Unit.Name, area.Percent(r.area, whole))
					if !yield(row) {
						return
					}
				}
			}
		}
	}
	return t
}

// Mended is a table of changes with one more column: what was mended in the zone of each row.
func Mended(t *Table, c *change.Changes) *Table {
	by := map[string]float64{}
	for i := range c.Pairs[0].Zones {
		by[c.Pairs[0].Zones[i].ID] = c.Mended[i]
	}
	zone := slices.IndexFunc(t.Columns, func(c Column) bool { return c.Name == "zone_id" })
	out := t.with(append(slices.Clone(t.Columns), columns["mended"]))
	out.Rows = func(yield func([]any) bool) {
		row := make([]any, 0, len(out.Columns))
		for r := range t.Rows {
			if row = append(append(row[:0], r...), by[r[zone].(string)]); !yield(row) {
				return
			}
		}
	}
	return out
}

// SinceOf is the table of how long the ground of each class has been what it is: the area by the epoch since which it has been that class, the last one first.
func SinceOf(h *change.Histories) *Table {
	t := &Table{Name: sinceKind.Name, Title: "Since when, in " + h.Unit.Label, Columns: sinceKind.Columns, Count: -1}
	last := len(h.Epochs) - 1
	t.Rows = func(yield func([]any) bool) {
		for i := range h.Zones {
			z := &h.Zones[i]
			sums := map[int32][]tally.Extent{}
			for k := range z.List {
				if e := z.List[k].Since(); e >= 0 {
					code := z.List[k].Codes[last]
					if sums[code] == nil {
						sums[code] = make([]tally.Extent, last+1)
					}
					sums[code][e].Add(z.List[k].Extent)
				}
			}
			for _, class := range h.Legend.Classes {
				by := sums[int32(class.Code)]
				if by == nil {
					continue
				}
				var all tally.Extent
				years := 0.0
				for e := range by {
					all.Add(by[e])
					years += h.Area(by[e]) * epoch.Years(h.Epochs[e], h.Epochs[last])
				}
				whole := h.Area(all)
				for e := last; e >= 0; e-- {
					if by[e].IsZero() {
						continue
					}
					a := h.Area(by[e])
					if !yield([]any{z.ID, z.Name, h.Epochs[last], class.ID(), class.Name, h.Epochs[e], epoch.Years(h.Epochs[e], h.Epochs[last]), a, h.Unit.Name, area.Percent(a, whole), years / whole}) {
						return
					}
				}
			}
		}
	}
	return t
}

// FlickerOf is the table of what changes and has its old class back.
func FlickerOf(c *change.Changes) *Table {
	t := &Table{Name: flickerKind.Name, Title: "What goes back, in " + c.Unit.Label, Columns: flickerKind.Columns, Count: -1}
	t.Rows = func(yield func([]any) bool) {
		for _, f := range c.Flips {
			for i, list := range f.Pairs {
				z := &c.Pairs[0].Zones[i]
				for _, p := range list {
					a, b := c.Legend.Classes[p.Class], c.Legend.Classes[p.Between]
					row := []any{z.ID, z.Name, strings.Join(f.Epochs[:], ";"), a.ID(), a.Name, b.ID(), b.Name, p.Area, p.Expected, p.Unexplained(), c.Unit.Name, area.Percent(p.Area, f.Changed[i])}
					if !c.Errors {
						row[8], row[9] = nil, nil
					}
					if !yield(row) {
						return
					}
				}
			}
		}
	}
	return t
}

// historyNames are the names of the classes of a history.
func historyNames(h *change.Histories, x *change.History) string {
	return eachClass(h, x, " › ", "not mapped", func(c cover.Class) string { return c.Name })
}

// historyCodes are their codes.
func historyCodes(h *change.Histories, x *change.History) string {
	return eachClass(h, x, ";", "?", cover.Class.ID)
}

func eachClass(h *change.Histories, x *change.History, between, none string, of func(cover.Class) string) string {
	var out strings.Builder
	for e, code := range x.Codes {
		if e > 0 {
			out.WriteString(between)
		}
		switch class, ok := h.Legend.Find(int(code)); {
		case code == change.Unmapped:
			out.WriteString(none)
		case ok:
			out.WriteString(of(class))
		default:
			out.WriteString(strconv.Itoa(int(code)))
		}
	}
	return out.String()
}
