package view

import (
	"math"

	"github.com/verdex-land/verdex/core/raster"
)

// Masked is a view of a raster in which the cells where a second raster on the same cells holds 0 are without data: an internal
// mask, or a band of transparency. They get the declared nodata value; a raster that declares none gets a type with room for one.
func Masked(s, mask raster.Source) raster.Source {
	h := s.Header()
	if h.NoData != nil && !h.Type.Holds(*h.NoData) {
		h.NoData = nil
	}
	if h.Settle(); h.NoData == nil {
		t, v := raster.RoomFor(h.Type)
		h.Type, h.NoData = t, &v
	}
	return &masked{Source: s, mask: mask, header: h}
}

type masked struct {
	raster.Source
	mask   raster.Source
	header raster.Header
}

// Ahead implements [raster.Announced].
func (m *masked) Ahead(windows []raster.Window) bool {
	return raster.AheadOf(windows, m.Source, m.mask)
}

// Header implements [Source].
func (m *masked) Header() raster.Header { return m.header }

// NewReader implements [Source].
func (m *masked) NewReader() raster.Reader {
	return &maskedReader{m: m, r: m.Source.NewReader(), k: m.mask.NewReader()}
}

type maskedReader struct {
	m    *masked
	r, k raster.Reader
	src  raster.Cells
	mask raster.Cells
}

// Read implements [Reader].
func (r *maskedReader) Read(w raster.Window, dst *raster.Cells) error {
	same := r.m.header.Type == r.m.Source.Header().Type
	into := dst
	if !same {
		into = &r.src
	}
	if err := r.r.Read(w, into); err != nil {
		return err
	}
	if err := r.k.Read(w, &r.mask); err != nil {
		return err
	}
	if !same {
		dst.Resize(r.m.header.Type, w.Width, w.Height, w.Width)
	}
	none := *r.m.header.NoData
	for row := range w.Height {
		for col := range w.Width {
			switch {
			case r.mask.At(col, row) == 0:
				dst.Set(col, row, none)
			case !same:
				dst.Set(col, row, r.src.At(col, row))
			}
		}
	}
	return nil
}

// Scaled is a view of stored numbers as the measurements that they stand for: number × scale + offset, with NaN for no data.
// Numbers of 8 and 16 bits become float32, others float64.
func Scaled(s raster.Source, scale, offset float64) raster.Source {
	from := s.Header()
	none := math.NaN()
	h := from
	h.NoData, h.Palette, h.Type = &none, nil, raster.Float64
	if from.Type.Bytes() <= 2 || from.Type == raster.Float32 {
		h.Type = raster.Float32
	}
	single := h.Type == raster.Float32
	return Map(s, h, func(v float64) (float64, error) {
		if from.Missing(v) {
			return none, nil
		}
		if v = v*scale + offset; single {
			v = float64(float32(v))
		}
		return v, nil
	})
}
