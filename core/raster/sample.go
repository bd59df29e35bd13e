package raster

import (
	"context"
	"maps"
	"math"
	"slices"
)

// Overviews are the reduced copies of a source that its file has, from the largest to the smallest; none for a source that is computed.
func Overviews(s Source) []Source {
	if v, ok := s.(interface{ Overviews() []Source }); ok {
		return v.Overviews()
	}
	return nil
}

// Overviews are those of the source, with the nodata value.
func (n noDataView) Overviews() (out []Source) {
	for _, o := range Overviews(n.Source) {
		out = append(out, noDataView{o, n.v})
	}
	return out
}

// Overviews are those of the source, on the same ground as the grid.
func (v gridView) Overviews() (out []Source) {
	for _, o := range Overviews(v.Source) {
		g := o.Header().Grid
		g.CRS, g.X0, g.Y0 = v.g.CRS, v.g.X0, v.g.Y0
		g.DX, g.DY = v.g.DX*float64(v.g.Width)/float64(g.Width), v.g.DY*float64(v.g.Height)/float64(g.Height)
		out = append(out, gridView{o, g})
	}
	return out
}

// Frame is a part of a raster, in its cells: from column X0 and row Y0 to X1 and Y1, beyond it too. It is divided into Width × Height parts.
type Frame struct {
	X0, Y0, X1, Y1 float64
	Width, Height  int
}

// Samples are values at regular places in a frame, row by row; NaN where there is no data.
type Samples struct {
	Width, Height int
	Values        []float64
	Windows       int // that were read
	Reduced       bool
}

// At is a value.
func (s *Samples) At(x, y int) float64 { return s.Values[y*s.Width+x] }

// Sample reads the values at the middles of the parts of a frame: of the smallest overview whose cells are no larger than a part, or else
// of the raster itself. Each block that holds a place is read once, on several threads (0 for all processors).
func Sample(ctx context.Context, s Source, f Frame, threads int) (*Samples, error) {
	out := &Samples{Width: f.Width, Height: f.Height, Values: make([]float64, f.Width*f.Height)}
	for i := range out.Values {
		out.Values[i] = math.NaN()
	}
	partX, partY := (f.X1-f.X0)/float64(f.Width), (f.Y1-f.Y0)/float64(f.Height) // in cells
	from, sx, sy := s, 1.0, 1.0
	g := s.Header().Grid
	for _, o := range Overviews(s) {
		og := o.Header().Grid
		if x, y := float64(g.Width)/float64(og.Width), float64(g.Height)/float64(og.Height); math.Max(x, y) <= math.Max(math.Min(partX, partY), 1)*1.01 && x > sx {
			from, sx, sy, out.Reduced = o, x, y, true
		}
	}
	h, list := from.Header(), blocksOf(from)
	type place struct{ at, col, row int }
	places := make(map[int][]place) // by block
	for y := range f.Height {
		row := int(math.Floor((f.Y0 + (float64(y)+0.5)*partY) / sy))
		for x := range f.Width {
			col := int(math.Floor((f.X0 + (float64(x)+0.5)*partX) / sx))
			if col >= 0 && row >= 0 && col < h.Grid.Width && row < h.Grid.Height {
				block := row/list.height*list.across + col/list.width
				places[block] = append(places[block], place{y*f.Width + x, col, row})
			}
		}
	}
	needed := slices.Sorted(maps.Keys(places))
	out.Windows = len(needed)
	err := readBlocks(ctx, from, len(needed), threads, func(i int) Window { return list.window(needed[i]) }, func(i int, c *Cells) {
		win := list.window(needed[i])
		for _, p := range places[needed[i]] {
			if v := c.At(p.col-win.Col, p.row-win.Row); !h.Missing(v) {
				out.Values[p.at] = v
			}
		}
	})
	return out, err
}
