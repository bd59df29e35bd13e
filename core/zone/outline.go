package zone

import (
	"fmt"
	"math"
	"slices"

	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/planar"
	"github.com/verdex-land/verdex/core/vector"
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
		b := vector.Box(p[0])
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
	b := vector.Box(r)
	slack := math.Min(1e-9, 1e-3/turn) // of a turn, and never a cell
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

// cutTo cuts a ring to the rectangle from 0, 0 to w, h; the ring stays as it is.
func cutTo(r Ring, w, h float64) Ring {
	r = planar.Cut(nil, planar.Cut(nil, r, 0, 0, false), 0, w, true)
	return slices.Clone(planar.Cut(nil, planar.Cut(nil, r, 1, 0, false), 1, h, true))
}
