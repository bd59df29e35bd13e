package tally

import (
	"fmt"
	"math"
	"math/bits"

	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/zone"
)

// The kernel adds up the cells of one window. Its work is by runs: stretches of a row in which
// no layer changes its value. A bit for each cell says whether a run ends there (changes*.go);
// a run then costs one addition, however long it is. That keeps counting a small part of
// decoding, because a decoder too works by runs.
//
// Where areas vary along a row, a run adds the differences of prefix sums of 1, d and d² over
// its columns d, packed into one word; with the integer quadratic of [raster.Segment] they
// give the exact area of any set of cells of a segment.

// maxValues is how many different values a raster may have and still be taken for categories.
const maxValues = 1 << 16

// Bits of the packed moments: a segment has at most 512 cells, so that their number takes 10
// bits, the sum of columns 17 and the sum of their squares 26.
const (
	sumShift    = 10
	squareShift = 27
)

// packed[d] is the prefix sum of 1 + d·2^sumShift + d²·2^squareShift over the columns before d.
var packed = func() (t [513]uint64) {
	for d := range uint64(512) {
		t[d+1] = t[d] + 1 + d<<sumShift + d*d<<squareShift
	}
	return t
}()

// layer is one raster in the kernel: the window's cells and the slots of its values.
type layer struct {
	name   string
	reader raster.Reader
	cells  raster.Cells
	values []float64 // by slot
	small  []int32   // slot by 8- or 16-bit pattern, -1 for values not seen yet
	large  map[uint64]int32
	lastV  uint64
	lastS  int32
}

func newLayer(s raster.Source) *layer {
	l := &layer{name: s.Header().Name, reader: s.NewReader(), lastS: -1}
	switch s.Header().Type.Bytes() {
	case 1:
		l.small = make([]int32, 1<<8)
	case 2:
		l.small = make([]int32, 1<<16)
	default:
		l.large = map[uint64]int32{}
	}
	for i := range l.small {
		l.small[i] = -1
	}
	return l
}

// slot numbers the value at index i of the window.
func (l *layer) slot(i int) (int32, error) {
	var key uint64
	c := &l.cells
	switch c.Type {
	case raster.Uint8, raster.Int8:
		key = uint64(c.U8[i])
	case raster.Uint16:
		key = uint64(c.U16[i])
	case raster.Int16:
		key = uint64(uint16(c.I16[i]))
	default:
		v := c.At(i, 0)
		if v == 0 || math.IsNaN(v) { // one zero, one NaN
			v = math.Abs(v)
			if v != 0 {
				v = math.NaN()
			}
		}
		key = math.Float64bits(v)
		if l.lastS >= 0 && key == l.lastV {
			return l.lastS, nil
		}
		if s, ok := l.large[key]; ok {
			l.lastV, l.lastS = key, s
			return s, nil
		}
	}
	if l.small != nil {
		if s := l.small[key]; s >= 0 {
			return s, nil
		}
	}
	s := int32(len(l.values))
	if s >= maxValues {
		return 0, tooMany(l.name)
	}
	l.values = append(l.values, c.At(i, 0))
	if l.small != nil {
		l.small[key] = s
	} else {
		l.large[key] = s
		l.lastV, l.lastS = key, s
	}
	return s, nil
}

// kernel is the state of one worker.
type kernel struct {
	layers []*layer
	areas  *raster.Areas
	mask   []uint64 // bit c: a run ends at column c of the window
	masked int      // the row that mask is of, -1 for none
	next   []uint64

	joint    map[uint64]int32 // pairs of slots, for two layers
	jointOf  [][2]int32       // by joint slot
	jointTop []int32          // the same for small slots: joint slot+1 at a·256+b

	acc     []uint64 // by slot: cells of the runs since the last flush, or packed moments
	touched []uint64 // which of acc are not 0
	extents []Extent // by slot: of the zone and window at hand
	present []uint64 // which of extents are not empty

	segments []raster.Segment
}

func newKernel(layers []raster.Source, areas *raster.Areas) *kernel {
	k := &kernel{areas: areas, masked: -1}
	for _, s := range layers {
		k.layers = append(k.layers, newLayer(s))
	}
	if len(layers) == 2 {
		k.joint = map[uint64]int32{}
		k.jointTop = make([]int32, 1<<16)
	}
	return k
}

// slotAt is the slot of what the layers hold at index i of the window.
func (k *kernel) slotAt(i0, i1 int) (int32, error) {
	a, err := k.layers[0].slot(i0)
	if err != nil || len(k.layers) == 1 {
		return a, err
	}
	b, err := k.layers[1].slot(i1)
	if err != nil {
		return 0, err
	}
	if a|b < 256 {
		if s := k.jointTop[a<<8|b]; s > 0 {
			return s - 1, nil
		}
	}
	key := uint64(a)<<32 | uint64(b)
	s, ok := k.joint[key]
	if !ok {
		s = int32(len(k.jointOf))
		if s >= 1<<24 {
			return 0, fmt.Errorf("%s and %s: more than %d different pairs of values: put them into classes first", k.layers[0].name, k.layers[1].name, 1<<24)
		}
		k.jointOf = append(k.jointOf, [2]int32{a, b})
		k.joint[key] = s
		if a|b < 256 {
			k.jointTop[a<<8|b] = s + 1
		}
	}
	return s, nil
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
	k.acc = append(k.acc, make([]uint64, n-len(k.acc))...)
	k.extents = append(k.extents, make([]Extent, n-len(k.extents))...)
	k.touched = append(k.touched, make([]uint64, n/64-len(k.touched))...)
	k.present = append(k.present, make([]uint64, n/64-len(k.present))...)
}

// prepare finds where runs end in a row of the window.
func (k *kernel) prepare(row, width int) {
	if k.masked == row {
		return
	}
	k.masked = row
	words := (width + 63) / 64
	if cap(k.mask) < words {
		k.mask, k.next = make([]uint64, words), make([]uint64, words)
	}
	k.mask, k.next = k.mask[:words], k.next[:words]
	for n, l := range k.layers {
		dst := k.mask
		if n > 0 {
			dst = k.next
		}
		c := &l.cells
		at := row * c.Stride
		switch c.Type {
		case raster.Uint8, raster.Int8:
			r := c.U8[at : at+width]
			fast := (width - 1) &^ 63
			changes8(dst, r, fast)
			changesPlain(dst[fast/64:], r[fast:], width-fast)
		case raster.Uint16:
			changesPlain(dst, c.U16[at:at+width], width)
		case raster.Int16:
			changesPlain(dst, c.I16[at:at+width], width)
		case raster.Uint32:
			changesPlain(dst, c.U32[at:at+width], width)
		case raster.Int32:
			changesPlain(dst, c.I32[at:at+width], width)
		case raster.Float32:
			changesPlain(dst, c.F32[at:at+width], width)
		case raster.Float64:
			changesPlain(dst, c.F64[at:at+width], width)
		}
		if n > 0 {
			for i, w := range k.next {
				k.mask[i] |= w
			}
		}
	}
}

// changesPlain sets bit i of dst where row[i] differs from row[i+1], for i below n; the last
// cell of the row always ends a run.
func changesPlain[T comparable](dst []uint64, row []T, n int) {
	for w := 0; w*64 < n; w++ {
		var m uint64
		part := row[w*64 : min(len(row), w*64+65)]
		count := min(64, n-w*64)
		for i := range min(count, len(part)-1) {
			var bit uint64
			if part[i] != part[i+1] {
				bit = 1
			}
			m |= bit << i
		}
		if count == len(part) {
			m |= 1 << (count - 1)
		}
		dst[w] = m
	}
}

// runs adds the runs of columns from to to-1 of the prepared row of the window to acc: their
// lengths, or with moments the packed moments of their columns, counted from column origin on.
func (k *kernel) runs(row, from, to int, moments bool, origin int) error {
	if len(k.layers) == 1 && k.layers[0].cells.U8 != nil && k.layers[0].cells.Type <= raster.Int8 {
		return k.runs8(row, from, to, moments, origin)
	}
	at0 := row * k.layers[0].cells.Stride
	at1 := 0
	if len(k.layers) > 1 {
		at1 = row * k.layers[1].cells.Stride
	}
	for last := from; last < to; {
		end := k.runEnd(last, to)
		s, err := k.slotAt(at0+end-1, at1+end-1)
		if err != nil {
			return err
		}
		if int(s) >= len(k.acc) {
			k.grow(s)
		}
		if moments {
			k.acc[s] += packed[end-origin] - packed[last-origin]
		} else {
			k.acc[s] += uint64(end - last)
		}
		k.touched[s>>6] |= 1 << (s & 63)
		last = end
	}
	return nil
}

// runEnd is the end (exclusive) of the run that holds column c, at most to.
func (k *kernel) runEnd(c, to int) int {
	w := c >> 6
	m := k.mask[w] >> (c & 63) << (c & 63)
	for m == 0 {
		w++
		if w<<6 >= to {
			return to
		}
		m = k.mask[w]
	}
	return min(to, w<<6+bits.TrailingZeros64(m)+1)
}

// runs8 is runs for one layer of bytes, whose slots are looked up without a call.
func (k *kernel) runs8(row, from, to int, moments bool, origin int) error {
	l := k.layers[0]
	cells := l.cells.U8[row*l.cells.Stride:][:to]
	small := (*[256]int32)(l.small)
	acc, touched := k.acc, k.touched
	last := from
	for w := from >> 6; w<<6 < to; w++ {
		base := w << 6
		m := k.mask[w]
		if base < from {
			m = m >> (from & 63) << (from & 63)
		}
		if base+64 > to {
			m &= 1<<(to&63) - 1
		}
		for m != 0 || base+64 >= to && last < to {
			end := to
			if m != 0 {
				end = base + bits.TrailingZeros64(m) + 1
				m &= m - 1
			}
			s := small[cells[end-1]]
			if s < 0 || int(s) >= len(acc) {
				var err error
				if s, err = l.slot(row*l.cells.Stride + end - 1); err != nil {
					return err
				}
				k.grow(s)
				acc, touched = k.acc, k.touched
			}
			if moments {
				acc[s] += packed[end-origin] - packed[last-origin]
			} else {
				acc[s] += uint64(end - last)
			}
			touched[s>>6] |= 1 << (s & 63)
			last = end
		}
	}
	return nil
}

// flush turns what runs has added into area, by the segment that the runs lie in.
func (k *kernel) flush(seg *raster.Segment, moments bool) {
	for w, m := range k.touched {
		if m == 0 {
			continue
		}
		k.touched[w] = 0
		k.present[w] |= m
		for ; m != 0; m &= m - 1 {
			s := w<<6 + bits.TrailingZeros64(m)
			v := k.acc[s]
			k.acc[s] = 0
			e := &k.extents[s]
			if !moments {
				e.Cells += int64(v)
				e.Whole.AddProduct(int64(v), seg.A)
				continue
			}
			n, sum, squares := int64(v&(1<<sumShift-1)), int64(v>>sumShift&(1<<(squareShift-sumShift)-1)), int64(v>>squareShift)
			e.Cells += n
			e.Whole.AddInt(n*seg.A + sum*seg.B + squares*seg.C)
		}
	}
}

// cut adds a cell that an outline cuts; d is its column within the segment.
func (k *kernel) cut(e *zone.EdgeCell, seg *raster.Segment, d int64, i0, i1 int) error {
	s, err := k.slotAt(i0, i1)
	if err != nil {
		return err
	}
	if int(s) >= len(k.extents) {
		k.grow(s)
	}
	k.present[s>>6] |= 1 << (s & 63)
	x := &k.extents[s]
	x.Shares.AddInt(e.Share)
	x.Cut.AddProduct(e.Share, seg.A+d*(seg.B+d*seg.C))
	if k.areas.Vary != raster.Uniform {
		x.Cut.AddProduct(e.MX, seg.B+2*d*seg.C)
		x.Cut.AddProduct(e.MY, seg.Gy)
		x.Cut.AddProduct(e.MYY, seg.Gyy)
	}
	return nil
}

// window adds the cells of one zone in the window at hand.
func (k *kernel) window(w raster.Window, spans *zone.Spans, rows []raster.Segment, rowFrom int) error {
	from, to := spans.Rows()
	byCell := k.areas.Vary == raster.ByCell
	var seg raster.Segment
	for row := max(from, w.Row); row < min(to, w.Row+w.Height); row++ {
		full, edge := spans.Row(row)
		full, edge = crop(full, edge, w.Col, w.Col+w.Width)
		if len(full) == 0 && len(edge) == 0 {
			continue
		}
		if len(full) > 0 {
			k.prepare(row-w.Row, w.Width)
		}
		if byCell {
			if err := k.byCell(w, row, full, edge); err != nil {
				return err
			}
			continue
		}
		seg = rows[row-rowFrom]
		for _, r := range full {
			a, b := max(int(r.From), w.Col), min(int(r.To), w.Col+w.Width)
			if err := k.runs(row-w.Row, a-w.Col, b-w.Col, false, 0); err != nil {
				return err
			}
		}
		if k.areas.Vary == raster.ByRow && len(full) > 0 {
			k.flush(&seg, false)
		}
		for i := range edge {
			if err := k.cut(&edge[i], &seg, 0, k.index(0, row-w.Row, int(edge[i].Col)-w.Col), k.index(1, row-w.Row, int(edge[i].Col)-w.Col)); err != nil {
				return err
			}
		}
	}
	if k.areas.Vary == raster.Uniform {
		if len(rows) > 0 {
			k.flush(&rows[0], false)
		}
	}
	return nil
}

func (k *kernel) index(n, row, col int) int {
	if n >= len(k.layers) {
		return 0
	}
	return row*k.layers[n].cells.Stride + col
}

// byCell adds a row whose areas vary along it, segment by segment.
func (k *kernel) byCell(w raster.Window, row int, full []zone.Range, edge []zone.EdgeCell) error {
	l := k.areas.SegmentCells
	var err error
	first := w.Col / l
	k.segments, err = k.areas.Segments(k.segments[:0], row, w.Col, w.Col+w.Width)
	if err != nil {
		return err
	}
	for _, r := range full {
		a, b := max(int(r.From), w.Col), min(int(r.To), w.Col+w.Width)
		for a < b {
			s := a / l
			end := min(b, (s+1)*l)
			if err := k.runs(row-w.Row, a-w.Col, end-w.Col, true, s*l-w.Col); err != nil {
				return err
			}
			k.flush(&k.segments[s-first], true)
			a = end
		}
	}
	for i := range edge {
		col := int(edge[i].Col)
		s := col / l
		if err := k.cut(&edge[i], &k.segments[s-first], int64(col-s*l), k.index(0, row-w.Row, col-w.Col), k.index(1, row-w.Row, col-w.Col)); err != nil {
			return err
		}
	}
	return nil
}

// crop keeps the spans that meet columns from to to-1.
func crop(full []zone.Range, edge []zone.EdgeCell, from, to int) ([]zone.Range, []zone.EdgeCell) {
	i := search(len(full), func(i int) bool { return int(full[i].To) > from })
	j := i + search(len(full)-i, func(n int) bool { return int(full[i+n].From) >= to })
	a := search(len(edge), func(i int) bool { return int(edge[i].Col) >= from })
	b := a + search(len(edge)-a, func(n int) bool { return int(edge[a+n].Col) >= to })
	return full[i:j], edge[a:b]
}

// search is the least index for which f holds; f must stay true from there on. Short lists,
// which are the rule, are searched from the front.
func search(n int, f func(int) bool) int {
	lo, hi := 0, n
	for hi-lo > 8 {
		if mid := (lo + hi) / 2; f(mid) {
			hi = mid
		} else {
			lo = mid + 1
		}
	}
	for lo < hi && !f(lo) {
		lo++
	}
	return lo
}
