package raster

import (
	"context"
	"math"
	"runtime"
	"slices"
	"sync"
)

// Overviews are the reduced copies of a source that its file has, from the largest to the smallest; none for a source that is computed.
func Overviews(s Source) []Source {
	switch v := s.(type) {
	case interface{ Overviews() []Source }:
		return v.Overviews()
	case noDataView:
		var out []Source
		for _, o := range Overviews(v.Source) {
			out = append(out, noDataView{o, v.v})
		}
		return out
	case gridView: // an overview lies on the same ground
		var out []Source
		for _, o := range Overviews(v.Source) {
			g := o.Header().Grid
			g.CRS, g.X0, g.Y0 = v.g.CRS, v.g.X0, v.g.Y0
			g.DX, g.DY = v.g.DX*float64(v.g.Width)/float64(g.Width), v.g.DY*float64(v.g.Height)/float64(g.Height)
			out = append(out, gridView{o, g})
		}
		return out
	}
	return nil
}

// Frame is a part of a raster, in its cells: from column X0 and row Y0 to X1 and Y1, beyond it too.
type Frame struct{ X0, Y0, X1, Y1 float64 }

// Samples are values at regular places in a frame, row by row; NaN where there is no data.
type Samples struct {
	Width, Height int
	Values        []float64
	Windows       int // that were read
	Reduced       bool
}

// At is a value.
func (s *Samples) At(x, y int) float64 { return s.Values[y*s.Width+x] }

// Sample reads the values at the middles of width × height parts of a frame: of the smallest overview whose cells are no larger than a part, or else
// of the raster itself. Each block that holds a place is read once.
func Sample(ctx context.Context, s Source, f Frame, width, height int) (*Samples, error) {
	g := s.Header().Grid
	part := math.Min((f.X1-f.X0)/float64(width), (f.Y1-f.Y0)/float64(height)) // in cells
	out := &Samples{Width: width, Height: height, Values: make([]float64, width*height)}
	for i := range out.Values {
		out.Values[i] = math.NaN()
	}
	from, sx, sy := s, 1.0, 1.0
	for _, o := range Overviews(s) {
		og := o.Header().Grid
		if x, y := float64(g.Width)/float64(og.Width), float64(g.Height)/float64(og.Height); math.Max(x, y) <= math.Max(part, 1)*1.01 && x > sx {
			from, sx, sy, out.Reduced = o, x, y, true
		}
	}
	h := from.Header()
	bw, bh := WorkSize(from)
	bw, bh = min(bw, h.Grid.Width), min(bh, h.Grid.Height)
	type place struct{ at, col, row int }
	blocks := map[[2]int][]place{}
	for y := range height {
		row := int(math.Floor((f.Y0 + (float64(y)+0.5)*(f.Y1-f.Y0)/float64(height)) / sy))
		for x := range width {
			col := int(math.Floor((f.X0 + (float64(x)+0.5)*(f.X1-f.X0)/float64(width)) / sx))
			if col >= 0 && row >= 0 && col < h.Grid.Width && row < h.Grid.Height {
				key := [2]int{col / bw, row / bh}
				blocks[key] = append(blocks[key], place{y*width + x, col, row})
			}
		}
	}
	keys := make([][2]int, 0, len(blocks))
	for k := range blocks {
		keys = append(keys, k)
	}
	slices.SortFunc(keys, func(a, b [2]int) int { return (a[1]-b[1])<<20 + a[0] - b[0] })
	out.Windows = len(keys)
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	work := make(chan [2]int)
	var wg sync.WaitGroup
	for range runtime.GOMAXPROCS(0) {
		wg.Go(func() {
			r := from.NewReader()
			var c Cells
			for k := range work {
				win := Window{Col: k[0] * bw, Row: k[1] * bh, Width: min(bw, h.Grid.Width-k[0]*bw), Height: min(bh, h.Grid.Height-k[1]*bh)}
				if err := r.Read(win, &c); err != nil {
					cancel(err)
					continue
				}
				for _, p := range blocks[k] {
					if v := c.At(p.col-win.Col, p.row-win.Row); !h.Missing(v) {
						out.Values[p.at] = v
					}
				}
			}
		})
	}
	for _, k := range keys {
		if ctx.Err() != nil {
			break
		}
		work <- k
	}
	close(work)
	wg.Wait()
	return out, context.Cause(ctx)
}
