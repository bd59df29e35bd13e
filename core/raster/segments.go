package raster

import (
	"math"

	"github.com/verdex-land/verdex/core/fault"
)

// Segment gives the areas of a row's cells from its first column on: cell d of it has the area
// A + B·d + C·d², in units. Gy + Gxy·d is the change of density down the cell: at height t, from -½ at the
// row's start to ½ at its end, density is its area + (Gy + Gxy·d)·t. The change along the row is B. Where areas vary ByRow, what
// changes down a cell is given by [Heights] instead.
type Segment struct{ A, B, C, Gy, Gxy int64 }

// At gives the area of cell d, and by how much it changes along and down the cell.
func (s *Segment) At(d int64) (area, along, down int64) {
	return s.A + d*(s.B+d*s.C), s.B + 2*d*s.C, s.Gy + d*s.Gxy
}

// PerRow is the number of Segments that a row has: 1 unless areas vary ByCell.
func (a *Areas) PerRow() int {
	if a.Vary != ByCell {
		return 1
	}
	return (a.Grid.Width + a.SegmentCells - 1) / a.SegmentCells
}

// Segments appends the segments of row r that hold columns from to to-1, the first being
// number from/SegmentCells. It is for grids whose areas vary ByCell.
func (a *Areas) Segments(dst []Segment, r, from, to int) ([]Segment, error) {
	l := a.SegmentCells
	var b *densityBlock
	var px, py [6]float64
	block := -1
	half := float64(l) / 2
	for s := from / l; s*l < to; s++ {
		if bc := s * l / a.blockCells; bc != block {
			block = bc
			b = a.block(bc, r/a.blockCells)
			t := (float64(r)+0.5-b.r0)/b.h*2 - 1
			for m := range 6 {
				px[m], py[m] = 0, 0
				for k := 5; k >= 0; k-- {
					py[m] = float64(py[m]*t) + px[m]
					px[m] = float64(px[m]*t) + b.coef[k][m]
				}
			}
		}
		if !b.good {
			seg, err := a.direct(s, r)
			if err != nil {
				return dst, err
			}
			dst = append(dst, seg)
			continue
		}
		// A quadratic through three Chebyshev nodes of the segment, about its middle.
		mid := float64(s*l) + half
		scale := 2 / b.w
		x, reach := (mid-b.c0)*scale-1, half*chebyshev3*scale
		f0, fl, fr := horner(&px, x), horner(&px, x-reach), horner(&px, x+reach)
		gl, gr := horner(&py, x-reach)*2/b.h, horner(&py, x+reach)*2/b.h
		dst = append(dst, quadratic(f0, fl, fr, gl, gr, half*chebyshev3, 0.5-half))
	}
	return dst, nil
}

// quadratic is the segment through the areas f0 in the middle of some cells and fl, fr at reach on either side of it, where gl and gr are
// the change down; d is where the centre of cell 0 lies from the middle.
func quadratic(f0, fl, fr, gl, gr, reach, d float64) Segment {
	f1, f2 := (fr-fl)/(2*reach), (fr-2*f0+fl)/(2*reach*reach)
	gxy := (gr - gl) / (2 * reach)
	return Segment{
		A:   Round(f0 + float64(f1*d) + float64(f2*d*d)),
		B:   Round(f1 + float64(2*f2*d)),
		C:   Round(f2),
		Gy:  Round((gl+gr)/2 + float64(gxy*d)),
		Gxy: Round(gxy),
	}
}

// direct makes the s-th segment of row r from density along the cells of it that lie on ground, without a block.
func (a *Areas) direct(s, r int) (Segment, error) {
	l := a.SegmentCells
	from, to := s*l, s*l+l
	y := float64(r) + 0.5
	defined := func(c float64) bool { _, ok := a.mean(c, y); return ok }
	// The longest stretch of cells, found on a lattice of a 16th of the segment and widened at its ends.
	step := max(1, l/16)
	first, last, begin := -1, -1, -1
	for c := from; c <= to; c += step {
		in := c < to && defined(float64(c)+0.5)
		if in && begin < 0 {
			begin = c
		}
		if !in && begin >= 0 {
			if c-begin > last-first {
				first, last = begin, c
			}
			begin = -1
		}
	}
	if first < 0 {
		return Segment{}, nil
	}
	for first > from && defined(float64(first)-0.5) {
		first--
	}
	last -= step - 1
	for last < to && defined(float64(last)+0.5) {
		last++
	}
	half := float64(last-first) / 2
	mid := float64(first) + half
	reach := half * chebyshev3
	if last-first == 1 {
		reach = 0.25
	}
	f0, ok0 := a.mean(mid, y)
	fl, ok1 := a.mean(mid-reach, y)
	fr, ok2 := a.mean(mid+reach, y)
	if !ok0 || !ok1 || !ok2 {
		// A lone cell that the edge of the map cuts: what is known in its middle has to do.
		d, ok := a.Grid.CRS.Density(a.Grid.Point(mid, y))
		if !ok {
			return Segment{}, nil
		}
		return Segment{A: Round(d * math.Abs(a.Grid.DX*a.Grid.DY) / a.Quantum)}, nil
	}
	change := func(c float64) (float64, bool) { // down the column through c
		up, ok1 := a.mean(c, y-0.5)
		down, ok2 := a.mean(c, y+0.5)
		return down - up, ok1 && ok2
	}
	gl, ok1 := change(mid - reach)
	gr, ok2 := change(mid + reach)
	if !ok1 || !ok2 { // at the edge of the map
		if gl, ok0 = change(mid); !ok0 {
			gl = 0
		}
		gr = gl
	}
	seg := quadratic(f0, fl, fr, gl, gr, reach, float64(from)+0.5-mid)
	// The quadratic has to hold at other cells of the stretch.
	for _, at := range [4]float64{0.02, 0.3, 0.64, 0.97} {
		c := min(first+int(at*float64(last-first)), last-1)
		want, ok := a.mean(float64(c)+0.5, y)
		d := int64(c - from)
		if got := float64(seg.A + d*seg.B + d*d*seg.C); ok && math.Abs(got-want) > 1e-9*want {
			return seg, fault.Errorf("the areas of its cells near column %d, row %d vary more strongly than can be computed to a part in 10⁹", c, r).
				Through("choose another CRS for it", "align")
		}
	}
	return seg, nil
}

// Cell is the true area in m² of one cell, 0 where it lies on no ground.
func (a *Areas) Cell(col, row int) (float64, error) {
	if !a.Grid.CRS.OnEarth(a.Grid.Point(float64(col)+0.5, float64(row)+0.5)) {
		return 0, nil
	}
	if a.Vary != ByCell {
		return float64(a.Row(row).A) * a.Quantum, nil
	}
	segments, err := a.Segments(nil, row, col, col+1)
	if err != nil {
		return 0, err
	}
	d := int64(col % a.SegmentCells)
	s := segments[0]
	return float64(s.A+s.B*d+s.C*d*d) * a.Quantum, nil
}

// Stretch is the true area in m² of cells from to to-1 of a row together; those that lie on no ground have none. It keeps what it needs of a row
// for the next stretches there, and is for one goroutine at a time.
func (a *Areas) Stretch(row, from, to int) (float64, error) {
	if a.partly {
		sum := 0.0
		for col := from; col < to; col++ {
			v, err := a.Cell(col, row)
			if err != nil {
				return 0, err
			}
			sum += v
		}
		return sum, nil
	}
	l := &a.stretch
	if l.segments == nil || l.row != row {
		l.row = row
		if a.Vary != ByCell {
			l.segments = append(l.segments[:0], a.Row(row))
		} else {
			var err error
			if l.segments, err = a.Segments(l.segments[:0], row, 0, a.Grid.Width); err != nil {
				l.segments = nil
				return 0, err
			}
		}
	}
	if a.Vary != ByCell {
		return float64(l.segments[0].A) * float64(to-from) * a.Quantum, nil
	}
	sum := 0.0
	for col := from; col < to; {
		first := col / a.SegmentCells
		s := &l.segments[first]
		for first *= a.SegmentCells; col < min(to, first+a.SegmentCells); col++ {
			d := int64(col - first)
			sum += float64(s.A + s.B*d + s.C*d*d)
		}
	}
	return sum * a.Quantum, nil
}
