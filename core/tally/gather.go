package tally

import (
	"slices"

	"github.com/verdex-land/verdex/core/spread"
)

// gather joins the totals of all workers.
func (p *pass) gather(workers []*worker, numbers [][]float64) *Tally {
	t := &Tally{Quantum: p.areas.Quantum, Tiles: int(p.read.Load()), Numbers: numbers, Members: p.req.groups()}
	for n := range p.req.groups() {
		sequences := p.sequences(workers, n)
		zones := make([]Zone, len(p.req.Zones.Zones))
		spread.Over(len(zones), func() func(int) {
			var g gatherer
			return func(i int) { zones[i] = g.zone(workers, n, int32(i)) }
		})
		for _, w := range workers {
			w.groups[n] = group{kernel: w.groups[n].kernel}
		}
		t.Groups, t.Sequences = append(t.Groups, zones), append(t.Sequences, sequences)
	}
	t.Zones = t.Groups[0]
	t.Overlaps, t.ManyOverlaps = overlaps(p, workers)
	return t
}

// gatherer joins what the workers have found in one zone after another.
type gatherer struct {
	found   []foundValue
	at      map[Value]int // place in found, for workers after the first
	values  []Value       // room for those of zones
	extents []Extent
	// The slots of the last zone that alone told, of which kernel, and their values, which the next zone mostly has too.
	slots []int32
	of    *kernel
	same  []Value
	order []int // of the slots by value, nil where they are in order
}

type foundValue struct {
	value  Value
	extent Extent
}

func (g *gatherer) zone(workers []*worker, group int, i int32) (z Zone) {
	g.found = g.found[:0]
	var only *totals
	var of *kernel
	several := false
	for _, w := range workers {
		if got := w.groups[group].zones[i]; got != nil {
			several = only != nil
			only, of = got, w.groups[group].kernel
		}
	}
	if only == nil {
		return z
	}
	if !several {
		if z, ok := g.alone(of, only); ok {
			return z
		}
	}
	for _, w := range workers {
		if got := w.groups[group].zones[i]; got != nil {
			g.join(w.groups[group].kernel, got)
		}
	}
	byValue := func(a, b foundValue) int {
		return slices.Compare(a.value[:], b.value[:])
	}
	if !slices.IsSortedFunc(g.found, byValue) {
		slices.SortFunc(g.found, byValue)
	}
	n := len(g.found)
	if len(g.values) < n {
		g.values = make([]Value, max(n, 1<<12))
	}
	if len(g.extents) < n {
		g.extents = make([]Extent, max(n, 1<<12))
	}
	z.Values, z.Extents = g.values[:0:n], g.extents[:0:n]
	g.values, g.extents = g.values[n:], g.extents[n:]
	for i := range g.found {
		f := &g.found[i]
		if f.extent.IsZero() {
			continue
		}
		if last := len(z.Values) - 1; last >= 0 && z.Values[last] == f.value { // a nodata value and NaN are both Missing
			z.Extents[last].Add(f.extent)
			continue
		}
		z.Values, z.Extents = append(z.Values, f.value), append(z.Extents, f.extent)
	}
	return z
}

// alone is the zone of what one worker has found, if that is in order as it is, as it is when the zone lies in one window. The extents are not
// copied, and zones of the same values share the list of them: there may be a hundred thousand zones.
func (g *gatherer) alone(kernel *kernel, got *totals) (z Zone, ok bool) {
	n := len(got.slots)
	for k := range got.extents[:n] {
		if got.extents[k].IsZero() {
			return z, false
		}
	}
	if g.of != kernel || !slices.Equal(g.slots, got.slots) {
		order, values := make([]int, n), make([]Value, n)
		for k := range order {
			order[k] = k
		}
		compare := func(a, b int) int {
			x, y := kernel.value(got.slots[a]), kernel.value(got.slots[b])
			return slices.Compare(x[:], y[:])
		}
		slices.SortFunc(order, compare)
		for k, i := range order {
			values[k] = kernel.value(got.slots[i])
			if k > 0 && values[k-1] == values[k] {
				return z, false
			}
		}
		if g.of, g.slots, g.same, g.order = kernel, got.slots, values, order; slices.IsSorted(order) {
			g.order = nil
		}
	}
	extents := got.extents[:n:n]
	if g.order != nil { // nodata comes first, wherever its number lies
		if len(g.extents) < n {
			g.extents = make([]Extent, max(n, 1<<12))
		}
		extents, g.extents = g.extents[:n:n], g.extents[n:]
		for k, i := range g.order {
			extents[k] = got.extents[i]
		}
	}
	return Zone{g.same, extents}, true
}

// join adds what a worker has found in the zone.
func (g *gatherer) join(kernel *kernel, got *totals) {
	const few = 32
	before := len(g.found) // of other workers: a worker finds a value once, but for Missing
	if before > few {
		if g.at == nil {
			g.at = map[Value]int{}
		}
		clear(g.at)
		for k, f := range g.found {
			g.at[f.value] = k
		}
	}
	for m, s := range got.slots {
		v, k := kernel.value(s), -1
		switch {
		case before == 0:
		case before > few:
			if found, ok := g.at[v]; ok {
				k = found
			}
		default:
			k = slices.IndexFunc(g.found[:before], func(f foundValue) bool { return f.value == v })
		}
		if k >= 0 {
			g.found[k].extent.Add(got.extents[m])
		} else {
			g.found = append(g.found, foundValue{v, got.extents[m]})
		}
	}
}
