package tally

import (
	"math"
	"math/bits"
)

// Sum is a signed 128-bit integer. Sums of areas are kept in it so that they are exact, and the
// same in any order.
type Sum struct {
	hi int64
	lo uint64
}

// Add adds o.
func (s *Sum) Add(o Sum) {
	var carry uint64
	s.lo, carry = bits.Add64(s.lo, o.lo, 0)
	s.hi += o.hi + int64(carry)
}

// AddInt adds v.
func (s *Sum) AddInt(v int64) { s.Add(Sum{v >> 63, uint64(v)}) }

// AddProduct adds a·b.
func (s *Sum) AddProduct(a, b int64) {
	hi, lo := bits.Mul64(uint64(a), uint64(b))
	// The unsigned product of two's complements exceeds the signed one by 2⁶⁴ for each negative
	// factor times the other.
	hi -= uint64(a>>63)&uint64(b) + uint64(b>>63)&uint64(a)
	s.Add(Sum{int64(hi), lo})
}

// Minus is s - o.
func (s Sum) Minus(o Sum) Sum {
	lo, borrow := bits.Sub64(s.lo, o.lo, 0)
	return Sum{s.hi - o.hi - int64(borrow), lo}
}

// Shift is s·2ⁿ for small n.
func (s Sum) Shift(n uint) Sum {
	return Sum{s.hi<<n | int64(s.lo>>(64-n)), s.lo << n}
}

// Less reports whether s is less than o.
func (s Sum) Less(o Sum) bool { return s.hi < o.hi || s.hi == o.hi && s.lo < o.lo }

// IsZero reports whether the sum is 0.
func (s Sum) IsZero() bool { return s.hi == 0 && s.lo == 0 }

// Float is the nearest float64, or one beside it.
func (s Sum) Float() float64 {
	if s.hi < 0 {
		return -Sum{}.Minus(s).Float()
	}
	return math.Ldexp(float64(s.hi), 64) + float64(s.lo)
}

// Extent is a measured area, exactly: whole cells, and shares of the cells that an outline cuts.
type Extent struct {
	Cells  int64 // whole cells
	Shares Sum   // of cut cells, in units of 1/zone.Unit of a cell
	Whole  Sum   // area of the whole cells, in units of raster.Areas.Unit
	Cut    Sum   // area of the shares, in units of raster.Areas.Unit/zone.Unit
}

// extentOf is the extent of so many zone.Units of cells, each of which has area a; there are fewer than 2²³ cells.
func extentOf(units, a int64) (e Extent) {
	cells, share := units>>shareBits, units&(1<<shareBits-1)
	e.Cells, e.Shares = cells, Sum{0, uint64(share)}
	e.Whole.AddProduct(cells, a)
	e.Cut.AddProduct(share, a)
	return e
}

// Add adds o.
func (e *Extent) Add(o Extent) {
	e.Cells += o.Cells
	e.Shares.Add(o.Shares)
	e.Whole.Add(o.Whole)
	e.Cut.Add(o.Cut)
}

// Minus is e - o.
func (e Extent) Minus(o Extent) Extent {
	return Extent{e.Cells - o.Cells, e.Shares.Minus(o.Shares), e.Whole.Minus(o.Whole), e.Cut.Minus(o.Cut)}
}

// Same reports whether two extents are the same area, to the last unit.
func (e Extent) Same(o Extent) bool {
	d := e.Minus(o)
	d.Whole = d.Whole.Shift(shareBits)
	d.Whole.Add(d.Cut)
	return d.Whole.IsZero()
}

const shareBits = 40 // zone.Unit is 2⁴⁰

// Total is the area of whole and cut cells, in units of raster.Areas.Unit/zone.Unit.
func (e Extent) Total() Sum {
	total := e.Whole.Shift(shareBits)
	total.Add(e.Cut)
	return total
}

// Area is the area in m² of a sum like Extent.Total, given the unit of the grid's areas.
func (s Sum) Area(unit float64) float64 { return math.Ldexp(s.Float(), -shareBits) * unit }

// Area is the area in m², given the unit of the grid's areas.
func (e Extent) Area(unit float64) float64 { return e.Total().Area(unit) }

// CellCount is the number of cells, cut ones by their share.
func (e Extent) CellCount() float64 {
	total := Sum{0, uint64(e.Cells)}.Shift(shareBits)
	total.Add(e.Shares)
	return math.Ldexp(total.Float(), -shareBits)
}

// IsZero reports whether nothing was measured.
func (e Extent) IsZero() bool {
	return e.Cells == 0 && e.Shares.IsZero() && e.Whole.IsZero() && e.Cut.IsZero()
}
