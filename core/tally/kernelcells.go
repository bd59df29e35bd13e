package tally

import (
	"math/bits"

	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/zone"
)

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
		for _, r := range full {
			a, b := max(int(r.From), w.Col), min(int(r.To), w.Col+w.Width)
			for a < b {
				s := a >> shift
				begin := s << shift
				end := min(b, begin+l)
				if k.byColumn(row-w.Row, a-w.Col, end-w.Col, begin-w.Col, &of[s]) {
					a = end
					continue
				}
				k.prepare(row - w.Row)
				k.seen |= k.runs8((*[256]uint64)(k.acc), row-w.Row, a-w.Col, end-w.Col, true, begin-w.Col)
				k.flush(&of[s], true)
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
}
