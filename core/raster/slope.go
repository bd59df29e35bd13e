package raster

import (
	"fmt"
	"math"

	"github.com/verdex-land/verdex/core/earth"
)

// Slope is a view of an elevation raster: the steepness of the ground in each cell, by B. K. P. Horn (Hill shading
// and the reflectance map, Proc. IEEE 69, 1981) from the eight neighbours, in percent or degrees, as float32 with NaN
// for nodata. Elevations are in metres.
//
// The distances between cells are those on the ellipsoid, taken at the middle of squares of 32 × 32 cells at fixed
// places and interpolated between, so that it is right in degrees and in any projection.
//
// A cell without elevation has no slope. A neighbour beside it without elevation, or beyond the border, is taken to
// continue the line through the middle from the neighbour opposite to it (where that is missing too, to be as high
// as the middle), and one at a corner to lie on the plane through the middle and the two beside it.
func Slope(s Source, degrees bool) (Source, error) {
	h := s.Header()
	if h.Grid.CRS == nil {
		return nil, fmt.Errorf("%s: without a CRS the distance between its cells is not known: give one with --crs", h.Name)
	}
	none := math.NaN()
	out := Header{Name: "slope of " + h.Name, Grid: h.Grid, Type: Float32, NoData: &none, Format: "slope", Bands: 1}
	return &slope{Source: Cached(s, cacheBytes), header: out, degrees: degrees, nodata: h.NoData}, nil
}

type slope struct {
	Source
	header  Header
	degrees bool
	nodata  *float64
}

// Header implements [Source].
func (s *slope) Header() Header { return s.header }

// NewReader implements [Source].
func (s *slope) NewReader() Reader {
	return &slopeReader{s: s, r: s.Source.NewReader(), spacing: map[[2]int][2]float64{}}
}

type slopeReader struct {
	s       *slope
	r       Reader
	cells   Cells
	rows    []float64 // of the window and a cell around it, NaN where there is none
	spacing map[[2]int][2]float64
}

// Read implements [Reader].
func (r *slopeReader) Read(w Window, dst *Cells) error {
	g := r.s.header.Grid
	c0, r0 := max(0, w.Col-1), max(0, w.Row-1)
	c1, r1 := min(g.Width, w.Col+w.Width+1), min(g.Height, w.Row+w.Height+1)
	if err := r.r.Read(Window{c0, r0, c1 - c0, r1 - r0}, &r.cells); err != nil {
		return err
	}
	stride := w.Width + 2
	r.rows = grown(r.rows, stride*(w.Height+2))
	for i := range r.rows {
		r.rows[i] = math.NaN()
	}
	for row := range r.cells.Height {
		at := (row+r0-w.Row+1)*stride + c0 - w.Col + 1
		numbersOf(&r.cells, row*r.cells.Stride, r.s.nodata, r.rows[at:at+r.cells.Width])
	}
	dst.Resize(Float32, w.Width, w.Height, w.Width)
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
	ew, ns := r.distances(col, row)
	dx := (n[2] + 2*n[5] + n[8] - n[0] - 2*n[3] - n[6]) / (8 * ew)
	dy := (n[6] + 2*n[7] + n[8] - n[0] - 2*n[1] - n[2]) / (8 * ns)
	rise := math.Hypot(dx, dy)
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

// distances are those in metres from a cell to the next one in its row and in its column.
func (r *slopeReader) distances(col, row int) (ew, ns float64) {
	fx, fy := (float64(col)+0.5)/squareCells-0.5, (float64(row)+0.5)/squareCells-0.5
	x, y := math.Floor(fx), math.Floor(fy)
	tx, ty := fx-x, fy-y
	a, b := r.at(int(x), int(y)), r.at(int(x)+1, int(y))
	c, d := r.at(int(x), int(y)+1), r.at(int(x)+1, int(y)+1)
	mix := func(k int) float64 {
		top, bottom := a[k]+tx*(b[k]-a[k]), c[k]+tx*(d[k]-c[k])
		return top + ty*(bottom-top)
	}
	return mix(0), mix(1)
}

// at gives the distances in the middle of a square.
func (r *slopeReader) at(x, y int) [2]float64 {
	key := [2]int{x, y}
	if d, ok := r.spacing[key]; ok {
		return d
	}
	g := r.s.header.Grid
	px, py := g.Point((float64(x)+0.5)*squareCells, (float64(y)+0.5)*squareCells)
	d := [2]float64{groundDistance(g.CRS, px, py, g.DX, 0), groundDistance(g.CRS, px, py, 0, g.DY)}
	if len(r.spacing) > 1<<16 {
		clear(r.spacing)
	}
	r.spacing[key] = d
	return d
}

// groundDistance is the length in metres on the ellipsoid of a short step around a point in CRS coordinates; that of
// the step's own unit where the CRS is not defined.
func groundDistance(c *earth.CRS, x, y, dx, dy float64) float64 {
	lon0, lat0, ok0 := c.ToGeographic(x-dx/2, y-dy/2)
	lon1, lat1, ok1 := c.ToGeographic(x+dx/2, y+dy/2)
	if !ok0 || !ok1 {
		return math.Hypot(dx, dy) * c.Unit
	}
	m, p := c.Ellipsoid.GroundSpacing((lat0 + lat1) / 2)
	return math.Hypot(math.Remainder(lon1-lon0, 2*math.Pi)*p, (lat1-lat0)*m)
}
