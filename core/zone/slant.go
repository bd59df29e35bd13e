package zone

import (
	"math"
	"math/bits"

	"github.com/verdex-land/verdex/core/raster"
)

// slant is an edge of an outline, from p down to q.
type slant struct {
	p, q        Point
	slope, rise float64 // columns for each row, and rows for each column, either way
	sign        int64
	row, last   int32 // the next row to cut it in, and the last that it meets
	next        int32 // another edge that begins in the same stripe, -1 for none
	x           float64
	t           int64 // where it enters the next row
}

// at is the x of the edge at height y.
func (e *slant) at(y float64) float64 {
	if y <= e.p[1] {
		return e.p[0]
	}
	if y >= e.q[1] {
		return e.q[0]
	}
	return xAt(e.p[0], e.p[1], e.q[0], e.slope, y)
}

// xAt is the x at a height y between the ends of an edge from (px, py) down to a corner at qx. It takes numbers, since points as arguments go through memory.
func xAt(px, py, qx, slope, y float64) float64 {
	x := px + float64((y-py)*slope)
	if slope < 0 {
		px, qx = qx, px
	}
	if x < px {
		return px
	}
	if x > qx {
		return qx
	}
	return x
}

// slopes are how many columns an edge passes for each row, and how many rows for each column, either way.
func slopes(p, q Point) (slope, rise float64) {
	w, h := q[0]-p[0], q[1]-p[1]
	return w / h, math.Abs(h / w)
}

// newSlant is the edge from p down to q.
func newSlant(p, q Point, sign int64) slant {
	e := slant{p: p, q: q, sign: sign}
	e.slope, e.rise = slopes(p, q)
	return e
}

// units is a column in Units. Beyond those that a grid may have it matters only on which side it lies.
func units(x float64) int64 {
	if x < -maxColumns {
		return -maxColumns * WholeCell
	}
	if x > maxColumns {
		return maxColumns * WholeCell
	}
	return int64(x * WholeCell)
}

// column is the column that x lies in, and how far behind its left border. A border belongs to the column on its left, so
// that an outline along borders of cells cuts none on either side.
func column(x int64) (col, from int64) {
	col = columnOf(x)
	return col, x - col<<unitBits
}

func columnOf(x int64) int64 { return (x - 1) >> unitBits }

// maxColumns is the width of the widest grid whose columns can be told in Units.
const maxColumns = 1 << 22

// height is where an edge passes a border of columns in a row, which it enters at (xa, ta) and leaves at tb.
func height(border, xa, ta, tb int64, rise float64) int64 {
	across := border<<unitBits - xa
	if across < 0 {
		across = -across
	}
	return min(ta+int64(float64(across)*rise), tb)
}

// share is the area to the right of a piece of an edge within one cell; dy is its height, and it runs from f0 to f1.
func share(dy, f0, f1 int64) int64 {
	hi, lo := bits.Mul64(uint64(dy), uint64(2*WholeCell-f0-f1))
	return int64(hi<<(63-unitBits) | lo>>(unitBits+1))
}

// fixed rounds a height within a row to 1/WholeCell.
func fixed(t float64) int64 { return raster.Round(t * WholeCell) }
