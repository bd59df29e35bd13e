package zone

import (
	"github.com/verdex-land/verdex/core/fault"
	"github.com/verdex-land/verdex/core/raster"
)

// Mask is a view of a raster in which the cells whose centres lie in none of the placed zones are nodata. The
// raster declares a nodata value.
func Mask(s raster.Source, p *Placement) (raster.Source, error) {
	h := s.Header()
	if h.NoData == nil || !h.Type.Holds(*h.NoData) {
		return nil, fault.Errorf("%s: it declares no nodata value, which the cells outside are to become", h.Name).By("give one that is not a class, such as %", "nodata", "255")
	}
	return &mask{Source: s, place: p, nodata: *h.NoData}, nil
}

type mask struct {
	raster.Source
	place  *Placement
	nodata float64
}

// Ahead implements [raster.Announced].
func (m *mask) Ahead(windows []raster.Window) bool { return raster.Ahead(m.Source, windows) }

// NewReader implements [raster.Source].
func (m *mask) NewReader() raster.Reader {
	return &maskReader{m: m, r: m.Source.NewReader(), cutter: Cutter{Width: m.place.Grid.Width, Down: m.place.Down, Centres: true}}
}

type maskReader struct {
	m        *mask
	r        raster.Reader
	cutter   Cutter
	from, to int // rows of spans
	spans    []*Spans
	in       []bool
}

// Read implements [raster.Reader].
func (r *maskReader) Read(w raster.Window, dst *raster.Cells) error {
	if r.from != w.Row || r.to != w.Row+w.Height {
		r.cut(w.Row, w.Row+w.Height)
	}
	if err := r.r.Read(w, dst); err != nil {
		return err
	}
	if len(r.in) < w.Width {
		r.in = make([]bool, w.Width)
	}
	in := r.in[:w.Width]
	for row := range w.Height {
		clear(in)
		for _, s := range r.spans {
			full, _ := s.Row(w.Row + row)
			for _, f := range full {
				for c := max(int(f.From), w.Col); c < min(int(f.To), w.Col+w.Width); c++ {
					in[c-w.Col] = true
				}
			}
		}
		for c, inside := range in {
			if !inside {
				dst.Set(c, row, r.m.nodata)
			}
		}
	}
	return nil
}

// cut finds the cells of the zones in some rows.
func (r *maskReader) cut(from, to int) {
	for _, s := range r.spans {
		s.Free()
	}
	r.spans, r.from, r.to = r.spans[:0], from, to
	for i := range r.m.place.Outlines {
		o := &r.m.place.Outlines[i]
		if len(o.Rings) > 0 && o.RowFrom < to && o.RowTo > from {
			r.spans = append(r.spans, r.cutter.Cut(o, i, from, to))
		}
	}
}

// Window is the smallest window of the grid that holds all cells whose centres lie in a zone; its width is 0
// when there are none.
func (p *Placement) Window() raster.Window {
	c := Cutter{Width: p.Grid.Width, Down: p.Down, Centres: true}
	c0, r0, c1, r1 := p.Grid.Width, p.Grid.Height, 0, 0
	for i := range p.Outlines {
		o := &p.Outlines[i]
		if len(o.Rings) == 0 {
			continue
		}
		const step = 1024
		for from := o.RowFrom; from < o.RowTo; from += step {
			s := c.Cut(o, i, from, min(from+step, o.RowTo))
			a, b := s.Rows()
			for row := a; row < b; row++ {
				if full, _ := s.Row(row); len(full) > 0 {
					c0, c1 = min(c0, int(full[0].From)), max(c1, int(full[len(full)-1].To))
					r0, r1 = min(r0, row), max(r1, row+1)
				}
			}
			s.Free()
		}
	}
	if c0 >= c1 {
		return raster.Window{}
	}
	return raster.Window{Col: c0, Row: r0, Width: c1 - c0, Height: r1 - r0}
}
