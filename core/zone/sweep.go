package zone

import "math/bits"

// slack is a millionth of a cell, for the rounding of many pieces.
const slack = WholeCell >> 20

// sweep sums what the edges add in a row from the left, and empties it.
func (c *Cutter) sweep(s *Spans, row int) {
	if !c.Moments {
		c.sweepShares(s, row)
		return
	}
	var cover sums
	var coverM Moment
	next := c.col0 // the first column not dealt with
	marks := c.marks[c.word:][:c.words]
	for w, m := range marks {
		if m == 0 {
			continue
		}
		marks[w] = 0
		for ; m != 0; m &= m - 1 {
			i := w<<6 + bits.TrailingZeros64(m)
			col := c.col0 + int32(i)
			if cover.cover != 0 && next < col {
				c.alike(s, row, next, col, cover.cover, coverM)
			}
			next = col + 1
			p := &c.sums[c.base+int(col)]
			share := cover.cover + p.share
			cover.cover += p.cover
			*p = sums{}
			pm := &c.moments[c.base+int(col)]
			moment := Moment{pm.cell.X, coverM.Y + pm.cell.Y}
			coverM.Y += pm.cover.Y
			*pm = momentSums{}
			switch {
			case share == 0 && moment == Moment{}:
			case share == WholeCell && moment == Moment{}:
				s.whole(col, next)
			default:
				if share < -slack || share > WholeCell+slack {
					s.suspect(col, row)
				}
				s.edge, s.moments = append(s.edge, EdgeCell{col, share}), append(s.moments, moment)
			}
		}
	}
	c.finish(s, row, next, cover.cover, coverM)
}

// sweepShares is sweep without moments.
func (c *Cutter) sweepShares(s *Spans, row int) {
	var cover int64
	next, edge := c.col0, s.edge
	marks := c.marks[c.word:][:c.words]
	for w, m := range marks {
		if m == 0 {
			continue
		}
		marks[w] = 0
		for ; m != 0; m &= m - 1 {
			i := w<<6 + bits.TrailingZeros64(m)
			col := c.col0 + int32(i)
			if next < col {
				if cover == WholeCell {
					s.whole(next, col)
				} else if cover != 0 {
					s.edge = edge
					c.alike(s, row, next, col, cover, Moment{})
					edge = s.edge
				}
			}
			next = col + 1
			p := &c.sums[c.base+int(col)]
			share := cover + p.share
			cover += p.cover
			*p = sums{}
			switch {
			case share == 0:
			case share == WholeCell:
				s.whole(col, next)
			default:
				if share < -slack || share > WholeCell+slack {
					s.suspect(col, row)
				}
				edge = append(edge, EdgeCell{col, share})
			}
		}
	}
	s.edge = edge
	c.finish(s, row, next, cover, Moment{})
}

// finish deals with the cells of a row from column next on, to the right of all edges.
func (c *Cutter) finish(s *Spans, row int, next int32, cover int64, m Moment) {
	if end := int32(c.Width); cover != 0 && next < end {
		c.alike(s, row, next, end, cover, m)
	}
	s.fullFrom, s.edgeFrom = append(s.fullFrom, int32(len(s.full))), append(s.edgeFrom, int32(len(s.edge)))
}

// alike deals with cells that no edge passes: whole ones, or along an outline's upper or lower
// end cut ones that are all alike.
func (c *Cutter) alike(s *Spans, row int, from, to int32, cover int64, m Moment) {
	if cover == WholeCell {
		s.whole(from, to)
		return
	}
	if cover < -slack || cover > WholeCell+slack {
		s.suspect(from, row)
	}
	for ; from < to; from++ {
		s.edge = append(s.edge, EdgeCell{from, cover})
		if c.Moments {
			s.moments = append(s.moments, m)
		}
	}
}

// whole adds whole cells to the row at hand, to the range before them where they join it.
func (s *Spans) whole(from, to int32) {
	if k := len(s.full); k > int(s.fullFrom[len(s.fullFrom)-1]) && s.full[k-1].To == from {
		s.full[k-1].To = to
		return
	}
	s.full = append(s.full, Range{from, to})
}

func (s *Spans) suspect(col int32, row int) {
	if s.Overlap == nil {
		s.Overlap = &[2]int{int(col), row}
	}
}
