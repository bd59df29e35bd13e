// Package summary computes statistics of measurements in zones.
package summary

import (
	"cmp"
	"context"
	"fmt"
	"math"
	"math/big"
	"slices"
	"strconv"
	"strings"

	"github.com/verdex-land/verdex/core/raster/view"

	"github.com/verdex-land/verdex/core/extent"

	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/tally"
	"github.com/verdex-land/verdex/core/zone"
)

// Statistic is a number that tells of the values in a zone, by name: count, area, mean, std, min, max, range, median,
// p1 to p99, sum, variety, majority or minority.
//
//   - count is the number of cells, cut ones by their share; area their true area in m².
//   - mean and std weigh each value by its true area in the zone; std is that of the whole population, not of a sample.
//   - median and pN are the least value such that at least half, or N percent, of the area has it or less.
//   - sum adds up value · share of the cell, as is right for cells that hold amounts, such as people.
//   - variety is how many different values there are, majority the one with most area, minority the one with least; in a
//     tie the lowest ([raster.Dominant]).
//
// Cells that are nodata, and values that are no finite numbers, take no part.
type Statistic string

// Statistics are all but the percentiles other than p10 and p90.
var Statistics = []Statistic{"count", "area", "mean", "std", "min", "max", "range", "median", "p10", "p90", "sum", "variety", "majority", "minority"}

// ParseStatistics reads names separated by commas.
func ParseStatistics(text string) (out []Statistic, err error) {
	for _, name := range strings.Split(text, ",") {
		s := Statistic(strings.ToLower(strings.TrimSpace(name)))
		_, percentile := s.share()
		if !percentile && !slices.Contains(Statistics, s) {
			return nil, fmt.Errorf("the statistic %q is not known: choose from count, area, mean, std, min, max, range, median, sum, variety, majority, minority and p1 to p99", name)
		}
		if slices.Contains(out, s) {
			return nil, fmt.Errorf("the statistic %s is named twice", s)
		}
		out = append(out, s)
	}
	return out, nil
}

// share is the part in percent that a percentile stands for.
func (s Statistic) share() (int, bool) {
	if s == "median" {
		return 50, true
	}
	n, err := strconv.Atoi(strings.TrimPrefix(string(s), "p"))
	return n, strings.HasPrefix(string(s), "p") && err == nil && n >= 1 && n <= 99
}

// byValue reports whether a statistic needs every value by itself.
func (s Statistic) byValue() bool { return s == "variety" || s == "majority" || s == "minority" }

// SummaryRequest is a job of summarising.
type Request struct {
	Values    raster.Source
	Classes   raster.Source // on the cells of Values; nil for zones as a whole
	Zones     *zone.Set
	Placement *zone.Placement
	Centres   bool
	Threads   int
	Stats     []Statistic
	Progress  func(done, total int)
}

// Summary is the statistics of a raster of measurements in zones.
type Summary struct {
	Stats []Statistic
	Rows  []Row
	// Infinite is in how many zones cells hold an infinite number, as a division by zero leaves it. They take no part.
	Infinite int
}

// SummaryRow is the statistics in one zone, or in one class of it. Values are NaN where there is no cell.
type Row struct {
	Zone   int
	Class  float64 // the value of the class raster; NaN for the zone as a whole
	Values []float64
}

// Summarise does the job. Zones come in their order, classes by value.
func Summarise(ctx context.Context, req Request) (*Summary, error) {
	out := &Summary{Stats: req.Stats}
	layers := []raster.Source{req.Values}
	if req.Classes != nil {
		layers = append(layers, req.Classes)
	}
	t, err := tally.Measure(ctx, req.tally(layers...))
	if err == nil {
		for z := range req.Zones.Zones {
			rows, infinite := req.fromTally(z, t)
			if out.Rows = append(out.Rows, rows...); infinite {
				out.Infinite++
			}
		}
		return out, nil
	}
	if !tally.IsTooMany(err) {
		return nil, err
	}
	for _, s := range req.Stats {
		if s.byValue() {
			return nil, fmt.Errorf("%w; %s tells nothing of such values, so leave it out", err, s)
		}
	}
	if req.Classes == nil {
		out.Rows, err = req.measured(ctx, req.Values, math.NaN(), out)
		return out, err
	}
	classes, err := tally.Measure(ctx, req.tally(req.Classes))
	if err != nil {
		return nil, err
	}
	return out, req.byClass(ctx, classes, out)
}

func (req *Request) tally(layers ...raster.Source) tally.Request {
	return tally.Request{Layers: layers, Zones: req.Zones, Placement: req.Placement, Centres: req.Centres, Threads: req.Threads, Progress: req.Progress}
}

// weighted is a value with the cells that hold it.
type weighted struct {
	value  float64
	extent tally.Extent
}

// fromTally tells of one zone whose values have been counted one by one.
func (req *Request) fromTally(z int, t *tally.Tally) (rows []Row, infinite bool) {
	got, unit := &t.Zones[z], t.Unit
	by := map[tally.Slot][]weighted{} // by class
	var order []tally.Slot
	for i, v := range got.Values {
		key := v[1] // Missing where there are no classes
		if req.Classes != nil && key == tally.Missing {
			continue
		}
		if _, known := by[key]; !known {
			order = append(order, key)
			by[key] = nil
		}
		if value := t.Number(0, 0, v[0]); math.IsInf(value, 0) {
			infinite = true
		} else if v[0] != tally.Missing {
			by[key] = append(by[key], weighted{value, got.Extents[i]})
		}
	}
	if req.Classes == nil && len(order) == 0 {
		order = []tally.Slot{tally.Missing}
	}
	slices.Sort(order)
	for _, key := range order {
		list := by[key]
		slices.SortFunc(list, func(a, b weighted) int { return cmp.Compare(a.value, b.value) })
		row := Row{Zone: z, Class: math.NaN()}
		if req.Classes != nil {
			row.Class = t.Number(0, 1, key)
		}
		for _, s := range req.Stats {
			row.Values = append(row.Values, statistic(s, list, unit))
		}
		rows = append(rows, row)
	}
	return rows, infinite
}

const precision = 400

func whole(v float64) *big.Float { return new(big.Float).SetPrec(precision).SetFloat64(v) }

// statistic is one of a sorted list of values.
func statistic(s Statistic, list []weighted, unit float64) float64 {
	var all tally.Extent
	for _, w := range list {
		all.Add(w.extent)
	}
	switch {
	case s == "count":
		return all.CellCount()
	case s == "area":
		return all.Area(unit)
	case s == "variety":
		return float64(len(list))
	case len(list) == 0:
		return math.NaN()
	}
	if n, ok := s.share(); ok {
		need := new(big.Int).Mul(all.Fixed(), big.NewInt(int64(n)))
		sum := new(big.Int)
		for _, w := range list {
			sum.Add(sum, w.extent.Fixed())
			if new(big.Int).Mul(sum, big.NewInt(100)).Cmp(need) >= 0 {
				return w.value
			}
		}
	}
	switch s {
	case "min":
		return list[0].value
	case "max":
		return list[len(list)-1].value
	case "range":
		return list[len(list)-1].value - list[0].value
	case "majority", "minority":
		best := list[0]
		for _, w := range list[1:] {
			if c := w.extent.Fixed().Cmp(best.extent.Fixed()); s == "majority" && c > 0 || s == "minority" && c < 0 {
				best = w
			}
		}
		return best.value
	}
	// Sums in big numbers: exact, and squares do not cancel.
	area, square, share, total := whole(0), whole(0), whole(0), whole(0)
	for _, w := range list {
		a := new(big.Float).SetPrec(precision).SetInt(w.extent.Fixed())
		v := whole(w.value)
		total.Add(total, a)
		area.Add(area, new(big.Float).Mul(a, v))
		square.Add(square, new(big.Float).Mul(new(big.Float).Mul(a, v), v))
		share.Add(share, new(big.Float).Mul(whole(w.extent.CellCount()), v))
	}
	return fromSums(s, area, square, share, total)
}

// fromSums is mean, std or sum from the sums of value·area, value²·area, value·share and area.
func fromSums(s Statistic, area, square, share, total *big.Float) float64 {
	f := func(v *big.Float) float64 { x, _ := v.Float64(); return x }
	if s == "sum" {
		return f(share)
	}
	if total.Sign() <= 0 {
		return math.NaN()
	}
	mean := new(big.Float).SetPrec(precision).Quo(area, total)
	if s == "mean" {
		return f(mean)
	}
	variance := new(big.Float).SetPrec(precision).Quo(square, total)
	variance.Sub(variance, new(big.Float).SetPrec(precision).Mul(mean, mean))
	return math.Sqrt(math.Max(0, f(variance)))
}

// byClass tells of each class of each zone by itself, where values are too many to be counted one by one.
func (req *Request) byClass(ctx context.Context, classes *tally.Tally, out *Summary) error {
	var all []tally.Slot
	for s, occurs := range extent.Occurring(classes, 0, 0) {
		if slot := tally.Slot(s); occurs && slot != tally.Missing {
			all = append(all, slot)
		}
	}
	byZone := make([][]Row, len(req.Zones.Zones))
	for _, slot := range all {
		class := classes.Number(0, 0, slot)
		masked, err := view.Where(req.Values, req.Classes, class)
		if err != nil {
			return err
		}
		rows, err := req.measured(ctx, masked, class, out)
		if err != nil {
			return err
		}
		for _, r := range rows {
			if slices.ContainsFunc(classes.Zones[r.Zone].Values, func(v tally.Value) bool { return v[0] == slot }) {
				byZone[r.Zone] = append(byZone[r.Zone], r)
			}
		}
	}
	for _, rows := range byZone {
		out.Rows = append(out.Rows, rows...)
	}
	return nil
}

// measured tells of all zones by moments and, for percentiles, by narrowing their values down.
func (req *Request) measured(ctx context.Context, values raster.Source, class float64, out *Summary) ([]Row, error) {
	m, unit, err := tally.MeasureMoments(ctx, req.tally(values))
	if err != nil {
		return nil, err
	}
	var shares []int
	for _, s := range req.Stats {
		if n, ok := s.share(); ok {
			shares = append(shares, n)
		}
	}
	var quantiles [][]float64
	if len(shares) > 0 {
		if quantiles, err = tally.Quantiles(ctx, req.tally(values), shares); err != nil {
			return nil, err
		}
	}
	var rows []Row
	for z := range m {
		row := Row{Zone: z, Class: class}
		if m[z].Infinite > 0 {
			out.Infinite++
		}
		area, square, share := m[z].Sums(unit)
		total := whole(m[z].Extent.Area(unit))
		next := 0
		for _, s := range req.Stats {
			var v float64
			switch _, percentile := s.share(); {
			case percentile:
				v = quantiles[z][next]
				next++
			case s == "count":
				v = m[z].Extent.CellCount()
			case s == "area":
				v = m[z].Extent.Area(unit)
			case s == "min":
				v = m[z].Least
			case s == "max":
				v = m[z].Greatest
			case s == "range":
				v = m[z].Greatest - m[z].Least
			default:
				v = fromSums(s, area, square, share, total)
				if m[z].Extent.IsZero() {
					v = math.NaN()
				}
			}
			row.Values = append(row.Values, v)
		}
		rows = append(rows, row)
	}
	return rows, nil
}
