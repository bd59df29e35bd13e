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
//   - ByRow: geographic grids (closed form between parallels) and projections whose areal scale
//     depends on the northing only (Gauss-Legendre quadrature of density over the row, halved until
//     it agrees with itself to 1e-13).
//   - ByCell: all others. Density, averaged over a cell by 2 × 2 Gauss points, is interpolated
//     at 6 × 6 Chebyshev nodes over blocks of at most 256 km and stated for each segment of a row
//     (at most 16 km) as a quadratic with integer coefficients. Blocks reach beyond the border of the
//     grid where they have to, so that none of them is fitted through less ground than another. A
//     block whose polynomial does not agree with the line integral around parts of it to 1e-10, or that
//     reaches beyond the ground that the CRS maps, is not used: density is then taken along each segment.
//
// The rounding to integers is below 2⁻⁴⁸ of the largest cell for Uniform and ByRow, and 1e-10
// for ByCell.
//
// Cells that lie on no ground have no area ([Areas.Cell] gives 0). In rows and segments, which are made for zones, they may
// have any: zones never reach beyond the Earth.
type Areas struct {
	Grid    Grid
	Vary    Variation
	Quantum float64 // m² in one integer unit, a power of two

	SegmentCells int // ByCell: cells in a segment; segments begin at multiples of it
	blockCells   int
	blocks       sync.Map // [2]int → *densityBlock
	partly       bool     // some cells lie on no ground
	// ByRow, of projections: the x of the central meridian, which has all latitudes, and the y of its ends.
	middle  float64
	ends    [2]float64
	stretch struct { // the row of [Areas.Stretch], none before the first
		row      int
		segments []Segment
	}
}

// Variation says what the area of a cell depends on.
type Variation uint8

// The three ways in which cell areas vary.
const (
	Uniform Variation = iota
	ByRow
	ByCell
)

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
			d, ok := g.CRS.Density(x, y)
			a.partly = a.partly || !ok
			if ok {
				largest = math.Max(largest, d*math.Abs(g.DX*g.DY))
			}
		}
	}
	if largest <= 0 || math.IsInf(largest, 0) {
		return nil, fmt.Errorf("its extent lies where %v is not defined: check that the CRS is the right one", g.CRS)
	}
	a.Quantum = math.Ldexp(1, int(math.Ceil(math.Log2(largest*1.5)))-areaBits)
	if a.Vary == ByRow && !g.CRS.Geographic() {
		b := g.CRS.Domain().Boxes[0]
		for i, lat := range [2]float64{b.South, b.North} {
			a.middle, a.ends[i], _ = g.CRS.FromGeographic((b.West+b.East)/2, lat)
		}
	}
	if a.Vary == ByCell {
		cell := math.Max(g.DX, math.Abs(g.DY)) * g.CRS.Unit
		a.SegmentCells = powerBelow(16000/cell, 512)
		for a.SegmentCells > 1 && a.beyondQuadratic() > 4e-10 {
			a.SegmentCells /= 2
		}
		a.blockCells = max(a.SegmentCells, powerBelow(256000/cell, 8192))
	}
	return a, nil
}

// beyondQuadratic is by how much, as a share, areas depart from the quadratic through three Chebyshev nodes of a segment, f‴·l³/192, where that is most: at nine places
// all over the grid.
func (a *Areas) beyondQuadratic() (most float64) {
	l := float64(a.SegmentCells)
	for i := range 9 {
		col, row := float64(a.Grid.Width)*float64(i%3)/2, float64(a.Grid.Height)*float64(i/3)/2
		var f [4]float64
		all := true
		for k := range f {
			var ok bool
			f[k], ok = a.mean(col+l*(float64(k)-1.5)/2, row) // third differences of half a segment: f‴·l³/8
			all = all && ok
		}
		if all {
			most = math.Max(most, math.Abs(f[3]-3*f[2]+3*f[1]-f[0])/24/f[0])
		}
	}
	return most
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

// strip is the area in m² of one cell between the heights from and to (0 to 1) of row r, the part of it that lies
// on the Earth.
func (a *Areas) strip(r int, from, to float64) float64 {
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
			return math.Abs(g.CRS.Ellipsoid.ZoneArea(lo, hi, g.DX*u))
		}
		return math.Abs(g.CRS.Ellipsoid.BandArea((lo+hi)/2, dy, g.DX*u))
	}
	// Beyond the poles there is nothing.
	lo, hi := (a.ends[0]-g.Y0)/g.DY-float64(r), (a.ends[1]-g.Y0)/g.DY-float64(r)
	from, to = math.Max(from, math.Min(lo, hi)), math.Min(to, math.Max(lo, hi))
	if from >= to {
		return 0
	}
	return a.integrate(r, from, to, a.gauss(r, from, to), 0) * math.Abs(g.DX*g.DY)
}

// gauss is the integral of density over a height of row r by 3-point Gauss-Legendre quadrature, at the longitude that
// the projection is centred on, which has all latitudes.
func (a *Areas) gauss(r int, from, to float64) float64 {
	var sum float64
	for _, n := range gauss3 {
		_, y := a.Grid.Point(0, float64(r)+from+n[0]*(to-from))
		if d, ok := a.Grid.CRS.Density(a.middle, y); ok {
			sum += n[1] * d
		}
	}
	return sum * (to - from)
}

// integrate halves a height until both halves agree with the whole.
func (a *Areas) integrate(r int, from, to, whole float64, depth int) float64 {
	mid := (from + to) / 2
	upper, lower := a.gauss(r, from, mid), a.gauss(r, mid, to)
	// Halving makes the error 64 times smaller.
	if sum := upper + lower; depth >= 30 || math.Abs(sum-whole) <= 6e-12*sum {
		return sum
	}
	return a.integrate(r, from, mid, upper, depth+1) + a.integrate(r, mid, to, lower, depth+1)
}

// Row gives the areas of row r when they do not vary along it.
func (a *Areas) Row(r int) Segment {
	if a.Vary == Uniform {
		area, _ := a.Grid.NominalCellArea()
		return Segment{A: int64(math.Round(area / a.Quantum))}
	}
	return Segment{A: int64(math.Round(a.strip(r, 0, 1) / a.Quantum))}
}

// Round is math.Round for numbers well inside the range of int64, several times as fast.
func Round(x float64) int64 {
	if x < 0 {
		return -int64(0.5 - x)
	}
	return int64(x + 0.5)
}
