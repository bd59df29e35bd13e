package view

import (
	"math"

	"github.com/verdex-land/verdex/core/raster"
)

// Where is a view of a raster as floating-point numbers that is nodata (NaN) where a second raster on the same cells
// does not hold a value.
func Where(s, other raster.Source, value float64) (raster.Source, error) {
	if err := s.Header().Grid.Aligned(other.Header().Grid); err != nil {
		return nil, err
	}
	h := s.Header()
	none := math.NaN()
	if h.Type != raster.Float32 {
		h.Type = raster.Float64
	}
	from := s.Header()
	h.NoData, h.Palette = &none, nil
	return &where{Source: s, header: h, other: other, value: value, from: from}, nil
}

type where struct {
	raster.Source
	header raster.Header
	other  raster.Source
	value  float64
	from   raster.Header
}

// Ahead implements [raster.Announced].
func (w *where) Ahead(windows []raster.Window) bool {
	return raster.AheadOf(windows, w.Source, w.other)
}

// Header implements [Source].
func (w *where) Header() raster.Header { return w.header }

// NewReader implements [Source].
func (w *where) NewReader() raster.Reader {
	return &whereReader{w: w, r: w.Source.NewReader(), o: w.other.NewReader()}
}

type whereReader struct {
	w    *where
	r, o raster.Reader
	a, b raster.Cells
}

// Read implements [Reader].
func (r *whereReader) Read(win raster.Window, dst *raster.Cells) error {
	if err := r.r.Read(win, &r.a); err != nil {
		return err
	}
	if err := r.o.Read(win, &r.b); err != nil {
		return err
	}
	dst.Resize(r.w.header.Type, win.Width, win.Height, win.Width)
	for row := range win.Height {
		for col := range win.Width {
			v := r.a.At(col, row)
			if r.b.At(col, row) != r.w.value || r.w.from.Missing(v) {
				v = math.NaN()
			}
			dst.Set(col, row, v)
		}
	}
	return nil
}
