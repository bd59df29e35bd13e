package patch

import (
	"cmp"
	"context"
	"fmt"
	"slices"

	"github.com/verdex-land/verdex/core/raster"
)

// Folded is a view of a raster in which pieces under a minimum mapping unit have taken the class of the neighbour with
// which they share the longest border, in metres on the ground.
type Folded struct {
	raster.Source
	Found int     // pieces that have another class now
	Area  float64 // their true area in m²
	Alone int     // small pieces without any neighbour that holds a class, which stay

	changed map[int][]stretch // by row
}

// stretch is a run of cells of a small piece.
type stretch struct {
	from, to int32
	piece    *smallPiece
}

// smallPiece is a connected piece of less than the least area.
type smallPiece struct {
	region  int32 // its place among all, in the order of the first cells
	area    float64
	class   float64
	becomes float64 // its class in the end
	beside  []beside
	rows    []int
	extents []stretch // one for each of rows
}

// beside is a stretch of border with cells of one class that hang together within sight of a piece; further away they may be one
// patch with other ones.
type beside struct {
	class    float64
	length   float64 // metres
	col, row int     // one of the cells
	seed     *seed   // nil where they are a small piece
	region   int32
}

// Fold folds the pieces (of cells that share a side) that are smaller than least, in m² of true ground, into the
// neighbour with the longest border, one after another: the smallest of all comes first (of equally small ones that with the first cell). What a piece and its
// neighbour are together is one piece with the class of the neighbour, with all other pieces of that class that the first one touches, and its turn comes again if it is still too small. Of neighbours with
// equally long borders the one with the lowest code wins. It goes through the raster twice, and keeps a few bytes for each row of each small piece and for each of its neighbours.
func Fold(ctx context.Context, s raster.Source, least float64, progress func(done, total int)) (*Folded, error) {
	f := &Folded{Source: s, changed: map[int][]stretch{}}
	pieces, large, err := smallPieces(ctx, s, least, progress)
	if err != nil {
		return nil, err
	}
	f.Alone = newRegions(pieces, large, least).fold()
	for _, p := range pieces {
		if p.becomes == p.class {
			continue
		}
		f.Found++
		f.Area += p.area
		for i, row := range p.rows {
			f.changed[row] = append(f.changed[row], p.extents[i])
		}
	}
	sortRows(f.changed)
	return f, nil
}

// smallPieces finds the small pieces of a raster and what lies beside them; large are the classes of the other pieces that do, which are numbered after the small ones.
func smallPieces(ctx context.Context, s raster.Source, least float64, progress func(done, total int)) (out []*smallPiece, large []float64, err error) {
	h := s.Header()
	reader := raster.Cached(s, 64<<20).NewReader()
	var cells raster.Cells
	everything := func(float64) bool { return true }
	sides := newSides(h.Grid)
	var ids []int64
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
		q, err := newSmallPiece(p, w, &cells, h, sides)
		q.region = int32(len(out))
		out, ids = append(out, q), append(ids, p.ID)
		return err
	}})
	if err != nil || len(out) == 0 {
		return nil, nil, err
	}
	slices.SortFunc(out, func(a, b *smallPiece) int { return cmp.Compare(ids[a.region], ids[b.region]) })
	byRow := map[int][]stretch{}
	for i, p := range out {
		p.region = int32(i)
		for k, row := range p.rows {
			byRow[row] = append(byRow[row], p.extents[k])
		}
	}
	sortRows(byRow)
	seeds := map[int][]*seed{}
	for _, p := range out {
		for i := range p.beside {
			b := &p.beside[i]
			if of := meeting(byRow[b.row], int32(b.col), int32(b.col)+1); len(of) > 0 {
				b.region = of[0].piece.region
				continue
			}
			b.seed = &seed{col: b.col}
			seeds[b.row] = append(seeds[b.row], b.seed)
		}
	}
	if len(seeds) == 0 {
		return out, nil, nil
	}
	// Which cells of large pieces are one piece, the raster says.
	if _, err = Find(ctx, Request{Source: s, Bare: true, Keep: everything, seeds: seeds, Found: func(*Patch) error { return nil }}); err != nil {
		return nil, nil, err
	}
	known := map[*growing]int32{}
	for _, p := range out {
		for i := range p.beside {
			b := &p.beside[i]
			if b.seed == nil {
				continue
			}
			root := b.seed.patch.root()
			n, again := known[root]
			if !again {
				n = int32(len(out) + len(large))
				known[root], large = n, append(large, b.class)
			}
			b.region, b.seed = n, nil
		}
	}
	return out, large, nil
}

// newSmallPiece finds the cells of one patch, by walking over them from the first, and what lies beside it.
func newSmallPiece(p *Patch, w raster.Window, c *raster.Cells, h raster.Header, sides *sides) (*smallPiece, error) {
	in := make([]bool, w.Width*w.Height)
	at := func(col, row int) int { return (row-w.Row)*w.Width + col - w.Col }
	stack := [][2]int{p.First}
	in[at(p.First[0], p.First[1])] = true
	s := &smallPiece{area: p.Area, class: p.Class, becomes: p.Class}
	border := &border{w: w, cells: c, sides: sides, of: make([]int32, w.Width*w.Height)}
	seen := int64(0)
	for len(stack) > 0 {
		q := stack[len(stack)-1]
		stack = stack[:len(stack)-1]
		seen++
		for _, d := range [4][2]int{{1, 0}, {-1, 0}, {0, 1}, {0, -1}} {
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
				border.add(s, col, row, v, q)
			}
		}
	}
	if seen != p.Cells {
		return s, fmt.Errorf("an unforeseen fault: a patch of %d cells was found again with %d", p.Cells, seen)
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
	of    []int32 // by cell of the window: the stretch that it belongs to, and one more; 0 for none yet
	sides *sides
}

// add adds the side of a cell of the piece towards a cell beside it.
func (b *border) add(s *smallPiece, col, row int, class float64, of [2]int) {
	length := 0.0
	if row == of[1] {
		length = b.sides.upright(max(col, of[0]), row)
	} else {
		length = b.sides.level(col, max(row, of[1]))
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

func sortRows(rows map[int][]stretch) {
	for _, list := range rows {
		slices.SortFunc(list, func(a, b stretch) int { return cmp.Compare(a.from, b.from) })
	}
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
	for row := range w.Height {
		for _, s := range meeting(r.f.changed[w.Row+row], int32(w.Col), int32(w.Col+w.Width)) {
			for col := max(int(s.from), w.Col); col < min(int(s.to), w.Col+w.Width); col++ {
				dst.Set(col-w.Col, row, s.piece.becomes)
			}
		}
	}
	return nil
}
