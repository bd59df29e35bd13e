package view

import (
	"math"

	"github.com/verdex-land/verdex/core/raster"

	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/fault"
)

// Slope is a view of an elevation raster: the steepness of the ground in each cell, by B. K. P. Horn (Hill shading
// and the reflectance map, Proc. IEEE 69, 1981) from the eight neighbours, in percent or degrees, as float32 with NaN
// for nodata. Elevations are in metres.
//
// Lengths and angles between the axes are those on the ellipsoid, taken at the middle of squares of 32 × 32 cells at fixed
// places and interpolated between (at each cell, where cells are of a kilometre and more), so that it is right in degrees and in any projection.
//
// A cell without elevation has no slope. A neighbour beside it without elevation, or beyond the border, is taken to
// continue the line through the middle from the neighbour opposite to it (where that is missing too, to be as high
// as the middle), and one at a corner to lie on the plane through the middle and the two beside it.
func Slope(s raster.Source, degrees bool) (raster.Source, error) {
	h := s.Header()
	if h.Grid.CRS == nil {
		return nil, fault.Errorf("%s: without a CRS the distance between its cells is not known", h.Name).By("give its CRS", "crs", "")
	}
	none := math.NaN()
	out := raster.Header{Name: "slope of " + h.Name, Grid: h.Grid, Type: raster.Float32, NoData: &none, Format: "slope", Bands: 1}
	size := math.Max(h.Grid.DX, math.Abs(h.Grid.DY)) * h.Grid.CRS.Unit
	if h.Grid.CRS.Geographic() {
		size *= h.Grid.CRS.Ellipsoid.A
	}
	return &slope{Source: raster.Cached(s, cacheBytes), header: out, degrees: degrees, nodata: h.NoData, exact: size >= 1000}, nil
}

type slope struct {
	raster.Source
	header  raster.Header
	degrees bool
	nodata  *float64
	exact   bool // the metric is taken at each cell
}

// Header implements [Source].
func (s *slope) Header() raster.Header { return s.header }

// NewReader implements [Source].
func (s *slope) NewReader() raster.Reader {
	return &slopeReader{s: s, r: s.Source.NewReader(), spacing: map[[2]int]earth.Metric{}}
}

type slopeReader struct {
	s       *slope
	r       raster.Reader
	cells   raster.Cells
	rows    []float64 // of the window and a cell around it, NaN where there is none
	spacing map[[2]int]earth.Metric
}

// Read implements [Reader].
func (r *slopeReader) Read(w raster.Window, dst *raster.Cells) error {
	g := r.s.header.Grid
	c0, r0 := max(0, w.Col-1), max(0, w.Row-1)
	c1, r1 := min(g.Width, w.Col+w.Width+1), min(g.Height, w.Row+w.Height+1)
	if err := r.r.Read(raster.Window{Col: c0, Row: r0, Width: c1 - c0, Height: r1 - r0}, &r.cells); err != nil {
		return err
	}
	stride := w.Width + 2
	r.rows = raster.Grown(r.rows, stride*(w.Height+2))
	for i := range r.rows {
		r.rows[i] = math.NaN()
	}
	for row := range r.cells.Height {
		at := (row+r0-w.Row+1)*stride + c0 - w.Col + 1
		numbersOf(&r.cells, row*r.cells.Stride, r.s.nodata, r.rows[at:at+r.cells.Width])
	}
	dst.Resize(raster.Float32, w.Width, w.Height, w.Width)
	for row := range w.Height {
		for col := range w.Width {
			at := (row+1)*stride + col + 1
			dst.F32[row*dst.Stride+col] = float32(r.cell(at, stride, w.Col+col, w.Row+row))
		}
	}
	return nil
}

// cell is the slope of the cell at a place of rows, whose column and row in the grid are given.
func (r *slopeReader) cell(at, stride, col, row int) float64 {
	z := r.rows
	middle := z[at]
	if middle != middle {
		return middle
	}
	var n [9]float64
	for i := range n {
		n[i] = z[at+(i/3-1)*stride+i%3-1]
	}
	missing := false
	for _, v := range n {
		missing = missing || v != v
	}
	if missing {
		fill(&n)
	}
	m := r.metric(col, row)
	dx := (n[2] + 2*n[5] + n[8] - n[0] - 2*n[3] - n[6]) / 8
	dy := (n[6] + 2*n[7] + n[8] - n[0] - 2*n[1] - n[2]) / 8
	// The gradient on the ground, whose square is that of the differences in the inverse of the metric.
	rise := math.Sqrt(math.Max(0, (m.YY*dx*dx-2*m.XY*dx*dy+m.XX*dy*dy)/(m.XX*m.YY-m.XY*m.XY)))
	if r.s.degrees {
		return math.Atan(rise) * 180 / math.Pi
	}
	return rise * 100
}

// fill gives the neighbours that are missing heights: those beside the middle (n[4]) from the other side, then those
// at the corners as on the plane through the middle and the two beside them.
func fill(n *[9]float64) {
	known := *n
	for _, i := range [4]int{1, 3, 5, 7} {
		if known[i] != known[i] {
			n[i] = n[4]
			if o := known[8-i]; o == o {
				n[i] = 2*n[4] - o
			}
		}
	}
	for _, i := range [4][3]int{{0, 1, 3}, {2, 1, 5}, {6, 3, 7}, {8, 5, 7}} {
		if known[i[0]] != known[i[0]] {
			n[i[0]] = n[i[1]] + n[i[2]] - n[4]
		}
	}
}

// metric is that of a step of one cell to the right and one down, in metres, at a cell.
func (r *slopeReader) metric(col, row int) earth.Metric {
	if r.s.exact {
		return r.at(float64(col)+0.5, float64(row)+0.5)
	}
	fx, fy := (float64(col)+0.5)/squareCells-0.5, (float64(row)+0.5)/squareCells-0.5
	x, y := math.Floor(fx), math.Floor(fy)
	tx, ty := fx-x, fy-y
	a, b := r.square(int(x), int(y)), r.square(int(x)+1, int(y))
	c, d := r.square(int(x), int(y)+1), r.square(int(x)+1, int(y)+1)
	mix := func(a, b, c, d float64) float64 {
		top, bottom := a+tx*(b-a), c+tx*(d-c)
		return top + ty*(bottom-top)
	}
	return earth.Metric{XX: mix(a.XX, b.XX, c.XX, d.XX), XY: mix(a.XY, b.XY, c.XY, d.XY), YY: mix(a.YY, b.YY, c.YY, d.YY)}
}

// square is the metric in the middle of a square of cells.
func (r *slopeReader) square(x, y int) earth.Metric {
	key := [2]int{x, y}
	if d, ok := r.spacing[key]; ok {
		return d
	}
	d := r.at((float64(x)+0.5)*squareCells, (float64(y)+0.5)*squareCells)
	if len(r.spacing) > 1<<16 {
		clear(r.spacing)
	}
	r.spacing[key] = d
	return d
}

// at is the metric of cells at a place in cells; where the CRS maps no ground, that of the plane.
func (r *slopeReader) at(col, row float64) earth.Metric {
	g := r.s.header.Grid
	m, ok := g.CRS.Metric(g.Point(col, row))
	if !ok {
		m = earth.Metric{XX: g.CRS.Unit * g.CRS.Unit, YY: g.CRS.Unit * g.CRS.Unit}
	}
	return earth.Metric{XX: m.XX * g.DX * g.DX, XY: m.XY * g.DX * g.DY, YY: m.YY * g.DY * g.DY}
}
