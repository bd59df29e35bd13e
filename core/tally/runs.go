package tally

import (
	"math/bits"

	"github.com/verdex-land/verdex/core/raster"
)

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

// areaOf is how many columns packed moments have, and their area in a segment.
func areaOf(v uint64, seg *raster.Segment) (n, area int64) {
	n, sum, squares := int64(v&(1<<sumShift-1)), int64(v>>sumShift&(1<<(squareShift-sumShift)-1)), int64(v>>squareShift)
	return n, n*seg.A + sum*seg.B + squares*seg.C
}

// runEnds says where the runs of a row end.
type runEnds struct {
	ready bool
	mask  []uint64 // bit c: a run ends at column c of the window
	list  []int32  // the same as a list: c+1 for each such column; rows stand one behind another in kernel.ends
	rank  []int32  // by word of mask: how many of the list lie in the words before it
}

// prepare finds where runs end in a row of the window.
func (k *kernel) prepare(row int) {
	k.at = &k.rows[row]
	if k.at.ready {
		return
	}
	k.at.ready = true
	width := k.width
	layers := k.layers
	if k.words {
		if !k.fewDiffer() {
			k.differIn(row)
			copy(k.at.mask, k.differ.ends[row*k.differ.words:])
			k.flatten()
			return
		}
		layers = layers[:1]
	}
	for n, l := range layers {
		dst := k.at.mask
		if n > 0 {
			dst = k.second
		}
		c := &l.cells
		at := row * c.Stride
		switch c.Type {
		case raster.Uint8, raster.Int8:
			// Whole words are compared at once where a cell stands behind the last of them: that
			// of the next row, or of the room that Cells keep behind the last one.
			fast := (width - 1) &^ 63
			if all := c.U8[:cap(c.U8)]; width&63 == 0 && at+width < len(all) {
				fast = width
				raster.Unequal(dst, all[at:], all[at+1:])
				dst[fast/64-1] |= 1 << 63
			} else {
				raster.Unequal(dst[:fast/64], c.U8[at:], c.U8[at+1:])
				changesPlain(dst[fast/64:], c.U8[at+fast:at+width], width-fast)
			}
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
			for i, w := range k.second {
				k.at.mask[i] |= w
			}
		}
	}
	k.flatten()
}

// flatten lists the ends of runs of the row at hand.
func (k *kernel) flatten() {
	if k.ends == nil {
		k.ends = make([]int32, (len(k.at.mask)*64+8)*len(k.rows))
	}
	// Lists are packed, so that the little that is used of their room stays in the cache.
	list := k.ends[k.used:][:len(k.at.mask)*64+8]
	n := flatten(list, k.at.rank, k.at.mask)
	k.at.list = list[:n]
	k.used += n
}

// endsIn are the ends of runs behind columns from to to-2; the run that column to-1 lies in ends
// at to for the purpose of a range.
func (k *kernel) endsIn(from, to int) []int32 {
	e := k.at
	last := to - 1
	i := int(e.rank[from>>6]) + bits.OnesCount64(e.mask[from>>6]&(1<<(from&63)-1))
	j := int(e.rank[last>>6]) + bits.OnesCount64(e.mask[last>>6]&(1<<(last&63)-1))
	return e.list[i:j]
}

// runs adds the runs of columns from to to-1 of the prepared row of the window to acc: their
// lengths, or with moments the packed moments of their columns, counted from column origin on.
func (k *kernel) runs(row, from, to int, moments bool, origin int) error {
	if len(k.layers) == 1 && k.layers[0].cells.Type.Bytes() == 1 {
		k.seen |= k.runs8((*[256]uint64)(k.acc), row, from, to, moments, origin)
		return nil
	}
	if k.words {
		if k.fewDiffer() {
			return k.stretchByDifferences(row, from, to, moments, origin)
		}
		if k.long != nil {
			return k.runsWords(row, from, to, moments, origin)
		}
		return k.runsBytes(row, from, to, moments, origin)
	}
	last := from
	add := func(end int) error {
		s, err := k.slotAt(end-1, row)
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
		k.seen |= 1 << (uint(s) >> k.group)
		k.marks.acc.set(int(s))
		last = end
		return nil
	}
	for _, e := range k.endsIn(from, to) {
		if err := add(int(e)); err != nil {
			return err
		}
	}
	return add(to)
}

// runsBytes is runs for two or three layers of bytes. Combinations that have been met are looked up without a call.
func (k *kernel) runsBytes(row, from, to int, moments bool, origin int) error {
	first := k.layers[0].cells.U8[row*k.layers[0].cells.Stride:][:to]
	second := k.layers[1].cells.U8[row*k.layers[1].cells.Stride:][:to]
	third, pair, triple := first, k.joint[0].top, k.joint[0].top
	three := len(k.layers) == 3
	if three {
		third, triple = k.layers[2].cells.U8[row*k.layers[2].cells.Stride:][:to], k.joint[1].top
	}
	second, third = second[:len(first)], third[:len(first)]
	acc := k.acc
	last := from
	for n, ends := 0, k.endsIn(from, to); n <= len(ends); n++ {
		end := to
		if n < len(ends) {
			end = int(ends[n])
		}
		i := uint(end - 1)
		if i >= uint(len(first)) {
			break // never: ends lie in the row
		}
		slot := int32(0) // and one more; 0 is none
		if a := int(first[i]); a < len(pair) {
			if slot = pair[a][second[i]]; three && slot > 0 {
				if a := int(slot - 1); a < len(triple) {
					slot = triple[a][third[i]]
				} else {
					slot = 0
				}
			}
		}
		if slot == 0 || int(slot) > len(acc) { // a combination that is not met yet
			s, err := k.slotAt(int(i), row)
			if err != nil {
				return err
			}
			if int(s) >= len(k.acc) {
				k.grow(s)
			}
			slot, acc, pair, triple = s+1, k.acc, k.joint[0].top, k.joint[len(k.joint)-1].top
		}
		s := uint(slot - 1)
		if acc[s] == 0 { // the first since the last flush
			k.seen |= 1 << (s >> k.group & 63)
			k.marks.acc.set(int(s))
		}
		if moments {
			acc[s] += packed[end-origin] - packed[last-origin]
		} else {
			acc[s] += uint64(end - last)
		}
		last = end
	}
	return nil
}

// runsWords is runs for four to eight layers of bytes.
func (k *kernel) runsWords(row, from, to int, moments bool, origin int) error {
	var rows [mostWord][]uint8
	of := k.bytesOf(row, to)
	for i := range rows {
		rows[i] = of[min(i, len(of)-1)]
	}
	a, b, c, d, e, f, g, h := rows[0], rows[1], rows[2], rows[3], rows[4], rows[5], rows[6], rows[7]
	b, c, d, e, f, g, h = b[:len(a)], c[:len(a)], d[:len(a)], e[:len(a)], f[:len(a)], g[:len(a)], h[:len(a)]
	mask := k.wordMask()
	acc := k.acc
	last := from
	for n, ends := 0, k.endsIn(from, to); n <= len(ends); n++ {
		end := to
		if n < len(ends) {
			end = int(ends[n])
		}
		i := uint(end - 1)
		if i >= uint(len(a)) {
			break // never: ends lie in the row
		}
		word := uint64(a[i]) | uint64(b[i])<<8 | uint64(c[i])<<16 | uint64(d[i])<<24 | uint64(e[i])<<32 | uint64(f[i])<<40 | uint64(g[i])<<48 | uint64(h[i])<<56
		word &= mask
		met := &k.differ.met[hashOf(word)>>(64-metBits)]
		if met.slot == 0 || met.word != word {
			if err := k.meet(met, word, int(i), row); err != nil {
				return err
			}
			acc = k.acc
		}
		s := uint(met.slot - 1)
		if acc[s] == 0 { // the first since the last flush
			k.seen |= 1 << (s >> k.group & 63)
			k.marks.acc.set(int(s))
		}
		if moments {
			acc[s] += packed[end-origin] - packed[last-origin]
		} else {
			acc[s] += uint64(end - last)
		}
		last = end
	}
	return nil
}

// runs8 adds the runs of the first layer, whose slots are the bytes themselves, to acc, and says by bit v>>2 which values v there are. It takes the
// greater part of the time of measuring, so that its loop has no call, one branch and one addition to memory.
func (k *kernel) runs8(acc *[256]uint64, row, from, to int, moments bool, origin int) (seen uint64) {
	c := &k.layers[0].cells
	cells := c.U8[row*c.Stride:][:to]
	if moments {
		before := packed[from-origin]
		for _, e := range k.endsIn(from, to) {
			v := cells[e-1]
			p := packed[int(e)-origin]
			acc[v] += p - before
			before = p
			seen |= 1 << (v >> 2)
		}
		v := cells[to-1]
		acc[v] += packed[to-origin] - before
		return seen | 1<<(v>>2)
	}
	last := int32(from)
	for _, e := range k.endsIn(from, to) {
		v := cells[e-1]
		acc[v] += uint64(e - last)
		last = e
		seen |= 1 << (v >> 2)
	}
	v := cells[to-1]
	acc[v] += uint64(to - int(last))
	return seen | 1<<(v>>2)
}
