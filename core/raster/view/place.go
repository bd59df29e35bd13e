package view

import (
	"math"

	"github.com/verdex-land/verdex/core/raster"
)

// placeStraight finds the places of centres between grids of one CRS.
func (r *alignedReader) placeStraight(w raster.Window) {
	r.places, r.rows = raster.Grown(r.places, w.Width), raster.Grown(r.rows, w.Height)
	for col := range r.places {
		r.places[col] = [2]float64{settle(r.a.toColumn(float64(w.Col+col) + 0.5)), 0}
	}
	for row := range r.rows {
		r.rows[row] = settle(r.a.toRow(float64(w.Row+row) + 0.5))
	}
}

// settle puts a place that misses a border of cells by rounding alone onto it; a border belongs to the cell
// behind it.
func settle(v float64) float64 {
	if n := math.Round(v); math.Abs(v-n) < 1e-7 {
		return n
	}
	return v
}

// place finds the places of centres square by square.
func (r *alignedReader) place(w raster.Window) {
	r.places = raster.Grown(r.places, w.Width*w.Height)
	for y := w.Row / squareCells * squareCells; y < w.Row+w.Height; y += squareCells {
		for x := w.Col / squareCells * squareCells; x < w.Col+w.Width; x += squareCells {
			r.square(w, x, y)
		}
	}
}

// square fills the part of a square that lies in the window, by a biquadratic polynomial through nine exact
// places if two others lie within a millionth of a cell of it.
func (r *alignedReader) square(w raster.Window, x, y int) {
	const half = squareCells / 2
	var f [3][3][2]float64
	good := true
	exact := func(dx, dy float64) ([2]float64, bool) {
		c, k, ok := r.a.toSource(float64(x)+dx, float64(y)+dy)
		return [2]float64{c, k}, ok && !math.IsNaN(c) && !math.IsNaN(k) && !math.IsInf(c, 0) && !math.IsInf(k, 0)
	}
	for j := range 3 {
		for i := range 3 {
			p, ok := exact(float64(i*half), float64(j*half))
			if t := r.a.turn; t > 0 && i+j > 0 { // beyond a seam longitudes go on
				p[0] = f[0][0][0] + math.Remainder(p[0]-f[0][0][0], t)
			}
			f[j][i] = p
			good = good && ok
		}
	}
	// Lagrange weights of the nodes 0, 16 and 32.
	weights := func(d float64) [3]float64 {
		t := d/half - 1
		return [3]float64{t * (t - 1) / 2, 1 - t*t, t * (t + 1) / 2}
	}
	at := func(dx, dy float64) (p [2]float64) {
		wx, wy := weights(dx), weights(dy)
		for k := range 2 {
			for j := range 3 {
				p[k] += wy[j] * (wx[0]*f[j][0][k] + wx[1]*f[j][1][k] + wx[2]*f[j][2][k])
			}
		}
		return p
	}
	if good {
		for _, d := range [3][2]float64{{half / 2, half / 2}, {1.5 * half, 0.5 * half}, {0.5 * half, 1.7 * half}} {
			p, ok := exact(d[0], d[1])
			q := at(d[0], d[1])
			if t := r.a.turn; t > 0 {
				p[0] = q[0] + math.Remainder(p[0]-q[0], t)
			}
			good = good && ok && math.Abs(p[0]-q[0]) < 1e-6 && math.Abs(p[1]-q[1]) < 1e-6
		}
	}
	for row := max(y, w.Row); row < min(y+squareCells, w.Row+w.Height); row++ {
		for col := max(x, w.Col); col < min(x+squareCells, w.Col+w.Width); col++ {
			p, ok := [2]float64{}, true
			if good {
				p = at(float64(col-x)+0.5, float64(row-y)+0.5)
			} else {
				p, ok = exact(float64(col-x)+0.5, float64(row-y)+0.5)
			}
			if !ok {
				p = [2]float64{math.NaN(), math.NaN()}
			}
			r.places[(row-w.Row)*w.Width+col-w.Col] = p
		}
	}
}
