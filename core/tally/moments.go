package tally

import (
	"context"
	"fmt"
	"math"
	"math/big"
	"math/bits"

	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/zone"
)

// Moments are what a raster of measurements holds in a zone: its cells that are not nodata, their least and greatest
// values, and the exact sums of values by area and by share.
type Moments struct {
	Extent          Extent
	Infinite        int64   // cells that hold an infinite number, which take no part
	Least, Greatest float64 // NaN without cells

	bins []moment
}

// moment sums values with one exponent. A value is m·2^exponent with an integer m of 53 bits; the weight of a cell is
// its area within the zone, rounded to a whole unit, of 50 bits. Sums of m·weight and m²·weight over 2³⁰ cells then fit
// into 192 bits, so that they are exact and the same in any order.
type moment struct {
	exponent         int
	area, share, two [3]uint64 // Σ m·area, Σ m·share, Σ m²·area; two's complement
}

// add adds a value with its weights.
func (m *Moments) add(v float64, area, share int64) {
	if !(v >= m.Least) { // also when it is NaN
		m.Least = v
	}
	if !(v <= m.Greatest) {
		m.Greatest = v
	}
	if v == 0 {
		return
	}
	u := math.Float64bits(v)
	e, mantissa := int(u>>52&0x7ff), u&(1<<52-1)
	if e > 0 {
		mantissa |= 1 << 52
	} else {
		e = 1
	}
	b := m.bin(e - 1075)
	negative := u>>63 == 1
	b.area = add192(b.area, mul(mantissa, uint64(area)), negative)
	b.share = add192(b.share, mul(mantissa, uint64(share)), negative)
	hi, lo := bits.Mul64(mantissa, mantissa)
	p := mul(lo, uint64(area))
	h, l := bits.Mul64(hi, uint64(area))
	var carry uint64
	p[1], carry = bits.Add64(p[1], l, 0)
	p[2] += h + carry
	b.two = add192(b.two, p, false)
}

func (m *Moments) bin(exponent int) *moment {
	for i := range m.bins {
		if b := &m.bins[i]; b.exponent == exponent {
			if i > 0 { // the last one used comes first
				m.bins[0], m.bins[i] = m.bins[i], m.bins[0]
			}
			return &m.bins[0]
		}
	}
	m.bins = append(m.bins, moment{exponent: exponent})
	return &m.bins[len(m.bins)-1]
}

func mul(a, b uint64) [3]uint64 {
	hi, lo := bits.Mul64(a, b)
	return [3]uint64{lo, hi, 0}
}

func add192(a, b [3]uint64, minus bool) [3]uint64 {
	var c uint64
	if minus {
		a[0], c = bits.Sub64(a[0], b[0], 0)
		a[1], c = bits.Sub64(a[1], b[1], c)
		a[2] -= b[2] + c
		return a
	}
	a[0], c = bits.Add64(a[0], b[0], 0)
	a[1], c = bits.Add64(a[1], b[1], c)
	a[2] += b[2] + c
	return a
}

// join adds what another worker has found.
func (m *Moments) join(o *Moments) {
	m.Extent.Add(o.Extent)
	m.Infinite += o.Infinite
	if !(o.Least >= m.Least) && !math.IsNaN(o.Least) {
		m.Least = o.Least
	}
	if !(o.Greatest <= m.Greatest) && !math.IsNaN(o.Greatest) {
		m.Greatest = o.Greatest
	}
	for _, b := range o.bins {
		to := m.bin(b.exponent)
		to.area, to.share, to.two = add192(to.area, b.area, false), add192(to.share, b.share, false), add192(to.two, b.two, false)
	}
}

// precise is the precision of what sums are turned into.
const precise = 400

// Sums gives the sums of value · area in m², value² · area, and value · share of the cell.
func (m *Moments) Sums(unit float64) (area, square, share *big.Float) {
	total := func(pick func(*moment) [3]uint64, twice int) *big.Float {
		sum := new(big.Float).SetPrec(precise)
		for i := range m.bins {
			v := new(big.Float).SetPrec(precise).SetInt(signed(pick(&m.bins[i])))
			v.SetMantExp(v, twice*m.bins[i].exponent)
			sum.Add(sum, v)
		}
		return sum
	}
	u := new(big.Float).SetPrec(precise).SetFloat64(unit)
	area = total(func(b *moment) [3]uint64 { return b.area }, 1)
	square = total(func(b *moment) [3]uint64 { return b.two }, 2)
	share = total(func(b *moment) [3]uint64 { return b.share }, 1)
	share.SetMantExp(share, -shareBits)
	return area.Mul(area, u), square.Mul(square, u), share
}

func signed(v [3]uint64) *big.Int {
	out := new(big.Int)
	for i := 2; i >= 0; i-- {
		out.Lsh(out, 64).Or(out, new(big.Int).SetUint64(v[i]))
	}
	if v[2]>>63 == 1 {
		out.Sub(out, new(big.Int).Lsh(big.NewInt(1), 192))
	}
	return out
}

// MeasureMoments measures one layer of measurements: for each zone the moments of its cells that are not nodata, and
// m² in one unit of the extents.
func MeasureMoments(ctx context.Context, req Request) ([]Moments, float64, error) {
	g := req.Placement.Grid
	areas, err := raster.NewAreas(g)
	if err != nil {
		return nil, 0, fmt.Errorf("%s: %w", req.Layers[0].Header().Name, err)
	}
	if err := req.check(); err != nil {
		return nil, 0, err
	}
	p := newPass(req, areas)
	found := make([]map[int]*Moments, req.threads())
	err = p.run(ctx, func(i int) func(*zone.Cutter, *band, int) error {
		found[i] = map[int]*Moments{}
		w := &momentWorker{pass: p, reader: req.Layers[0].NewReader(), zones: found[i], header: req.Layers[0].Header()}
		return w.tile
	})
	if err != nil {
		return nil, 0, err
	}
	out := make([]Moments, len(req.Zones.Zones))
	for i := range out {
		out[i].Least, out[i].Greatest = math.NaN(), math.NaN()
		for _, zones := range found {
			if m := zones[i]; m != nil {
				out[i].join(m)
			}
		}
	}
	return out, areas.Quantum, nil
}

// momentWorker adds up the moments of tiles.
type momentWorker struct {
	pass   *pass
	reader raster.Reader
	cells  raster.Cells
	zones  map[int]*Moments
	header raster.Header
}

func (w *momentWorker) tile(c *zone.Cutter, b *band, col int) error {
	win := b.window(col)
	loaded := false
	for t := range b.touching(c, col) {
		if !loaded {
			if err := w.reader.Read(win, &w.cells); err != nil {
				return err
			}
			loaded = true
		}
		m := w.zones[t.spans.Zone]
		if m == nil {
			m = &Moments{Least: math.NaN(), Greatest: math.NaN()}
			w.zones[t.spans.Zone] = m
		}
		w.window(win, t, b, m)
	}
	return nil
}

// window adds the cells of one zone in the window at hand.
func (w *momentWorker) window(win raster.Window, t touch, b *band, m *Moments) {
	a := w.pass.areas
	perRow := a.PerRow()
	for row := max(int(t.from), win.Row); row < min(int(t.to), win.Row+win.Height); row++ {
		full, edge, skipped := t.cropped(row, win)
		segments := b.segments[(row-b.from)*perRow:][:perRow]
		of := func(col int) (*raster.Segment, int64) {
			if a.Vary != raster.ByCell {
				return &segments[0], 0
			}
			s := col / a.SegmentCells
			return &segments[s], int64(col - s*a.SegmentCells)
		}
		for _, r := range full {
			for col := max(int(r.From), win.Col); col < min(int(r.To), win.Col+win.Width); col++ {
				v, ok := w.at(col-win.Col, row-win.Row, m)
				if !ok {
					continue
				}
				seg, d := of(col)
				area := seg.A + d*(seg.B+d*seg.C)
				m.Extent.whole(1, sumOf(area))
				m.add(v, area, zone.WholeCell)
			}
		}
		ms := moments(t.spans, row, skipped)
		for i, e := range edge {
			v, ok := w.at(int(e.Col)-win.Col, row-win.Row, m)
			if !ok {
				continue
			}
			seg, d := of(int(e.Col))
			var x zone.Moment
			if len(ms) > 0 {
				x = ms[i]
			}
			area, gx, gy := seg.At(d)
			cut := cutArea(e.Share, x, area, gx, gy)
			share := trueShare(e.Share, x, area, gx, gy)
			m.Extent.Shares.AddInt(share)
			m.Extent.Total.Add(cut)
			m.add(v, max(0, cut.hi<<(64-shareBits)|int64(cut.lo>>shareBits)), share)
		}
	}
}

func (w *momentWorker) at(col, row int, m *Moments) (float64, bool) {
	v := w.cells.At(col, row)
	if math.IsInf(v, 0) && !w.header.Missing(v) {
		m.Infinite++
		return v, false
	}
	return v, !w.header.Missing(v)
}
