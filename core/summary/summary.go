// Package summary computes statistics of measurements in zones.
package summary

import (
	"cmp"
	"context"
	"fmt"
	"math"
	"slices"

	"github.com/verdex-land/verdex/core/raster/view"

	"github.com/verdex-land/verdex/core/extent"

	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/tally"
	"github.com/verdex-land/verdex/core/zone"
)

// Request is a job of summarising.
type Request struct {
	Values    raster.Source
	Classes   raster.Source // on the cells of Values; nil for zones as a whole
	Zones     *zone.Set
	Placement *zone.Placement
	Centres   bool
	Threads   int
	Stats     []*Statistic
	Progress  func(done, total int)
}

// Summary is the statistics of a raster of measurements in zones.
type Summary struct {
	Stats []*Statistic
	Rows  []Row
	// Infinite is in how many zones cells hold an infinite number, as a division by zero leaves it. They take no part.
	Infinite int
}

// Row is the statistics in one zone, or in one class of it. Values are NaN where there is no cell.
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
		if s.counted() {
			return nil, fmt.Errorf("%w; %s means nothing for such values: leave it out", err, s.Name)
		}
	}
	if req.Classes == nil {
		out.Rows, err = req.moments(ctx, req.Values, math.NaN(), out)
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

// fromTally summarises one zone whose values have been counted one by one.
func (req *Request) fromTally(z int, t *tally.Tally) (rows []Row, infinite bool) {
	got, unit := &t.Zones[z], t.Quantum
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
		m := measured{list: list, unit: unit}
		for _, w := range list {
			m.extent.Add(w.extent)
		}
		if len(list) > 0 {
			m.least, m.greatest = list[0].value, list[len(list)-1].value
		}
		for _, s := range req.Stats {
			row.Values = append(row.Values, m.value(s))
		}
		rows = append(rows, row)
	}
	return rows, infinite
}

// byClass summarises each class of each zone by itself, where values are too many to be counted one by one.
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
		rows, err := req.moments(ctx, masked, class, out)
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

// moments summarises all zones by moments and, for percentiles, by narrowing their values down.
func (req *Request) moments(ctx context.Context, values raster.Source, class float64, out *Summary) ([]Row, error) {
	m, unit, err := tally.MeasureMoments(ctx, req.tally(values))
	if err != nil {
		return nil, err
	}
	var shares []int
	for _, s := range req.Stats {
		for _, n := range s.percents {
			if !slices.Contains(shares, n) {
				shares = append(shares, n)
			}
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
		one := measured{extent: m[z].Extent, unit: unit, least: m[z].Least, greatest: m[z].Greatest, quantiles: map[int]float64{}}
		one.area, one.square, one.share = m[z].Sums(unit)
		one.total = whole(m[z].Extent.Area(unit))
		for i, n := range shares {
			one.quantiles[n] = quantiles[z][i]
		}
		for _, s := range req.Stats {
			row.Values = append(row.Values, one.value(s))
		}
		rows = append(rows, row)
	}
	return rows, nil
}
