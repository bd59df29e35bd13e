package tally

import (
	"math/bits"

	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/zone"
)

// wholeCells are the whole cells of bytes whose areas vary along a row: by value how many there are, and their area in units of the grid's.
type wholeCells struct {
	n    [256]int64
	area [256]Sum
	seen uint64 // bit v>>2 is set where those of value v may not be 0
}

// bytesByCell is window for one layer of bytes, where areas vary along a row.
func (k *kernel) bytesByCell(w raster.Window, t touch, from, to int, segments []raster.Segment, rowFrom int) {
	c := &k.layers[0].cells
	perRow, l := k.areas.PerRow(), k.areas.SegmentCells
	shift := bits.TrailingZeros(uint(l)) // it is a power of two
	extents := (*[256]Extent)(k.extents) // a byte is its own slot, and there is room for all
	var present [4]uint64
	for row := from; row < to; row++ {
		full, edge, skipped := t.cropped(row, w)
		if k.sharing != nil && k.sharing.band != nil {
			k.sharing.mark(t.spans.Zone, row, full)
		}
		of := segments[(row-rowFrom)*perRow:][:perRow]
		if len(full) > 0 {
			k.prepare(row - w.Row)
		}
		for _, r := range full {
			a, b := max(int(r.From), w.Col), min(int(r.To), w.Col+w.Width)
			for a < b {
				s := a >> shift
				begin := s << shift
				end := min(b, begin+l)
				k.seen |= k.runs8((*[256]uint64)(k.acc), row-w.Row, a-w.Col, end-w.Col, true, begin-w.Col)
				k.settle(&of[s])
				a = end
			}
		}
		if len(edge) == 0 {
			continue
		}
		cells := c.U8[(row-w.Row)*c.Stride:][:w.Width]
		ms := moments(t.spans, row, skipped)
		for i := range edge {
			col := int(edge[i].Col)
			v := cells[col-w.Col]
			s := col >> shift
			area, gx, gy := of[s].At(int64(col - s<<shift))
			var m zone.Moment
			if i < len(ms) {
				m = ms[i]
			}
			present[v>>6] |= 1 << (v & 63)
			x := &extents[v]
			x.Shares.AddInt(trueShare(edge[i].Share, m, area, gx, gy))
			x.Total.Add(cutArea(edge[i].Share, m, area, gx, gy))
		}
	}
	for i, p := range present {
		k.present[i] |= p
	}
	k.takeWhole()
}

// settle turns what runs has added into area, by the segment that the runs lie in.
func (k *kernel) settle(seg *raster.Segment) {
	acc, whole := (*[256]uint64)(k.acc), &k.whole8
	whole.seen |= k.seen
	for m := k.seen; m != 0; m &= m - 1 {
		first := bits.TrailingZeros64(m) << 2 & 255
		for s := first; s < first+4; s++ {
			v := acc[s&255]
			if v == 0 {
				continue
			}
			acc[s&255] = 0
			n, area := areaOf(v, seg)
			whole.n[s&255] += n
			whole.area[s&255].AddInt(area)
		}
	}
	k.seen = 0
}

// takeWhole moves the whole cells of a zone and window to its extents.
func (k *kernel) takeWhole() {
	whole := &k.whole8
	for m := whole.seen; m != 0; m &= m - 1 {
		first := bits.TrailingZeros64(m) << 2
		for s := first; s < first+4; s++ {
			if whole.n[s] != 0 {
				k.present[s>>6] |= 1 << (s & 63)
				k.extents[s].whole(whole.n[s], whole.area[s])
				whole.n[s], whole.area[s] = 0, Sum{}
			}
		}
	}
	whole.seen = 0
}
