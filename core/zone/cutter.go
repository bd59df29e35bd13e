package zone

import (
	"math"
	"sync"

	"github.com/verdex-land/verdex/core/raster"
)

// WholeCell is one whole cell in the fixed-point numbers of shares and moments.
const (
	unitBits  = 40
	WholeCell = 1 << unitBits
)

// EdgeCell is a cell that an outline cuts. Share is the part of the cell that lies in the zone,
// in units of 1/WholeCell.
type EdgeCell struct {
	Col   int32
	Share int64
}

// Moment holds the moments of the part of a cut cell that lies in the zone about the cell's
// centre, in units of 1/WholeCell: the integrals of x and y over it, x to the right and y down, the
// cell being 1 × 1. Over a whole cell they vanish, so that they add what the share alone misses
// where density varies within the cell.
//
// Shares and moments are sums of integers that depend on one edge of the outline each and change
// their sign with its direction: those of zones that tile a cell sum to those of the whole
// cell, exactly.
type Moment struct{ X, Y int64 }

// Range is a run of cells from column From to column To-1 that lie wholly in the zone.
type Range struct{ From, To int32 }

// Spans are the cells of one zone in some rows of a grid.
type Spans struct {
	Zone     int
	RowFrom  int
	full     []Range
	edge     []EdgeCell
	moments  []Moment // of edge; empty where they are not wanted
	fullFrom []int32  // by row; one more than there are rows
	edgeFrom []int32
	// Overlap is a cell where the outline covers ground more than once or less than never, a
	// sign that it is not sound; nil when there is none.
	Overlap *[2]int
}

// spansPool keeps the room of Spans that are done with: a pass makes and drops as many as it has
// zones and bands, which would keep the garbage collector busy beside it.
var spansPool = sync.Pool{New: func() any { return new(Spans) }}

// begin empties the spans for a zone, from a row on.
func (s *Spans) begin(zone, from int) {
	s.Zone, s.RowFrom, s.Overlap = zone, from, nil
	s.full, s.edge, s.moments = s.full[:0], s.edge[:0], s.moments[:0]
	s.fullFrom, s.edgeFrom = append(s.fullFrom[:0], 0), append(s.edgeFrom[:0], 0)
}

// Free gives the spans back; they must not be used after it.
func (s *Spans) Free() { spansPool.Put(s) }

// Empty reports whether there are no cells.
func (s *Spans) Empty() bool { return len(s.full)+len(s.edge) == 0 }

// Row gives the whole and the cut cells of a row, by column.
func (s *Spans) Row(row int) ([]Range, []EdgeCell) {
	i := row - s.RowFrom
	if i < 0 || i+1 >= len(s.fullFrom) {
		return nil, nil
	}
	return s.full[s.fullFrom[i]:s.fullFrom[i+1]], s.edge[s.edgeFrom[i]:s.edgeFrom[i+1]]
}

// Moments are those of the cut cells of a row; empty where they are not wanted.
func (s *Spans) Moments(row int) []Moment {
	if len(s.moments) == 0 {
		return nil
	}
	i := row - s.RowFrom
	return s.moments[s.edgeFrom[i]:s.edgeFrom[i+1]]
}

// Rows are the rows that the spans cover: from, to (exclusive).
func (s *Spans) Rows() (from, to int) { return s.RowFrom, s.RowFrom + len(s.fullFrom) - 1 }

// Cutter makes Spans. It keeps scratch space between calls and serves one goroutine.
type Cutter struct {
	Width   int  // columns of the grid
	Down    bool // rows count against y
	Centres bool // a cell belongs to the zone that holds its centre, instead of shares
	Moments bool // whether moments are wanted
	// Heights, where not nil, turn the height within a cell of a row into the part of its area above it: shares are then those of
	// true area, where it varies by row. The first is that of row HeightsFrom.
	Heights     []raster.Heights
	HeightsFrom int

	slants []slant
	first  []int32 // by stripe: the first edge that begins there, -1 for none
	active []int32 // edges that go on below the stripe at hand
	// What the edges add in the rows of the stripe at hand, by row and by column from col0 on: to the cell itself, and (the
	// cover) to all cells further right. marks has a bit for each column that holds something.
	col0    int32
	width   int // columns from col0 on
	words   int // of marks for each row
	sums    []sums
	moments []momentSums
	marks   []uint64
	// The row at hand: where its column 0 would lie in sums, and its first word of marks.
	base, word int
	heights    *raster.Heights // of the row at hand
	piecer     piecer
}

// stripeCells is about how many cells the rows have that are cut at once: few enough to stay near the processor, and
// enough that an edge is followed for some rows at a time.
const stripeCells = 1 << 13

type sums struct{ share, cover int64 }

type momentSums struct {
	cell, cover Moment // cover.X stays 0
}

// Cut gives the cells of an outline in rows from to to-1.
//
// Every edge is cut at the rows and columns of the grid, always from its upper end down, so that
// the pieces do not depend on its direction. Heights at the cuts are rounded to 1/WholeCell of a cell;
// a piece adds its height to all cells to its right and, to its own cell, the area to the right
// of it. Summed from the left, whole cells come out as Unit exactly. (The method is that of
// signed-area accumulation in font rasterisers, done in integers.)
func (c *Cutter) Cut(o *Outline, zone, from, to int) *Spans {
	from, to = max(from, o.RowFrom), min(to, o.RowTo)
	s := spansPool.Get().(*Spans)
	s.begin(zone, from)
	if from >= to {
		return s
	}
	c.col0, c.width = int32(o.ColFrom), o.ColTo-o.ColFrom+1
	c.words = (c.width + 63) / 64
	height := min(max(stripeCells/c.width, 1), to-from)
	if n := c.width * height; len(c.sums) < n {
		c.sums = make([]sums, n)
	}
	if n := c.width * height; c.Moments && len(c.moments) < n {
		c.moments = make([]momentSums, n)
	}
	if n := c.words * height; len(c.marks) < n {
		c.marks = make([]uint64, n)
	}
	c.collect(o, from, to, height)
	c.active = c.active[:0]
	for stripe, i := range c.first {
		top := from + stripe*height
		end := min(top+height, to)
		active := c.active
		c.active = c.active[:0]
		for _, i := range active {
			c.follow(i, top, end)
		}
		for ; i >= 0; i = c.slants[i].next {
			c.follow(i, top, end)
		}
		for row := top; row < end; row++ {
			c.at(row, top)
			c.sweep(s, row)
		}
	}
	return s
}

// at makes a row of the stripe that begins at row top the one at hand.
func (c *Cutter) at(row, top int) {
	c.base, c.word = (row-top)*c.width-int(c.col0), (row-top)*c.words
}

// follow cuts an edge in the stripe of rows from top to end-1.
func (c *Cutter) follow(i int32, top, end int) {
	e := &c.slants[i]
	if int(e.last) >= end {
		c.active = append(c.active, i)
	} else {
		end = int(e.last) + 1
	}
	row := int(e.row)
	e.row = int32(end)
	c.at(row, top)
	switch {
	case c.Centres:
		for ; row < end; row++ {
			c.centre(e, float64(row))
			c.base, c.word = c.base+c.width, c.word+c.words
		}
		return
	case !c.Moments && c.Heights == nil && c.Width <= maxColumns:
		c.shares(e, row, end)
		return
	}
	for ; row < end; row++ {
		yb, tb := float64(row)+1, int64(WholeCell)
		if row == int(e.last) && e.q[1] < yb {
			tb = fixed(e.q[1] - float64(row))
			yb = e.q[1]
		}
		xb := e.at(yb)
		if c.Heights != nil {
			c.heights = &c.Heights[row-c.HeightsFrom]
		}
		c.row(e.x, e.t, xb, tb, e.sign)
		e.x, e.t = xb, 0
		c.base, c.word = c.base+c.width, c.word+c.words
	}
}

// shares cuts an edge in rows from row to end-1 where moments are not wanted, in integers but for where it passes rows
// and columns. Much of the time of cutting is spent here and in sweep.
func (c *Cutter) shares(e *slant, row, end int) {
	xa, ta := units(e.x), e.t
	for ; row < end; row++ {
		yb, tb := float64(row)+1, int64(WholeCell)
		if row == int(e.last) && e.q[1] < yb {
			tb = fixed(e.q[1] - float64(row))
			yb = e.q[1]
		}
		e.x = e.at(yb)
		xb := units(e.x)
		if col, f := column(xa); col == columnOf(xb) && col >= int64(c.col0) && col < int64(c.Width) {
			c.piece(col, tb-ta, f, xb-col<<unitBits, e.sign)
		} else {
			c.across(e, xa, ta, xb, tb)
		}
		xa, ta = xb, 0
		c.base, c.word = c.base+c.width, c.word+c.words
	}
	e.t = 0
}

// across is shares in the row at hand for a stretch of an edge that passes borders of columns, from (xa, ta) down to (xb, tb).
func (c *Cutter) across(e *slant, xa, ta, xb, tb int64) {
	left, right, y, yr, way := xa, xb, ta, tb, int64(1)
	if xa > xb { // from the left it then rises
		left, right, y, yr, way = xb, xa, tb, ta, -1
	}
	at, from := column(left)
	last := columnOf(right)
	if first := int64(c.col0); at < first { // what lies on or beyond the left border counts as running along it
		yn := yr
		if last >= first {
			yn = height(first, xa, ta, tb, e.rise)
		}
		c.piece(first, (yn-y)*way, 0, 0, e.sign)
		at, from, y = first, 0, yn
	}
	for ; at <= last && at < int64(c.Width); at++ {
		yn, to := yr, right-at<<unitBits
		if at < last {
			yn, to = height(at+1, xa, ta, tb, e.rise), WholeCell
		}
		c.piece(at, (yn-y)*way, from, to, e.sign)
		y, from = yn, 0
	}
}

// piece adds the piece of an edge within one cell of the row at hand; dy is its height, and it runs from f0 to f1 of the cell.
func (c *Cutter) piece(col, dy, f0, f1, sign int64) {
	if dy == 0 {
		return
	}
	p := &c.sums[c.mark(int32(col))]
	p.cover += sign * dy
	p.share += sign * share(dy, f0, f1)
}

// collect lists the edges that meet rows from to to-1 by the stripe of height rows in which they begin.
func (c *Cutter) collect(o *Outline, from, to, height int) {
	c.slants, c.first = c.slants[:0], c.first[:0]
	for row := from; row < to; row += height {
		c.first = append(c.first, -1)
	}
	upper, lower := float64(from), float64(to)
	for _, r := range o.Rings {
		if len(r) == 0 {
			continue
		}
		before := r[len(r)-1]
		for _, q := range r {
			p := before
			before = q
			sign := int64(1)
			if p[1] > q[1] || p[1] == q[1] && p[0] > q[0] {
				p, q, sign = q, p, -1
			}
			if q[1] <= upper || p[1] >= lower || p[1] == q[1] {
				continue
			}
			if !c.Down {
				sign = -sign
			}
			begin := max(int(math.Floor(p[1])), from)
			first := &c.first[(begin-from)/height]
			e := newSlant(p, q, sign)
			e.row, e.last, e.next = int32(begin), int32(min(int(math.Ceil(q[1]))-1, to-1)), *first
			y := math.Max(p[1], float64(begin))
			e.x, e.t = e.at(y), fixed(y-float64(begin))
			*first = int32(len(c.slants))
			c.slants = append(c.slants, e)
		}
	}
}

// mark notes that a column of the row at hand holds something, and gives its index in sums.
func (c *Cutter) mark(col int32) int {
	i := uint(col - c.col0)
	c.marks[c.word+int(i>>6)] |= 1 << (i & 63)
	return c.base + int(col)
}

// centre marks where an edge passes the centre line of the row that begins at y: the first cell
// whose centre lies on or to the right of it. An edge counts from its upper end on, which
// belongs to it, to its lower end, which does not.
func (c *Cutter) centre(e *slant, y float64) {
	y += 0.5
	if y < e.p[1] || y >= e.q[1] {
		return
	}
	col := math.Max(0, math.Ceil(e.at(y)-0.5))
	if col < float64(c.Width) {
		i := c.mark(int32(col))
		c.sums[i].share += e.sign * WholeCell
		c.sums[i].cover += e.sign * WholeCell
	}
}
