package zone

import (
	"math"
	"slices"

	"github.com/verdex-land/verdex/core/raster"
)

// Pieces are the ground of one zone in a window as a sum: the area of every cell of the stretches, and for each piece
// its share, which may be negative, of the area of its cell. The shares of a cell's pieces, with Unit where a stretch holds
// it, sum to the share that Spans would give it, exactly. There are several pieces to a cell, in no order.
//
// Cells are told by index: row times stride plus column, both counted from the window's corner.
type Pieces struct {
	Whole []Stretch
	Cut   []Piece
}

// Stretch is N cells side by side, the first of which has index At.
type Stretch struct{ At, N int32 }

// Piece is a part of the cell with index At, in Units.
type Piece struct {
	Share int64
	At    int32
}

// Empty reports whether there is no cell.
func (p *Pieces) Empty() bool { return len(p.Whole)+len(p.Cut) == 0 }

// piecer makes Pieces. It keeps its room between calls.
//
// An edge is cut at rows and columns just as [Cutter.Cut] does it. But nothing is then summed from the left: where an
// edge passes the lower border of a row downward in column c, all cells of the row to the right of c are counted whole,
// and where it passes a border of columns at height t to the right, the cell that it comes to is counted with t more; an
// edge that runs the other way takes away. What an outline's edges add so to a cell telescopes to what Cut sums: a
// stretch of the outline from where it enters a row at height t0 to where it leaves it at t1 adds t1-t0 to the cells to
// its right, and it enters or leaves columns at their borders, at the row's upper border (0), or at its lower one (Unit).
type piecer struct {
	left, right            float64 // the window
	col0, row0, width, end int     // and in cells: its corner, its width, and the row below it
	stride                 int
	pieces                 Pieces
	n                      int       // of pieces.Cut so far
	passes                 []passing // of lower borders of rows
	m                      int       // of passes so far
	ends                   []int32   // by row: where its passings end once they are sorted by row
	columns                []int32   // of the passings, sorted by row
}

// passing is where an edge passes the lower border of a row: in column at>>1 of the window all cells from there on begin
// to be whole (at is even) or cease to be. Passings to the right of the window are not noted.
type passing struct{ row, at int32 }

// corner is a corner of an outline: its x in Units, the row that it lies in, and how far down in it.
type corner struct {
	x, t int64
	row  int
}

func cornerAt(p Point) corner {
	row := math.Floor(p[1])
	return corner{units(p[0]), fixed(p[1] - row), int(row)}
}

// Pieces gives the cells of an outline in a window of the grid, valid until the next call. It is not ok where the
// outline seems to cover ground more than once; Cut then knows better. Centres and Moments are not heeded.
func (c *Cutter) Pieces(o *Outline, w raster.Window, stride int) (p *Pieces, ok bool) {
	t := &c.piecer
	t.left, t.right = float64(w.Col), float64(w.Col+w.Width)
	t.col0, t.row0, t.width, t.end, t.stride = w.Col, w.Row, w.Width, w.Row+w.Height, stride
	t.n, t.m = 0, 0
	down := int64(1)
	if !c.Down {
		down = -1
	}
	for i, r := range o.Rings {
		if len(r) < fewCorners || i >= len(o.reach) {
			t.edges(r, len(r)-1, 0, len(r), down)
			continue
		}
		for k, reach := range o.reach[i] {
			if reach.y1 >= float64(w.Row) && reach.y0 < float64(t.end) && reach.x0 <= float64(w.Col+w.Width) {
				from := k * reachCorners
				t.edges(r, (from+len(r)-1)%len(r), from, min(from+reachCorners, len(r)), down)
			}
		}
	}
	t.pieces.Cut = t.pieces.Cut[:t.n]
	first := max(o.RowFrom, w.Row)
	ok = t.stretches(first-w.Row, max(0, min(o.RowTo, t.end)-first))
	return &t.pieces, ok
}

// edges cuts the edges of a ring that end at corners from to to-1, the first of which begins at corner before.
func (t *piecer) edges(r Ring, before, from, to int, down int64) {
	if from == to {
		return
	}
	last := r[before]
	lastCorner := cornerAt(last)
	for _, q := range r[from:to] {
		p, a := last, lastCorner
		b := cornerAt(q)
		last, lastCorner = q, b
		sign := down
		if p[1] > q[1] || p[1] == q[1] && p[0] > q[0] {
			p, q, a, b, sign = q, p, b, a, -down
		}
		if b.row >= t.row0 && a.row < t.end {
			t.edge(p, q, a, b, sign)
		}
	}
}

// edge cuts an edge, from p down to q; a and b say the same.
func (t *piecer) edge(p, q Point, a, b corner, sign int64) {
	row, last := max(a.row, t.row0), min(b.row, t.end-1)
	ca, cb := int(columnOf(a.x))-t.col0, int(columnOf(b.x))-t.col0
	if min(ca, cb) >= t.width { // to the right of the window
		return
	}
	t.room(last-row+1, max(ca, cb)-min(ca, cb))
	switch {
	case ca == cb && a.row == b.row && uint(ca) < uint(t.width): // within a cell
		t.add(sign*share(b.t-a.t, a.x-int64(ca+t.col0)<<unitBits, b.x-int64(ca+t.col0)<<unitBits), (row-t.row0)*t.stride+ca)
		return
	case max(ca, cb) < 0: // to its left
		for ; row < b.row && row <= last; row++ {
			t.pass(row-t.row0, 0, sign)
		}
		return
	}
	e := newSlant(p, q, sign)
	inside := min(ca, cb) >= 0 && max(ca, cb) < t.width
	steep := inside && e.great-e.least <= q[1]-p[1]
	xa, ta := a.x, a.t
	if row > a.row {
		xa, ta = units(e.at(float64(row))), 0
	}
	for ; row <= last; row++ {
		if steep && ta == 0 && row+4 < b.row {
			rows := min(b.row-1, t.end) - row
			xa = t.steep(&e, xa, row, rows)
			row += rows
			if row > last {
				break
			}
		}
		xb, tb := b.x, b.t
		if row < b.row {
			xb, tb = units(e.at(float64(row)+1)), Unit
		}
		col := columnOf(xb)
		if inside && col == columnOf(xa) {
			from := col << unitBits
			t.pieces.Cut[t.n] = Piece{sign * share(tb-ta, xa-from, xb-from), int32((row-t.row0)*t.stride - t.col0 + int(col))}
			t.n++
		} else {
			t.row(&e, row, xa, ta, xb, tb)
		}
		if at := int(col) + 1 - t.col0; row < b.row && at < t.width {
			t.pass(row-t.row0, max(at, 0), sign)
		}
		xa, ta = xb, 0
	}
}

// room makes room for what an edge adds that lies in so many rows and passes so many columns.
func (t *piecer) room(rows, across int) {
	if n := t.n + 2*rows + across + 2; n > len(t.pieces.Cut) {
		t.pieces.Cut = slices.Grow(t.pieces.Cut[:t.n], n-t.n)
		t.pieces.Cut = t.pieces.Cut[:cap(t.pieces.Cut)]
	}
	if n := t.m + rows; n > len(t.passes) {
		t.passes = slices.Grow(t.passes[:t.m], n-t.m)
		t.passes = t.passes[:cap(t.passes)]
	}
}

// add adds a piece, if it is not empty.
func (t *piecer) add(share int64, at int) {
	if share != 0 {
		t.pieces.Cut[t.n] = Piece{share, int32(at)}
		t.n++
	}
}

// pass notes that an edge passes the lower border of a row.
func (t *piecer) pass(row, col int, sign int64) {
	t.passes[t.m] = passing{int32(row), int32(col)<<1 | int32(sign>>1)&1}
	t.m++
}

// row adds the pieces of an edge in a row, which it enters at (xa, ta) and leaves at (xb, tb).
func (t *piecer) row(e *slant, row int, xa, ta, xb, tb int64) {
	left, right, y, yr, way := xa, xb, ta, tb, int64(1)
	if xa > xb { // from the left it then rises
		left, right, y, yr, way = xb, xa, tb, ta, -1
	}
	at, from := column(left)
	last, more := columnOf(right), int64(0)
	if last < int64(t.col0) || at >= int64(t.col0+t.width) {
		return
	}
	if at < int64(t.col0) {
		at, from = int64(t.col0), 0
		y = e.height(at, float64(row), ta, tb)
		more = y
	}
	base := (row-t.row0)*t.stride - t.col0
	if at < last { // to the next border of columns
		yn := e.height(at+1, float64(row), ta, tb)
		t.add(e.sign*(share((yn-y)*way, from, Unit)+way*more), base+int(at))
		y, more, from = yn, yn, 0
		at++
	}
	if end := min(last, int64(t.col0+t.width)); at < end { // through whole columns
		cut := t.pieces.Cut[t.n:][:end-at]
		for i := range cut {
			at++
			yn := e.height(at, float64(row), ta, tb)
			cut[i] = Piece{e.sign * ((yn-y)*way>>1 + way*y), int32(base + int(at) - 1)}
			y = yn
		}
		t.n += len(cut)
		more = y
	}
	if at == last && at < int64(t.col0+t.width) {
		t.add(e.sign*(share((yr-y)*way, from, right-at<<unitBits)+way*more), base+int(at))
	}
}

// steep cuts an edge within the window that passes at most one border of columns in a row, in rows that it passes from the
// upper border, at xa, to the lower one. It returns where it leaves the last of them.
func (t *piecer) steep(e *slant, xa int64, row, rows int) int64 {
	cut := t.pieces.Cut[t.n:]
	passes := t.passes[t.m:][:rows]
	t.m += rows
	px, py, slope, rise, least, great, sign := e.p[0], e.p[1], e.slope, e.rise, e.least, e.great, e.sign
	begins, rising := int64(0), int64(-1) // where a second piece begins in its cell
	if e.q[0] < px {
		begins, rising = Unit, 0
	}
	way := int32(sign>>1) & 1
	n, base := 0, (row-t.row0)*t.stride-t.col0
	ca := columnOf(xa)
	y := float64(row)
	for i := range passes {
		below := py - y
		y++
		x := px + float64((y-py)*slope)
		if x < least {
			x = least
		}
		if x > great {
			x = great
		}
		xb := int64(x * Unit)
		cb := columnOf(xb)
		// There are two pieces where it passes a border of columns, and the second is empty elsewhere: a branch could not
		// be foreseen.
		tk := int64(float64(float64((float64(max(ca, cb))-px)*rise)+below) * Unit)
		tk = max(0, min(tk, Unit))
		tm, more := int64(Unit), int64(0)
		if ca != cb {
			tm = tk
		}
		if ca != cb {
			more = tk
		}
		from := ca << unitBits
		s1 := share(tm, xa-from, min(max(xb-from, 0), Unit))
		s2 := share(Unit-tm, begins, xb-cb<<unitBits)
		two := (*[2]Piece)(cut[n:])
		two[0] = Piece{sign * (s1 - more&^rising), int32(base + int(ca))}
		two[1] = Piece{sign * (s2 + more&rising), int32(base + int(cb))}
		n += 1 + int((ca^cb)&1)
		passes[i] = passing{int32(row + i - t.row0), int32(int(cb)+1-t.col0)<<1 | way}
		base += t.stride
		xa, ca = xb, cb
	}
	t.n += n
	return xa
}

// stretches pairs the passings of each row. It is false where a cell would be covered twice, or less than never.
func (t *piecer) stretches(first, height int) bool {
	t.ends = append(t.ends[:0], make([]int32, height+1)...)
	passes := t.passes[:t.m]
	for i := range passes {
		t.ends[int(passes[i].row)-first+1]++
	}
	for r := range height {
		t.ends[r+1] += t.ends[r]
	}
	if len(t.columns) < t.m {
		t.columns = make([]int32, 2*t.m)
	}
	for i := range passes {
		p := &t.ends[int(passes[i].row)-first]
		t.columns[*p] = passes[i].at
		*p++
	}
	whole := t.pieces.Whole[:0]
	from := int32(0)
	for r, to := range t.ends[:height] {
		all := t.columns[from:to]
		from = to
		if len(all) == 2 && (all[0]^all[1])&1 == 1 { // most have one passing each way
			a, b := all[0], all[1]
			if a&1 == 1 {
				a, b = b, a
			}
			if a>>1 > b>>1 {
				return false
			}
			if a>>1 < b>>1 {
				whole = append(whole, Stretch{int32((first+r)*t.stride) + a>>1, b>>1 - a>>1})
			}
			continue
		}
		if len(all) > 1 {
			slices.Sort(all)
		}
		cover, covered, begin := int32(0), int32(0), int32(0)
		for i, p := range all {
			cover += 1 - 2*(p&1)
			col := p >> 1
			if i+1 < len(all) && all[i+1]>>1 == col || cover == covered {
				continue
			}
			switch covered = cover; cover {
			case 1:
				begin = col
			case 0:
				whole = append(whole, Stretch{int32((first+r)*t.stride) + begin, col - begin})
			default:
				return false
			}
		}
		if covered != 0 && begin < int32(t.width) {
			whole = append(whole, Stretch{int32((first+r)*t.stride) + begin, int32(t.width) - begin})
		}
	}
	t.pieces.Whole = whole
	return true
}
