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
	Col         int32
	Share       int64
	MX, MY, MYY int64
}

// piece is what the stretch of an edge within one cell adds: to its cell, and by the covers to
// all cells further right.
type piece struct {
	col             int32
	next            int32 // the next piece of the same row, -1 for none
	share, cover    int64
	mx, my, myy     int64
	coverY, coverYY int64
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
	Moments bool // whether MX and MY are wanted
	Coarse  bool // whether MYY is wanted too, which cells below a kilometre do not need

	pieces []piece
	first  []int32  // by row: its first piece, -1 for none
	keys   []uint64 // of a row: column and number of the piece
	from   int
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
	c.pieces, c.first, c.from = c.pieces[:0], c.first[:0], from
	for range to - from {
		c.first = append(c.first, -1)
	}
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
	c.sweep(s, from, to)
	return s
}

// slant is an edge from p down to q, which lies lower.
type slant struct {
	p, q         Point
	slope        float64
	least, great float64
}

func newSlant(p, q Point) slant {
	return slant{p, q, (q[0] - p[0]) / (q[1] - p[1]), math.Min(p[0], q[0]), math.Max(p[0], q[0])}
}

// at is the x of the edge at height y.
func (e *slant) at(y float64) float64 {
	if y <= e.p[1] {
		return e.p[0]
	}
	if y >= e.q[1] {
		return e.q[0]
	}
	x := e.p[0] + float64((y-e.p[1])*e.slope)
	if x < e.least {
		return e.least
	}
	if x > e.great {
		return e.great
	}
	return x
}

// edge cuts the edge from p down to q at rows.
func (c *Cutter) edge(p, q Point, sign int64, from, to int) {
	e := newSlant(p, q)
	row := max(int(math.Floor(p[1])), from)
	last := min(int(math.Ceil(q[1]))-1, to-1)
	y := float64(row)
	ya := math.Max(p[1], y)
	xa, ta := e.at(ya), fixed(ya-y)
	for ; row < last; row++ {
		y++
		xb := e.at(y)
		c.row(int32(row), xa, ta, xb, Unit, sign)
		xa, ta = xb, 0
	}
	if row == last {
		yb := math.Min(q[1], y+1)
		c.row(int32(row), xa, ta, e.at(yb), fixed(yb-y), sign)
	}
}

// fixed rounds a height within a row to 1/Unit.
func fixed(t float64) int64 { return round(t * Unit) }

// round is math.Round for numbers well inside the range of int64, several times as fast.
func round(x float64) int64 {
	if x < 0 {
		return -int64(0.5 - x)
	}
	return int64(x + 0.5)
}

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
		c.add(row, 0, 0, 0, ya, yb, sign)
		return
	}
	lo, hi := math.Floor(math.Min(xa, xb)), math.Floor(math.Max(xa, xb))
	if lo == hi {
		if lo < w {
			c.add(row, int32(lo), xa-lo, xb-lo, ya, yb, sign)
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
		next := yl + round(-left*slope)
		c.between(row, 0, 0, 0, y, next, sign, xa <= xb)
		x, y = 0, next
	}
	for ; col < w && x < right; col++ {
		next := col + 1
		yn := yr
		if next < right {
			yn = yl + round((next-left)*slope)
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
		c.add(row, col, f0, f1, y0, y1, sign)
	} else {
		c.add(row, col, f1, f0, y1, y0, sign)
	}
}

// add adds the piece of an edge within one cell, from (f0, y0) down to (f1, y1).
func (c *Cutter) add(row, col int32, f0, f1 float64, y0, y1, sign int64) {
	dy := y1 - y0
	mean := (f0 + f1) / 2
	e := piece{col: col, cover: sign * dy, share: sign * round(float64(dy)*(1-mean))}
	if c.Moments {
		// The integrands are quadratic; the means of products of two linear functions are those
		// of their middles plus a twelfth of the product of their rises.
		t0, t1 := float64(y0)/Unit, float64(y1)/Unit
		d, y, u := f1-f0, (t0+t1)/2-0.5, mean-0.5
		h := float64(dy)
		rise := h / Unit
		e.mx = sign * round(h*(0.125-(float64(u*u)+float64(d*d)/12)/2))
		e.my = sign * round(h*(float64((1-mean)*y)-float64(d*rise)/12))
		e.coverY = sign * (moment1(t1) - moment1(t0))
		if c.Coarse {
			// 2-point Gauss-Legendre quadrature, exact for this cubic.
			var myy float64
			for _, k := range [2]float64{-0.28867513459481288225, 0.28867513459481288225} {
				yk := y + float64(k*rise)
				myy += float64((1 - mean - float64(k*d)) * (float64(yk*yk) - 1./12))
			}
			e.myy = sign * round(h*myy/2)
			e.coverYY = sign * (moment2(t1) - moment2(t0))
		}
	}
	c.put(row, e)
}

func (c *Cutter) put(row int32, e piece) {
	r := int(row) - c.from
	e.next = c.first[r]
	c.first[r] = int32(len(c.pieces))
	c.pieces = append(c.pieces, e)
}

// moment1 and moment2 are the integrals of y and of y²-1/12 over the upper part of a cell, y from
// its middle; both vanish over the whole cell.
func moment1(t float64) int64 { return round((float64(t*t) - t) / 2 * Unit) }
func moment2(t float64) int64 {
	v := t - 0.5
	return round((float64(v*v*v)/3 - v/12) * Unit)
}

// centres marks where an edge passes the centre lines of rows: the first cell whose centre lies
// on or to the right of it.
func (c *Cutter) centres(p, q Point, sign int64, from, to int) {
	first, last := int(math.Floor(p[1]-0.5)), int(math.Ceil(q[1]-0.5))
	e := newSlant(p, q)
	for row := max(first, from); row <= min(last, to-1); row++ {
		y := float64(row) + 0.5
		if y < p[1] || y >= q[1] {
			continue
		}
		col := math.Max(0, math.Ceil(e.at(y)-0.5))
		if col < float64(c.Width) {
			c.put(int32(row), piece{col: int32(col), share: sign * Unit, cover: sign * Unit})
		}
	}
}

// order lists the pieces of row r by column.
func (c *Cutter) order(r int) []uint64 {
	k := c.keys[:0]
	for i := c.first[r]; i >= 0; i = c.pieces[i].next {
		key := uint64(c.pieces[i].col)<<32 | uint64(i)
		k = append(k, key)
		if len(k) <= 16 { // few, as a rule: by insertion
			for j := len(k) - 1; j > 0 && k[j-1] > key; j-- {
				k[j], k[j-1] = k[j-1], key
			}
		}
	}
	if len(k) > 16 {
		slices.Sort(k)
	}
	c.keys = k
	return k
}

// sweep sums the pieces of each row from the left.
func (c *Cutter) sweep(s *Spans, from, to int) {
	const slack = Unit >> 20 // a millionth of a cell, for the rounding of many pieces
	n := to - from
	s.fullFrom, s.edgeFrom = make([]int32, 0, n+1), make([]int32, 0, n+1)
	s.edge = make([]EdgeCell, 0, len(c.pieces))
	for r := range n {
		s.fullFrom, s.edgeFrom = append(s.fullFrom, int32(len(s.full))), append(s.edgeFrom, int32(len(s.edge)))
		row := c.order(r)
		var cover, coverY, coverYY int64
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
					s.edge = append(s.edge, EdgeCell{Col: col, Share: cover, MY: coverY, MYY: coverYY})
				}
			}
		}
		for i := 0; i < len(row); {
			here := int32(row[i] >> 32)
			whole(here)
			e := EdgeCell{Col: here, Share: cover, MY: coverY, MYY: coverYY}
			for ; i < len(row) && int32(row[i]>>32) == here; i++ {
				p := &c.pieces[uint32(row[i])]
				e.Share += p.share
				e.MX += p.mx
				e.MY += p.my
				e.MYY += p.myy
				cover += p.cover
				coverY += p.coverY
				coverYY += p.coverYY
			}
			col = here + 1
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
