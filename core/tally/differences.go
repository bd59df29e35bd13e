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
	words int      // of each for a row
	done  []bool   // by row: whether they are known
	rows  [mostWord][]uint8
	// Room for a row: where runs of cells that differ begin and end, as bits and as columns, the ranks of these, and the bytes of each run.
	starting, stopping   []uint64
	begins, stops, ranks []int32
	combined             []uint64
	base                 [256]uint64
	seen                 uint64 // bit v>>2 is set where base of v may not be 0
	met                  [1 << metBits]metCombination
}

// metCombination is the slot of a combination of bytes, for which there is room in acc, and one more: 0 is none.
type metCombination struct {
	word uint64
	slot int32
}

// metBits is the logarithm of how many combinations are found without a call: their places, 64 KiB, stay near the processor.
const metBits = 12

// sampled is of how many rows one tells what a window is like.
const sampled = 8

// fewDiffer finds where the layers differ, and reports whether that is in few runs.
func (k *kernel) fewDiffer() bool {
	d := &k.differ
	if d.known {
		return d.few
	}
	d.known = true
	d.words = (k.width + 63) / 64
	n := d.words * len(k.rows)
	d.masks, d.ends = sized(d.masks, n), sized(d.ends, n)
	d.starting, d.stopping, d.ranks = sized(d.starting, d.words), sized(d.stopping, d.words), sized(d.ranks, d.words)
	d.begins, d.stops, d.combined = sized(d.begins, d.words*64+8), sized(d.stops, d.words*64+8), sized(d.combined, d.words*64)
	d.done = sized(d.done, len(k.rows))
	clear(d.done)
	all, differing := 0, 0
	for row := 0; row < len(k.rows); row += sampled {
		n, m := k.differIn(row)
		all, differing = all+n, differing+m
	}
	d.few = 2*differing <= all || k.long != nil && 4*differing <= 3*all // measured: of many layers runs are dearer
	return d.few
}

// differIn finds where the layers differ in a row, unless that is known.
func (k *kernel) differIn(row int) (all, differing int) {
	d := &k.differ
	if d.done[row] {
		return 0, 0
	}
	d.done[row] = true
	at := row * d.words
	// A byte behind the last one, whatever it is, lets all words of the row be done at once: that of the next row, or of the room behind the cells.
	return differ(d.masks[at:at+d.words], d.ends[at:at+d.words], k.bytesOf(row, k.width+1), k.width)
}

// differ sets bits for all columns of a row as differPlain does, and counts them.
func differ(masks, ends []uint64, rows [][]uint8, width int) (all, differing int) {
	done, all, differing := differ8(masks, ends, rows)
	if done < width {
		n, m := differPlain(masks, ends, rows, done, width)
		return all + n, differing + m
	}
	last := len(masks) - 1
	ends[last] |= 1 << 63 // a run ends with the row
	return all, differing
}

// bytesOf are the bytes of the layers in the first columns of a row, as many as there are, until it is called again.
func (k *kernel) bytesOf(row, columns int) [][]uint8 {
	rows := k.differ.rows[:len(k.layers)]
	for i, l := range k.layers {
		at := row * l.cells.Stride
		rows[i] = l.cells.U8[at:min(at+columns, cap(l.cells.U8))]
		columns = len(rows[i])
	}
	for i := range rows {
		rows[i] = rows[i][:columns]
	}
	return rows
}

// wordMask has the bits of a word that are those of layers.
func (k *kernel) wordMask() uint64 { return ^uint64(0) >> (64 - 8*len(k.layers)) }

// meet puts the combination of a cell of the window, which is not there, into its place; there is then room for its slot in acc.
func (k *kernel) meet(m *metCombination, word uint64, col, row int) error {
	var slot int32
	var err error
	if k.long != nil {
		slot, err = k.long.word(word)
	} else {
		slot, err = k.slotAt(col, row)
	}
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
	k.differIn(row)
	n := d.runsBetween(row, from, to)
	if n == 0 {
		return nil
	}
	first, begins, ends, words := from&^63, d.begins[:n], d.stops[:n], d.combined[:n]
	combine(words, ends, k.bytesOf(row, to), first)
	acc := k.acc
	for i, word := range words {
		met := &d.met[hashOf(word)>>(64-metBits)]
		if met.slot == 0 || met.word != word {
			if err := k.meet(met, word, first+int(ends[i])-1, row); err != nil {
				return err
			}
			acc = k.acc
		}
		weight := uint64(ends[i] - begins[i] + 1)
		if moments {
			weight = packed[first+int(ends[i])-origin] - packed[first+int(begins[i])-1-origin]
		}
		slot := met.slot - 1
		if acc[slot] == 0 { // the first since the last flush
			k.seen |= 1 << (slot >> k.group & 63)
			k.marks.acc.set(int(slot))
		}
		acc[slot] += weight
		d.base[uint8(word)] -= weight
	}
	return nil
}

// runsBetween lists where runs of cells in which the layers differ begin and end in columns from to to-1 of a row: each column and one more, counted from
// that of the first bit of the word that from lies in. It returns how many there are.
func (d *differences) runsBetween(row, from, to int) int {
	first, last := from>>6, (to-1)>>6
	masks, ends := d.masks[row*d.words:][first:last+1], d.ends[row*d.words:][first:last+1]
	starting, stopping := d.starting[:len(masks)], d.stopping[:len(masks)]
	before := uint64(1) // a run begins at from in any case, and the last one ends at to
	for w, m := range masks {
		e := ends[w]
		if w == 0 {
			m &= ^uint64(0) << (from & 63)
			before <<= from & 63
		}
		if w == len(masks)-1 {
			m &= ^uint64(0) >> (63 - (to-1)&63)
			e |= 1 << ((to - 1) & 63)
		}
		starting[w], stopping[w] = m&(e<<1|before), m&e
		before = e >> 63
	}
	flatten(d.begins, d.ranks, starting)
	return flatten(d.stops, d.ranks, stopping)
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
// another one than that behind it, and in the last column. It counts those in ends, and those in both.
func differPlain(masks, ends []uint64, rows [][]uint8, from, to int) (all, differing int) {
	a, b, c := rows[0], rows[1], rows[min(2, len(rows)-1)]
	more := rows[min(3, len(rows)):]
	for w := from >> 6; w<<6 < to; w++ {
		var mask, end uint64
		if col := w << 6; col+64 <= to && col+64 < len(a) { // eight columns at a time, with the one behind them, whatever it is
			for k := 0; k < 64; k += 8 {
				x, y, z := bytes8(a, col+k), bytes8(b, col+k), bytes8(c, col+k)
				mask |= raster.NotZero((x^y)|(x^z)) << k
				end |= raster.NotZero((x^bytes8(a, col+k+1))|(y^bytes8(b, col+k+1))|(z^bytes8(c, col+k+1))) << k
			}
			for _, r := range more {
				for k := 0; k < 64; k += 8 {
					y := bytes8(r, col+k)
					mask |= raster.NotZero(bytes8(a, col+k)^y) << k
					end |= raster.NotZero(y^bytes8(r, col+k+1)) << k
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
		masks[w], ends[w] = mask, end
		all += bits.OnesCount64(end)
		differing += bits.OnesCount64(mask & end)
	}
	return all, differing
}

func bytes8(row []uint8, at int) uint64 { return binary.LittleEndian.Uint64(row[at:]) }

// combinePlain puts the bytes that rows have before columns first+ends into words, that of the first row lowest.
func combinePlain(words []uint64, ends []int32, rows [][]uint8, first int) {
	clear(words)
	for k, row := range rows {
		row = row[first:]
		for i, end := range ends {
			words[i] |= uint64(row[end-1]) << (8 * k)
		}
	}
}
