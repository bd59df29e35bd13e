package tally

import (
	"iter"
	"math"
	"slices"
	"sync"
	"sync/atomic"

	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/zone"
)

// band is a row of windows. Its zones are cut, and the areas of its rows computed, by all workers
// that come to it; it is let go when its last window is done, so that only the spans of a few
// bands exist at a time. A zone that lies in one window, or in a few of which it can be described as pieces, is cut when a
// worker comes to those, which uses its cells while they are near the processor and keeps none.
type band struct {
	pass     *pass
	from, to int     // rows
	first    int     // the first window across of the part that is done
	last     int     // and behind its last
	zones    []int   // those that are cut for the whole band
	alone    [][]int // by window across: those that are cut when a worker comes to it
	cut      []*zone.Spans
	touched  [][]touch    // by zone: the windows across that it touches
	next     atomic.Int64 // the next task: rows to compute, then a zone to cut
	pending  sync.WaitGroup
	start    sync.Once
	finish   sync.Once
	left     atomic.Int64     // windows to do
	spans    [][]touch        // by window across: the zones that touch it
	segments []raster.Segment // areas by row, and by segment of the row where they vary along it
	heights  []raster.Heights // by row, where areas vary by row
	rows     sync.WaitGroup   // of rows whose areas are still to be computed
	known    chan struct{}    // closed when the scout has announced the windows; nil without a scout
	err      atomic.Pointer[error]
}

const rowsInTask = 32

// fewWindows is in how many windows a zone may lie to be described as pieces in each: all of its edges are gone through every time.
const fewWindows = 9

func newBand(p *pass, from, to int, zones []int) *band {
	b := &band{pass: p, from: from, to: to, last: p.across, alone: make([][]int, p.across)}
	for _, z := range zones {
		o := &p.req.Placement.Outlines[z]
		first, last := p.windowOf(int32(o.ColFrom)), p.windowOf(int32(o.ColTo-1))
		if first == last || p.pieces && !p.centres(z) && (last-first+1)*p.bandsOf[z] <= fewWindows {
			for w := first; w <= last; w++ {
				b.alone[w] = append(b.alone[w], z)
			}
		} else {
			b.zones = append(b.zones, z)
		}
	}
	return b
}

// begin readies the band for its windows from first to last, exclusive: only zones that may touch them are cut, and only areas of their columns computed.
func (b *band) begin(first, last int) {
	b.first, b.last = first, last
	if last-first < b.pass.across {
		b.zones = slices.DeleteFunc(b.zones, func(z int) bool {
			o := &b.pass.req.Placement.Outlines[z]
			return int(b.pass.windowOf(int32(o.ColFrom))) >= last || int(b.pass.windowOf(int32(o.ColTo-1))) < first
		})
	}
	b.pending.Add(b.tasks())
	b.rows.Add(b.rowTasks())
	b.left.Store(int64(last - first))
}

func (b *band) tasks() int { return len(b.zones) + b.rowTasks() }

func (b *band) rowTasks() int { return (b.to - b.from + rowsInTask - 1) / rowsInTask }

// prepare returns when the band is ready; the caller helps to make it so.
func (b *band) prepare(c *zone.Cutter) error {
	b.start.Do(func() {
		b.cut, b.touched = make([]*zone.Spans, len(b.zones)), make([][]touch, len(b.zones))
		b.segments = make([]raster.Segment, (b.to-b.from)*b.pass.areas.PerRow())
		if b.pass.areas.Vary == raster.ByRow && slices.ContainsFunc(b.pass.sets, func(s Set) bool { return !s.Centres }) {
			b.heights = make([]raster.Heights, b.to-b.from)
		}
	})
	for {
		i := int(b.next.Add(1)) - 1
		if i >= b.tasks() {
			break
		}
		if rows := b.rowTasks(); i < rows {
			if err := b.measureRows(b.from + i*rowsInTask); err != nil {
				b.err.Store(&err)
			}
			b.rows.Done()
		} else {
			i -= rows
			z := b.zones[i]
			b.rows.Wait()
			s := b.cutZone(c, z)
			b.cut[i], b.touched[i] = s, b.pass.touches(s, &b.pass.req.Placement.Outlines[z])
		}
		b.pending.Done()
	}
	b.pending.Wait()
	b.finish.Do(b.assign)
	if err := b.err.Load(); err != nil {
		return *err
	}
	return nil
}

// cutZone cuts the part of a zone that lies in the band.
func (b *band) cutZone(c *zone.Cutter, z int) *zone.Spans {
	c.Heights, c.HeightsFrom, c.Centres = b.heights, b.from, b.pass.centres(z)
	s := c.Cut(&b.pass.req.Placement.Outlines[z], z, b.from, b.to)
	if s.Overlap != nil {
		b.pass.overlap.CompareAndSwap(nil, &overlapAt{z, *s.Overlap})
	}
	return s
}

// window is one of the band's windows on the grid.
func (b *band) window(col int) raster.Window {
	cols := b.pass.cols
	return raster.Window{Col: int(cols[col]), Row: b.from, Width: int(cols[col+1] - cols[col]), Height: b.to - b.from}
}

// touching gives the zones that have cells in a window one after another. Their spans serve until the next one.
func (b *band) touching(c *zone.Cutter, col int) iter.Seq[touch] {
	return func(yield func(touch) bool) {
		for _, t := range b.spans[col] {
			if !yield(t) {
				return
			}
		}
		for _, z := range b.alone[col] {
			t, ok := b.touch(c, col, z)
			more := !ok || yield(t)
			t.spans.Free()
			if !more {
				return
			}
		}
	}
}

// touch cuts a zone for one window. It is not ok when the zone has no cells there; the spans are to be freed either way.
func (b *band) touch(c *zone.Cutter, col, z int) (t touch, ok bool) {
	s := b.cutZone(c, z)
	if o := &b.pass.req.Placement.Outlines[z]; b.pass.windowOf(int32(o.ColFrom)) != b.pass.windowOf(int32(o.ColTo-1)) {
		for _, t := range b.pass.touches(s, o) {
			if t.spans = s; t.window == int32(col) {
				return t, true
			}
		}
		return touch{spans: s}, false
	}
	from, to := s.Rows()
	return touch{spans: s, window: int32(col), from: int32(from), to: int32(to), inside: true}, !s.Empty()
}

// measureRows computes the areas of some rows.
func (b *band) measureRows(from int) error {
	a := b.pass.areas
	perRow := a.PerRow()
	left, right := int(b.pass.cols[b.first]), int(b.pass.cols[b.last])
	for row := from; row < min(b.to, from+rowsInTask); row++ {
		dst := b.segments[(row-b.from)*perRow:][:perRow]
		if a.Vary == raster.ByCell {
			if _, err := a.Segments(dst[left/a.SegmentCells:][:0], row, left, right); err != nil {
				return err
			}
			continue
		}
		dst[0] = a.Row(row)
		if b.heights != nil {
			b.heights[row-b.from] = a.Heights(row)
		}
	}
	return nil
}

// assign gives each window the zones that touch it.
func (b *band) assign() {
	b.spans = make([][]touch, b.pass.across)
	for i, s := range b.cut {
		for _, t := range b.touched[i] {
			t.spans = s
			b.spans[t.window] = append(b.spans[t.window], t)
		}
	}
	b.touched = nil
}

// touch says that a zone has cells in a window, and in which rows: from, to (exclusive).
type touch struct {
	spans    *zone.Spans
	window   int32
	from, to int32
	inside   bool // the zone has all of its cells in the window
}

// touches lists the windows that spans have cells in, from left to right.
func (p *pass) touches(s *zone.Spans, o *zone.Outline) []touch {
	first := p.windowOf(int32(o.ColFrom))
	begins := p.cols[first:]
	all := make([]touch, p.windowOf(int32(o.ColTo-1))-first+1)
	hit := make([]bool, len(all))
	lo, hi := int32(0), int32(0)   // columns of windows known to be touched
	mark := func(from, to int32) { // notes the windows that hold columns from to to-1
		i, k := p.windowOf(from)-first, p.windowOf(to-1)-first
		for t := i; t <= k; t++ {
			hit[t] = true
		}
		lo, hi = begins[i], begins[k+1]
	}
	// The windows from a to b hold the ends of all rows since row since.
	a, b, since := int32(-1), int32(-1), 0
	from, to := s.Rows()
	finish := func(row int) {
		for t := a; t <= b && a >= 0; t++ {
			if all[t].to == 0 {
				all[t].from = int32(since)
			}
			all[t].to = int32(row)
		}
	}
	for row := from; row < to; row++ {
		full, edge := s.Row(row)
		if len(full)+len(edge) == 0 {
			continue
		}
		left, right := int32(math.MaxInt32), int32(0)
		if len(full) > 0 {
			left, right = full[0].From, full[len(full)-1].To-1
		}
		if len(edge) > 0 {
			left, right = min(left, edge[0].Col), max(right, edge[len(edge)-1].Col)
		}
		if a < 0 || left < begins[a] || left >= begins[a+1] || right < begins[b] || right >= begins[b+1] {
			finish(row)
			a, b, since = p.windowOf(left)-first, p.windowOf(right)-first, row
			hit[a], hit[b] = true, true
		}
		if b-a < 2 { // no window lies between those of the ends
			continue
		}
		for _, r := range full {
			if r.From < lo || r.To > hi {
				mark(r.From, r.To)
			}
		}
		for i := range edge {
			if c := edge[i].Col; c < lo || c >= hi {
				mark(c, c+1)
			}
		}
	}
	finish(to)
	out := all[:0]
	for i, t := range all {
		if hit[i] {
			t.window = first + int32(i)
			out = append(out, t)
		}
	}
	return out
}

func (b *band) release() {
	if b.left.Add(-1) == 0 {
		for _, s := range b.cut {
			s.Free()
		}
		b.cut, b.spans, b.segments, b.heights = nil, nil, nil, nil
	}
}
