package zone

import (
	"cmp"
	"math"
	"slices"

	"github.com/verdex-land/verdex/core/raster"
)

// Pieces are the ground of one zone in a window as a sum: the area of every cell of the stretches, and for each piece
// its share, which may be negative, of the area of its cell. The shares of a cell's pieces, with Unit where a stretch holds
// it, sum to the share that Spans would give it, exactly. There are several pieces to a cell, in no order.
//
// Cells go by index: row times stride plus column, both counted from the window's corner.
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
	left, right int64 // columns of the window: from, to (exclusive)
	top, bottom int   // rows of it, likewise
	stride      int
	cut         []Piece // the first n
	n           int
	passed      []passed    // by row of the window
	further     []passedRow // for which there was no room
	pieces      Pieces
}

// passed is where edges pass the lower border of a row. In column at>>1 of the window all cells from there on begin to be
// whole (at is even), or cease to be. Edges to the right of the window are left out.
type passed struct {
	n  int32 // how many; those beyond the length of at are in further
	at [4]int32
}

type passedRow struct{ row, at int32 }

// corner is a corner of an outline: its x in Units, the row that it lies in, and how far down in it.
type corner struct {
	x, t int64
	row  int
}

func cornerAt(p Point) corner {
	row := math.Floor(p[1])
	return corner{units(p[0]), int64(float64((p[1]-row)*WholeCell) + 0.5), int(row)}
}

// Pieces gives the cells of an outline in a window of the grid, valid until the next call. It is not ok where the
// outline seems to cover ground more than once, or the grid is too wide; Cut then knows better. Centres and Moments are
// not heeded.
func (c *Cutter) Pieces(o *Outline, w raster.Window, stride int) (p *Pieces, ok bool) {
	if c.Width > maxColumns {
		return nil, false
	}
	t := &c.piecer
	t.left, t.right, t.top, t.bottom, t.stride = int64(w.Col), int64(w.Col+w.Width), w.Row, w.Row+w.Height, stride
	t.n, t.further = 0, t.further[:0]
	if len(t.passed) < w.Height {
		t.passed = make([]passed, w.Height)
	}
	from, to := max(o.RowFrom, t.top), min(o.RowTo, t.bottom)
	for row := from; row < to; row++ {
		t.passed[row-t.top].n = 0
	}
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
			if reach.y1 >= float64(t.top) && reach.y0 < float64(t.bottom) && reach.x0 <= float64(t.right) {
				begin := k * reachCorners
				t.edges(r, (begin+len(r)-1)%len(r), begin, min(begin+reachCorners, len(r)), down)
			}
		}
	}
	t.pieces.Cut = t.cut[:t.n]
	ok = t.stretches(from, to)
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
		if b.row >= t.top && a.row < t.bottom {
			t.edge(p, q, a, b, sign)
		}
	}
}

// edge cuts an edge, from p down to q; a and b say the same.
func (t *piecer) edge(p, q Point, a, b corner, sign int64) {
	row, last := max(a.row, t.top), min(b.row, t.bottom-1)
	ca, cb := columnOf(a.x), columnOf(b.x)
	least, most := min(ca, cb), max(ca, cb)
	if least >= t.right {
		return
	}
	if most < t.left {
		for ; row < b.row && row <= last; row++ {
			t.pass(0, row, sign)
		}
		return
	}
	t.room(last-row+1, int(min(most, t.right)-max(least, t.left)))
	if least < t.left || most >= t.right || row > a.row {
		t.clipped(p, q, a, b, sign)
		return
	}
	slope, rise := slopes(p, q)
	px, py, qx, qy := p[0], p[1], q[0], q[1]
	xa, ta := a.x, a.t
	cut, n := t.cut, t.n
	base := (row-t.top)*t.stride - int(t.left)
	for {
		xb, tb := b.x, b.t
		if row < b.row {
			tb = WholeCell
			if y := float64(row) + 1; y < qy {
				xb = int64(xAt(px, py, qx, slope, y) * WholeCell)
			}
			cb = columnOf(xb)
			t.pass(int(cb+1-t.left), row, sign)
		} else {
			cb = columnOf(xb)
		}
		fa, fb := xa-ca<<unitBits, xb-cb<<unitBits
		switch cb - ca {
		case 0:
			cut[n] = Piece{sign * share(tb-ta, fa, fb), int32(base + int(ca))}
			n++
		case 1:
			tk := min(ta+int64(float64(WholeCell-fa)*rise), tb)
			cut[n] = Piece{sign * share(tk-ta, fa, WholeCell), int32(base + int(ca))}
			cut[n+1] = Piece{sign * (share(tb-tk, 0, fb) + tk), int32(base + int(cb))}
			n += 2
		case -1:
			tk := min(ta+int64(float64(fa)*rise), tb)
			cut[n] = Piece{sign * (share(tk-ta, fa, 0) - tk), int32(base + int(ca))}
			cut[n+1] = Piece{sign * share(tb-tk, WholeCell, fb), int32(base + int(cb))}
			n += 2
		default:
			t.n = n
			t.row(row, xa, ta, xb, tb, rise, sign)
			n = t.n
		}
		if row == last {
			break
		}
		row, base = row+1, base+t.stride
		xa, ta, ca = xb, 0, cb
	}
	t.n = n
}

// clipped is edge for one that reaches beyond the window.
func (t *piecer) clipped(p, q Point, a, b corner, sign int64) {
	e := newSlant(p, q, sign)
	row, last := max(a.row, t.top), min(b.row, t.bottom-1)
	xa, ta := a.x, a.t
	if row > a.row {
		xa, ta = units(e.at(float64(row))), 0
	}
	for ; row <= last; row++ {
		xb, tb := b.x, b.t
		if row < b.row {
			xb, tb = units(e.at(float64(row)+1)), WholeCell
			if col := columnOf(xb) + 1; col <= t.right {
				t.pass(int(max(col-t.left, 0)), row, sign)
			}
		}
		t.row(row, xa, ta, xb, tb, e.rise, sign)
		xa, ta = xb, 0
	}
}

// room makes room for the pieces of an edge that lies in so many rows and passes so many columns.
func (t *piecer) room(rows, across int) {
	if n := t.n + 2*rows + across + 2; n > len(t.cut) {
		t.cut = slices.Grow(t.cut[:t.n], n-t.n)
		t.cut = t.cut[:cap(t.cut)]
	}
}

// piece adds a piece, if it is not empty.
func (t *piecer) piece(share int64, at int) {
	if share != 0 {
		t.cut[t.n] = Piece{share, int32(at)}
		t.n++
	}
}

// pass notes that an edge passes the lower border of a row; the cells from column col of the window on lie to its right.
func (t *piecer) pass(col, row int, sign int64) {
	r := &t.passed[row-t.top]
	at := int32(col)<<1 | int32(sign>>1)&1
	if int(r.n) < len(r.at) {
		r.at[r.n] = at
	} else {
		t.further = append(t.further, passedRow{int32(row), at})
	}
	r.n++
}

// row adds the pieces of an edge in a row, which it enters at (xa, ta) and leaves at (xb, tb).
func (t *piecer) row(row int, xa, ta, xb, tb int64, rise float64, sign int64) {
	left, right, y, yr, way := xa, xb, ta, tb, int64(1)
	if xa > xb { // from the left it then rises
		left, right, y, yr, way = xb, xa, tb, ta, -1
	}
	at, from := column(left)
	last, more := columnOf(right), int64(0)
	if last < t.left || at >= t.right {
		return
	}
	if at < t.left {
		at, from = t.left, 0
		y = height(at, xa, ta, tb, rise)
		more = y
	}
	base := (row-t.top)*t.stride - int(t.left)
	if at < last { // to the next border of columns
		yn := height(at+1, xa, ta, tb, rise)
		t.piece(sign*(share((yn-y)*way, from, WholeCell)+way*more), base+int(at))
		y, more, from = yn, yn, 0
		at++
	}
	if end := min(last, t.right); at < end { // through whole columns
		cut := t.cut[t.n:][:end-at]
		for i := range cut {
			at++
			yn := height(at, xa, ta, tb, rise)
			cut[i] = Piece{sign * ((yn-y)*way>>1 + way*y), int32(base + int(at) - 1)}
			y = yn
		}
		t.n += len(cut)
		more = y
	}
	if at == last && at < t.right {
		t.piece(sign*(share((yr-y)*way, from, right-at<<unitBits)+way*more), base+int(at))
	}
}

// stretches pairs the passings of each row. It is false where a cell would be covered twice, or less than never.
func (t *piecer) stretches(from, to int) bool {
	slices.SortFunc(t.further, func(a, b passedRow) int { return cmp.Compare(a.row, b.row) })
	further := t.further
	whole := t.pieces.Whole[:0]
	var many []int32
	for row := from; row < to; row++ {
		r := &t.passed[row-t.top]
		begin := int32((row - t.top) * t.stride)
		if r.n == 2 && (r.at[0]^r.at[1])&1 == 1 { // most have one passing each way
			a, b := r.at[0], r.at[1]
			if a&1 == 1 {
				a, b = b, a
			}
			if a >>= 1; a < b>>1 {
				whole = append(whole, Stretch{begin + a, b>>1 - a})
			} else if a > b>>1 {
				return false
			}
			continue
		}
		all := r.at[:min(int(r.n), len(r.at))]
		if int(r.n) > len(r.at) {
			many = append(many[:0], all...)
			for ; len(further) > 0 && int(further[0].row) == row; further = further[1:] {
				many = append(many, further[0].at)
			}
			all = many
		}
		if len(all) > 1 {
			slices.Sort(all)
		}
		cover, covered, first := int32(0), int32(0), int32(0)
		for i, p := range all {
			cover += 1 - 2*(p&1)
			col := p >> 1
			if i+1 < len(all) && all[i+1]>>1 == col || cover == covered {
				continue
			}
			switch covered = cover; cover {
			case 1:
				first = col
			case 0:
				whole = append(whole, Stretch{begin + first, col - first})
			default:
				return false
			}
		}
		if width := int32(t.right - t.left); covered != 0 && first < width {
			whole = append(whole, Stretch{begin + first, width - first})
		}
	}
	t.pieces.Whole = whole
	return true
}
