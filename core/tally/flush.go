package tally

import (
	"math/bits"

	"github.com/verdex-land/verdex/core/raster"
)

// What the kernel has added up by slot is moved on here: cells to area, and that to the extents of the zone and window at hand.

// wholeCells are whole cells: how many, and their area in units of the grid's.
type wholeCells struct {
	n    int64
	area Sum
}

// flush turns what runs has added into area, by the segment that the runs lie in.
func (k *kernel) flush(seg *raster.Segment, moments bool) {
	k.seenWhole |= k.seen
	k.held = nil
	if k.group > manySlots {
		k.marks.acc.take(k.seen, k.group, func(s int) {
			k.flushSlot(s, seg, moments)
			k.marks.wholes.set(s)
		})
		k.seen = 0
		return
	}
	if moments && k.group == 2 {
		k.flushFours(seg)
		return
	}
	for m := k.seen; m != 0; m &= m - 1 {
		first := bits.TrailingZeros64(m) << k.group
		for i, v := range k.acc[first : first+1<<k.group] {
			if v != 0 {
				k.flushSlot(first+i, seg, moments)
			}
		}
	}
	k.seen = 0
}

// flushFours is flush of packed moments of up to 256 slots, as bytes have, without a call for each.
func (k *kernel) flushFours(seg *raster.Segment) {
	acc, wholes := (*[256]uint64)(k.acc), (*[256]wholeCells)(k.wholes)
	for m := k.seen; m != 0; m &= m - 1 {
		first := bits.TrailingZeros64(m) << 2 & 252
		four, to := (*[4]uint64)(acc[first:]), (*[4]wholeCells)(wholes[first:])
		for i, v := range four {
			if v != 0 {
				n, area := areaOf(v, seg)
				four[i] = 0
				to[i].n += n
				to[i].area.AddInt(area)
			}
		}
	}
	k.seen = 0
}

// flushSlot is flush for a slot.
func (k *kernel) flushSlot(s int, seg *raster.Segment, moments bool) {
	v, w := k.acc[s], &k.wholes[s]
	if k.acc[s] = 0; v == 0 {
		return
	}
	if moments {
		n, area := areaOf(v, seg)
		w.n += n
		w.area.AddInt(area)
	} else {
		w.n += int64(v)
		w.area.AddProduct(int64(v), seg.A)
	}
}

// takeWhole moves the whole cells of a zone and window to its extents.
func (k *kernel) takeWhole() {
	if k.group > manySlots {
		k.marks.wholes.take(k.seenWhole, k.group, k.takeSlot)
		k.seenWhole = 0
		return
	}
	for m := k.seenWhole; m != 0; m &= m - 1 {
		first := bits.TrailingZeros64(m) << k.group
		for s := first; s < first+1<<k.group; s++ {
			if k.wholes[s].n != 0 {
				k.takeSlot(s)
			}
		}
	}
	k.seenWhole = 0
}

// takeSlot is takeWhole for a slot.
func (k *kernel) takeSlot(s int) {
	if w := &k.wholes[s]; w.n != 0 {
		k.present[s>>6] |= 1 << (s & 63)
		k.extents[s].whole(w.n, w.area)
		*w = wholeCells{}
	}
}

// flushShares turns the shares of cutAlike into area. A window has fewer than 2²³ cells, so that
// they fit.
func (k *kernel) flushShares(seg *raster.Segment) {
	if k.group > manySlots {
		k.marks.shares.take(k.seenShares, k.group, func(s int) {
			if v := k.shares[s]; v != 0 {
				k.present[s>>6] |= 1 << (s & 63)
				k.extents[s].alike(v, seg.A)
				k.shares[s] = 0
			}
		})
		k.seenShares = 0
		return
	}
	for m := k.seenShares; m != 0; m &= m - 1 {
		first := bits.TrailingZeros64(m) << k.group
		for from := first; from < first+1<<k.group; from += 4 {
			four := (*[4]int64)(k.shares[from:])
			if four[0]|four[1]|four[2]|four[3] == 0 { // most are
				continue
			}
			for i, v := range four {
				if v == 0 {
					continue
				}
				s := from + i
				four[i] = 0
				k.present[s>>6] |= 1 << (s & 63)
				k.extents[s].alike(v, seg.A)
			}
		}
	}
	k.seenShares = 0
}
