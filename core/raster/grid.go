// Package raster describes rasters and reads their cells by window.
//
// A [Grid] says where cells lie, a [Source] gives their values window by window through
// readers ([Reader]) of which each goroutine has its own, and [Areas] gives the true ground of each cell.
// Formats live in folders of their own.
package raster

import (
	"fmt"
	"math"

	"github.com/verdex-land/verdex/core/earth"
)

// Grid places cells: column c and row r cover x from X0+c·DX to X0+(c+1)·DX and y from Y0+r·DY
// to Y0+(r+1)·DY in CRS coordinates. DX is positive; DY is negative when row 0 is the northern
// one, as is usual.
type Grid struct {
	Width, Height  int
	X0, Y0, DX, DY float64
	CRS            *earth.CRS
}

// Point gives CRS coordinates of a point in cell coordinates (column, row).
func (g Grid) Point(col, row float64) (x, y float64) { return g.X0 + col*g.DX, g.Y0 + row*g.DY }

// Cell gives cell coordinates of a point in CRS coordinates.
func (g Grid) Cell(x, y float64) (col, row float64) { return (x - g.X0) / g.DX, (y - g.Y0) / g.DY }

// NominalCellArea is the planar area of a cell in m², and false in geographic CRSs, where a
// cell size in degrees has none.
func (g Grid) NominalCellArea() (float64, bool) {
	if g.CRS == nil || g.CRS.Geographic() {
		return 0, false
	}
	return math.Abs(g.DX*g.DY) * g.CRS.Unit * g.CRS.Unit, true
}

// Aligned says why two grids do not have the same cells, or nil when they do. Origins may
// differ by rounding: a thousandth of a cell over the whole extent.
func (g Grid) Aligned(h Grid) error {
	switch {
	case g.Width != h.Width || g.Height != h.Height:
		return fmt.Errorf("%d × %d cells against %d × %d", g.Width, g.Height, h.Width, h.Height)
	case (g.CRS == nil) != (h.CRS == nil) || g.CRS != nil && !g.CRS.Same(h.CRS):
		return fmt.Errorf("%v against %v", g.CRS, h.CRS)
	}
	for _, p := range [][2]float64{{0, 0}, {float64(g.Width), float64(g.Height)}} {
		x, y := g.Point(p[0], p[1])
		c, r := h.Cell(x, y)
		if math.Abs(c-p[0]) > 1e-3 || math.Abs(r-p[1]) > 1e-3 {
			return fmt.Errorf("corners that lie %.3g columns and %.3g rows apart", math.Abs(c-p[0]), math.Abs(r-p[1]))
		}
	}
	return nil
}

// Check reports what makes a grid unusable.
func (g Grid) Check() error {
	for _, v := range []float64{g.X0, g.Y0, g.DX, g.DY} {
		if math.IsNaN(v) || math.IsInf(v, 0) {
			return fmt.Errorf("its georeferencing is not finite")
		}
	}
	if g.Width <= 0 || g.Height <= 0 {
		return fmt.Errorf("it has no cells (%d × %d)", g.Width, g.Height)
	}
	if g.DX <= 0 || g.DY == 0 {
		return fmt.Errorf("its cells have no size (%g × %g)", g.DX, g.DY)
	}
	if g.CRS == nil || !g.CRS.Geographic() {
		return nil
	}
	u := g.CRS.Unit * 180 / math.Pi
	y1 := g.Y0 + float64(g.Height)*g.DY
	if math.Max(math.Abs(g.Y0), math.Abs(y1))*u > 90+1e-6+math.Abs(g.DY)*u/2 {
		return fmt.Errorf("its rows reach latitude %.4f°, beyond the pole", math.Max(math.Abs(g.Y0), math.Abs(y1))*u)
	}
	if float64(g.Width)*g.DX*u > 360+1e-6 {
		return fmt.Errorf("its columns span %.4f° of longitude, more than the Earth has", float64(g.Width)*g.DX*u)
	}
	return nil
}

// Bounds is the extent in CRS coordinates.
func (g Grid) Bounds() (west, south, east, north float64) {
	x1, y1 := g.Point(float64(g.Width), float64(g.Height))
	return g.X0, math.Min(g.Y0, y1), x1, math.Max(g.Y0, y1)
}

// GeographicBounds is the extent in degrees, from points along the border and, fewer, within it;
// ok is false when none of them lies where the CRS is defined.
func (g Grid) GeographicBounds() (west, south, east, north float64, ok bool) {
	if g.CRS.Geographic() {
		w, s, e, n := g.Bounds()
		u := g.CRS.Unit * 180 / math.Pi
		shift := g.CRS.Meridian * 180 / math.Pi
		return w*u + shift, math.Max(-90, s*u), e*u + shift, math.Min(90, n*u), s*u < 90 && n*u > -90
	}
	west, south, east, north = math.Inf(1), math.Inf(1), math.Inf(-1), math.Inf(-1)
	const steps = 64
	mid, _, have := g.CRS.ToGeographic(g.Point(float64(g.Width)/2, float64(g.Height)/2))
	if have = have && g.CRS.OnEarth(g.Point(float64(g.Width)/2, float64(g.Height)/2)); !have {
		b := g.CRS.Domain().Boxes[0]
		mid = (b.West + b.East) / 2
	}
	mid, have = math.Remainder(mid, 2*math.Pi)*180/math.Pi, false
	partly := false // some of it lies on no ground
	add := func(lon, lat float64) {
		have = true
		lon = mid + math.Remainder(lon-mid, 360)
		west, east = math.Min(west, lon), math.Max(east, lon)
		south, north = math.Min(south, lat), math.Max(north, lat)
	}
	for i := 0; i <= steps; i++ {
		for j := 0; j <= steps; j++ {
			if i%steps != 0 && j%steps != 0 && (i%8 != 0 || j%8 != 0) {
				continue
			}
			x, y := g.Point(float64(g.Width)*float64(i)/steps, float64(g.Height)*float64(j)/steps)
			lon, lat, good := g.CRS.ToGeographic(x, y)
			if !good || !g.CRS.OnEarth(x, y) {
				partly = true
				continue
			}
			add(lon*180/math.Pi, lat*180/math.Pi)
		}
	}
	if partly { // its border says little: ask which ground lies in it, step by step, and what lies a step around
		const step = 2.0
		for _, b := range g.CRS.Domain().Boxes {
			w, s, e, n := b.West*180/math.Pi, b.South*180/math.Pi, b.East*180/math.Pi, b.North*180/math.Pi
			for i := 0.0; i <= math.Ceil((e-w)/step); i++ {
				for j := 0.0; j <= math.Ceil((n-s)/step); j++ {
					lon, lat := math.Min(e, w+i*step), math.Min(n, s+j*step)
					x, y, ok := g.CRS.FromGeographic(lon*math.Pi/180, lat*math.Pi/180)
					if c, r := g.Cell(x, y); ok && c >= 0 && r >= 0 && c <= float64(g.Width) && r <= float64(g.Height) {
						for _, d := range [2]float64{-step, step} {
							add(math.Max(w, math.Min(e, lon+d)), math.Max(s, math.Min(n, lat+d)))
						}
					}
				}
			}
		}
	}
	for _, pole := range [2]float64{-90, 90} { // a grid over a pole has all longitudes
		x, y, ok := g.CRS.FromGeographic(mid*math.Pi/180, pole*math.Pi/180)
		if c, r := g.Cell(x, y); ok && g.CRS.Domain().Round && c >= 0 && r >= 0 && c <= float64(g.Width) && r <= float64(g.Height) {
			west, east = -180, 180
			south, north = math.Min(south, pole), math.Max(north, pole)
		}
	}
	return west, south, east, north, have
}

// Assumed says what was assumed of the CRS to find true areas, "" for nothing.
func (g Grid) Assumed() string {
	if g.CRS == nil || g.CRS.Stated == nil {
		return ""
	}
	_, lat, ok := g.CRS.ToGeographic(g.Point(float64(g.Width)/2, float64(g.Height)/2))
	if !ok {
		lat = 0
	}
	return g.CRS.Assumed(lat)
}

// Window is a rectangle of cells.
type Window struct{ Col, Row, Width, Height int }

// Check refuses a window that is not wholly in the raster of width × height cells named name.
func (w Window) Check(name string, width, height int) error {
	if w.Col < 0 || w.Row < 0 || w.Width <= 0 || w.Height <= 0 || w.Col+w.Width > width || w.Row+w.Height > height {
		return fmt.Errorf("%s: window %+v lies outside the raster", name, w)
	}
	return nil
}

// GroundSize returns the size of the middle cell in metres along the ground, from west to east and from south to north. It is not ok
// where the CRS is not defined.
func (g Grid) GroundSize() (eastWest, northSouth float64, ok bool) {
	m, ok := g.CRS.Metric(g.Point(float64(g.Width)/2, float64(g.Height)/2))
	return math.Sqrt(m.XX) * g.DX, math.Sqrt(m.YY) * math.Abs(g.DY), ok
}
