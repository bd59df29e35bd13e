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
	scratch []Segment
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
// A + B·d + C·d², in units. Gy + Gxy·d is the change of density down the cell: at height t, from -½ at the
// row's start to ½ at its end, density is its area + (Gy + Gxy·d)·t. The change along the row is B. Where areas vary ByRow, what
// changes down a cell is told by [Heights] instead.
type Segment struct{ A, B, C, Gy, Gxy int64 }

// At gives the area of cell d, and by how much it changes along and down the cell.
func (s *Segment) At(d int64) (area, along, down int64) {
	return s.A + d*(s.B+d*s.C), s.B + 2*d*s.C, s.Gy + d*s.Gxy
}

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
	a.Quantum = math.Exp2(math.Ceil(math.Log2(largest*1.5)) - areaBits)
	if a.Vary == ByRow && !g.CRS.Geographic() {
		b := g.CRS.Domain().Boxes[0]
		for i, lat := range [2]float64{b.South, b.North} {
			a.middle, a.ends[i], _ = g.CRS.FromGeographic((b.West+b.East)/2, lat)
		}
	}
	if a.Vary == ByCell {
		cell := math.Max(g.DX, math.Abs(g.DY)) * g.CRS.Unit
		a.SegmentCells = powerBelow(16000/cell, 512)
		a.blockCells = max(a.SegmentCells, powerBelow(256000/cell, 8192))
	}
	return a, nil
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

// Heights gives, for a row of a grid whose areas vary ByRow, what part of a cell lies above a height: a function from 0 to 1
// onto 0 to 1, of true area. Cells within a row are alike.
func (a *Areas) Heights(r int) Heights {
	h := Heights{areas: a, row: r, whole: a.strip(r, 0, 1)}
	if h.whole == 0 {
		return h
	}
	// Between 0 and 1 it is t + c₂(t²-t) + c₃(2t³-3t²+t) but for higher powers, which matter in tall cells only.
	half, quarter := a.strip(r, 0, 0.5)/h.whole, a.strip(r, 0, 0.25)/h.whole
	h.c2 = (0.5 - half) * 4
	h.c3 = (quarter - (0.25 - h.c2*3/16)) / (3. / 32)
	third := a.strip(r, 0, 0.7)/h.whole - h.polynomial(0.7)
	h.exact = math.Abs(third) > 2e-13
	return h
}

// Heights is what part of the area of a row's cells lies above a height within it.
type Heights struct {
	areas  *Areas
	row    int
	whole  float64
	c2, c3 float64
	exact  bool
}

func (h *Heights) polynomial(t float64) float64 {
	return t + (t*t-t)*(h.c2+h.c3*(2*t-1))
}

// Above is the part above height t.
func (h *Heights) Above(t float64) float64 {
	if !h.exact {
		return h.polynomial(t)
	}
	return h.areas.strip(h.row, 0, t) / h.whole
}

// Right is, for a straight line that goes from height t0 down to t1 within a cell and from f0 to f1 across it, the part of the
// cell that lies to its right: 0 for a level one.
func (h *Heights) Right(t0, t1, f0, f1 float64) float64 {
	if t0 == t1 {
		return 0
	}
	// ∫(1-f) dA = [(1-f)·A] + ∫ A df, with A taken from its value at t0.
	base := h.Above(t0)
	across := (1 - f1) * (h.Above(t1) - base)
	if f0 == f1 {
		return across
	}
	var mean float64
	if h.exact {
		for _, n := range gauss5 {
			mean += n[1] * (h.Above(t0+n[0]*(t1-t0)) - base)
		}
	} else {
		for _, n := range gauss2 {
			mean += n[1] * (h.polynomial(t0+n[0]*(t1-t0)) - base)
		}
	}
	return across + mean*(f1-f0)
}

// gauss2 and gauss5 are nodes and weights of Gauss-Legendre quadrature on [0, 1].
var gauss2 = [2][2]float64{{0.21132486540518711775, 0.5}, {0.78867513459481288225, 0.5}}

var gauss5 = [5][2]float64{
	{0.04691007703066800360, 0.11846344252809454376}, {0.23076534494715845448, 0.23931433524968323402}, {0.5, 0.28444444444444444444},
	{0.76923465505284154552, 0.23931433524968323402}, {0.95308992296933199640, 0.11846344252809454376},
}

// densityBlock is cell area in units as a polynomial in (s, t), both from -1 to 1 over it.
type densityBlock struct {
	c0, r0, w, h float64 // in cells
	coef         [6][6]float64
	good         bool // whether it holds
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
	k := float64(a.blockCells)
	b := &densityBlock{c0: float64(bc) * k, r0: float64(br) * k, w: k, h: k, good: true}
	var values [6][6]float64
	for j, t := range chebyshev.nodes {
		for i, s := range chebyshev.nodes {
			v, ok := a.mean(b.c0+b.w*(1+s)/2, b.r0+b.h*(1+t)/2)
			values[j][i], b.good = v, b.good && ok
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
	b.good = b.good && b.holds(g, a.Quantum)
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

// mean is the area in units of a cell whose centre lies at col, row (in cells), by 2 × 2 Gauss points; ok is false where the
// CRS maps no ground there.
func (a *Areas) mean(col, row float64) (sum float64, ok bool) {
	g := a.Grid
	const gauss = 0.28867513459481288225 // 1/(2√3): the 2-point nodes on a cell
	for _, o := range [4][2]float64{{-gauss, -gauss}, {gauss, -gauss}, {-gauss, gauss}, {gauss, gauss}} {
		d, ok := g.CRS.Density(g.Point(col+o[0], row+o[1]))
		if !ok {
			return 0, false
		}
		sum += d
	}
	return sum * math.Abs(g.DX*g.DY) / 4 / a.Quantum, true
}

// holds compares the polynomial of a block, summed over the cells of parts of it, with the line integral around them.
func (b *densityBlock) holds(g Grid, unit float64) bool {
	n := int(b.w)
	side := min(n, max(1, n/8)) // of the parts
	for _, p := range [5][2]int{{0, 0}, {n - side, 0}, {(n - side) / 2, (n - side) / 2}, {0, n - side}, {n - side, n - side}} {
		var ss, ts [6]float64 // sums of powers over columns and rows
		for i := range side {
			s, t := (float64(p[0]+i)+0.5)/b.w*2-1, (float64(p[1]+i)+0.5)/b.h*2-1
			x, y := 1.0, 1.0
			for k := range 6 {
				ss[k], ts[k] = ss[k]+x, ts[k]+y
				x, y = x*s, y*t
			}
		}
		sum := 0.0
		for l := range 6 {
			for m := range 6 {
				sum += b.coef[l][m] * ts[l] * ss[m]
			}
		}
		want, ok := outlineOf(g, b.c0+float64(p[0]), b.r0+float64(p[1]), float64(side), float64(side))
		// Around less than a kilometre the integral itself loses digits.
		most := 1e-10
		if size := float64(side) * math.Min(g.DX, math.Abs(g.DY)) * g.CRS.Unit; size < 1000 {
			most *= 1000 / size
		}
		if !ok || math.Abs(sum*unit-want) > most*want {
			return false
		}
	}
	return true
}

// outlineOf is the area in m² of a rectangle of cells, by the line integral around it.
func outlineOf(g Grid, col, row, width, height float64) (float64, bool) {
	var ring [4][2]float64
	for i, p := range [4][2]float64{{0, 0}, {0, 1}, {1, 1}, {1, 0}} {
		ring[i][0], ring[i][1] = g.Point(col+p[0]*width, row+p[1]*height)
	}
	area, ok := g.CRS.OutlineArea(ring[:])
	return math.Abs(area), ok
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
	half := float64(l) / 2
	for s := from / l; s*l < to; s++ {
		if bc := s * l / a.blockCells; bc != block {
			block = bc
			b = a.block(bc, r/a.blockCells)
			t := (float64(r)+0.5-b.r0)/b.h*2 - 1
			for m := range 6 {
				px[m], py[m] = 0, 0
				for k := 5; k >= 0; k-- {
					py[m] = float64(py[m]*t) + px[m]
					px[m] = float64(px[m]*t) + b.coef[k][m]
				}
			}
		}
		if !b.good {
			seg, err := a.direct(s, r)
			if err != nil {
				return dst, err
			}
			dst = append(dst, seg)
			continue
		}
		// A quadratic through three Chebyshev nodes of the segment, about its middle.
		mid := float64(s*l) + half
		scale := 2 / b.w
		x, reach := (mid-b.c0)*scale-1, half*chebyshev3*scale
		f0, fl, fr := horner(&px, x), horner(&px, x-reach), horner(&px, x+reach)
		gl, gr := horner(&py, x-reach)*2/b.h, horner(&py, x+reach)*2/b.h
		dst = append(dst, quadratic(f0, fl, fr, gl, gr, half*chebyshev3, 0.5-half))
	}
	return dst, nil
}

// quadratic is the segment through the areas f0 in the middle of some cells and fl, fr at reach on either side of it, where gl and gr are
// the change down; d is where the centre of cell 0 lies from the middle.
func quadratic(f0, fl, fr, gl, gr, reach, d float64) Segment {
	f1, f2 := (fr-fl)/(2*reach), (fr-2*f0+fl)/(2*reach*reach)
	gxy := (gr - gl) / (2 * reach)
	return Segment{
		A:   Round(f0 + float64(f1*d) + float64(f2*d*d)),
		B:   Round(f1 + float64(2*f2*d)),
		C:   Round(f2),
		Gy:  Round((gl+gr)/2 + float64(gxy*d)),
		Gxy: Round(gxy),
	}
}

// direct makes the s-th segment of row r from density along the cells of it that lie on ground, without a block.
func (a *Areas) direct(s, r int) (Segment, error) {
	l := a.SegmentCells
	from, to := s*l, s*l+l
	y := float64(r) + 0.5
	defined := func(c float64) bool { _, ok := a.mean(c, y); return ok }
	// The longest stretch of cells, found on a lattice of a 16th of the segment and widened at its ends.
	step := max(1, l/16)
	first, last, begin := -1, -1, -1
	for c := from; c <= to; c += step {
		in := c < to && defined(float64(c)+0.5)
		if in && begin < 0 {
			begin = c
		}
		if !in && begin >= 0 {
			if c-begin > last-first {
				first, last = begin, c
			}
			begin = -1
		}
	}
	if first < 0 {
		return Segment{}, nil
	}
	for first > from && defined(float64(first)-0.5) {
		first--
	}
	last -= step - 1
	for last < to && defined(float64(last)+0.5) {
		last++
	}
	half := float64(last-first) / 2
	mid := float64(first) + half
	reach := half * chebyshev3
	if last-first == 1 {
		reach = 0.25
	}
	f0, ok0 := a.mean(mid, y)
	fl, ok1 := a.mean(mid-reach, y)
	fr, ok2 := a.mean(mid+reach, y)
	if !ok0 || !ok1 || !ok2 {
		// A lone cell that the edge of the map cuts: what is known in its middle has to do.
		d, ok := a.Grid.CRS.Density(a.Grid.Point(mid, y))
		if !ok {
			return Segment{}, nil
		}
		return Segment{A: Round(d * math.Abs(a.Grid.DX*a.Grid.DY) / a.Quantum)}, nil
	}
	change := func(c float64) (float64, bool) { // down the column through c
		up, ok1 := a.mean(c, y-0.5)
		down, ok2 := a.mean(c, y+0.5)
		return down - up, ok1 && ok2
	}
	gl, ok1 := change(mid - reach)
	gr, ok2 := change(mid + reach)
	if !ok1 || !ok2 { // at the edge of the map
		if gl, ok0 = change(mid); !ok0 {
			gl = 0
		}
		gr = gl
	}
	seg := quadratic(f0, fl, fr, gl, gr, reach, float64(from)+0.5-mid)
	// The quadratic has to hold at other cells of the stretch.
	for _, at := range [4]float64{0.02, 0.3, 0.64, 0.97} {
		c := min(first+int(at*float64(last-first)), last-1)
		want, ok := a.mean(float64(c)+0.5, y)
		d := int64(c - from)
		if got := float64(seg.A + d*seg.B + d*d*seg.C); ok && math.Abs(got-want) > 1e-9*want {
			return seg, fmt.Errorf("the areas of its cells near column %d, row %d vary more strongly than they can be told to a part in 10⁹: choose another CRS for it with verdex align", c, r)
		}
	}
	return seg, nil
}

// Cell is the true area in m² of one cell, 0 where it lies on no ground.
func (a *Areas) Cell(col, row int) (float64, error) {
	if !a.Grid.CRS.OnEarth(a.Grid.Point(float64(col)+0.5, float64(row)+0.5)) {
		return 0, nil
	}
	if a.Vary != ByCell {
		return float64(a.Row(row).A) * a.Quantum, nil
	}
	segments, err := a.Segments(nil, row, col, col+1)
	if err != nil {
		return 0, err
	}
	d := int64(col % a.SegmentCells)
	s := segments[0]
	return float64(s.A+s.B*d+s.C*d*d) * a.Quantum, nil
}

// Stretch is the true area in m² of cells from to to-1 of a row together; those that lie on no ground have none. It is for one
// goroutine at a time.
func (a *Areas) Stretch(row, from, to int) (float64, error) {
	if a.partly {
		sum := 0.0
		for col := from; col < to; col++ {
			v, err := a.Cell(col, row)
			if err != nil {
				return 0, err
			}
			sum += v
		}
		return sum, nil
	}
	if a.Vary != ByCell {
		return float64(a.Row(row).A) * float64(to-from) * a.Quantum, nil
	}
	var err error
	if a.scratch, err = a.Segments(a.scratch[:0], row, from, to); err != nil {
		return 0, err
	}
	first, sum := from/a.SegmentCells, 0.0
	for col := from; col < to; col++ {
		s := &a.scratch[col/a.SegmentCells-first]
		d := int64(col % a.SegmentCells)
		sum += float64(s.A + s.B*d + s.C*d*d)
	}
	return sum * a.Quantum, nil
}
