package account

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"github.com/verdex-land/verdex/core/check"
	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/epoch"
)

// RemainingRow is a category of land use in a zone at the end of a year. Areas are in m². Category is one of [cover.Categories], or
// [NotMapped] or [Outside], of which only Opening and Closing are known.
type RemainingRow struct {
	Zone                                    cover.Named
	Year                                    int
	Category                                string
	Opening, Additions, Reductions, Closing float64   // opening + additions − reductions = closing
	Remaining, Converted                    float64   // remaining + converted = closing
	From                                    []float64 // by category: where what is converted comes from; nil for ground without one
}

// Ground that has no category.
const (
	NotMapped = "not mapped"
	Outside   = "outside"
)

// Remaining makes the account of land remaining in a category and land converted to it, by the category that it was converted from, in every year from the one after the first epoch to the last. Land counts as
// converted for so many years, the time of transition. category gives that of a class by its code, "" for none.
//
// The rules are those of the IPCC's guidelines for national inventories of greenhouse gases (2006, volume 4, chapter 3.2 and 3.3, approach 3): six categories, and a transition of 20 years by default. What changes
// its category between two epochs does so evenly over the time between them. What a history was before the first epoch is not known: it counts as remaining.
func (h *Histories) Remaining(years float64, category func(code string) string) ([]RemainingRow, error) {
	when, err := decimalYears(h.Epochs)
	if err != nil {
		return nil, err
	}
	first, last := int(math.Ceil(when[0]-1e-9))+1, int(math.Floor(when[len(when)-1]+1e-9))
	if first > last {
		return nil, fmt.Errorf("the epochs %s have no whole year between them, of which an account could be made", strings.Join(h.Epochs, ", "))
	}
	courses, err := h.categories(category)
	if err != nil {
		return nil, err
	}
	var out []RemainingRow
	zones := slices.Clone(h.Zones)
	if len(zones) > 1 {
		zones = append(zones, AllZones)
	}
	for z, zone := range zones {
		r := remaining{when: when, years: years}
		none, outside := 0.0, h.outside[zone.ID]
		if zone == AllZones {
			for _, one := range h.Zones {
				outside += h.outside[one.ID]
			}
		}
		for i, x := range h.List {
			switch {
			case zone != AllZones && x.Zone != z:
			case courses[i] == nil:
				none += x.M2
			default:
				r.list = append(r.list, categorised{courses[i], x.M2})
			}
		}
		for year := first; year <= last; year++ {
			out = append(out, r.at(zone, year)...)
			for _, rest := range []struct {
				name string
				area float64
			}{{NotMapped, none}, {Outside, outside}} {
				if rest.area > 0 {
					out = append(out, RemainingRow{Zone: zone, Year: year, Category: rest.name, Opening: rest.area, Closing: rest.area})
				}
			}
		}
	}
	return out, nil
}

// categories are the categories of each history by epoch, nil of one that some epoch does not map.
func (h *Histories) categories(category func(code string) string) ([][]int, error) {
	of := map[string]int{}
	var unknown []string
	courses := make([][]int, len(h.List))
	for i, x := range h.List {
		if slices.Contains(x.Codes, "") {
			continue
		}
		courses[i] = make([]int, len(x.Codes))
		for e, code := range x.Codes {
			k, known := of[code]
			if !known {
				k = slices.Index(cover.Categories, category(code))
				if of[code] = k; k < 0 {
					unknown = append(unknown, code)
				}
			}
			courses[i][e] = k
		}
	}
	if len(unknown) > 0 {
		slices.Sort(unknown)
		return nil, &NoCategory{unknown}
	}
	return courses, nil
}

// NoCategory is the error of classes without a category, by their codes.
type NoCategory struct{ Codes []string }

func (e *NoCategory) Error() string {
	return fmt.Sprintf("the classes %s have no category of land use", strings.Join(e.Codes, ", "))
}

// decimalYears are the times of labels in years, where a whole number is the end of that year: those that are years alone stand for its end, and a date for the end of its day, so
// that 2004-12-31 is 2004 and 2005-07-02 about the middle between 2004 and 2005.
func decimalYears(labels []string) ([]float64, error) {
	var out []float64
	for _, l := range labels {
		t, year, ok := epoch.When(l)
		if !ok {
			return nil, fmt.Errorf("the epoch %q is neither a year nor a date, and the account is one of years", l)
		}
		y := float64(t.Year())
		if !year {
			y += float64(t.YearDay())/float64(time.Date(t.Year(), time.December, 31, 0, 0, 0, 0, time.UTC).YearDay()) - 1
		}
		if n := len(out); n > 0 && out[n-1] >= y {
			return nil, fmt.Errorf("the epochs %s are not in the order of time", strings.Join(labels, ", "))
		}
		out = append(out, y)
	}
	if len(out) < 2 {
		return nil, fmt.Errorf("there is one epoch only (%s), and the account takes two or more", strings.Join(labels, ", "))
	}
	return out, nil
}

// remaining are the histories of a zone while its account is made.
type remaining struct {
	when  []float64 // by epoch
	years float64
	list  []categorised
}

type categorised struct {
	course []int // by epoch: the category
	m2     float64
}

// at are the rows of a year: of the categories that occur in the zone at any time.
func (r *remaining) at(zone cover.Named, year int) (out []RemainingRow) {
	n := len(cover.Categories)
	rows := make([]RemainingRow, n)
	occurs := make([]bool, n)
	for k := range rows {
		rows[k] = RemainingRow{Zone: zone, Year: year, Category: cover.Categories[k], From: make([]float64, n)}
	}
	y := float64(year)
	for _, x := range r.list {
		for _, k := range x.course {
			occurs[k] = true
		}
		r.state(x.course, y-1, func(k, _ int, share float64) { rows[k].Opening += share * x.m2 })
		r.state(x.course, y, func(k, from int, share float64) {
			if rows[k].Closing += share * x.m2; from < 0 {
				rows[k].Remaining += share * x.m2
			} else {
				rows[k].Converted += share * x.m2
				rows[k].From[from] += share * x.m2
			}
		})
		for i := range len(r.when) - 1 {
			a, b := x.course[i], x.course[i+1]
			if share := r.share(i, y-1, y); a != b && share > 0 {
				rows[a].Reductions += share * x.m2
				rows[b].Additions += share * x.m2
			}
		}
	}
	for k := range rows {
		if occurs[k] {
			out = append(out, rows[k])
		}
	}
	return out
}

// share is how much of the time between the i-th epoch and the next lies between two times.
func (r *remaining) share(i int, from, to float64) float64 {
	a, b := r.when[i], r.when[i+1]
	return max(0, min(b, to)-max(a, from)) / (b - a)
}

// state calls add for the parts of a history at a time: their category, the one that they were converted from within the time of transition, -1 where they were not, and their share.
func (r *remaining) state(course []int, y float64, add func(k, from int, share float64)) {
	i := 0 // the epoch before
	for i < len(r.when)-2 && y > r.when[i+1] {
		i++
	}
	earlier := func(k int, share float64) { // what has been in its category since the i-th epoch or before
		for j := i - 1; j >= 0 && share > 0; j-- {
			if course[j] != course[j+1] {
				young := share * r.share(j, y-r.years, y)
				if young > 0 {
					add(k, course[j], young)
				}
				share -= young
				break
			}
		}
		if share > 0 {
			add(k, -1, share)
		}
	}
	a, b := course[i], course[i+1]
	if a == b {
		earlier(a, 1)
		return
	}
	moved, young := r.share(i, r.when[i], y), r.share(i, y-r.years, y)
	if young > 0 {
		add(b, a, young)
	}
	if moved > young {
		add(b, -1, moved-young)
	}
	if moved < 1 {
		earlier(a, 1-moved)
	}
}

// CheckRemaining checks that the account balances and adds up to the zones.
func (h *Histories) CheckRemaining(list []RemainingRow) []check.Check {
	var balance []check.Finding
	whole, sums := map[string]float64{}, map[string]map[int]float64{}
	for _, x := range h.List {
		whole[h.Zones[x.Zone].ID] += x.M2
	}
	for z, a := range h.outside {
		whole[z] += a
	}
	total := 0.0
	for _, a := range whole {
		total += a
	}
	whole[AllZones.ID] = total
	for _, r := range list {
		if sums[r.Zone.ID] == nil {
			sums[r.Zone.ID] = map[int]float64{}
		}
		sums[r.Zone.ID][r.Year] += r.Closing
		d := r.Opening + r.Additions - r.Reductions - r.Closing
		if r.From != nil {
			d = math.Max(math.Abs(d), math.Abs(r.Remaining+r.Converted-r.Closing))
		}
		if math.Abs(d) > 1e-9*whole[r.Zone.ID] {
			balance = append(balance, check.Finding{Epoch: fmt.Sprint(r.Year), ZoneID: r.Zone.ID, Class: r.Category, Value: d, Text: fmt.Sprintf("%s %d %s (%.4g m²)", r.Zone.ID, r.Year, r.Category, d)})
		}
	}
	for _, z := range append(slices.Clone(h.Zones), AllZones) {
		for year, a := range sums[z.ID] {
			if d := a - whole[z.ID]; math.Abs(d) > 1e-9*whole[z.ID] {
				balance = append(balance, check.Finding{Epoch: fmt.Sprint(year), ZoneID: z.ID, Value: d, Text: fmt.Sprintf("%s %d (%.4g m²)", z.ID, year, d)})
			}
		}
	}
	return []check.Check{
		check.Judge("balance", "opening + additions − reductions = closing = remaining + converted for every category and year, and the categories make each zone", "categories do not balance", balance),
		rowsCheck(h.missing),
	}
}
