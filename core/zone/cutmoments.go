package zone

import (
	"math"

	"github.com/verdex-land/verdex/core/raster"
)

// row cuts the stretch of an edge in the row at hand, from (xa, ya) down to (xb, yb), at columns.
func (c *Cutter) row(xa float64, ya int64, xb float64, yb int64, sign int64) {
	if ya == yb {
		return
	}
	w := float64(c.Width)
	if xa >= w && xb >= w {
		return // all cells lie to the left
	}
	if xa <= 0 && xb <= 0 {
		c.add(0, 0, 0, ya, yb, sign)
		return
	}
	lo, hi := math.Floor(xa), math.Floor(xb) // no use of min and max, which take longer to heed NaN and signed zeros
	if xa > xb {
		lo, hi = hi, lo
	}
	if lo == hi {
		if lo < w {
			c.add(int32(lo), xa-lo, xb-lo, ya, yb, sign)
		}
		return
	}
	// Heights where the stretch crosses columns, from the left end on.
	left, right, yl, yr := xa, xb, ya, yb
	if xa > xb {
		left, right, yl, yr = xb, xa, yb, ya
	}
	slope := float64(yr-yl) / (right - left)
	x, y := left, yl
	col := lo
	if left < 0 { // the part beyond the left border counts as running along it
		col = 0
		next := yl + raster.Round(-left*slope)
		c.between(0, 0, 0, y, next, sign, xa <= xb)
		x, y = 0, next
	}
	for ; col < w && x < right; col++ {
		next := col + 1
		yn := yr
		if next < right {
			yn = yl + raster.Round((next-left)*slope)
		} else {
			next = right
		}
		c.between(int32(col), x-col, next-col, y, yn, sign, xa <= xb)
		x, y = next, yn
	}
}

// between adds a piece that was found from left to right; downward says whether the edge runs so.
func (c *Cutter) between(col int32, f0, f1 float64, y0, y1, sign int64, downward bool) {
	if y0 == y1 {
		return
	}
	if downward {
		c.add(col, f0, f1, y0, y1, sign)
	} else {
		c.add(col, f1, f0, y1, y0, sign)
	}
}

// add adds the piece of an edge within one cell, from (f0, y0) down to (f1, y1).
func (c *Cutter) add(col int32, f0, f1 float64, y0, y1, sign int64) {
	i := c.mark(col)
	if c.heights != nil {
		c.addByHeight(i, f0, f1, y0, y1, sign)
		return
	}
	dy := y1 - y0
	mean := (f0 + f1) / 2
	c.sums[i].cover += sign * dy
	c.sums[i].share += sign * raster.Round(float64(dy)*(1-mean))
	if !c.Moments {
		return
	}
	// The integrands are quadratic; the means of products of two linear functions are those of
	// their middles plus a twelfth of the product of their rises.
	m := &c.moments[i]
	if y0 == 0 && y1 == WholeCell { // what is below, where much of it is 0 or 1
		d, u := f1-f0, mean-0.5
		m.cell.X += sign * raster.Round(WholeCell*(0.125-(float64(u*u)+float64(d*d)/12)/2))
		m.cell.Y += sign * raster.Round(WholeCell*(0-d/12))
		return
	}
	t0, t1 := float64(y0)/WholeCell, float64(y1)/WholeCell
	d, y, u := f1-f0, (t0+t1)/2-0.5, mean-0.5
	h := float64(dy)
	rise := h / WholeCell
	m.cell.X += sign * raster.Round(h*(0.125-(float64(u*u)+float64(d*d)/12)/2))
	m.cell.Y += sign * raster.Round(h*(float64((1-mean)*y)-float64(d*rise)/12))
	m.cover.Y += sign * (moment1(t1) - moment1(t0))
}

// addByHeight is add where shares are those of true area, which varies down a cell: in its terms an edge is no longer straight.
func (c *Cutter) addByHeight(i int, f0, f1 float64, y0, y1, sign int64) {
	t0, t1 := float64(y0)/WholeCell, float64(y1)/WholeCell
	cover := fixed(c.heights.Above(t1)) - fixed(c.heights.Above(t0))
	share := cover
	if f0 != 0 || f1 != 0 {
		share = raster.Round(c.heights.Right(t0, t1, f0, f1) * WholeCell)
	}
	c.sums[i].cover += sign * cover
	c.sums[i].share += sign * share
}

// moment1 is the integral of y over the upper part of a cell, y from its middle; it vanishes over the whole cell.
func moment1(t float64) int64 { return raster.Round((float64(t*t) - t) / 2 * WholeCell) }
