package tally

import (
	"encoding/binary"
	"math/bits"

	"github.com/verdex-land/verdex/core/raster"
)

// Most ground is the same in all epochs. Where that is so, the first layer of a group of bytes is counted alone, and the few cells in which
// another layer holds something else are then moved from what it would be without them to their combination: the sums are the same, and
// what takes a look-up for each run of a combination is done for those cells only.

// differences are where the layers differ in a window, and where runs of their combinations end.
type differences struct {
	known bool     // of the window at hand
	few   bool     // most runs are of cells in which the layers hold the same
	masks []uint64 // by row: bit c is set where the layers differ in column c
	ends  []uint64 // by row: bit c is set where a run ends at column c
	both  []uint64 // where both are
	words int      // of each for a row
	list  []int32  // room for columns of a row, and for their ranks
	ranks []int32
	base  [256]uint64
	seen  uint64 // bit v>>2 is set where base of v may not be 0
	met   [1 << metBits]metCombination
}

// metCombination is the slot of a combination of bytes, for which there is room in acc, and one more: 0 is none.
type metCombination struct {
	word uint64
	slot int32
}

const metBits = 11

// fewDiffer finds where the layers differ, and reports whether that is in few runs.
func (k *kernel) fewDiffer() bool {
	d := &k.differ
	if d.known {
		return d.few
	}
	d.known = true
	d.words = (k.width + 63) / 64
	n := d.words * len(k.rows)
	d.masks, d.ends, d.both = sized(d.masks, n), sized(d.ends, n), sized(d.both, n)
	d.list, d.ranks = sized(d.list, d.words*64+8), sized(d.ranks, d.words)
	all, differing := 0, 0
	for row := range k.rows {
		at := row * d.words
		masks, ends, both := d.masks[at:at+d.words], d.ends[at:at+d.words], d.both[at:at+d.words]
		// A byte behind the last one, whatever it is, lets all words of the row be done at once: that of the next row, or of the room behind the cells.
		rows := k.bytesOf(row, k.width+1)
		n, m := differ(masks, ends, both, rows[:len(k.layers)], k.width)
		all, differing = all+n, differing+m
	}
	d.few = 2*differing <= all || k.long != nil && 4*differing <= 3*all // measured: of many layers runs are dearer
	return d.few
}

// differ sets bits for all columns of a row as differPlain does, and counts them.
func differ(masks, ends, both []uint64, rows [][]uint8, width int) (all, differing int) {
	done, all, differing := differ8(masks, ends, both, rows)
	if done < width {
		n, m := differPlain(masks, ends, both, rows, done, width)
		return all + n, differing + m
	}
	last := len(masks) - 1
	ends[last] |= 1 << 63 // a run ends with the row
	both[last] |= masks[last] & (1 << 63)
	return all, differing
}

// bytesOf are the bytes of the layers in the first columns of a row, as many as there are; the last one comes several times where there are fewer than mostWord.
func (k *kernel) bytesOf(row, columns int) (rows [mostWord][]uint8) {
	for i := range k.layers {
		c := &k.layers[i].cells
		at := row * c.Stride
		rows[i] = c.U8[at:min(at+columns, cap(c.U8))]
		columns = len(rows[i])
	}
	for i := range rows {
		rows[i] = rows[min(i, len(k.layers)-1)][:columns]
	}
	return rows
}

// wordMask has the bits of a word that are those of layers.
func (k *kernel) wordMask() uint64 { return ^uint64(0) >> (64 - 8*len(k.layers)) }

// meet puts the combination of a cell of the window, which is not there, into its place; there is then room for its slot in acc.
func (k *kernel) meet(m *metCombination, word uint64, col, row int) error {
	slot, err := k.slotAt(col, row)
	if err != nil {
		return err
	}
	if int(slot) >= len(k.acc) {
		k.grow(slot)
	}
	*m = metCombination{word, slot + 1}
	return nil
}

// byDifferences adds the whole cells of one zone in the window at hand, in rows from to to-1. The counter is used where all cells have the same area.
func (k *kernel) byDifferences(w raster.Window, t touch, from, to int) error {
	d, c := &k.differ, &k.layers[0].cells
	for !k.counter.off { // a second time where it has learnt new values
		for row := from; row < to; row++ {
			full, _, _ := t.cropped(row, w)
			at := (row-w.Row)*c.Stride - w.Col
			for _, r := range full {
				k.counter.add(c.U8, at+max(int(r.From), w.Col), at+min(int(r.To), w.Col+w.Width))
			}
		}
		if seen, ok := k.takeCounts(&d.base); ok {
			d.seen |= seen
			break
		}
	}
	for row := from; row < to; row++ {
		full, edge, _ := t.cropped(row, w)
		if k.sharing != nil && k.sharing.band != nil {
			k.sharing.mark(t.spans.Zone, row, full)
		}
		for _, r := range full {
			a, b := max(int(r.From)-w.Col, 0), min(int(r.To)-w.Col, w.Width)
			if k.counter.off {
				k.prepare(row - w.Row)
				d.seen |= k.runs8(&d.base, row-w.Row, a, b, false, 0)
			}
			if err := k.move(row-w.Row, a, b, false, 0); err != nil {
				return err
			}
		}
		if err := k.cutAlike(edge, w.Col, row-w.Row); err != nil {
			return err
		}
	}
	return k.same()
}

// stretchByDifferences adds columns from to to-1 of a row of the window, as runs does.
func (k *kernel) stretchByDifferences(row, from, to int, moments bool, origin int) error {
	d := &k.differ
	d.seen |= k.runs8(&d.base, row, from, to, moments, origin)
	if err := k.move(row, from, to, moments, origin); err != nil {
		return err
	}
	return k.same()
}

// move moves the cells of columns from to to-1 of a row in which the layers differ from base to acc.
func (k *kernel) move(row, from, to int, moments bool, origin int) error {
	d := &k.differ
	rows := k.bytesOf(row, to)
	a, b, c := rows[0], rows[1][:to], rows[2][:to]
	more, mask := len(k.layers) > 3, k.wordMask()
	ends := d.ends[row*d.words:][:d.words]
	first, last := from>>6, (to-1)>>6
	// Where runs of such cells end: in the list each column and one more, and the last one in any case, as the range ends there.
	list := d.list[:flatten(d.list, d.ranks, d.both[row*d.words:][first:last+1])]
	base := int32(first << 6)
	for len(list) > 0 && int(base+list[0]) <= from {
		list = list[1:]
	}
	for len(list) > 0 && int(base+list[len(list)-1]) >= to {
		list = list[:len(list)-1]
	}
	if d.masks[row*d.words+last]>>(uint(to-1)&63)&1 == 1 {
		list = append(list, int32(to)-base)
	}
	acc, seen, group, marks := k.acc, k.seen, k.group, k.marks.acc
	for _, end := range list {
		col := int(base+end) - 1
		begin := from
		for i, e := col>>6, ends[col>>6]&(1<<(col&63)-1); ; e = ends[i] {
			if e != 0 {
				begin = max(from, i<<6+64-bits.LeadingZeros64(e))
				break
			}
			if i--; i < first {
				break
			}
		}
		v := a[col]
		word := uint64(v) | uint64(b[col])<<8 | uint64(c[col])<<16
		if more {
			word |= uint64(rows[3][col])<<24 | uint64(rows[4][col])<<32 | uint64(rows[5][col])<<40 | uint64(rows[6][col])<<48 | uint64(rows[7][col])<<56
		}
		word &= mask
		met := &d.met[word*0x9e3779b97f4a7c15>>(64-metBits)]
		if met.slot == 0 || met.word != word {
			k.seen = seen
			if err := k.meet(met, word, col, row); err != nil {
				return err
			}
			acc, seen, group, marks = k.acc, k.seen, k.group, k.marks.acc
		}
		slot := uint(met.slot - 1)
		weight := uint64(col + 1 - begin)
		if moments {
			weight = packed[col+1-origin] - packed[begin-origin]
		}
		acc[slot] += weight
		seen |= 1 << (slot >> group & 63)
		marks.set(int(slot))
		d.base[v] -= weight
	}
	k.seen = seen
	return nil
}

// same adds the cells in which all layers hold the same, which are what is left in base.
func (k *kernel) same() error {
	d := &k.differ
	for m := d.seen; m != 0; m &= m - 1 {
		first := bits.TrailingZeros64(m) << 2
		for v := first; v < first+4; v++ {
			n := d.base[v]
			if n == 0 {
				continue
			}
			d.base[v] = 0
			s := int32(v)
			if k.long != nil {
				var err error
				if s, err = k.long.word(0x0101010101010101 * uint64(v) & k.wordMask()); err != nil {
					return err
				}
			}
			for i, p := range k.joint {
				var err error
				if s, err = p.slot(s, int32(v)); err != nil {
					return k.failed(i, err)
				}
			}
			if int(s) >= len(k.acc) {
				k.grow(s)
			}
			k.acc[s] += n
			k.seen |= 1 << (uint(s) >> k.group)
			k.marks.acc.set(int(s))
		}
	}
	d.seen = 0
	return nil
}

// differPlain sets bits for columns from, a multiple of 64, to to-1: in masks where the bytes of the rows differ, in ends where a byte of one of them is
// another one than that behind it, and in the last column, and in both where both are so. It counts those in ends and in both.
func differPlain(masks, ends, both []uint64, rows [][]uint8, from, to int) (all, differing int) {
	a, b, c := rows[0], rows[1], rows[min(2, len(rows)-1)]
	more := rows[min(3, len(rows)):]
	for w := from >> 6; w<<6 < to; w++ {
		var mask, end uint64
		if col := w << 6; col+64 <= to && col+64 < len(a) { // eight columns at a time, with the one behind them, whatever it is
			for k := 0; k < 64; k += 8 {
				x, y, z := bytes8(a, col+k), bytes8(b, col+k), bytes8(c, col+k)
				mask |= notZero((x^y)|(x^z)) << k
				end |= notZero((x^bytes8(a, col+k+1))|(y^bytes8(b, col+k+1))|(z^bytes8(c, col+k+1))) << k
			}
			for _, r := range more {
				for k := 0; k < 64; k += 8 {
					y := bytes8(r, col+k)
					mask |= notZero(bytes8(a, col+k)^y) << k
					end |= notZero(y^bytes8(r, col+k+1)) << k
				}
			}
			if col+64 == to {
				end |= 1 << 63
			}
		} else {
			for col := w << 6; col < min(to, w<<6+64); col++ {
				for _, r := range rows {
					if a[col] != r[col] {
						mask |= 1 << (col & 63)
					}
					if col == to-1 || r[col] != r[col+1] {
						end |= 1 << (col & 63)
					}
				}
			}
		}
		masks[w], ends[w], both[w] = mask, end, mask&end
		all += bits.OnesCount64(end)
		differing += bits.OnesCount64(mask & end)
	}
	return all, differing
}

func bytes8(row []uint8, at int) uint64 { return binary.LittleEndian.Uint64(row[at:]) }

// notZero has bit i where byte i of x is not 0.
func notZero(x uint64) uint64 {
	if x == 0 {
		return 0
	}
	const low = 0x7f7f7f7f7f7f7f7f
	return ((x&low + low | x) >> 7 & 0x0101010101010101) * 0x0102040810204080 >> 56
}
