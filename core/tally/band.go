package tally

import (
	"iter"
	"math/bits"
	"sync"
	"sync/atomic"

	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/zone"
)

// band is a row of windows. Its zones are cut by all workers that come to it, and let go when
// its last window is done, so that only the spans of a few bands exist at a time.
type band struct {
	pass     *pass
	from, to int // rows
	zones    []int
	cut      []*zone.Spans
	next     atomic.Int64 // the next zone to cut
	pending  sync.WaitGroup
	finish   sync.Once
	left     atomic.Int64     // windows to do
	spans    [][]*zone.Spans  // by window across: the zones that touch it
	rows     []raster.Segment // areas by row, when they do not vary along it
	err      error
}

func newBand(p *pass, from, to int, zones []int) *band {
	b := &band{pass: p, from: from, to: to, zones: zones, cut: make([]*zone.Spans, len(zones))}
	b.pending.Add(len(zones))
	b.left.Store(int64(p.across))
	return b
}

// prepare returns when the band is ready; the caller helps to make it so.
func (b *band) prepare(c *zone.Cutter) error {
	p := b.pass
	for {
		i := int(b.next.Add(1)) - 1
		if i >= len(b.zones) {
			break
		}
		z := b.zones[i]
		s := c.Cut(&p.req.Placement.Outlines[z], z, b.from, b.to)
		if s.Overlap != nil {
			p.overlap.CompareAndSwap(nil, &overlapAt{z, *s.Overlap})
		}
		b.cut[i] = s
		b.pending.Done()
	}
	b.pending.Wait()
	b.finish.Do(b.assign)
	return b.err
}

// assign finds the windows that each zone touches, and the areas of the rows.
func (b *band) assign() {
	p := b.pass
	b.spans = make([][]*zone.Spans, p.across)
	mark := make([]bool, p.across)
	for _, s := range b.cut {
		clear(mark)
		from, to := s.Rows()
		for row := from; row < to; row++ {
			full, edge := s.Row(row)
			for _, r := range full {
				for t := int(r.From) / p.tileW; t <= (int(r.To)-1)/p.tileW; t++ {
					mark[t] = true
				}
			}
			for i := range edge {
				mark[int(edge[i].Col)/p.tileW] = true
			}
		}
		for t, yes := range mark {
			if yes {
				b.spans[t] = append(b.spans[t], s)
			}
		}
	}
	b.cut = nil
	switch p.areas.Vary {
	case raster.Uniform:
		s, err := p.areas.Row(b.from)
		b.err = err
		b.rows = make([]raster.Segment, b.to-b.from)
		for i := range b.rows {
			b.rows[i] = s
		}
	case raster.ByRow:
		b.rows = make([]raster.Segment, b.to-b.from)
		for i := range b.rows {
			if b.rows[i], b.err = p.areas.Row(b.from + i); b.err != nil {
				return
			}
		}
	}
}

func (b *band) release() {
	if b.left.Add(-1) == 0 {
		b.spans, b.rows = nil, nil
	}
}

// slots are the slots that hold something, which are then taken as empty.
func (k *kernel) slots() iter.Seq[int32] {
	return func(yield func(int32) bool) {
		for w, m := range k.present {
			k.present[w] = 0
			for ; m != 0; m &= m - 1 {
				if !yield(int32(w<<6 + bits.TrailingZeros64(m))) {
					return
				}
			}
		}
	}
}

// value is what the layers hold in cells of slot s.
func (k *kernel) value(s int32) Value {
	if len(k.layers) == 1 {
		return Value{k.layers[0].values[s], 0}
	}
	j := k.jointOf[s]
	return Value{k.layers[0].values[j[0]], k.layers[1].values[j[1]]}
}
