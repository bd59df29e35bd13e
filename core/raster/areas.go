package raster

import (
	"fmt"
	"math"
	"sync"
)

// Areas gives the true area of every cell of a grid as an integer count of a small unit, so
// that sums of areas are exact and the same in any order.
//
// A cell's area is the area on the ellipsoid of its outline in the grid's CRS. It depends on
// the grid alone: never on tiles, threads or what else is measured. How it is made depends on
// how areas vary over the grid:
//
//   - Uniform: equal-area projections; planar area.
//   - ByRow: geographic grids (closed form between parallels) and cylindrical projections
//     (3-point Gauss-Legendre quadrature of density over the row).
//   - ByCell: all others. Density, averaged over a cell by 2 × 2 Gauss points, is interpolated
//     at 6 × 6 Chebyshev nodes over blocks of at most 256 km, whose error is below 1e-11, and
//     stated for each segment of a row (at most 16 km) as a quadratic with integer coefficients.
//
// The rounding to integers is below 2⁻⁴⁸ of the largest cell for Uniform and ByRow, and 1e-10
// for ByCell.
type Areas struct {
	Grid Grid
	Vary Variation
	Unit float64 // m² in one integer unit, a power of two

	SegmentCells int // ByCell: cells in a segment; segments begin at multiples of it
	blockCells   int
	blocks       sync.Map // [2]int → *densityBlock
}

// Variation says what the area of a cell depends on.
type Variation uint8

// The three ways in which cell areas vary.
const (
	Uniform Variation = iota
	ByRow
	ByCell
)

// Segment gives the areas of a row's cells from its first column on: cell d of it has the area
// A + B·d + C·d², in units. Gy and Gyy are the first and second order of the change of density
// down the cell: at height t, from -½ at the row's start to ½ at its end, density is
// A + Gy·t + Gyy·(t²-1/12). The change along the row is B.
type Segment struct{ A, B, C, Gy, Gyy int64 }

// areaBits is the size of the largest cell area in units, with two bits to spare.
const areaBits = 50

// NewAreas prepares the areas of a grid, which needs a CRS.
func NewAreas(g Grid) (*Areas, error) {
	a := &Areas{Grid: g}
	switch {
	case g.CRS == nil:
		return nil, fmt.Errorf("it has no CRS, so its cells have no true area")
	case g.CRS.EqualArea():
		a.Vary = Uniform
	case g.CRS.AreaByRow():
		a.Vary = ByRow
	default:
		a.Vary = ByCell
	}
	largest := 0.0
	const steps = 16
	for i := 0; i <= steps; i++ {
		for j := 0; j <= steps; j++ {
			x, y := g.Point(float64(g.Width)*float64(i)/steps, float64(g.Height)*float64(j)/steps)
			if g.CRS.Geographic() { // the widest latitude, also between the steps
				y = math.Max(-math.Pi/2, math.Min(math.Pi/2, y*g.CRS.Unit)) / g.CRS.Unit
			}
			if d, ok := g.CRS.Density(x, y); ok {
				largest = math.Max(largest, d*math.Abs(g.DX*g.DY))
			}
		}
	}
	if largest <= 0 || math.IsInf(largest, 0) {
		return nil, fmt.Errorf("its extent lies where %v is not defined: check that the CRS is the right one", g.CRS)
	}
	a.Unit = math.Exp2(math.Ceil(math.Log2(largest*1.5)) - areaBits)
	if a.Vary == ByCell {
		cell := math.Max(g.DX, math.Abs(g.DY)) * g.CRS.Unit
		a.SegmentCells = powerBelow(16000/cell, 512)
		a.blockCells = max(a.SegmentCells, powerBelow(256000/cell, 8192))
	}
	return a, nil
}

// Coarse reports whether the second order of the change of density within a cell matters: cells
// of 500 m and more, where it reaches 1e-10 of a cut cell.
func (a *Areas) Coarse() bool {
	size := math.Max(a.Grid.DX, math.Abs(a.Grid.DY)) * a.Grid.CRS.Unit
	if a.Grid.CRS.Geographic() {
		size *= a.Grid.CRS.Ellipsoid.A
	}
	return a.Vary == ByRow && size >= 500
}

// powerBelow is the largest power of two that is at most x and at most limit, and at least 1.
func powerBelow(x float64, limit int) int {
	p := 1
	for p*2 <= limit && float64(p*2) <= x {
		p *= 2
	}
	return p
}

// gauss3 are the nodes and weights of 3-point Gauss-Legendre quadrature on [0, 1].
var gauss3 = [3][2]float64{
	{0.11270166537925831148, 5. / 18}, {0.5, 8. / 18}, {0.88729833462074168852, 5. / 18},
}

// strip is the area in m² of one cell between the heights from and to (0 to 1) of row r.
func (a *Areas) strip(r int, from, to float64) (float64, error) {
	g := a.Grid
	if g.CRS.Geographic() {
		u := g.CRS.Unit
		y0 := (g.Y0 + (float64(r)+from)*g.DY) * u
		// The height is taken from the cell size, not from a difference of latitudes.
		dy := (to - from) * g.DY * u
		lo, hi := y0, y0+dy
		if math.Max(math.Abs(lo), math.Abs(hi)) > math.Pi/2 {
			lo = math.Max(-math.Pi/2, math.Min(math.Pi/2, lo))
			hi = math.Max(-math.Pi/2, math.Min(math.Pi/2, hi))
			return math.Abs(g.CRS.Ellipsoid.ZoneArea(lo, hi, g.DX*u)), nil
		}
		return math.Abs(g.CRS.Ellipsoid.BandArea((lo+hi)/2, dy, g.DX*u)), nil
	}
	var mean float64
	for _, n := range gauss3 {
		x, y := g.Point(float64(g.Width)/2, float64(r)+from+n[0]*(to-from))
		d, ok := g.CRS.Density(x, y)
		if !ok {
			return 0, fmt.Errorf("row %d lies where %v is not defined: check that the CRS is the right one", r, g.CRS)
		}
		mean += n[1] * d
	}
	return mean * math.Abs(g.DX*g.DY) * (to - from), nil
}

// Row gives the areas of row r when they do not vary along it.
func (a *Areas) Row(r int) (Segment, error) {
	if a.Vary == Uniform {
		area, _ := a.Grid.NominalCellArea()
		return Segment{A: int64(math.Round(area / a.Unit))}, nil
	}
	var s Segment
	whole, err := a.strip(r, 0, 1)
	if err != nil {
		return s, err
	}
	half, err := a.strip(r, 0.5, 1)
	if err != nil {
		return s, err
	}
	third, err := a.strip(r, 1./3, 2./3)
	if err != nil {
		return s, err
	}
	s.A = int64(math.Round(whole / a.Unit))
	// ∫ from 0 to ½ of 1+g·t+h(t²-1/12) is ½+g/8; from -1/6 to 1/6 it is 1/3-2h/81.
	s.Gy = int64(math.Round((half - whole/2) * 8 / a.Unit))
	s.Gyy = int64(math.Round((whole/3 - third) * 40.5 / a.Unit))
	return s, nil
}

// densityBlock is cell area in units as a polynomial in (s, t), both from -1 to 1 over it.
type densityBlock struct {
	c0, r0, w, h float64 // in cells
	coef         [6][6]float64
	err          error
}

var chebyshev = func() (c struct {
	nodes   [6]float64
	inverse [6][6]float64 // values at the nodes → coefficients of 1, x, … x⁵
}) {
	for i := range 6 {
		c.nodes[i] = -math.Cos((float64(i) + 0.5) * math.Pi / 6)
	}
	for i := range 6 { // the Lagrange polynomial of node i, multiplied out
		poly := [6]float64{1}
		degree, scale := 0, 1.0
		for j := range 6 {
			if j == i {
				continue
			}
			for k := degree + 1; k > 0; k-- {
				poly[k] = poly[k-1] - c.nodes[j]*poly[k]
			}
			poly[0] *= -c.nodes[j]
			degree++
			scale *= c.nodes[i] - c.nodes[j]
		}
		for k := range 6 {
			c.inverse[k][i] = poly[k] / scale
		}
	}
	return c
}()

func (a *Areas) block(bc, br int) *densityBlock {
	key := [2]int{bc, br}
	if b, ok := a.blocks.Load(key); ok {
		return b.(*densityBlock)
	}
	g := a.Grid
	k := a.blockCells
	b := &densityBlock{c0: float64(bc * k), r0: float64(br * k),
		w: float64(min(k, g.Width-bc*k)), h: float64(min(k, g.Height-br*k))}
	const gauss = 0.28867513459481288225 // 1/(2√3): the 2-point nodes on a cell
	var values [6][6]float64
	planar := math.Abs(g.DX*g.DY) / 4 / a.Unit
	for j, t := range chebyshev.nodes {
		for i, s := range chebyshev.nodes {
			for _, o := range [4][2]float64{{-gauss, -gauss}, {gauss, -gauss}, {-gauss, gauss}, {gauss, gauss}} {
				x, y := g.Point(b.c0+b.w*(1+s)/2+o[0], b.r0+b.h*(1+t)/2+o[1])
				d, ok := g.CRS.Density(x, y)
				if !ok {
					b.err = fmt.Errorf("cells near column %.0f, row %.0f lie where %v is not defined: check that the CRS is the right one",
						b.c0, b.r0, g.CRS)
				}
				values[j][i] += d * planar
			}
		}
	}
	for l := range 6 {
		for m := range 6 {
			for j := range 6 {
				for i := range 6 {
					b.coef[l][m] += chebyshev.inverse[l][j] * chebyshev.inverse[m][i] * values[j][i]
				}
			}
		}
	}
	got, _ := a.blocks.LoadOrStore(key, b)
	return got.(*densityBlock)
}

// Round is math.Round for numbers well inside the range of int64, several times as fast.
func Round(x float64) int64 {
	if x < 0 {
		return -int64(0.5 - x)
	}
	return int64(x + 0.5)
}

const chebyshev3 = 0.86602540378443864676 // the outer of 3 Chebyshev nodes on [-1, 1]

func horner(p *[6]float64, x float64) float64 {
	f := float64(p[5]*x) + p[4]
	f = float64(f*x) + p[3]
	f = float64(f*x) + p[2]
	f = float64(f*x) + p[1]
	return float64(f*x) + p[0]
}

// PerRow is the number of Segments that a row has: 1 unless areas vary ByCell.
func (a *Areas) PerRow() int {
	if a.Vary != ByCell {
		return 1
	}
	return (a.Grid.Width + a.SegmentCells - 1) / a.SegmentCells
}

// Segments appends the segments of row r that hold columns from to to-1, the first being
// number from/SegmentCells. It is for grids whose areas vary ByCell.
func (a *Areas) Segments(dst []Segment, r, from, to int) ([]Segment, error) {
	l := a.SegmentCells
	var b *densityBlock
	var px, py [6]float64
	block := -1
	for s := from / l; s*l < to; s++ {
		if bc := s * l / a.blockCells; bc != block {
			block = bc
			b = a.block(bc, r/a.blockCells)
			if b.err != nil {
				return dst, b.err
			}
			t := (float64(r)+0.5-b.r0)/b.h*2 - 1
			for m := range 6 {
				px[m], py[m] = 0, 0
				for k := 5; k >= 0; k-- {
					py[m] = float64(py[m]*t) + px[m]
					px[m] = float64(px[m]*t) + b.coef[k][m]
				}
			}
		}
		// A quadratic through three Chebyshev nodes of the segment, about its middle.
		half := float64(l) / 2
		mid := float64(s*l) + half
		scale := 2 / b.w
		x, reach := (mid-b.c0)*scale-1, half*chebyshev3*scale
		f0, fl, fr := horner(&px, x), horner(&px, x-reach), horner(&px, x+reach)
		reach = half * chebyshev3
		f1, f2 := (fr-fl)/(2*reach), (fr-2*f0+fl)/(2*reach*reach)
		d := 0.5 - half // from the middle to the centre of cell 0
		dst = append(dst, Segment{
			A:  Round(f0 + float64(f1*d) + float64(f2*d*d)),
			B:  Round(f1 + float64(2*f2*d)),
			C:  Round(f2),
			Gy: Round(horner(&py, x) * 2 / b.h),
		})
	}
	return dst, nil
}

// Cell is the true area in m² of one cell.
func (a *Areas) Cell(col, row int) (float64, error) {
	if a.Vary != ByCell {
		s, err := a.Row(row)
		return float64(s.A) * a.Unit, err
	}
	segments, err := a.Segments(nil, row, col, col+1)
	if err != nil {
		return 0, err
	}
	d := int64(col % a.SegmentCells)
	s := segments[0]
	return float64(s.A+s.B*d+s.C*d*d) * a.Unit, nil
}
