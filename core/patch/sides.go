package patch

import (
	"math"

	"github.com/verdex-land/verdex/core/raster"
)

// sides gives the lengths of the sides of cells in metres on the ground. Where the metric of the CRS depends on the row alone it is taken at the middle of each side; elsewhere it is taken
// on a lattice of points that are half a kilometre apart at most, and interpolated: it curves by less than a part in 10⁹ between them.
type sides struct {
	grid  raster.Grid
	byRow bool
	step  int // cells between points of the lattice
	known map[[2]int][2]float64
}

func newSides(g raster.Grid) *sides {
	s := &sides{grid: g, byRow: g.CRS.AreaByRow(), step: 1, known: map[[2]int][2]float64{}}
	for !s.byRow && s.step < 16 && float64(2*s.step)*math.Max(math.Abs(g.DX), math.Abs(g.DY))*g.CRS.Unit <= 500 {
		s.step *= 2
	}
	return s
}

// upright is the length of the side on the left of a cell.
func (s *sides) upright(col, row int) float64 { return s.at(float64(col), float64(row)+0.5)[1] }

// level is the length of the side above a cell.
func (s *sides) level(col, row int) float64 { return s.at(float64(col)+0.5, float64(row))[0] }

// at are the lengths of a level and an upright side whose middle is at a place of the grid.
func (s *sides) at(col, row float64) [2]float64 {
	if s.byRow { // by half rows
		return s.point([2]int{0, int(2 * row)}, 0, row)
	}
	step := float64(s.step)
	i, j := math.Floor(col/step), math.Floor(row/step)
	x, y := col/step-i, row/step-j
	var out [2]float64
	for k := range 4 {
		di, dj := float64(k&1), float64(k>>1)
		weight := (di*x + (1-di)*(1-x)) * (dj*y + (1-dj)*(1-y))
		if weight == 0 {
			continue
		}
		p := s.point([2]int{int(i + di), int(j + dj)}, (i+di)*step, (j+dj)*step)
		out[0], out[1] = out[0]+weight*p[0], out[1]+weight*p[1]
	}
	return out
}

// point are the lengths at a point, which are computed once.
func (s *sides) point(key [2]int, col, row float64) [2]float64 {
	l, ok := s.known[key]
	if !ok {
		g := s.grid
		l = [2]float64{math.Abs(g.DX), math.Abs(g.DY)}
		if m, placed := g.CRS.Metric(g.Point(col, row)); placed {
			l = [2]float64{math.Sqrt(m.XX) * l[0], math.Sqrt(m.YY) * l[1]}
		}
		s.known[key] = l
	}
	return l
}
