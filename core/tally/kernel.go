package tally

import (
	"fmt"
	"math/bits"

	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/zone"
)

// The kernel adds up the cells of one window. One layer of bytes whose areas do not vary along a
// row is counted by comparing (count.go); layers of bytes that are the same nearly everywhere are counted
// by the first of them and by where they differ (differences.go). All else goes by runs: stretches of a row in which no
// layer changes its value. A bit for each cell says whether a run ends there ([raster.Unequal]);
// a run then costs one addition, however long it is. That keeps counting a small part of
// decoding, because a decoder too works by runs.
//
// Where areas vary along a row, a run adds the differences of prefix sums of 1, d and d² over
// its columns d, packed into one word; with the integer quadratic of [raster.Segment] they
// give the exact area of any set of cells of a segment. Ragged windows of bytes get the same sums by comparing (columns.go).

// maxValues is how many different values a raster may have and still be taken for categories.
const maxValues = 1 << 16

// kernel is the state of one worker.
type kernel struct {
	layers []*layer
	areas  *raster.Areas
	// Where runs end, for every row of the window that some zone has asked for.
	width  int
	rows   []runEnds
	masks  []uint64
	ends   []int32
	used   int // of ends
	ranks  []int32
	second []uint64 // scratch: the mask of the second layer
	at     *runEnds // of the row at hand

	// With two layers or three, slots stand for pairs of slots: of the first two layers, and of that and the third.
	joint []*pairs
	words bool       // the layers are two to eight of bytes
	long  *sequences // of more than three layers; nil of fewer

	acc        []uint64        // by slot: cells of the runs since the last flush, or packed moments
	holds      bool            // acc may wait for the next window, where all cells have the same area
	held       *raster.Segment // and waits to be flushed with this area: the next window must be of the same zone
	seen       uint64          // bit s>>group is set where acc of slot s may not be 0
	marks      marks           // which of acc, shares and wholes may not be 0, where a group has many slots
	seenShares uint64          // the same for shares
	group      uint            // acc has 64 groups of 1<<group slots
	shares     []int64         // by slot: of cut cells, see cutAlike
	wholes     []wholeCells    // by slot: of the zone and window at hand
	seenWhole  uint64          // the same for wholes
	extents    []Extent        // by slot: of the zone and window at hand
	present    []uint64        // which of extents are not empty

	differ    differences // for two layers of bytes or three
	counter   counter     // for one layer of bytes
	byColumns columns     // the same, where areas vary along a row
	stride    int         // of its cells in the last window
	sharing   *sharing    // nil where another group marks what zones share
}

func newKernel(layers []*layer, areas *raster.Areas) *kernel {
	k := &kernel{layers: layers, areas: areas, counter: newCounter(), words: len(layers) > 1 && len(layers) <= mostWord}
	for _, l := range layers {
		k.words = k.words && l.bytes
	}
	if n := len(layers); n > len(Value{}) {
		k.long = &sequences{layers: n, slots: make([]int32, n)}
	}
	for range len(layers) - 1 {
		if k.long != nil {
			break
		}
		k.joint = append(k.joint, &pairs{rest: map[uint64]int32{}})
	}
	k.grow(0)
	return k
}

// slotAt is the slot of what the layers hold in a cell of the window.
func (k *kernel) slotAt(col, row int) (int32, error) {
	if k.long != nil {
		return k.sequenceAt(col, row)
	}
	l := k.layers[0]
	s, err := l.slot(row*l.cells.Stride + col)
	for n, p := range k.joint {
		if err != nil {
			return 0, err
		}
		l = k.layers[n+1]
		var b int32
		if b, err = l.slot(row*l.cells.Stride + col); err != nil {
			return 0, err
		}
		if s, err = p.slot(s, b); err != nil {
			return 0, k.failed(n, err)
		}
	}
	return s, err
}

// failed says of which layers the n-th pairs are that err is about.
func (k *kernel) failed(n int, err error) error {
	return fmt.Errorf("%s and %s: %w", k.layers[n].name, k.layers[n+1].name, err)
}

// value is what the layers hold in cells of slot s, in slots of the tally.
func (k *kernel) value(s int32) (v Value) {
	if k.long != nil {
		return Value{k.long.numbers[s]}
	}
	for n := len(k.joint) - 1; n >= 0; n-- {
		j := k.joint[n].of[s]
		v[n+1] = k.layers[n+1].slots[j[1]]
		s = j[0]
	}
	v[0] = k.layers[0].slots[s]
	return v
}

// grow makes room for slot s.
func (k *kernel) grow(s int32) {
	n := max(256, len(k.acc))
	for n <= int(s) {
		n *= 2
	}
	if n == len(k.acc) {
		return
	}
	if k.seen != 0 {
		k.seen = ^uint64(0) // the groups are about to change
	}
	if k.seenShares != 0 {
		k.seenShares = ^uint64(0)
	}
	if k.seenWhole != 0 {
		k.seenWhole = ^uint64(0)
	}
	before := k.group
	k.group = uint(bits.TrailingZeros(uint(n / 64)))
	k.marks.grow(n, before <= manySlots && k.group > manySlots)
	k.acc = append(k.acc, make([]uint64, n-len(k.acc))...)
	k.shares = append(k.shares, make([]int64, n-len(k.shares))...)
	k.wholes = append(k.wholes, make([]wholeCells, n-len(k.wholes))...)
	k.extents = append(k.extents, make([]Extent, n-len(k.extents))...)
	k.present = append(k.present, make([]uint64, n/64-len(k.present))...)
}

// begin begins a window, whose cells the layers hold.
func (k *kernel) begin(w raster.Window) {
	words := (w.Width + 63) / 64
	if k.width != w.Width || len(k.rows) != w.Height {
		k.width = w.Width
		k.masks, k.second = sized(k.masks, words*w.Height), sized(k.second, words)
		k.ends, k.ranks = nil, sized(k.ranks, words*w.Height) // the room for ends is made when one is asked for
		k.rows = sized(k.rows, w.Height)
		for r := range k.rows {
			k.rows[r] = runEnds{mask: k.masks[r*words:][:words], rank: k.ranks[r*words:][:words]}
		}
	}
	k.used, k.differ.known, k.byColumns.decided = 0, false, false
	for r := range k.rows {
		k.rows[r].ready = false
	}
}

func sized[T any](s []T, n int) []T {
	if cap(s) < n {
		return make([]T, n)
	}
	return s[:n]
}

// cut adds a cell that an outline cuts; d is its column within the segment.
func (k *kernel) cut(share int64, m zone.Moment, seg *raster.Segment, d int64, col, row int) error {
	s, err := k.slotAt(col, row)
	if err != nil {
		return err
	}
	if int(s) >= len(k.extents) {
		k.grow(s)
	}
	k.present[s>>6] |= 1 << (s & 63)
	x := &k.extents[s]
	area, gx, gy := seg.At(d)
	x.Shares.AddInt(trueShare(share, m, area, gx, gy))
	x.Total.Add(cutArea(share, m, area, gx, gy))
	return nil
}

// cutArea is the area of the part of a cell that lies in a zone, in units/zone.WholeCell. The cell's area changes by gx along and by gy down it.
func cutArea(share int64, m zone.Moment, area, gx, gy int64) (a Sum) {
	a.AddProduct(share, area)
	a.AddProduct(m.X, gx)
	a.AddProduct(m.Y, gy)
	return a
}

// trueShare is the part of a cell's area that lies in a zone, in zone.Units: what its planar share is off by is the moments
// times the change of density.
func trueShare(share int64, m zone.Moment, area, gx, gy int64) int64 {
	if m == (zone.Moment{}) {
		return share
	}
	return share + raster.Round((float64(m.X)*float64(gx)+float64(m.Y)*float64(gy))/float64(area))
}

// cutAlike adds the cut cells of a row where all cells have the same area: their
// shares are summed by slot and turned into area once for the window.
func (k *kernel) cutAlike(edge []zone.EdgeCell, col, row int) error {
	for i := range edge {
		s, err := k.slotAt(int(edge[i].Col)-col, row)
		if err != nil {
			return err
		}
		if int(s) >= len(k.shares) {
			k.grow(s)
		}
		k.shares[s] += edge[i].Share
		k.seenShares |= 1 << (uint(s) >> k.group)
		k.marks.shares.set(int(s))
	}
	return nil
}

// window adds the cells of one zone in the window at hand. segments are the areas of the band's
// rows from rowFrom on: one for each row, or with areas that vary ByCell one for each segment of
// each row.
func (k *kernel) window(w raster.Window, t touch, segments []raster.Segment, rowFrom int) error {
	spans := t.spans
	byCell := k.areas.Vary == raster.ByCell
	perRow := k.areas.PerRow()
	bytes := len(k.layers) == 1 && k.layers[0].cells.Type.Bytes() == 1
	alike := k.areas.Vary == raster.Uniform
	counted := bytes && !byCell && !k.counter.off
	from, to := max(int(t.from), w.Row), min(int(t.to), w.Row+w.Height)
	if counted && alike {
		return k.bytes(w, t, from, to, &segments[0])
	}
	defer k.takeWhole()
	if bytes && byCell {
		k.bytesByCell(w, t, from, to, segments, rowFrom)
		return nil
	}
	if alike && k.words && k.fewDiffer() {
		if err := k.byDifferences(w, t, from, to); err != nil {
			return err
		}
		k.flushShares(&segments[0])
		if k.holds {
			k.held = &segments[0]
		} else {
			k.flush(&segments[0], false)
		}
		return nil
	}
	for row := from; row < to; row++ {
		full, edge, skipped := t.cropped(row, w)
		if k.sharing != nil && k.sharing.band != nil {
			k.sharing.mark(spans.Zone, row, full)
		}
		if byCell {
			if len(full) > 0 {
				k.prepare(row - w.Row)
			}
			if err := k.byCell(w, row, segments[(row-rowFrom)*perRow:][:perRow], full, edge, moments(spans, row, skipped)); err != nil {
				return err
			}
			continue
		}
		if err := k.whole(w, row, full, counted); err != nil {
			return err
		}
		if alike {
			if len(edge) == 0 {
				continue
			}
			if err := k.cutAlike(edge, w.Col, row-w.Row); err != nil {
				return err
			}
			continue
		}
		seg := &segments[row-rowFrom]
		if k.areas.Vary == raster.ByRow && len(full) > 0 {
			if counted && !k.counts() {
				if err := k.whole(w, row, full, false); err != nil {
					return err
				}
			}
			k.flush(seg, false)
		}
		ms := moments(spans, row, skipped)
		for i := range edge {
			var m zone.Moment
			if len(ms) > 0 {
				m = ms[i]
			}
			if err := k.cut(edge[i].Share, m, seg, 0, int(edge[i].Col)-w.Col, row-w.Row); err != nil {
				return err
			}
		}
	}
	if k.areas.Vary == raster.Uniform {
		k.flush(&segments[0], false)
		k.flushShares(&segments[0])
	}
	return nil
}

// bytes is window for one layer of bytes, counted by comparing, where all cells have the same area.
func (k *kernel) bytes(w raster.Window, t touch, from, to int, seg *raster.Segment) error {
	c := &k.layers[0].cells
	shares := (*[256]int64)(k.shares) // a byte is its own slot, and there is room for all
	for row := from; row < to; row++ {
		full, edge, _ := t.cropped(row, w)
		if k.sharing != nil && k.sharing.band != nil {
			k.sharing.mark(t.spans.Zone, row, full)
		}
		at := (row-w.Row)*c.Stride - w.Col
		for _, r := range full {
			k.counter.add(c.U8, at+max(int(r.From), w.Col), at+min(int(r.To), w.Col+w.Width))
		}
		for i := range edge {
			shares[c.U8[at+int(edge[i].Col)]] += edge[i].Share
		}
	}
	k.seenShares = ^uint64(0)
	for !k.counts() { // it has learnt new values, or that there are too many
		for row := from; row < to; row++ {
			full, _, _ := t.cropped(row, w)
			if err := k.whole(w, row, full, !k.counter.off); err != nil {
				return err
			}
		}
		if k.counter.off {
			break
		}
	}
	k.flush(seg, false)
	k.takeWhole()
	k.flushShares(seg)
	return nil
}

// pieces adds the cells of one zone that is described as pieces to acc and shares, which totals.take then empties. Cells are bytes,
// and all have the same area.
func (k *kernel) pieces(z int, p *zone.Pieces) error {
	cells := k.layers[0].cells.U8
	if k.sharing != nil && k.sharing.band != nil {
		k.sharing.stretches(z, p.Whole)
	}
	shares := (*[256]int64)(k.shares)
	for i := range p.Cut {
		c := &p.Cut[i]
		shares[cells[c.At]] += c.Share
	}
	for !k.counter.off {
		k.counter.addAll(cells, p.Whole)
		if k.counts() { // else it has learnt new values
			return nil
		}
	}
	for _, s := range p.Whole {
		row := int(s.At) / k.stride
		from := int(s.At) - row*k.stride
		k.prepare(row)
		if err := k.runs(row, from, from+int(s.N), false, 0); err != nil {
			return err
		}
	}
	return nil
}

// whole adds the whole cells of a row: to the counter, or to acc by runs.
func (k *kernel) whole(w raster.Window, row int, full []zone.Range, counted bool) error {
	if len(full) == 0 {
		return nil
	}
	row -= w.Row
	if !counted {
		k.prepare(row)
	}
	c := &k.layers[0].cells
	for _, r := range full {
		a, b := max(int(r.From)-w.Col, 0), min(int(r.To)-w.Col, w.Width)
		if counted {
			k.counter.add(c.U8, row*c.Stride+a, row*c.Stride+b)
		} else if err := k.runs(row, a, b, false, 0); err != nil {
			return err
		}
	}
	return nil
}

// counts moves what has been counted to acc. It is false when there were values that the counter did not know.
func (k *kernel) counts() bool {
	seen, ok := k.takeCounts((*[256]uint64)(k.acc))
	k.seen |= seen
	return ok
}

// takeCounts adds what has been counted to acc, and says as [counter.take] where. It is not ok when there were values that the
// counter did not know; it has then learnt all those of the window.
func (k *kernel) takeCounts(acc *[256]uint64) (seen uint64, ok bool) {
	if seen, ok = k.counter.take(acc); !ok {
		k.learn()
	}
	return seen, ok
}

// learn lets the counter know the values of the window at hand.
func (k *kernel) learn() {
	c := &k.layers[0].cells
	k.counter.learn(c.U8, c.Stride, k.width, len(k.rows))
}

// moments are those of the cut cells of a row but the first ones.
func moments(s *zone.Spans, row, skipped int) []zone.Moment {
	m := s.Moments(row)
	if len(m) == 0 {
		return nil
	}
	return m[skipped:]
}

// byCell adds a row whose areas vary along it, segment by segment.
func (k *kernel) byCell(w raster.Window, row int, segments []raster.Segment, full []zone.Range, edge []zone.EdgeCell, ms []zone.Moment) error {
	l := k.areas.SegmentCells
	for _, r := range full {
		a, b := max(int(r.From), w.Col), min(int(r.To), w.Col+w.Width)
		for a < b {
			s := a / l
			end := min(b, (s+1)*l)
			if err := k.runs(row-w.Row, a-w.Col, end-w.Col, true, s*l-w.Col); err != nil {
				return err
			}
			k.flush(&segments[s], true)
			a = end
		}
	}
	for i := range edge {
		col := int(edge[i].Col)
		s := col / l
		var m zone.Moment
		if len(ms) > 0 {
			m = ms[i]
		}
		if err := k.cut(edge[i].Share, m, &segments[s], int64(col-s*l), col-w.Col, row-w.Row); err != nil {
			return err
		}
	}
	return nil
}
