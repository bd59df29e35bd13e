package zone

import (
	"math"
	"slices"
)

// Unit is one whole cell in the fixed-point numbers of shares and moments.
const Unit = 1 << 40

// EdgeCell is a cell that an outline cuts. Share is the part of the cell that lies in the zone,
// in Units. MX, MY and MYY are that part's moments about the cell's centre, likewise: the
// integrals of x, y and y²-1/12 over it, x to the right and y down, the cell being 1 × 1. Over
// a whole cell the moments vanish, so that they add what the share alone misses where density
// varies within the cell.
//
// All four are sums of integers that depend on one edge of the outline each and change their
// sign with its direction: the shares and moments of zones that tile a cell sum to those of the
// whole cell, exactly.
type EdgeCell struct {
	Col               int32
	Share             int64
	MX, MY, MYY       int64
	cover, coverY, cy int64 // what the outline adds to all cells further right
	row               int32
}

// Range is a run of cells from column From to column To-1 that lie wholly in the zone.
type Range struct{ From, To int32 }

// Spans are the cells of one zone in some rows of a grid.
type Spans struct {
	Zone     int
	RowFrom  int
	full     []Range
	edge     []EdgeCell
	fullFrom []int32 // by row; one more than there are rows
	edgeFrom []int32
	// Overlap is a cell where the outline covers ground more than once or less than never, a
	// sign that it is not sound; nil when there is none.
	Overlap *[2]int
}

// Row gives the whole and the cut cells of a row, by column.
func (s *Spans) Row(row int) ([]Range, []EdgeCell) {
	i := row - s.RowFrom
	if i < 0 || i+1 >= len(s.fullFrom) {
		return nil, nil
	}
	return s.full[s.fullFrom[i]:s.fullFrom[i+1]], s.edge[s.edgeFrom[i]:s.edgeFrom[i+1]]
}

// Rows are the rows that the spans cover: from, to (exclusive).
func (s *Spans) Rows() (from, to int) { return s.RowFrom, s.RowFrom + len(s.fullFrom) - 1 }

// Cutter makes Spans. It keeps scratch space between calls and serves one goroutine.
type Cutter struct {
	Width   int  // columns of the grid
	Down    bool // rows count against y
	Centres bool // a cell belongs to the zone that holds its centre, instead of shares
	Moments bool // whether MX, MY and MYY are wanted

	pieces []EdgeCell
	counts []int32
	sorted []EdgeCell
}

// Cut gives the cells of an outline in rows from to to-1.
//
// Every edge is cut at the rows and columns of the grid, always from its upper end down, so that
// the pieces do not depend on its direction. Heights at the cuts are rounded to 1/Unit of a cell;
// a piece adds its height to all cells to its right and, to its own cell, the area to the right
// of it. Summed from the left, whole cells come out as Unit exactly. (The method is that of
// signed-area accumulation in font rasterisers, done in integers.)
func (c *Cutter) Cut(o *Outline, zone, from, to int) *Spans {
	from, to = max(from, o.RowFrom), min(to, o.RowTo)
	s := &Spans{Zone: zone, RowFrom: from}
	if from >= to {
		s.fullFrom, s.edgeFrom = []int32{0}, []int32{0}
		return s
	}
	c.pieces = c.pieces[:0]
	for _, r := range o.Rings {
		for i := range r {
			p, q := r[i], r[0]
			if i+1 < len(r) {
				q = r[i+1]
			}
			sign := int64(1)
			if p[1] > q[1] || p[1] == q[1] && p[0] > q[0] {
				p, q, sign = q, p, -1
			}
			if q[1] <= float64(from) || p[1] >= float64(to) || p[1] == q[1] {
				continue
			}
			if !c.Down {
				sign = -sign
			}
			if c.Centres {
				c.centres(p, q, sign, from, to)
			} else {
				c.edge(p, q, sign, from, to)
			}
		}
	}
	c.sort(from, to)
	c.sweep(s, from, to)
	return s
}

// at is the x of the edge from p down to q at height y.
func at(p, q Point, y float64) float64 {
	if y <= p[1] {
		return p[0]
	}
	if y >= q[1] {
		return q[0]
	}
	x := p[0] + float64((y-p[1])*((q[0]-p[0])/(q[1]-p[1])))
	return math.Max(math.Min(p[0], q[0]), math.Min(math.Max(p[0], q[0]), x))
}

// edge cuts the edge from p down to q at rows.
func (c *Cutter) edge(p, q Point, sign int64, from, to int) {
	first, last := int(math.Floor(p[1])), int(math.Ceil(q[1]))-1
	for row := max(first, from); row <= min(last, to-1); row++ {
		y := float64(row)
		ya, yb := math.Max(p[1], y), math.Min(q[1], y+1)
		c.row(int32(row), at(p, q, ya), fixed(ya-y), at(p, q, yb), fixed(yb-y), sign)
	}
}

// fixed rounds a height within a row to 1/Unit.
func fixed(t float64) int64 { return int64(math.Round(t * Unit)) }

// row cuts the stretch of an edge in one row, from (xa, ya) down to (xb, yb), at columns.
func (c *Cutter) row(row int32, xa float64, ya int64, xb float64, yb int64, sign int64) {
	if ya == yb {
		return
	}
	w := float64(c.Width)
	if xa >= w && xb >= w {
		return // all cells lie to the left
	}
	if xa <= 0 && xb <= 0 {
		c.piece(row, 0, 0, 0, ya, yb, sign)
		return
	}
	lo, hi := math.Floor(math.Min(xa, xb)), math.Floor(math.Max(xa, xb))
	if lo == hi {
		if lo < w {
			c.piece(row, int32(lo), xa-lo, xb-lo, ya, yb, sign)
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
		next := yl + int64(math.Round(-left*slope))
		c.between(row, 0, 0, 0, y, next, sign, xa <= xb)
		x, y = 0, next
	}
	for ; col < w && x < right; col++ {
		next := col + 1
		yn := yr
		if next < right {
			yn = yl + int64(math.Round((next-left)*slope))
		} else {
			next = right
		}
		c.between(row, int32(col), x-col, next-col, y, yn, sign, xa <= xb)
		x, y = next, yn
	}
}

// between adds a piece that was found from left to right; downward says whether the edge runs so.
func (c *Cutter) between(row, col int32, f0, f1 float64, y0, y1, sign int64, downward bool) {
	if y0 == y1 {
		return
	}
	if downward {
		c.piece(row, col, f0, f1, y0, y1, sign)
	} else {
		c.piece(row, col, f1, f0, y1, y0, sign)
	}
}

// piece adds the piece of an edge within one cell, from (f0, y0) down to (f1, y1).
func (c *Cutter) piece(row, col int32, f0, f1 float64, y0, y1, sign int64) {
	dy := y1 - y0
	mean := (f0 + f1) / 2
	e := EdgeCell{row: row, Col: col, cover: sign * dy,
		Share: sign * int64(math.Round(float64(dy)*(1-mean)))}
	if c.Moments {
		// 2-point Gauss-Legendre quadrature, exact for these cubics.
		const g = 0.28867513459481288225
		t0, t1 := float64(y0)/Unit, float64(y1)/Unit
		h, d, mid := t1-t0, f1-f0, (t0+t1)/2-0.5
		var mx, my, myy float64
		for _, k := range [2]float64{-g, g} {
			y, f := mid+float64(k*h), mean+float64(k*d)
			u := f - 0.5
			mx += float64(h * (0.125 - float64(u*u)/2) / 2)
			my += float64(h * (1 - f) * y / 2)
			myy += float64(h * (1 - f) * (float64(y*y) - 1./12) / 2)
		}
		e.MX = sign * int64(math.Round(mx*Unit))
		e.MY = sign * int64(math.Round(my*Unit))
		e.MYY = sign * int64(math.Round(myy*Unit))
		e.coverY = sign * (moment1(t1) - moment1(t0))
		e.cy = sign * (moment2(t1) - moment2(t0))
	}
	c.pieces = append(c.pieces, e)
}

// moment1 and moment2 are the integrals of y and of y²-1/12 over the upper part of a cell, y from
// its middle; both vanish over the whole cell.
func moment1(t float64) int64 { return int64(math.Round((float64(t*t) - t) / 2 * Unit)) }
func moment2(t float64) int64 {
	v := t - 0.5
	return int64(math.Round((float64(v*v*v)/3 - v/12) * Unit))
}

// centres marks where an edge passes the centre lines of rows: the first cell whose centre lies
// on or to the right of it.
func (c *Cutter) centres(p, q Point, sign int64, from, to int) {
	first, last := int(math.Floor(p[1]-0.5)), int(math.Ceil(q[1]-0.5))
	for row := max(first, from); row <= min(last, to-1); row++ {
		y := float64(row) + 0.5
		if y < p[1] || y >= q[1] {
			continue
		}
		col := math.Max(0, math.Ceil(at(p, q, y)-0.5))
		if col < float64(c.Width) {
			c.pieces = append(c.pieces, EdgeCell{row: int32(row), Col: int32(col), Share: sign * Unit, cover: sign * Unit})
		}
	}
}

// sort orders the pieces by row and column.
func (c *Cutter) sort(from, to int) {
	n := to - from
	c.counts = append(c.counts[:0], make([]int32, n+1)...)
	for i := range c.pieces {
		c.counts[int(c.pieces[i].row)-from+1]++
	}
	for i := range n {
		c.counts[i+1] += c.counts[i]
	}
	c.sorted = slices.Grow(c.sorted[:0], len(c.pieces))[:len(c.pieces)]
	next := append([]int32(nil), c.counts[:n]...)
	for i := range c.pieces {
		r := int(c.pieces[i].row) - from
		c.sorted[next[r]] = c.pieces[i]
		next[r]++
	}
	for r := range n {
		row := c.sorted[c.counts[r]:c.counts[r+1]]
		if len(row) > 24 {
			slices.SortFunc(row, func(a, b EdgeCell) int { return int(a.Col) - int(b.Col) })
			continue
		}
		for i := 1; i < len(row); i++ {
			for j := i; j > 0 && row[j].Col < row[j-1].Col; j-- {
				row[j], row[j-1] = row[j-1], row[j]
			}
		}
	}
}

// sweep sums the pieces of each row from the left.
func (c *Cutter) sweep(s *Spans, from, to int) {
	const slack = Unit >> 20 // a millionth of a cell, for the rounding of many pieces
	n := to - from
	s.fullFrom, s.edgeFrom = make([]int32, 0, n+1), make([]int32, 0, n+1)
	s.edge = make([]EdgeCell, 0, len(c.sorted))
	for r := range n {
		s.fullFrom, s.edgeFrom = append(s.fullFrom, int32(len(s.full))), append(s.edgeFrom, int32(len(s.edge)))
		row := c.sorted[c.counts[r]:c.counts[r+1]]
		var cover, coverY, cy int64
		col := int32(0)
		bad := func(col int32) {
			if s.Overlap == nil {
				s.Overlap = &[2]int{int(col), from + r}
			}
		}
		whole := func(to int32) {
			switch {
			case cover == 0 || col >= to:
			case cover == Unit:
				s.full = append(s.full, Range{col, to})
			default: // along an outline's upper or lower end all cells are cut
				if cover < -slack || cover > Unit+slack {
					bad(col)
				}
				for ; col < to; col++ {
					s.edge = append(s.edge, EdgeCell{Col: col, Share: cover, MY: coverY, MYY: cy})
				}
			}
		}
		for i := 0; i < len(row); {
			whole(row[i].Col)
			col = row[i].Col
			e := EdgeCell{Col: col, Share: cover, MY: coverY, MYY: cy}
			for ; i < len(row) && row[i].Col == col; i++ {
				p := &row[i]
				e.Share += p.Share
				e.MX += p.MX
				e.MY += p.MY
				e.MYY += p.MYY
				cover += p.cover
				coverY += p.coverY
				cy += p.cy
			}
			col++
			if e.Share < -slack || e.Share > Unit+slack {
				bad(e.Col)
			}
			switch {
			case e.Share == 0 && e.MX == 0 && e.MY == 0 && e.MYY == 0:
			case e.Share == Unit && e.MX == 0 && e.MY == 0 && e.MYY == 0:
				if k := len(s.full); k > int(s.fullFrom[r]) && s.full[k-1].To == e.Col {
					s.full[k-1].To++
				} else {
					s.full = append(s.full, Range{e.Col, col})
				}
			default:
				s.edge = append(s.edge, e)
			}
		}
		whole(int32(c.Width))
	}
	s.fullFrom, s.edgeFrom = append(s.fullFrom, int32(len(s.full))), append(s.edgeFrom, int32(len(s.edge)))
}
