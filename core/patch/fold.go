package patch

import (
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
	rows  map[int][]stretch
	Found int     // pieces that were folded
	Area  float64 // their true area in m²
	Alone int     // small pieces without any neighbour that holds a class, which stay
}

// stretch is a run of cells that take another class.
type stretch struct {
	from, to int32
	class    float64
}

// Fold finds the pieces (of cells that share a side) that are smaller than least, in m² of true ground, and folds
// them. It does so once: what a piece takes is the class that its neighbour had before. Of neighbours with equally
// long borders the lowest code wins. It keeps a few bytes for each row of each piece.
func Fold(ctx context.Context, s raster.Source, least float64, progress func(done, total int)) (*Folded, error) {
	h := s.Header()
	f := &Folded{Source: s, rows: map[int][]stretch{}}
	reader := raster.Cached(s, 64<<20).NewReader()
	var cells raster.Cells
	ew, ns := math.Abs(h.Grid.DY), h.Grid.DX // lengths of the sides of a cell that run up and across
	err := Find(ctx, Request{Source: s, Keep: func(float64) bool { return true }, Progress: progress, Found: func(p *Patch) error {
		if p.Area >= least {
			return nil
		}
		w := bounds(p, h.Grid)
		if err := reader.Read(w, &cells); err != nil {
			return err
		}
		return f.fold(p, w, &cells, h.NoData, ew, ns)
	}})
	for _, list := range f.rows {
		slices.SortFunc(list, func(a, b stretch) int { return int(a.from) - int(b.from) })
	}
	return f, err
}

// bounds is the window of a patch with a cell around it.
func bounds(p *Patch, g raster.Grid) raster.Window {
	c0, r0, c1, r1 := math.MaxInt, math.MaxInt, 0, 0
	for _, polygon := range p.Polygons {
		for _, q := range polygon[0] {
			c0, c1 = min(c0, int(q[0])), max(c1, int(q[0]))
			r0, r1 = min(r0, int(q[1])), max(r1, int(q[1]))
		}
	}
	c0, r0, c1, r1 = max(0, c0-1), max(0, r0-1), min(g.Width, c1+1), min(g.Height, r1+1)
	return raster.Window{Col: c0, Row: r0, Width: c1 - c0, Height: r1 - r0}
}

// fold finds the neighbour of one patch, by walking over its cells from the first.
func (f *Folded) fold(p *Patch, w raster.Window, c *raster.Cells, nodata *float64, upright, across float64) error {
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
			case math.IsNaN(v) || nodata != nil && v == *nodata:
			case k < 2:
				border[v] += upright
			default:
				border[v] += across
			}
		}
	}
	if seen != p.Cells {
		return fmt.Errorf("an unforeseen fault: a patch of %d cells was found again with %d", p.Cells, seen)
	}
	best, longest := 0.0, 0.0
	for v, l := range border {
		if l > longest*(1+1e-12) || l >= longest*(1-1e-12) && v < best {
			best, longest = v, l
		}
	}
	if longest == 0 {
		f.Alone++
		return nil
	}
	f.Found++
	f.Area += p.Area
	for row := range w.Height {
		for col := 0; col < w.Width; col++ {
			if !in[row*w.Width+col] {
				continue
			}
			from := col
			for col < w.Width && in[row*w.Width+col] {
				col++
			}
			f.rows[w.Row+row] = append(f.rows[w.Row+row], stretch{int32(w.Col + from), int32(w.Col + col), best})
		}
	}
	return nil
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
		list := r.f.rows[w.Row+row]
		i, _ := slices.BinarySearchFunc(list, w.Col, func(s stretch, col int) int { return int(s.to) - 1 - col })
		for ; i < len(list) && int(list[i].from) < w.Col+w.Width; i++ {
			for col := max(int(list[i].from), w.Col); col < min(int(list[i].to), w.Col+w.Width); col++ {
				dst.Set(col-w.Col, row, list[i].class)
			}
		}
	}
	return nil
}
