package zone

import (
	"fmt"
	"math"
	"slices"

	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/earth/projection"
	"github.com/verdex-land/verdex/core/planar"
	"github.com/verdex-land/verdex/core/vector"
)

// This file deals with the ends of maps: a projected CRS has edges, beyond which there is no ground and across
// which outlines go on at another side of the map.

// ground is the ground that a CRS maps, as outlines in its own coordinates.
type ground struct {
	crs   *earth.CRS
	rings []Ring // one for each box of the domain
}

// newGround traces the ends of a CRS. Points of the outlines lie within tolerance of the curve.
func newGround(crs *earth.CRS, tolerance float64) *ground {
	g := &ground{crs: crs}
	d := crs.Domain()
	f := func(p Point) (Point, bool) {
		x, y, ok := crs.FromGeographic(p[0], p[1])
		return Point{x, y}, ok
	}
	tol := earth.Tolerance{Longest: math.Pi / 90, Absolute: tolerance}
	boxes := d.Boxes
	if d.Hole != nil {
		boxes = []projection.Box{*d.Hole}
	}
	for _, b := range boxes {
		ring := Ring{{b.West, b.South}, {b.East, b.South}, {b.East, b.North}, {b.West, b.North}}
		if d.Round { // no seam, and one end at most
			const pole = math.Pi/2 - 1e-9
			switch {
			case crs.Geographic():
				continue
			case b.South > -pole:
				ring = Ring{{b.West, b.South}, {b.East, b.South}}
			case b.North < pole:
				ring = Ring{{b.East, b.North}, {b.West, b.North}}
			default: // an azimuthal map of the whole Earth, whose rim is the pole that it is not about
				far := -math.Pi / 2
				if x, y, _ := crs.FromGeographic(0, far); math.Hypot(x-xOf(crs, -far), y-yOf(crs, -far)) < 1 {
					far = -far
				}
				ring = Ring{{b.West, far}, {b.East, far}}
			}
		}
		if !d.Round {
			ring = append(ring, ring[0])
		}
		t := earth.NewTracer(f, tol)
		var traced Ring
		ok := true
		for _, p := range ring {
			if traced, ok = t.To(traced, p); !ok {
				break
			}
		}
		if !ok {
			continue
		}
		const near = 1e-3 // metres: the two sides of a seam, and the places of a pole
		traced = slices.CompactFunc(traced, func(p, q Point) bool {
			return math.Hypot(p[0]-q[0], p[1]-q[1])*crs.Unit < near
		})
		if p, q := traced[0], traced[len(traced)-1]; len(traced) > 1 && math.Hypot(p[0]-q[0], p[1]-q[1])*crs.Unit < near {
			traced = traced[:len(traced)-1]
		}
		g.rings = append(g.rings, traced)
	}
	return g
}

func xOf(c *earth.CRS, lat float64) float64 { x, _, _ := c.FromGeographic(0, lat); return x }
func yOf(c *earth.CRS, lat float64) float64 { _, y, _ := c.FromGeographic(0, lat); return y }

// touches reports whether an end of the map passes through a box (least x and y, greatest x and y).
func (g *ground) touches(b [4]float64) bool {
	for _, r := range g.rings {
		p := r[len(r)-1]
		for _, q := range r {
			if min(p[0], q[0]) <= b[2] && max(p[0], q[0]) >= b[0] && min(p[1], q[1]) <= b[3] && max(p[1], q[1]) >= b[1] {
				return true
			}
			p = q
		}
	}
	return false
}

// cut gives the part of polygons that lies on the ground, and whether that is less than all.
func (g *ground) cut(polygons []Polygon) (out []Polygon, less bool, err error) {
	for _, p := range polygons {
		if !g.touches(vector.Box(p[0])) {
			if g.crs.OnEarth(p[0][0][0], p[0][0][1]) {
				out = append(out, p)
			} else {
				less = true
			}
			continue
		}
		less = true
		shape := p.Geom().AsGeometry()
		if err := vector.Sound(shape); err != nil {
			return nil, false, err
		}
		for _, r := range g.rings {
			end := Polygon{r}
			shell := end.Geom().AsGeometry()
			if err := vector.Sound(shell); err != nil {
				return nil, false, err
			}
			part, err := vector.Intersection(shape, shell)
			if err != nil {
				return nil, false, err
			}
			for _, q := range vector.FromGeom(part).Polygons {
				out = append(out, orient(q))
			}
		}
	}
	return out, less, nil
}

// onEarth gives the part of a zone's polygons, in its own CRS, that lies on the Earth.
func (m *mapping) onEarth(polygons []Polygon) ([]Polygon, error) {
	if m.own.Geographic() || m.crs.Geographic() {
		limit := math.Pi / 2 / m.crs.Unit
		beyond := false
		for _, p := range polygons {
			b := vector.Box(p[0])
			beyond = beyond || b[1] < -limit || b[3] > limit
		}
		if !beyond {
			return polygons, nil
		}
		var out []Polygon
		for _, p := range polygons {
			var q Polygon
			for k, r := range p {
				r = planar.Cut(nil, planar.Cut(nil, r, 1, -limit, false), 1, limit, true)
				if len(r) < 3 && k == 0 {
					break
				}
				if len(r) >= 3 {
					q = append(q, r)
				}
			}
			if len(q) > 0 {
				out = append(out, q)
			}
		}
		return out, nil
	}
	if m.ends == nil {
		return polygons, nil
	}
	out, less, err := m.ends.cut(polygons)
	if err != nil {
		return nil, fmt.Errorf("its outline cannot be cut at the end of the map of %v (%w)", m.own, err)
	}
	if less {
		m.beyond.Add(1)
	}
	return out, nil
}

// degrees carries a ring to longitudes and latitudes in radians on the grid's datum. Longitudes go on along the
// ring, beyond a turn where they have to; a ring around a pole is closed along it.
func (m *mapping) degrees(ring Ring) (Ring, bool) {
	if m.own.Geographic() {
		out := make(Ring, len(ring))
		for i, p := range ring {
			out[i] = Point{p[0]*m.own.Unit + m.own.Meridian, p[1] * m.own.Unit}
		}
		return out, true
	}
	var before float64
	begun := false
	f := func(p Point) (Point, bool) {
		lon, lat, ok := m.own.ToGeographic(p[0], p[1])
		if begun {
			lon = before + math.Remainder(lon-before, 2*math.Pi)
		}
		return Point{lon, lat}, ok
	}
	cell := math.Max(m.grid.DX, math.Abs(m.grid.DY)) * m.grid.CRS.Unit
	if !m.grid.CRS.Geographic() {
		cell /= m.grid.CRS.Ellipsoid.A
	}
	tol := m.tol
	tol.Bend, tol.Absolute, tol.Straight = nil, cellTolerance*cell, 1e-9*cell
	t := earth.NewTracer(f, tol)
	var out Ring
	for i := range len(ring) + 1 {
		got, ok := t.To(out, ring[i%len(ring)])
		if !ok {
			return nil, false
		}
		out = got
		before, begun = out[len(out)-1][0], true
	}
	first, last := out[0], out[len(out)-1]
	if turn := last[0] - first[0]; math.Abs(turn) > 1 { // around a pole
		pole := math.Copysign(math.Pi/2, first[1])
		return append(out, Point{last[0], pole}, Point{first[0], pole}), true
	}
	return out[:len(out)-1], true
}

// inBox reports whether a zone, in radians, lies in the first box of the grid's domain, or would but for whole turns.
func inBox(rings []Ring, d projection.Domain) bool {
	w, s, e, n := math.Inf(1), math.Inf(1), math.Inf(-1), math.Inf(-1)
	for _, r := range rings {
		for _, p := range r {
			w, e, s, n = min(w, p[0]), max(e, p[0]), min(s, p[1]), max(n, p[1])
		}
	}
	b := d.Boxes[0]
	if s < b.South || n > b.North {
		return false
	}
	if d.Round {
		return true
	}
	turn := 2 * math.Pi * math.Round(((b.West+b.East)-(w+e))/2/(2*math.Pi))
	return w+turn >= b.West && e+turn <= b.East
}

// parts cuts the rings of a zone, in radians, into those that lie in one box of the grid's domain each.
func parts(rings []Ring, d projection.Domain) []Ring {
	var out []Ring
	lines := map[float64][]float64{} // by longitude of the side of a box: the latitudes of points on it
	for _, b := range d.Boxes {
		for _, side := range []float64{b.West, b.East} {
			lines[side] = append(lines[side], b.South, b.North)
		}
	}
	for _, r := range rings {
		w, e := math.Inf(1), math.Inf(-1)
		for _, p := range r {
			w, e = min(w, p[0]), max(e, p[0])
		}
		for _, b := range d.Boxes {
			cut := planar.Cut(nil, planar.Cut(nil, r, 1, b.South, false), 1, b.North, true)
			if d.Round {
				if len(cut) >= 3 {
					out = append(out, cut)
				}
				continue
			}
			for k := math.Ceil((b.West - e) / (2 * math.Pi)); k <= math.Floor((b.East-w)/(2*math.Pi)); k++ {
				moved := make(Ring, len(cut))
				for i, p := range cut {
					moved[i] = Point{p[0] + k*2*math.Pi, p[1]}
				}
				part := planar.Cut(nil, planar.Cut(nil, moved, 0, b.West, false), 0, b.East, true)
				if len(part) < 3 {
					continue
				}
				out = append(out, part)
				for _, p := range part {
					if p[0] == b.West || p[0] == b.East {
						lines[p[0]] = append(lines[p[0]], p[1])
					}
				}
			}
		}
	}
	// Edges along a side are cut at all points on it, so that those that run back and forth cancel out.
	for _, list := range lines {
		slices.Sort(list)
	}
	for i, r := range out {
		var full Ring
		for k, p := range r {
			full = append(full, p)
			q := r[(k+1)%len(r)]
			list, side := lines[p[0]]
			if !side || p[0] != q[0] {
				continue
			}
			lo, hi := min(p[1], q[1]), max(p[1], q[1])
			at := len(full)
			for _, y := range list {
				if y > lo && y < hi && full[len(full)-1][1] != y {
					full = append(full, Point{p[0], y})
				}
			}
			if p[1] > q[1] {
				slices.Reverse(full[at:])
			}
		}
		out[i] = full
	}
	return out
}
