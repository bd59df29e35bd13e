package tally

import (
	"cmp"
	"slices"

	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/zone"
)

// mostOverlaps is how many pairs of zones that share ground are listed.
const mostOverlaps = 1000

// sharing finds zones that share whole cells, tile by tile: a bit for each cell says that a zone has it. Zones that are described
// as pieces are marked with their stretches first: two that share a whole cell share one of those too, and where none is
// shared, as nearly everywhere, all is done. Elsewhere the zones are cut into spans, which give their whole cells.
//
// A stretch begins behind a border that the row's lower side passes, so that it holds the cells whose lower left corner lies
// in the zone, or on a border of it to the right of it. The corner of a whole cell does.
type sharing struct {
	band   *band // of the window at hand; nil when fewer than two zones touch it, which share nothing
	col    int
	win    raster.Window
	doubt  bool // whether cells that are shared are found later
	shared bool // and whether there are any
	stride int  // bits of taken for a row
	sets   []sharedSet
	pairs  map[[2]int32]bool
	cutter zone.Cutter
	setOf  func(zone int) int
}

// sharedSet is what is known of a set of zones: those of different sets may share cells.
type sharedSet struct {
	taken []uint64 // by cell of the window, whether a zone has it
	pairs int
	full  bool // there are more than mostOverlaps
}

// starts prepares for the sets of a pass.
func (s *sharing) starts(p *pass) { s.sets, s.setOf = make([]sharedSet, len(p.sets)), p.setOf }

// begin begins a window, in whose cells rows are stride apart.
func (s *sharing) begin(win raster.Window, stride int, b *band, col int, doubt bool) {
	if !slices.ContainsFunc(s.sets, func(k sharedSet) bool { return !k.full }) || len(b.spans[col])+len(b.alone[col]) < 2 {
		return
	}
	s.band, s.col, s.win, s.stride, s.doubt, s.shared = b, col, win, stride, doubt, false
	for i := range s.sets {
		s.sets[i].taken = sized(s.sets[i].taken, (stride*win.Height+63)/64)
		clear(s.sets[i].taken)
	}
}

// finish ends a window: it finds who shares the cells that are shared.
func (s *sharing) finish(c *zone.Cutter) {
	if s.band == nil || !s.shared {
		s.band = nil
		return
	}
	s.doubt = false
	for i := range s.sets {
		clear(s.sets[i].taken)
	}
	for t := range s.band.touching(c, s.col) {
		for row := max(int(t.from), s.win.Row); row < min(int(t.to), s.win.Row+s.win.Height); row++ {
			full, _, _ := t.cropped(row, s.win)
			s.mark(t.spans.Zone, row, full)
		}
	}
	s.band = nil
}

// mark notes that a zone has whole cells in a row.
func (s *sharing) mark(zone, row int, full []zone.Range) {
	begin := (row - s.win.Row) * s.stride
	set := &s.sets[s.setOf(zone)]
	for _, r := range full {
		a, b := max(int(r.From)-s.win.Col, 0), min(int(r.To)-s.win.Col, s.win.Width)
		if take(set.taken, begin+a, begin+b) {
			if s.doubt {
				s.shared = true
			} else if !set.full {
				s.found(zone, row, s.win.Col+a, s.win.Col+b)
			}
		}
	}
}

// stretches notes those of a zone that is described as pieces.
func (s *sharing) stretches(z int, stretches []zone.Stretch) {
	taken := s.sets[s.setOf(z)].taken
	for _, t := range stretches {
		if take(taken, int(t.At), int(t.At+t.N)) {
			s.shared = true
		}
	}
}

// take marks cells from to to-1, and reports whether one was marked before.
func take(taken []uint64, from, to int) bool {
	if from >= to {
		return false
	}
	first, last := uint(from), uint(to-1)
	i, k := first>>6, last>>6
	begin, end := ^uint64(0)<<(first&63), ^uint64(0)>>(63-last&63)
	if i == k {
		begin &= end
		end = begin
	}
	again := taken[i]&begin | taken[k]&end
	if taken[i] |= begin; i != k {
		taken[k] |= end
		for i++; i < k; i++ {
			again |= taken[i]
			taken[i] = ^uint64(0)
		}
	}
	return again != 0
}

// found notes a zone, which has cells from to to-1 of a row, together with all others that have one of them.
func (s *sharing) found(z, row, from, to int) {
	holds := func(spans *zone.Spans) bool {
		full, _ := spans.Row(row)
		return slices.ContainsFunc(full, func(r zone.Range) bool { return int(r.From) < to && from < int(r.To) })
	}
	for _, t := range s.band.spans[s.col] {
		if s.asked(t.spans.Zone, z) && holds(t.spans) {
			s.pair(t.spans.Zone, z)
		}
	}
	p := s.band.pass
	s.cutter.Width, s.cutter.Down = p.areas.Grid.Width, p.req.Placement.Down
	for _, other := range s.band.alone[s.col] {
		o := &p.req.Placement.Outlines[other]
		if row < o.RowFrom || row >= o.RowTo || to <= o.ColFrom || from >= o.ColTo || !s.asked(other, z) {
			continue
		}
		s.cutter.Centres = p.centres(other)
		spans := s.cutter.Cut(o, other, row, row+1)
		if holds(spans) {
			s.pair(other, z)
		}
		spans.Free()
	}
}

// asked reports whether it is to be found out if two zones share a cell: those of different sets may, and what is known is
// not asked again.
func (s *sharing) asked(a, b int) bool {
	return a != b && s.setOf(a) == s.setOf(b) && !s.pairs[between(a, b)]
}

func (s *sharing) pair(a, b int) {
	if s.pairs == nil {
		s.pairs = map[[2]int32]bool{}
	}
	s.pairs[between(a, b)] = true
	set := &s.sets[s.setOf(a)]
	set.pairs++
	set.full = set.pairs > mostOverlaps
}

// between is a pair of zones in the order of their numbers.
func between(a, b int) [2]int32 { return [2]int32{int32(min(a, b)), int32(max(a, b))} }

// overlaps joins what the workers have found, in the order of the zones. many are the sets in which there are too many to list.
func overlaps(p *pass, workers []*worker) (pairs [][2]int, many []int) {
	all := map[[2]int32]bool{}
	full, count := make([]bool, len(p.sets)), make([]int, len(p.sets))
	for _, w := range workers {
		s := &w.sharing
		for i := range s.sets {
			full[i] = full[i] || s.sets[i].full
		}
		for pair := range s.pairs {
			if !all[pair] {
				all[pair] = true
				count[p.setOf(int(pair[0]))]++
			}
		}
	}
	for i := range full {
		if full[i] || count[i] > mostOverlaps {
			full[i], many = true, append(many, i)
		}
	}
	for pair := range all {
		if !full[p.setOf(int(pair[0]))] {
			pairs = append(pairs, [2]int{int(pair[0]), int(pair[1])})
		}
	}
	slices.SortFunc(pairs, func(a, b [2]int) int { return cmp.Or(a[0]-b[0], a[1]-b[1]) })
	return pairs, many
}
