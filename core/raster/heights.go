package raster

import "math"

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
