package zone

import (
	"math"
	"sync/atomic"

	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/earth/projection"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/vector"
)

// tracing tolerance: straight edges of a zone's own CRS are curves on the grid.
const (
	cellTolerance   = 0.0005 // cells; the polyline then stays within 0.001 of the curve
	longestDegrees  = 0.5
	longestMetres   = 50000
	bendDegrees     = 0.1
	bendMetres      = 10000
	greatestAbsCell = 1 << 40
)

// mapping carries outlines from the CRS of zones to the cells of a grid.
type mapping struct {
	own      *earth.CRS // the zones' CRS on the grid's datum
	crs      *earth.CRS // as the zones' file has it
	grid     raster.Grid
	straight bool              // straight edges stay straight
	cuts     bool              // zones may reach over a seam or an end of a map on their way to the grid
	domain   projection.Domain // of the grid
	ends     *ground           // of the zones' own CRS, nil where no zone comes near them
	beyond   atomic.Int64      // zones that reach beyond them
	tolCut   earth.Tolerance   // for parts in radians
	tol      earth.Tolerance
	toCells  func(Point) (Point, bool)
	nearby   Point // how far in cells a coordinate may lie from a border of cells and be put onto it
	// Bounds of the grid in degrees, with a margin, and whether they mean anything.
	west, south, east, north float64
	bounded                  bool
}

// tolerance is how far, in cells, the image of an edge may lie from its curve: as far as cellTolerance says, but never less than a
// projection can tell, which is 1e-8 m on the ground.
func tolerance(g raster.Grid) float64 {
	cell := math.Min(g.DX, math.Abs(g.DY)) * g.CRS.Unit // metres, or radians
	if g.CRS.Geographic() {
		cell *= g.CRS.Ellipsoid.A
	}
	return math.Max(cellTolerance, 1e-8/cell)
}

func newMapping(s *Set, g raster.Grid, shift *earth.Shift) *mapping {
	crs := s.CRS
	own := crs.On(g.CRS, shift)
	m := &mapping{own: own, crs: crs, grid: g, nearby: nearby(g), straight: shift == nil && (crs.Same(g.CRS) ||
		crs.Geographic() && g.CRS.Geographic() && crs.Unit == g.CRS.Unit && crs.Meridian == g.CRS.Meridian)}
	m.toCells = func(p Point) (Point, bool) {
		lon, lat, ok := m.own.ToGeographic(p[0], p[1])
		if !ok {
			return Point{}, false
		}
		x, y, ok := m.grid.CRS.FromGeographic(lon, lat)
		c, r := m.grid.Cell(x, y)
		return Point{c, r}, ok
	}
	m.tol = earth.Tolerance{Absolute: tolerance(g), Longest: longestMetres / crs.Unit, Bend: earth.NewBend(m.toCells, bendMetres/crs.Unit)}
	if crs.Geographic() {
		perDegree := math.Pi / 180 / crs.Unit
		m.tol.Longest, m.tol.Bend = longestDegrees*perDegree, earth.NewBend(m.toCells, bendDegrees*perDegree)
	}
	if !m.straight && !(crs.Geographic() && g.CRS.Geographic()) {
		m.toCells = earth.Remember(m.toCells, s.corners())
	}
	m.west, m.south, m.east, m.north, m.bounded = g.GeographicBounds()
	margin := 0.05 + 0.02*math.Max(m.east-m.west, m.north-m.south)
	m.west, m.south, m.east, m.north = m.west-margin, m.south-margin, m.east+margin, m.north+margin
	for _, pole := range []float64{-1, 1} { // a grid over a pole has all longitudes
		if x, y, ok := g.CRS.FromGeographic(0, pole*math.Pi/2); ok && !g.CRS.Geographic() {
			c, r := g.Cell(x, y)
			if c >= -1 && r >= -1 && c <= float64(g.Width)+1 && r <= float64(g.Height)+1 {
				m.west, m.east = -360, 360
				m.south, m.north = math.Min(m.south, pole*90), math.Max(m.north, pole*90)
			}
		}
	}
	m.seams(s)
	return m
}

// seams finds whether zones may reach over a seam or an end of a map: of their own, or of the grid's.
func (m *mapping) seams(s *Set) {
	g := m.grid
	m.domain = g.CRS.Domain()
	cell := math.Max(g.DX, math.Abs(g.DY))
	perRadian := g.CRS.Ellipsoid.A / g.CRS.Unit
	if g.CRS.Geographic() {
		perRadian = 1 / g.CRS.Unit
	}
	m.tolCut = earth.Tolerance{Absolute: tolerance(g), Longest: longestDegrees * math.Pi / 180}
	w, south, e, n := s.bounds()
	lon := [2]float64{math.Inf(1), math.Inf(-1)}
	lat := lon
	if m.crs.Geographic() {
		u := m.crs.Unit
		lon, lat = [2]float64{w*u + m.crs.Meridian, e*u + m.crs.Meridian}, [2]float64{south * u, n * u}
		if m.own.Geographic() {
			m.cuts = !g.CRS.Geographic() && !inBox([]Ring{{{lon[0], lat[0]}, {lon[1], lat[1]}}}, m.domain)
			return
		}
		const margin = 0.01 // for the shift
		m.cuts = !g.CRS.Geographic() && !inBox([]Ring{{{lon[0] - margin, math.Max(lat[0]-margin, -math.Pi/2)}, {lon[1] + margin, math.Min(lat[1]+margin, math.Pi/2)}}}, m.domain)
		return
	}
	// Whether zones come near the end of the map is found with a rough outline of it.
	const rough, near = 1000, 5000 // metres
	b := [4]float64{w - near/m.own.Unit, south - near/m.own.Unit, e + near/m.own.Unit, n + near/m.own.Unit}
	if newGround(m.own, rough/m.own.Unit).touches(b) || !m.own.OnEarth((w+e)/2, (south+n)/2) {
		m.ends = newGround(m.own, cellTolerance*cell/perRadian*m.own.Ellipsoid.A/m.own.Unit)
	}
	if m.straight {
		return
	}
	// Longitudes of zones in a projected CRS, from a lattice over their extent; over a pole they are all.
	const steps = 64
	var before float64
	begun := false
	for i := 0; i <= steps; i++ {
		for j := 0; j <= steps; j++ {
			x, y, ok := m.own.ToGeographic(w+(e-w)*float64(i)/steps, south+(n-south)*float64(j)/steps)
			if !ok {
				continue
			}
			if begun {
				if d := x - before; math.Abs(d) > 1 { // a seam, or a pole nearby
					m.cuts = true
				}
			}
			if before, begun = x, j < steps; !begun {
				continue
			}
			lon, lat = [2]float64{min(lon[0], x), max(lon[1], x)}, [2]float64{min(lat[0], y), max(lat[1], y)}
		}
	}
	for _, pole := range []float64{-math.Pi / 2, math.Pi / 2} {
		if x, y, ok := m.own.FromGeographic(0, pole); ok && x >= w && x <= e && y >= south && y <= n {
			m.cuts = true
		}
	}
	if m.cuts = m.cuts || lon[1]-lon[0] > 6; !m.cuts && !g.CRS.Geographic() {
		mx, my := 0.02*(lon[1]-lon[0])+1e-4, 0.02*(lat[1]-lat[0])+1e-4
		m.cuts = !inBox([]Ring{{{lon[0] - mx, math.Max(-math.Pi/2, lat[0]-my)}, {lon[1] + mx, math.Min(math.Pi/2, lat[1]+my)}}}, m.domain)
	}
}

// corners is how many corners all zones have.
func (s *Set) corners() (n int) {
	for i := range s.Zones {
		for _, p := range s.Zones[i].Polygons {
			for _, r := range p {
				n += len(r)
			}
		}
	}
	return n
}

// bounds is the extent of all zones in their own CRS.
func (s *Set) bounds() (w, south, e, n float64) {
	w, south, e, n = math.Inf(1), math.Inf(1), math.Inf(-1), math.Inf(-1)
	for i := range s.Zones {
		for _, p := range s.Zones[i].Polygons {
			b := vector.Box(p[0])
			w, south, e, n = min(w, b[0]), min(south, b[1]), max(e, b[2]), max(n, b[3])
		}
	}
	return w, south, e, n
}

// nearby is how far rounding alone takes a coordinate from a border of cells: 1e-9 of a cell, or a few units in
// the last place of the grid's coordinates where those are coarser.
func nearby(g raster.Grid) Point {
	x1, y1 := g.Point(float64(g.Width), float64(g.Height))
	const ulps = 0x1p-50
	return Point{
		math.Min(1e-6, math.Max(1e-9, ulps*math.Max(math.Abs(g.X0), math.Abs(x1))/g.DX)),
		math.Min(1e-6, math.Max(1e-9, ulps*math.Max(math.Abs(g.Y0), math.Abs(y1))/math.Abs(g.DY))),
	}
}

// snap puts coordinates that miss a border of cells by rounding alone onto it, so that outlines
// along cell borders cut no slivers.
func (m *mapping) snap(r Ring) {
	for i := range r {
		for k := range 2 {
			if n := math.RoundToEven(r[i][k]); math.Abs(r[i][k]-n) <= m.nearby[k] {
				r[i][k] = n
			}
		}
	}
}
