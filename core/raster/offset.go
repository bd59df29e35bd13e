package raster

import (
	"math"

	"github.com/verdex-land/verdex/core/fault"
)

// Within is the part of a window that lies in a grid of width × height cells; it may be empty.
func (w Window) Within(width, height int) Window {
	c0, r0 := max(0, w.Col), max(0, w.Row)
	c1, r1 := min(width, w.Col+w.Width), min(height, w.Row+w.Height)
	return Window{c0, r0, max(0, c1-c0), max(0, r1-r0)}
}

// Offset is where the first cell of o lies in the cells of h; rasters of another CRS or cell size are refused.
func (h *Header) Offset(o Header) (off [2]float64, err error) {
	g, k := h.Grid, o.Grid
	switch {
	case (g.CRS == nil) != (k.CRS == nil) || g.CRS != nil && !g.CRS.Same(k.CRS):
		return off, fault.Errorf("%s is in %v and %s in %v", h.Name, g.CRS, o.Name, k.CRS).Through("bring them onto one grid first", "align")
	case g.DY*k.DY < 0:
		end := map[bool]string{true: "south", false: "north"}
		return off, fault.Errorf("%s has its first row in the %s and %s in the %s", h.Name, end[g.DY > 0], o.Name, end[k.DY > 0]).Through("bring them onto one grid first", "align")
	}
	// Sizes are the same when they agree to a hundredth of a cell over the whole of the raster.
	if math.Abs(g.DX-k.DX)/g.DX*float64(k.Width) > SnapLimit || math.Abs((g.DY-k.DY)/g.DY)*float64(k.Height) > SnapLimit {
		return off, fault.Errorf("%s has cells of %.10g × %.10g and %s of %.10g × %.10g",
			h.Name, g.DX, math.Abs(g.DY), o.Name, k.DX, math.Abs(k.DY)).Through("bring them onto one grid first", "align")
	}
	// The middle, so that what sizes differ by is divided to both sides.
	x, y := k.Point(float64(k.Width)/2, float64(k.Height)/2)
	c, r := g.Cell(x, y)
	return [2]float64{c - float64(k.Width)/2, r - float64(k.Height)/2}, nil
}

// Contains reports whether t holds every value of o.
func (t CellType) Contains(o CellType) bool {
	if t == o || t == Float64 {
		return true
	}
	return !t.Floating() && !o.Floating() && cellTypes[t].min <= cellTypes[o].min && cellTypes[t].max >= cellTypes[o].max ||
		t == Float32 && !o.Floating() && o.Bytes() < 4
}

// SameValue reports whether two cells hold the same: equal numbers, or NaN both.
func SameValue(a, b float64) bool { return a == b || math.IsNaN(a) && math.IsNaN(b) }

// Turn is how many columns make a turn of the Earth, and whether there is such a whole number.
func (g Grid) Turn() (int, bool) {
	if g.CRS == nil || !g.CRS.Geographic() {
		return 0, false
	}
	exact := 2 * math.Pi / g.CRS.Unit / g.DX
	n := math.Round(exact)
	if !(n >= 1 && n <= math.MaxInt32) || math.Abs(exact-n) > SnapLimit {
		return 0, false
	}
	return int(n), true
}

// Mod is a modulo n, from 0 to n-1.
func Mod(a, n int) int { return ((a % n) + n) % n }

// snapLimit is how far, in cells, a raster may lie off the grid of a mosaic and still be taken to lie on it.
const SnapLimit = 0.01
