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
// which they share the longest border.
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
	alone   bool
	folded  bool
	taking  bool // another one takes its class in this pass, so that it stays for now
	rows    []int
	extents []stretch // one for each of rows
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
	_, err = Find(ctx, Request{Source: s, Bare: true, Keep: func(float64) bool { return true }, Progress: progress, Found: func(p *Patch) error {
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
	return out, err
}

// newSmallPiece finds the cells and the neighbour of one patch, by walking over its cells from the first.
func newSmallPiece(p *Patch, w raster.Window, c *raster.Cells, h raster.Header) (*smallPiece, error) {
	upright, across := math.Abs(h.Grid.DY), h.Grid.DX // lengths of the sides of a cell
	in := make([]bool, w.Width*w.Height)
	at := func(col, row int) int { return (row-w.Row)*w.Width + col - w.Col }
	stack := [][2]int{p.First}
	in[at(p.First[0], p.First[1])] = true
	border := map[float64]float64{}
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
			case math.IsNaN(v) || h.NoData != nil && v == *h.NoData:
			case k < 2:
				border[v] += upright
			default:
				border[v] += across
			}
		}
	}
	if seen != p.Cells {
		return nil, fmt.Errorf("an unforeseen fault: a patch of %d cells was found again with %d", p.Cells, seen)
	}
	s := &smallPiece{id: p.ID, area: p.Area, class: p.Class}
	longest := 0.0
	for v, l := range border {
		if l > longest*(1+1e-12) || l >= longest*(1-1e-12) && v < s.best {
			s.best, longest = v, l
		}
	}
	s.alone = longest == 0
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
