package zone

import (
	"errors"
	"fmt"
	"math"
	"slices"
	"sync/atomic"

	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/earth/projection"
	"github.com/verdex-land/verdex/core/planar"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/spread"
)

// Outline is a zone on a grid.
type Outline struct {
	// Rings are the outlines in cell coordinates (column, row); nil when the zone lies wholly
	// outside the grid. Shells and holes run so that a ring's area counts by its direction.
	Rings []Ring
	// Rows and columns that the rings touch within the grid: from, to (exclusive).
	RowFrom, RowTo, ColFrom, ColTo int
	reach                          [][]reach // by ring, for those of fewCorners corners or more: of every reachCorners edges
	// Area is the zone's own area on the ellipsoid in m², from its outline alone; Outside is
	// the part of it beyond the grid, likewise.
	Area, Outside float64
}

// reach is the extent of some edges of a ring.
type reach struct{ x0, y0, x1, y1 float64 }

const (
	fewCorners   = 64
	reachCorners = 32
)

// add makes room for a point. It is no use of min and max, which take three times as long to heed NaN and signed zeros.
func (e *reach) add(q Point) {
	if q[0] < e.x0 {
		e.x0 = q[0]
	}
	if q[0] > e.x1 {
		e.x1 = q[0]
	}
	if q[1] < e.y0 {
		e.y0 = q[1]
	}
	if q[1] > e.y1 {
		e.y1 = q[1]
	}
}

// nowhere is an extent of no points.
var nowhere = reach{math.Inf(1), math.Inf(1), math.Inf(-1), math.Inf(-1)}

// reachOf is the extent of a ring that is not empty. It is not ok when a corner lies too far from the grid to be carried to it. Of a ring
// of many corners it gives the extents of its edges too, those to corners 0 to reachCorners-1 first.
func reachOf(r Ring) (all reach, each []reach, ok bool) {
	all = nowhere
	for _, q := range r {
		if !(math.Abs(q[0]) <= greatestAbsCell && math.Abs(q[1]) <= greatestAbsCell) {
			return all, nil, false
		}
	}
	if len(r) < fewCorners {
		for _, q := range r {
			all.add(q)
		}
		return all, nil, true
	}
	each = make([]reach, 0, (len(r)+reachCorners-1)/reachCorners)
	q := r[len(r)-1]
	for len(r) > 0 {
		n := min(reachCorners, len(r))
		e := reach{q[0], q[1], q[0], q[1]}
		for _, q = range r[:n] {
			e.add(q)
		}
		each, r = append(each, e), r[n:]
		all.add(Point{e.x0, e.y0})
		all.add(Point{e.x1, e.y1})
	}
	return all, each, true
}

// Placement is how a set of zones lies on a grid.
type Placement struct {
	Grid     raster.Grid
	Outlines []Outline
	Notes    []string
	Down     bool // rows count against y, as is usual
}

// tracing tolerance: straight edges of a zone's own CRS are curves on the grid.
const (
	cellTolerance   = 0.0005 // cells; the polyline then stays within 0.001 of the curve
	longestDegrees  = 0.5
	longestMetres   = 50000
	bendDegrees     = 0.1
	bendMetres      = 10000
	greatestAbsCell = 1 << 40
)

// Place carries the zones of a set to a grid. Zones are never moved by rounding: edges that are
// straight in the zones' CRS and curved on the grid are traced as [earth.TraceRing] describes.
func (s *Set) Place(g raster.Grid) (*Placement, error) {
	switch {
	case g.CRS == nil:
		return nil, errors.New("the grid has no CRS, so nothing says where its cells lie")
	case s.CRS == nil:
		return nil, fmt.Errorf("%s: it has no CRS, so nothing says where its zones lie", s.Source)
	}
	w, south, e, north, _ := g.GeographicBounds()
	lon, lat := (w+e)/2, (south+north)/2
	if x, y, ok := g.CRS.ToGeographic(g.Point(float64(g.Width)/2, float64(g.Height)/2)); ok {
		lon, lat = x*180/math.Pi, y*180/math.Pi
	}
	shift, note, err := earth.NewShift(s.CRS, g.CRS, lon, lat)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", s.Source, err)
	}
	p := &Placement{Grid: g, Outlines: make([]Outline, len(s.Zones)), Down: g.DY < 0}
	if note != "" {
		p.Notes = append(p.Notes, note)
	}
	m := newMapping(s, g, shift)
	errs := make([]error, len(s.Zones))
	spread.Over(len(s.Zones), func() func(int) {
		return func(i int) { p.Outlines[i], errs[i] = m.outline(&s.Zones[i]) }
	})
	for i, err := range errs {
		if err != nil {
			return nil, fmt.Errorf("%s: zone %s: %w", s.Source, s.Zones[i].ID, err)
		}
	}
	if n := m.beyond.Load(); n > 0 {
		what := "1 zone reaches"
		switch {
		case len(s.Zones) == 1:
			what = s.Source + " reaches"
		case n > 1:
			what = fmt.Sprintf("%d zones reach", n)
		}
		p.Notes = append(p.Notes, fmt.Sprintf("%s beyond the ground that %v maps; cells there lie on no ground and have no area", what, m.own))
	}
	return p, nil
}

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

// bounds is the extent of all zones in their own CRS.
func (s *Set) bounds() (w, south, e, n float64) {
	w, south, e, n = math.Inf(1), math.Inf(1), math.Inf(-1), math.Inf(-1)
	for i := range s.Zones {
		for _, p := range s.Zones[i].Polygons {
			b := box(p)
			w, south, e, n = min(w, b[0]), min(south, b[1]), max(e, b[2]), max(n, b[3])
		}
	}
	return w, south, e, n
}

func (m *mapping) outline(z *Zone) (o Outline, err error) {
	polygons, err := m.onEarth(z.Polygons)
	if err != nil {
		return o, err
	}
	for _, p := range polygons {
		for _, r := range p {
			a, ok := m.own.OutlineArea(r)
			if !ok {
				return o, fmt.Errorf("its outline leaves the ground where %v is defined: check the CRS of the file", m.own)
			}
			o.Area += a
		}
	}
	if m.crs.Geographic() && m.bounded && m.misses(polygons) {
		o.Outside = o.Area
		return o, nil
	}
	rings, all, err := m.cellRings(polygons)
	if err != nil {
		return o, err
	}
	w, h := float64(m.grid.Width), float64(m.grid.Height)
	at := nowhere
	for i, r := range rings {
		if len(r) == 0 {
			continue
		}
		e, each, ok := reachOf(r)
		if !ok {
			return o, fmt.Errorf("its outline lies too far from the raster to be carried to its grid")
		}
		at.add(Point{e.x0, e.y0})
		at.add(Point{e.x1, e.y1})
		if each != nil {
			if o.reach == nil {
				o.reach = make([][]reach, len(rings))
			}
			o.reach[i] = each
		}
	}
	c0, r0, c1, r1 := at.x0, at.y0, at.x1, at.y1
	if len(rings) == 0 || c1 <= 0 || r1 <= 0 || c0 >= w || r0 >= h {
		o.Outside = o.Area
		return o, nil
	}
	const slack = 1e-6 // a border along the raster's own misses it by rounding
	if !all || c0 < -slack || r0 < -slack || c1 > w+slack || r1 > h+slack {
		inside := 0.0
		for _, r := range rings {
			clipped := cutTo(r, w, h)
			if len(clipped) < 3 {
				continue
			}
			for i, q := range clipped {
				clipped[i][0], clipped[i][1] = m.grid.Point(q[0], q[1])
			}
			a, ok := m.grid.CRS.OutlineArea(clipped)
			if !ok {
				return o, fmt.Errorf("it reaches a part of the raster where %v is not defined", m.grid.CRS)
			}
			inside += a
		}
		o.Outside = math.Max(0, o.Area-inside)
	}
	o.Rings = rings
	o.ColFrom, o.ColTo = max(0, int(math.Floor(c0))), int(math.Min(w, math.Floor(c1)+1))
	o.RowFrom, o.RowTo = max(0, int(math.Floor(r0))), int(math.Min(h, math.Floor(r1)+1))
	return o, nil
}

// misses reports whether a zone in degrees lies wholly beyond the grid.
func (m *mapping) misses(polygons []Polygon) bool {
	w, s, e, n := math.Inf(1), math.Inf(1), math.Inf(-1), math.Inf(-1)
	u, meridian := m.crs.Unit*180/math.Pi, m.crs.Meridian*180/math.Pi
	for _, p := range polygons {
		b := box(p)
		b[0], b[1], b[2], b[3] = b[0]*u+meridian, b[1]*u, b[2]*u+meridian, b[3]*u
		w, s, e, n = math.Min(w, b[0]), math.Min(s, b[1]), math.Max(e, b[2]), math.Max(n, b[3])
	}
	if n < m.south || s > m.north {
		return true
	}
	for _, turn := range []float64{-720, -360, 0, 360, 720} {
		if e+turn >= m.west && w+turn <= m.east {
			return false
		}
	}
	return true
}

// cellRings are the rings of a zone in cell coordinates. On a geographic grid, whose columns may
// count longitude from anywhere, a ring comes once for each turn of the Earth that meets the grid. all is false when
// some ground of the zone has no place in the rings, because it lies beside the grid or where its CRS maps nothing.
func (m *mapping) cellRings(polygons []Polygon) (out []Ring, all bool, err error) {
	all = true
	if m.cuts && !m.straight {
		return m.cutRings(polygons)
	}
	for _, p := range polygons {
		for _, ring := range p {
			var r Ring
			if m.straight {
				r = make(Ring, len(ring))
				for i, q := range ring {
					r[i][0], r[i][1] = m.grid.Cell(q[0], q[1])
				}
			} else {
				traced, ok := earth.TraceRing(ring, m.toCells, m.tol)
				if !ok {
					return nil, false, fmt.Errorf("it reaches ground where the raster's CRS, %v, is not defined: cut it nearer to the raster", m.grid.CRS)
				}
				if r = traced; m.own.Mirrored() != m.grid.CRS.Mirrored() {
					slices.Reverse(r)
				}
			}
			out, all = m.turns(out, r, all)
		}
	}
	return out, all, nil
}

// turns adds a ring in cell coordinates to others.
func (m *mapping) turns(out []Ring, r Ring, all bool) ([]Ring, bool) {
	m.snap(r)
	if !m.grid.CRS.Geographic() {
		return append(out, r), all
	}
	turn := 2 * math.Pi / m.grid.CRS.Unit / m.grid.DX
	w := float64(m.grid.Width)
	b := box(Polygon{r})
	const slack = 1e-9 // of a turn
	some := false
	for k := math.Ceil(-b[2]/turn + slack); k <= math.Floor((w-b[0])/turn-slack); k++ {
		some = true
		if k == 0 {
			out = append(out, r)
			continue
		}
		moved := make(Ring, len(r))
		for i, q := range r {
			moved[i] = Point{q[0] + k*turn, q[1]}
		}
		m.snap(moved)
		out = append(out, moved)
	}
	return out, all && some
}

// cutRings is cellRings where a seam or an end of a map lies in the way: by way of longitudes and latitudes, in which
// outlines are cut at those of the grid.
func (m *mapping) cutRings(polygons []Polygon) (out []Ring, all bool, err error) {
	var rings []Ring
	for _, p := range polygons {
		for _, r := range p {
			d, ok := m.degrees(r)
			if !ok {
				return nil, false, fmt.Errorf("its outline leaves the ground where %v is defined: check the CRS of the file", m.own)
			}
			if m.own.Mirrored() {
				slices.Reverse(d)
			}
			rings = append(rings, d)
		}
	}
	crs := m.grid.CRS
	if crs.Geographic() {
		all = true
		for _, r := range rings {
			for i, p := range r {
				r[i][0], r[i][1] = m.grid.Cell((p[0]-crs.Meridian)/crs.Unit, p[1]/crs.Unit)
			}
			out, all = m.turns(out, r, all)
		}
		return out, all, nil
	}
	if whole := inBox(rings, m.domain); whole {
		all = true
	} else {
		rings = parts(rings, m.domain)
	}
	f := func(p Point) (Point, bool) {
		x, y, ok := crs.FromGeographic(p[0], p[1])
		c, r := m.grid.Cell(x, y)
		return Point{c, r}, ok
	}
	for _, r := range rings {
		traced, ok := earth.TraceRing(r, f, m.tolCut)
		if !ok {
			return nil, false, fmt.Errorf("it reaches ground where the raster's CRS, %v, is not defined: cut it nearer to the raster", crs)
		}
		if crs.Mirrored() {
			slices.Reverse(traced)
		}
		m.snap(traced)
		out = append(out, traced)
	}
	return out, all, nil
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

// cutTo cuts a ring to the rectangle from 0, 0 to w, h; the ring stays as it is.
func cutTo(r Ring, w, h float64) Ring {
	r = planar.Cut(nil, planar.Cut(nil, r, 0, 0, false), 0, w, true)
	return slices.Clone(planar.Cut(nil, planar.Cut(nil, r, 1, 0, false), 1, h, true))
}
