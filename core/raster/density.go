package raster

import "math"

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
