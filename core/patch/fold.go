package patch

import (
	"cmp"
	"context"
	"fmt"
	"math"
	"slices"

	"github.com/verdex-land/verdex/core/raster"
)

// Folded is a view of a raster in which pieces under a minimum mapping unit have taken the class of the neighbour with
// which they share the longest border, in metres on the ground.
type Folded struct {
	raster.Source
	Found int     // pieces that were folded
	Area  float64 // their true area in m²
	Alone int     // small pieces without any neighbour that holds a class, which stay

	passes []map[int][]stretch // what each pass changed, by row
}

// stretch is a run of cells of a small piece.
type stretch struct {
	from, to int32
	piece    *smallPiece
}

// smallPiece is a connected piece of less than the least area.
type smallPiece struct {
	id      int64
	area    float64
	class   float64
	best    float64 // the class of the neighbour with the longest border
	beside  []beside
	alone   bool
	folded  bool
	taking  bool // another one takes its class in this pass, so that it stays for now
	rows    []int
	extents []stretch // one for each of rows
}

// beside is a stretch of border with cells of one class that hang together within sight of a piece; further away they may be one
// patch with other ones.
type beside struct {
	class    float64
	length   float64 // metres
	col, row int     // one of the cells
	seed     *seed
}

// Fold folds the pieces (of cells that share a side) that are smaller than least, in m² of true ground, into the
// neighbour with the longest border; of neighbours with equally long borders the lowest code wins. The smallest pieces
// come first, and the raster is gone through again until none is left that has a neighbour: a piece whose
// neighbour is a small one too joins it, and what they are together is then folded if it is still too small. It
// keeps a few bytes for each row of each small piece.
func Fold(ctx context.Context, s raster.Source, least float64, progress func(done, total int)) (*Folded, error) {
	f := &Folded{Source: s}
	for {
		pieces, err := smallPieces(ctx, f, least, progress)
		if err != nil {
			return nil, err
		}
		f.Alone = 0
		for _, p := range pieces {
			if p.alone {
				f.Alone++
			}
		}
		if f.Alone == len(pieces) {
			return f, nil
		}
		f.pass(pieces)
	}
}

// smallPieces finds the small pieces of a raster and their neighbours.
func smallPieces(ctx context.Context, s raster.Source, least float64, progress func(done, total int)) (out []*smallPiece, err error) {
	h := s.Header()
	reader := raster.Cached(s, 64<<20).NewReader()
	var cells raster.Cells
	everything := func(float64) bool { return true }
	_, err = Find(ctx, Request{Source: s, Bare: true, Keep: everything, Progress: progress, Found: func(p *Patch) error {
		if p.Area >= least {
			return nil
		}
		b := p.Bounds // with a cell around it
		c0, r0, c1, r1 := max(0, b.Col-1), max(0, b.Row-1), min(h.Grid.Width, b.Col+b.Width+1), min(h.Grid.Height, b.Row+b.Height+1)
		w := raster.Window{Col: c0, Row: r0, Width: c1 - c0, Height: r1 - r0}
		if err := reader.Read(w, &cells); err != nil {
			return err
		}
		q, err := newSmallPiece(p, w, &cells, h)
		out = append(out, q)
		return err
	}})
	if err != nil {
		return nil, err
	}
	// Where it matters whether cells of one class on two sides of a piece are one neighbour, the raster says so.
	seeds := map[int][]*seed{}
	for _, p := range out {
		if p.choose(nil) {
			continue
		}
		for i := range p.beside {
			b := &p.beside[i]
			b.seed = &seed{col: b.col}
			seeds[b.row] = append(seeds[b.row], b.seed)
		}
	}
	if len(seeds) > 0 {
		_, err = Find(ctx, Request{Source: s, Bare: true, Keep: everything, seeds: seeds, Found: func(*Patch) error { return nil }})
		for _, p := range out {
			if len(p.beside) > 0 && p.beside[0].seed != nil {
				p.choose(func(b *beside) any { return b.seed.patch.root() })
			}
			p.beside = nil
		}
	}
	return out, err
}

// choose chooses the neighbour with the longest border; of equally long ones that of the lowest code. of tells the patches
// of stretches apart. Without it, it is false where the choice hangs on that.
func (p *smallPiece) choose(of func(*beside) any) bool {
	var best *beside
	longer := func(a, b float64) bool { return a > b*(1+1e-9) }
	joined := map[any]*beside{}
	list := make([]*beside, 0, len(p.beside))
	for i := range p.beside {
		b := &p.beside[i]
		if of == nil {
			list = append(list, b)
			continue
		}
		key := of(b)
		if first := joined[key]; first != nil {
			first.length += b.length
			continue
		}
		joined[key] = b
		list = append(list, b)
	}
	for _, b := range list {
		if best == nil || longer(b.length, best.length) || !longer(best.length, b.length) && b.class < best.class {
			best = b
		}
	}
	p.alone = best == nil
	if best == nil {
		return true
	}
	p.best = best.class
	if of != nil {
		return true
	}
	sums, parts := map[float64]float64{}, map[float64]int{}
	for _, b := range list {
		sums[b.class] += b.length
		parts[b.class]++
	}
	for class, sum := range sums {
		if parts[class] > 1 && class != best.class && !longer(best.length, sum) {
			return false
		}
	}
	return true
}

// newSmallPiece finds the cells of one patch, by walking over them from the first, and what lies beside it.
func newSmallPiece(p *Patch, w raster.Window, c *raster.Cells, h raster.Header) (*smallPiece, error) {
	in := make([]bool, w.Width*w.Height)
	at := func(col, row int) int { return (row-w.Row)*w.Width + col - w.Col }
	stack := [][2]int{p.First}
	in[at(p.First[0], p.First[1])] = true
	s := &smallPiece{id: p.ID, area: p.Area, class: p.Class}
	border := newBorder(w, c, h)
	seen := int64(0)
	for len(stack) > 0 {
		q := stack[len(stack)-1]
		stack = stack[:len(stack)-1]
		seen++
		for k, d := range [4][2]int{{1, 0}, {-1, 0}, {0, 1}, {0, -1}} {
			col, row := q[0]+d[0], q[1]+d[1]
			if col < w.Col || row < w.Row || col >= w.Col+w.Width || row >= w.Row+w.Height {
				continue
			}
			v := c.At(col-w.Col, row-w.Row)
			switch {
			case v == p.Class:
				if !in[at(col, row)] {
					in[at(col, row)] = true
					stack = append(stack, [2]int{col, row})
				}
			case h.Missing(v):
			default:
				border.add(s, col, row, v, q[1], k < 2)
			}
		}
	}
	if seen != p.Cells {
		return nil, fmt.Errorf("an unforeseen fault: a patch of %d cells was found again with %d", p.Cells, seen)
	}
	for row := range w.Height {
		for col := 0; col < w.Width; col++ {
			if !in[row*w.Width+col] {
				continue
			}
			from := col
			for col < w.Width && in[row*w.Width+col] {
				col++
			}
			s.rows = append(s.rows, w.Row+row)
			s.extents = append(s.extents, stretch{int32(w.Col + from), int32(w.Col + col), s})
		}
	}
	return s, nil
}

// border gathers what lies beside a piece in a window around it.
type border struct {
	w     raster.Window
	cells *raster.Cells
	h     raster.Header
	of    []int32 // by cell of the window: the stretch that it belongs to, and one more; 0 for none yet
	sides map[int][2]float64
}

func newBorder(w raster.Window, c *raster.Cells, h raster.Header) *border {
	return &border{w: w, cells: c, h: h, of: make([]int32, w.Width*w.Height), sides: map[int][2]float64{}}
}

// lengths are those in metres of the upright and the level sides of the cells of a row.
func (b *border) lengths(row int) [2]float64 {
	l, ok := b.sides[row]
	if !ok {
		g := b.h.Grid
		m, placed := g.CRS.Metric(g.Point(float64(b.w.Col)+float64(b.w.Width)/2, float64(row)+0.5))
		if l = [2]float64{math.Abs(g.DY), g.DX}; placed {
			l = [2]float64{math.Sqrt(m.YY) * l[0], math.Sqrt(m.XX) * l[1]}
		}
		b.sides[row] = l
	}
	return l
}

// add adds the side of a cell of the piece, in row, towards a cell beside it.
func (b *border) add(s *smallPiece, col, row int, class float64, of int, upright bool) {
	lengths := b.lengths(of)
	length := lengths[1]
	if upright {
		length = lengths[0]
	}
	at := (row-b.w.Row)*b.w.Width + col - b.w.Col
	if b.of[at] == 0 {
		s.beside = append(s.beside, beside{class: class, col: col, row: row})
		b.spread(at, int32(len(s.beside)), class)
	}
	s.beside[b.of[at]-1].length += length
}

// spread marks the cells of a class that hang together within the window.
func (b *border) spread(at int, number int32, class float64) {
	stack := []int{at}
	b.of[at] = number
	for len(stack) > 0 {
		at := stack[len(stack)-1]
		stack = stack[:len(stack)-1]
		col, row := at%b.w.Width, at/b.w.Width
		for _, d := range [4][2]int{{1, 0}, {-1, 0}, {0, 1}, {0, -1}} {
			c, r := col+d[0], row+d[1]
			if c < 0 || r < 0 || c >= b.w.Width || r >= b.w.Height {
				continue
			}
			if next := r*b.w.Width + c; b.of[next] == 0 && b.cells.At(c, r) == class {
				b.of[next] = number
				stack = append(stack, next)
			}
		}
	}
}

// pass folds pieces, the smallest first. A piece whose class another one takes stays, and one whose neighbour
// has gone waits for the next pass, which sees them as they then are. The first is always folded, so that every pass
// leaves fewer.
func (f *Folded) pass(pieces []*smallPiece) {
	byRow := map[int][]stretch{}
	for _, p := range pieces {
		for i, row := range p.rows {
			byRow[row] = append(byRow[row], p.extents[i])
		}
	}
	sortRows(byRow)
	slices.SortFunc(pieces, func(a, b *smallPiece) int { return cmp.Or(cmp.Compare(a.area, b.area), cmp.Compare(a.id, b.id)) })
	changed := map[int][]stretch{}
	for _, p := range pieces {
		if p.alone || p.taking {
			continue
		}
		near := p.neighbours(byRow)
		if slices.ContainsFunc(near, func(q *smallPiece) bool { return q.folded }) {
			continue
		}
		for _, q := range near {
			q.taking = true
		}
		p.folded = true
		f.Found++
		f.Area += p.area
		for i, row := range p.rows {
			changed[row] = append(changed[row], p.extents[i])
		}
	}
	sortRows(changed)
	f.passes = append(f.passes, changed)
}

func sortRows(rows map[int][]stretch) {
	for _, list := range rows {
		slices.SortFunc(list, func(a, b stretch) int { return cmp.Compare(a.from, b.from) })
	}
}

// neighbours are the small pieces of the class that p is to take which share a side with it.
func (p *smallPiece) neighbours(byRow map[int][]stretch) (out []*smallPiece) {
	for i, row := range p.rows {
		e := p.extents[i]
		for _, near := range []struct {
			row      int
			from, to int32 // of the cells that share a side with the stretch
		}{{row - 1, e.from, e.to}, {row, e.from - 1, e.to + 1}, {row + 1, e.from, e.to}} {
			for _, s := range meeting(byRow[near.row], near.from, near.to) {
				if s.piece.class == p.best {
					out = append(out, s.piece)
				}
			}
		}
	}
	return out
}

// meeting are the stretches of a row that hold cells of columns from to to-1.
func meeting(list []stretch, from, to int32) []stretch {
	i, _ := slices.BinarySearchFunc(list, from, func(s stretch, col int32) int { return cmp.Compare(s.to-1, col) })
	j := i
	for j < len(list) && list[j].from < to {
		j++
	}
	return list[i:j]
}

// NewReader implements [raster.Source].
func (f *Folded) NewReader() raster.Reader { return &foldedReader{f, f.Source.NewReader()} }

type foldedReader struct {
	f *Folded
	r raster.Reader
}

// Read implements [raster.Reader].
func (r *foldedReader) Read(w raster.Window, dst *raster.Cells) error {
	if err := r.r.Read(w, dst); err != nil {
		return err
	}
	for _, changed := range r.f.passes {
		for row := range w.Height {
			for _, s := range meeting(changed[w.Row+row], int32(w.Col), int32(w.Col+w.Width)) {
				for col := max(int(s.from), w.Col); col < min(int(s.to), w.Col+w.Width); col++ {
					dst.Set(col-w.Col, row, s.piece.best)
				}
			}
		}
	}
	return nil
}
