package extent

import (
	"fmt"
	"math"
	"slices"
	"sort"

	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/tally"
	"github.com/verdex-land/verdex/core/text"
)

// SameValues reports whether two lists are one and the same.
func SameValues(a, b []tally.Value) bool {
	return len(a) == len(b) && (len(a) == 0 || &a[0] == &b[0])
}

// Meanings says what each value of the k-th layer of a group counts as, by slot.
func Meanings(c *cover.Coder, name string, t *tally.Tally, group, k int) ([]cover.Meaning, error) {
	numbers := t.Numbers[t.Members[group][k]]
	out := make([]cover.Meaning, len(numbers))
	known := make([]bool, len(numbers))
	for s, v := range numbers {
		out[s], known[s] = c.CodeOf(v, tally.Slot(s) == tally.Missing)
	}
	if !slices.Contains(known, false) {
		return out, nil
	}
	missing := make([]float64, len(numbers))
	for _, z := range t.Groups[group] {
		for i := range z.Values {
			if s := t.SlotOf(group, k, &z.Values[i]); !known[s] {
				missing[s] += z.Extents[i].CellCount()
			}
		}
	}
	var items []string
	for s, cells := range missing {
		if cells > 0 {
			items = append(items, fmt.Sprintf("%s (%.0f cells)", cover.ValueText(numbers[s]), math.Ceil(cells)))
		}
	}
	if len(items) == 0 { // values that no zone has
		return out, nil
	}
	if c.Crosswalk == nil {
		return nil, fmt.Errorf("%s: %w", name, cover.ErrNoLine)
	}
	what := "1 value that occurs"
	if len(items) > 1 {
		what = fmt.Sprintf("%d values that occur", len(items))
	}
	return nil, fmt.Errorf("%s: %s has no line for %s: %s: add lines for them, or one for else", name, c.Crosswalk.Source, what, text.List(items, 12))
}

// Occurring are the slots of the k-th layer of a group that some zone has.
func Occurring(t *tally.Tally, group, k int) []bool {
	out := make([]bool, len(t.Numbers[t.Members[group][k]]))
	var last []tally.Value
	for _, z := range t.Groups[group] {
		if SameValues(z.Values, last) {
			continue
		}
		last = z.Values
		for i := range z.Values {
			out[t.SlotOf(group, k, &z.Values[i])] = true
		}
	}
	return out
}

// LegendOf makes a legend of the classes that occur.
func LegendOf(meanings []cover.Meaning, occurs []bool, palette []raster.Color) *cover.Legend {
	var codes []float64
	for s, m := range meanings {
		if m.Kind == cover.Classified && occurs[s] {
			codes = append(codes, float64(m.Code))
		}
	}
	sort.Float64s(codes)
	return cover.LegendOfValues(codes, palette)
}
