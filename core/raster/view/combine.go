// Package view makes rasters of rasters: a mosaic, a part, another grid, an expression. A view is a [raster.Source] that computes its cells
// when a window is read; nothing is written in between.
//
// What a view computes depends on the place of a cell alone, never on the window, so that measuring in any order gives the same
// answer; conformance_test.go holds every view to that. A view passes on what is missing: a cell without data in its sources is without data, or
// takes no part.
package view

import (
	"math"
	"slices"

	"github.com/verdex-land/verdex/core/raster"
)

// Overlap says what holds where rasters of a mosaic overlap.
type Overlap uint8

// The rules for overlaps. A cell without data never hides one with data.
const (
	Last     Overlap = iota // the raster named later
	First                   // the raster named earlier
	Majority                // the value that most of them hold (see [raster.Majority])
	Mean                    // for measurements
	Min
	Max
)

// plain reports whether the cells of a member are those of the mosaic as they are. Where cells can be NaN beside another nodata value they
// are not: the mosaic has one value for what is missing.
func (m *mosaic) plain(i int) bool {
	h := m.members[i].header
	switch {
	case h.Type != m.header.Type:
		return false
	case h.Type.Floating():
		return h.NoData != nil && math.IsNaN(*h.NoData) && m.header.NoData != nil && math.IsNaN(*m.header.NoData)
	}
	return h.NoData == nil || m.header.NoData != nil && *h.NoData == *m.header.NoData
}

// lay puts the cells of a member that hold data over those that are there. The nodata value of the mosaic is none that
// cells with data can have.
func (m *mosaic) lay(p part, src, dst *raster.Cells, w raster.Window) {
	h := m.members[p.member].header
	own := math.NaN()
	if h.NoData != nil {
		own = *h.NoData
	}
	if h.Type != m.header.Type {
		for row := range p.Height {
			for col := range p.Width {
				if v := src.At(col, row); !h.Missing(v) {
					dst.Set(p.Col-w.Col+col, p.Row-w.Row+row, v)
				}
			}
		}
		return
	}
	for row := range p.Height {
		s, d := row*src.Stride, (p.Row-w.Row+row)*dst.Stride+p.Col-w.Col
		switch h.Type {
		case raster.Uint8:
			layRow(dst.U8[d:d+p.Width], src.U8[s:], own)
		case raster.Int8:
			layRow(dst.U8[d:d+p.Width], src.U8[s:], raster.AsByte(own))
		case raster.Uint16:
			layRow(dst.U16[d:d+p.Width], src.U16[s:], own)
		case raster.Int16:
			layRow(dst.I16[d:d+p.Width], src.I16[s:], own)
		case raster.Uint32:
			layRow(dst.U32[d:d+p.Width], src.U32[s:], own)
		case raster.Int32:
			layRow(dst.I32[d:d+p.Width], src.I32[s:], own)
		case raster.Float32:
			layRow(dst.F32[d:d+p.Width], src.F32[s:], own)
		case raster.Float64:
			layRow(dst.F64[d:d+p.Width], src.F64[s:], own)
		}
	}
}

// layRow copies the cells of src that are not own, nor NaN.
func layRow[T raster.Number](dst, src []T, own float64) {
	src = src[:len(dst)]
	none := T(own)
	has := !math.IsNaN(own)
	if !has && T(1)/T(2) == 0 { // whole numbers, all of them data
		copy(dst, src)
		return
	}
	for i, v := range src {
		if has && v == none || v != v {
			continue
		}
		dst[i] = v
	}
}

// combine settles cells that several members may hold, by majority, mean, least or greatest value.
func (r *mosaicReader) combine(w raster.Window, dst *raster.Cells) error {
	m := r.m
	for len(r.stack) < len(r.at) {
		r.stack = append(r.stack, raster.Cells{})
	}
	for i, p := range r.at {
		if err := r.read(p, &r.stack[i]); err != nil {
			return err
		}
	}
	values := make([]float64, 0, len(r.at))
	for row := range w.Height {
		for col := range w.Width {
			values = values[:0]
			for i, p := range r.at {
				c, k := w.Col+col-p.Col, w.Row+row-p.Row
				if c < 0 || k < 0 || c >= p.Width || k >= p.Height {
					continue
				}
				if v := r.stack[i].At(c, k); !m.members[p.member].header.Missing(v) {
					values = append(values, v)
				}
			}
			if len(values) > 0 {
				v := Combine(m.overlap, values)
				if !m.header.Type.Floating() {
					v = math.Round(v) // a mean
				}
				dst.Set(col, row, v)
			}
		}
	}
	return nil
}

// Combine gives what holds of several values of a cell, of which there is at least one.
func Combine(o Overlap, values []float64) float64 {
	switch o {
	case First:
		return values[0]
	case Majority:
		v, _ := raster.Majority(values, nil)
		return v
	case Mean:
		sum := 0.0
		for _, v := range values {
			sum += v
		}
		return sum / float64(len(values))
	case Min:
		return slices.Min(values)
	case Max:
		return slices.Max(values)
	}
	return values[len(values)-1]
}
