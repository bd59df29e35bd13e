package tally

import (
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
func (s *Sum) AddInt(v int64) { s.Add(sumOf(v)) }

func sumOf(v int64) Sum { return Sum{v >> 63, uint64(v)} }

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
	return float64(s.hi)*(1<<64) + float64(s.lo)
}

// Extent is a measured area, exactly.
type Extent struct {
	Shares Sum // cells, those that an outline cuts by their share, in units of 1/zone.WholeCell of a cell
	Total  Sum // area, in units of raster.Areas.Quantum/zone.WholeCell
}

const shareBits = 40 // zone.WholeCell is 2⁴⁰

// whole adds n whole cells whose area together is area, in units of raster.Areas.Quantum.
func (e *Extent) whole(n int64, area Sum) {
	e.Shares.AddProduct(n, 1<<shareBits)
	e.Total.Add(area.Shift(shareBits))
}

// alike adds so many zone.Units of cells each of which has area a.
func (e *Extent) alike(units, a int64) {
	e.Shares.AddInt(units)
	e.Total.AddProduct(units, a)
}

// Add adds o.
func (e *Extent) Add(o Extent) {
	e.Shares.Add(o.Shares)
	e.Total.Add(o.Total)
}

// Minus is e - o.
func (e Extent) Minus(o Extent) Extent {
	return Extent{e.Shares.Minus(o.Shares), e.Total.Minus(o.Total)}
}

// Same reports whether two extents are the same area, to the last unit.
func (e Extent) Same(o Extent) bool { return e.Total == o.Total }

// unitShare is 1/zone.WholeCell: powers of two multiply without rounding.
const unitShare = 1.0 / (1 << shareBits)

// Area is the area in m² of a sum like Extent.Total, given the unit of the grid's areas.
func (s Sum) Area(unit float64) float64 { return s.Float() * unitShare * unit }

// Area is the area in m², given the unit of the grid's areas.
func (e Extent) Area(unit float64) float64 { return e.Total.Area(unit) }

// CellCount is the number of cells, cut ones by their share.
func (e Extent) CellCount() float64 { return e.Shares.Float() * unitShare }

// IsZero reports whether nothing was measured.
func (e Extent) IsZero() bool { return e.Shares.IsZero() && e.Total.IsZero() }
