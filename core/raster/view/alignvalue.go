package view

import (
	"math"

	"github.com/verdex-land/verdex/core/planar"
	"github.com/verdex-land/verdex/core/raster"
)

// value is a cell of the source that has been read, and whether it is data.
func (r *alignedReader) value(col, row int) (float64, bool) {
	c, k := col-r.at.Col, row-r.at.Row
	if c < 0 || k < 0 || c >= r.at.Width || k >= r.at.Height {
		return 0, false
	}
	v := r.cells.At(c, k)
	return v, !r.a.from.Missing(v)
}

// take finds the cell of the source in which the centre of each cell of a window lies.
func (r *alignedReader) take(src raster.Grid) (m Moves) {
	width, height := float64(src.Width), float64(src.Height)
	for i, p := range r.places {
		r.taken[i] = -1
		if !(p[0] >= 0 && p[1] >= 0 && p[0] < width && p[1] < height) {
			m.Empty++
			continue
		}
		col, row := int(p[0]), int(p[1])
		m.take(p[0]-float64(col)-0.5, p[1]-float64(row)-0.5)
		if c, k := col-r.at.Col, row-r.at.Row; c >= 0 && k >= 0 && c < r.at.Width && k < r.at.Height {
			r.taken[i] = int32(k*r.cells.Stride + c)
		}
	}
	return m
}

// take notes that a centre was moved so far.
func (m *Moves) take(x, y float64) {
	m.Cells++
	if x == 0 && y == 0 {
		return
	}
	d := math.Hypot(x, y)
	m.Mean += d
	if d > m.Greatest {
		m.Greatest = d
	}
}

// copied gives the cells of a window what those that they take hold, where rows and columns map apart, many columns in a row take columns in a row, and
// what is missing in the source has the same value in the window. It is not ok elsewhere.
func (r *alignedReader) copied(dst *raster.Cells, src raster.Grid) (m Moves, ok bool) {
	from, to := &r.a.from, &r.a.header
	if from.Type != to.Type || from.Type.Floating() || from.NoData != nil && (to.NoData == nil || *to.NoData != *from.NoData) {
		return m, false
	}
	type stretch struct{ at, from, n int }
	var list []stretch
	columns, still := 0, true
	for i, p := range r.places {
		if !(p[0] >= 0 && p[0] < float64(src.Width)) {
			continue
		}
		col := int(p[0])
		columns++
		still = still && p[0]-float64(col) == 0.5
		if k := len(list) - 1; k >= 0 && list[k].at+list[k].n == i && list[k].from+list[k].n == col-r.at.Col {
			list[k].n++
		} else {
			list = append(list, stretch{i, col - r.at.Col, 1})
		}
	}
	if len(list)*16 > columns {
		return m, false
	}
	for i, y := range r.rows {
		if !(y >= 0 && y < float64(src.Height)) {
			m.Empty += int64(len(r.places))
			continue
		}
		m.Empty += int64(len(r.places) - columns)
		row := int(y)
		for _, s := range list {
			dst.Copy(s.at, i, &r.cells, s.from, row-r.at.Row, s.n, 1)
		}
		if y = y - float64(row) - 0.5; y == 0 && still {
			m.Cells += int64(columns)
			continue
		}
		for _, s := range list {
			for _, p := range r.places[s.at : s.at+s.n] {
				m.take(p[0]-float64(int(p[0]))-0.5, y)
			}
		}
	}
	return m, true
}

// takeStraight is take where rows and columns map apart.
func (r *alignedReader) takeStraight(src raster.Grid) (m Moves) {
	width, height := float64(src.Width), float64(src.Height)
	columns, moved := make([]int32, len(r.places)), make([]float64, len(r.places))
	for i, p := range r.places {
		if columns[i] = -1; p[0] >= 0 && p[0] < width {
			col := int(p[0])
			columns[i], moved[i] = int32(col-r.at.Col), p[0]-float64(col)-0.5
		}
	}
	for i, y := range r.rows {
		taken := r.taken[i*len(columns):][:len(columns)]
		if !(y >= 0 && y < height) {
			for c := range taken {
				taken[c] = -1
			}
			m.Empty += int64(len(taken))
			continue
		}
		row := int(y)
		k, y := int32((row-r.at.Row)*r.cells.Stride), y-float64(row)-0.5
		for c, col := range columns {
			if taken[c] = k + col; col < 0 {
				taken[c] = -1
				m.Empty++
				continue
			}
			m.take(moved[c], y)
		}
	}
	return m
}

// nearest gives each cell of a window what the cell that it takes holds.
func (r *alignedReader) nearest(dst *raster.Cells) {
	from := &r.cells
	if from.Type == raster.Uint8 && (dst.Type == raster.Uint8 || dst.Type == raster.Uint16) {
		var missing [256]bool
		for v := range missing {
			missing[v] = r.a.from.Missing(float64(v))
		}
		for i, k := range r.taken {
			if k < 0 {
				continue
			}
			if v := from.U8[k]; missing[v] {
				continue
			} else if dst.Type == raster.Uint8 {
				dst.U8[i] = v
			} else {
				dst.U16[i] = uint16(v)
			}
		}
		return
	}
	for i, k := range r.taken {
		if k < 0 {
			continue
		}
		if v := from.At(int(k), 0); !r.a.from.Missing(v) {
			if dst.Type == raster.Float32 {
				v = float64(float32(v))
			}
			dst.Set(i, 0, v)
		}
	}
}

// bilinear interpolates between the four centres around a place. Where some of them are nodata the others
// share their weight; where the nearest is, so is the result.
func (r *alignedReader) bilinear(p [2]float64) (float64, bool) {
	if _, ok := r.value(int(math.Floor(p[0])), int(math.Floor(p[1]))); !ok {
		return 0, false
	}
	x, y := p[0]-0.5, p[1]-0.5
	fx, fy := math.Floor(x), math.Floor(y)
	tx, ty := x-fx, y-fy
	var sum, weight float64
	for j := range 2 {
		for i := range 2 {
			wt := (1 - math.Abs(float64(i)-tx)) * (1 - math.Abs(float64(j)-ty))
			if v, ok := r.value(int(fx)+i, int(fy)+j); ok && wt > 0 {
				sum += wt * v
				weight += wt
			}
		}
	}
	return sum / weight, weight > 0
}

// reach is how far, in source cells, a cell of the grid extends from its centre, at most.
func (r *alignedReader) reach(w raster.Window) float64 {
	far := 0.0
	for _, p := range [][2]int{{w.Col, w.Row}, {w.Col + w.Width - 1, w.Row}, {w.Col, w.Row + w.Height - 1},
		{w.Col + w.Width - 1, w.Row + w.Height - 1}, {w.Col + w.Width/2, w.Row + w.Height/2}} {
		c, k, ok := r.a.toSource(float64(p[0])+0.5, float64(p[1])+0.5)
		for _, d := range [4][2]float64{{0, 0}, {1, 0}, {0, 1}, {1, 1}} {
			if x, y, ok2 := r.a.toSource(float64(p[0])+d[0], float64(p[1])+d[1]); ok && ok2 {
				if r.a.turn > 0 {
					x = c + math.Remainder(x-c, r.a.turn)
				}
				far = math.Max(far, math.Max(math.Abs(x-c), math.Abs(y-k)))
			}
		}
	}
	return far * 1.5
}

// heaviest is the value that covers most of a cell of the grid: the cell's outline, straight between its
// corners, is cut with each source cell that it meets. What is without data takes part: where it covers more than any value does,
// so is the cell. Ties are as [raster.Dominant] says.
func (r *alignedReader) heaviest(col, row, c, k int) (float64, bool) {
	var quad [4][2]float64
	c0, r0, c1, r1 := math.Inf(1), math.Inf(1), math.Inf(-1), math.Inf(-1)
	for i, d := range [4][2]float64{{0, 0}, {1, 0}, {1, 1}, {0, 1}} {
		x, y, ok := r.a.toSource(float64(col)+d[0], float64(row)+d[1])
		if !ok {
			return r.value(c, k)
		}
		// Corners that miss a border of source cells by rounding lie on it.
		if n := math.Round(x); math.Abs(x-n) < 1e-9 {
			x = n
		}
		if n := math.Round(y); math.Abs(y-n) < 1e-9 {
			y = n
		}
		if r.a.turn > 0 {
			x = float64(c) + 0.5 + math.Remainder(x+r.a.lead-float64(c)-0.5, r.a.turn)
		}
		quad[i] = [2]float64{x, y}
		c0, c1, r0, r1 = math.Min(c0, x), math.Max(c1, x), math.Min(r0, y), math.Max(r1, y)
	}
	src := r.a.source.Header().Grid
	x0, x1 := max(0, int(math.Floor(c0))), min(src.Width, int(math.Ceil(c1)))
	y0, y1 := max(0, int(math.Floor(r0))), min(src.Height, int(math.Ceil(r1)))
	if x0 < r.at.Col || x1 > r.at.Col+r.at.Width || y0 < r.at.Row || y1 > r.at.Row+r.at.Height {
		return r.value(c, k) // a cell at a pole, which spans all longitudes
	}
	if r.weight == nil {
		r.weight = map[float64]float64{}
	}
	clear(r.weight)
	all := math.Abs(planar.Area(quad[:]))
	none := all // what of the cell is without data or beyond the raster
	for y := y0; y < y1; y++ {
		for x := x0; x < x1; x++ {
			if v, ok := r.value(x, y); ok {
				share := shareOfCell(quad[:], float64(x), float64(y))
				r.weight[v] += share
				none -= share
			}
		}
	}
	best, most, found := raster.Dominant(r.weight)
	if none > most*(1+1e-9) || all == 0 {
		return 0, false
	}
	return best, found
}

// shareOfCell is the area of a convex polygon within the cell at x, y.
func shareOfCell(poly [][2]float64, x, y float64) float64 {
	var buffer [4][12][2]float64 // one each, for a polygon that is not cut is passed on
	for side, in := range [4]float64{x, x + 1, y, y + 1} {
		poly = planar.Cut(buffer[side][:0], poly, side/2, in, side%2 == 1)
	}
	return math.Abs(planar.Area(poly))
}
