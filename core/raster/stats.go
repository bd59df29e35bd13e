package raster

import (
	"context"
	"math"
	"sync/atomic"
)

// Summary is what a raster of measurements holds.
type Summary struct {
	Cells  int64 // with data
	NoData int64
	Least  float64
	Most   float64
	Mean   float64 // of the cells, not weighted by area
}

// Summarise reads all cells of a raster once.
func Summarise(ctx context.Context, s Source, threads int, progress func(done, total int)) (Summary, error) {
	h := s.Header()
	list := blocksOf(s)
	parts := make([]Summary, list.across*list.down)
	var done atomic.Int64
	err := readBlocks(ctx, s, len(parts), threads, list.window, func(i int, c *Cells) {
		parts[i] = summary(c, &h)
		if d := done.Add(1); progress != nil {
			progress(int(d), len(parts))
		}
	})
	out := Summary{Least: math.Inf(1), Most: math.Inf(-1)}
	if err != nil {
		return out, err
	}
	for _, p := range parts { // in order, so that the mean is the same always
		out.Cells += p.Cells
		out.NoData += p.NoData
		out.Least, out.Most = math.Min(out.Least, p.Least), math.Max(out.Most, p.Most)
		out.Mean += p.Mean
	}
	if out.Cells > 0 {
		out.Mean /= float64(out.Cells)
	} else {
		out.Least, out.Most, out.Mean = math.NaN(), math.NaN(), math.NaN()
	}
	return out, nil
}

// summary sums a window; its Mean is the sum.
func summary(c *Cells, h *Header) Summary {
	s := Summary{Least: math.Inf(1), Most: math.Inf(-1)}
	for r := range c.Height {
		for k := range c.Width {
			v := c.At(k, r)
			if h.Missing(v) {
				s.NoData++
				continue
			}
			s.Cells++
			s.Least, s.Most = math.Min(s.Least, v), math.Max(s.Most, v)
			s.Mean += v
		}
	}
	return s
}

// Border counts the values of the outermost cells; with cornersOnly of the four corners.
func Border(s Source, cornersOnly bool) (map[float64]int64, error) {
	g := s.Header().Grid
	w, h := g.Width, g.Height
	r := s.NewReader()
	var c Cells
	out := map[float64]int64{}
	read := func(win Window) error {
		if err := r.Read(win, &c); err != nil {
			return err
		}
		for y := range c.Height {
			for x := range c.Width {
				v := c.At(x, y)
				if math.IsNaN(v) {
					v = math.MaxFloat64 // maps have no NaN
				}
				out[v]++
			}
		}
		return nil
	}
	windows := []Window{{0, 0, w, 1}}
	if h > 1 {
		windows = append(windows, Window{0, h - 1, w, 1})
	}
	if h > 2 {
		windows = append(windows, Window{0, 1, 1, h - 2})
		if w > 1 {
			windows = append(windows, Window{w - 1, 1, 1, h - 2})
		}
	}
	if cornersOnly {
		windows = []Window{{0, 0, 1, 1}, {w - 1, 0, 1, 1}, {0, h - 1, 1, 1}, {w - 1, h - 1, 1, 1}}
	}
	Ahead(s, windows)
	for _, win := range windows {
		if err := read(win); err != nil {
			return nil, err
		}
	}
	return out, nil
}
