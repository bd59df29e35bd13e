package view

import (
	"github.com/verdex-land/verdex/core/raster"
)

// Pairs is a view whose cells are f of those of two rasters on the same cells: the header states the type, nodata value
// and palette of the outcome, whose grid is that of the first. f is called at least once for each pair of values that
// occurs, by several goroutines, and must give values that the type holds.
func Pairs(a, b raster.Source, h raster.Header, f func(a, b float64) float64) raster.Source {
	h.Grid = a.Header().Grid
	return &paired{a, b, h, f}
}

type paired struct {
	a, b   raster.Source
	header raster.Header
	f      func(a, b float64) float64
}

// Ahead implements [raster.Announced].
func (p *paired) Ahead(windows []raster.Window) bool { return raster.AheadOf(windows, p.a, p.b) }

// Header implements [Source].
func (p *paired) Header() raster.Header { return p.header }

// BlockSize implements [Source].
func (p *paired) BlockSize() (width, height int) { return p.a.BlockSize() }

// NewReader implements [Source].
func (p *paired) NewReader() raster.Reader {
	return &pairedReader{p: p, a: p.a.NewReader(), b: p.b.NewReader(), known: map[[2]float64]float64{}}
}

type pairedReader struct {
	p             *paired
	a, b          raster.Reader
	first, second raster.Cells
	known         map[[2]float64]float64
	last          [2]float64
	value         float64
	any           bool
}

// Read implements [Reader].
func (r *pairedReader) Read(w raster.Window, dst *raster.Cells) error {
	if err := r.a.Read(w, &r.first); err != nil {
		return err
	}
	if err := r.b.Read(w, &r.second); err != nil {
		return err
	}
	dst.Resize(r.p.header.Type, w.Width, w.Height, w.Width)
	for row := range w.Height {
		for col := range w.Width {
			key := [2]float64{r.first.At(col, row), r.second.At(col, row)}
			if !r.any || key != r.last {
				v, ok := r.known[key]
				if !ok {
					v = r.p.f(key[0], key[1])
					if key[0] == key[0] && key[1] == key[1] { // not NaN, which no look-up finds
						r.known[key] = v
					}
				}
				r.last, r.value, r.any = key, v, true
			}
			dst.Set(col, row, r.value)
		}
	}
	return nil
}
