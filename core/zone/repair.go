package zone

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"

	"github.com/peterstace/simplefeatures/geom"

	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/fault"
	"github.com/verdex-land/verdex/core/planar"
	"github.com/verdex-land/verdex/core/spread"
	"github.com/verdex-land/verdex/core/text"
	"github.com/verdex-land/verdex/core/vector"
)

// repair checks the outlines of all zones and mends what can be mended openly:
//
//   - repeated points, rings without area and the direction of rings, which change nothing;
//   - outlines that cross themselves around less than a millionth of the zone: the loops are
//     counted once, with a note;
//   - pieces of one zone that overlap: they are united, with a note.
//
// Any other outline that crosses itself has no certain area and is an error that names the
// zones.
func (s *Set) repair() error {
	notes := make([]string, len(s.Zones))
	errs := make([]error, len(s.Zones))
	spread.Over(len(s.Zones), func() func(int) {
		var f crossingFinder
		return func(i int) { notes[i], errs[i] = s.Zones[i].repair(s, &f) }
	})
	var bad []string
	for i := range s.Zones {
		if errs[i] != nil {
			bad = append(bad, errs[i].Error())
		} else if notes[i] != "" {
			s.Notes = append(s.Notes, notes[i])
		}
	}
	if len(bad) > 0 {
		more := ""
		if len(bad) > 5 {
			more = fmt.Sprintf("; and %d more", len(bad)-5)
			bad = bad[:5]
		}
		return fmt.Errorf("%s: %s%s: mend the outlines before measuring, because such areas are uncertain", s.Source, strings.Join(bad, "; "), more)
	}
	return nil
}

func (z *Zone) repair(s *Set, f *crossingFinder) (note string, err error) {
	polygons := make([]Polygon, 0, len(z.Polygons))
	areas := f.areas[:0] // of the rings of polygons, one after another
	dropped := 0
	for _, p := range z.Polygons {
		clean := make(Polygon, 0, len(p))
		for k, ring := range p {
			r, err := cleanRing(ring, s.CRS.Geographic())
			if err != nil {
				return "", fmt.Errorf("zone %s: %w", z.ID, err)
			}
			area := planar.Area(r)
			if len(r) < 3 || area == 0 && len(f.find(Polygon{r}, 0)) == 0 {
				dropped++
				if k == 0 {
					break // a shell without area takes its holes with it
				}
				continue
			}
			clean, areas = append(clean, r), append(areas, area)
		}
		if len(clean) > 0 {
			polygons = append(polygons, clean)
		}
	}
	f.areas = areas
	if len(polygons) == 0 {
		return "", fmt.Errorf("zone %s: its outline encloses no area", z.ID)
	}
	var notes []string
	if dropped > 0 {
		notes = append(notes, fmt.Sprintf("zone %s: %s without area left out", z.ID, text.Count(dropped, "ring")))
	}
	for i, p := range polygons {
		mended, share, at, ok := mend(p, f)
		if !ok {
			return "", fmt.Errorf("zone %s: its outline crosses itself at %s", z.ID, place(at))
		}
		if share > 0 {
			notes = append(notes, fmt.Sprintf("zone %s: its outline crosses itself at %s around %.2g of its area; the loops are counted once", z.ID, place(at), share))
		}
		if share > 0 {
			polygons[i] = orient(mended)
		} else if turn(mended, areas); len(mended) > 1 || len(f.ends) > 0 {
			if at, bad := f.winding.uneven(mended, f.ends); bad {
				return "", fmt.Errorf("zone %s: its outline runs around the ground at %s more than once, or a hole lies outside it or over another hole", z.ID, place(at))
			}
		}
		areas = areas[len(p):]
	}
	shared := false
	if z.Polygons, shared, err = apart(polygons, f); err != nil {
		return "", fmt.Errorf("zone %s: its pieces overlap and cannot be united (%w)", z.ID, err)
	}
	if shared {
		notes = append(notes, fmt.Sprintf("zone %s: its pieces overlap; the ground they share is counted once", z.ID))
	}
	return strings.Join(notes, "; "), nil
}

func place(p Point) string { return fmt.Sprintf("(%.10g, %.10g)", p[0], p[1]) }

// cleanRing drops repeated points and refuses positions that cannot be. A ring that is clean is returned as it is.
func cleanRing(r Ring, geographic bool) (Ring, error) {
	out := r
	for i, p := range r {
		if geographic && (math.Abs(p[1]) > 90 || math.Abs(p[0]) > 540) {
			return nil, fault.Errorf("its point %s is not a longitude and latitude", place(p)).By("if the file is in another CRS, give it", "zones-crs", "")
		}
		switch again := i > 0 && r[i-1] == p; {
		case again && len(out) == len(r):
			out = append(make(Ring, 0, len(r)-1), r[:i]...)
		case !again && len(out) < len(r):
			out = append(out, p)
		}
	}
	for len(out) > 1 && out[0] == out[len(out)-1] {
		out = out[:len(out)-1]
	}
	if geographic {
		for i := range out {
			p, q := out[i], out[(i+1)%len(out)]
			width := math.Abs(q[0] - p[0])
			// An edge along a pole, or all the way around the Earth along a parallel, says what it encloses.
			if width <= 180 || p[1] == q[1] && (math.Abs(p[1]) == 90 || math.Abs(width-360) < 1e-6) {
				continue
			}
			if p[1] == q[1] {
				return nil, fmt.Errorf("its outline runs from longitude %.6g to %.6g along one parallel, %.6g° or the other way round: if it is that wide, put a corner between them; if it crosses the antimeridian, let longitudes go on beyond 180° (%.6g instead of %.6g) or cut it there, as RFC 7946 asks",
					p[0], q[0], width, math.Min(p[0], q[0])+360, math.Min(p[0], q[0]))
			}
			return nil, fmt.Errorf("its outline jumps from longitude %.6g to %.6g: let longitudes go on beyond 180° (%.6g instead of %.6g), or cut it at the antimeridian, as RFC 7946 asks",
				p[0], q[0], math.Min(p[0], q[0])+360, math.Min(p[0], q[0]))
		}
	}
	return out, nil
}

// CheckRings returns an error if a ring jumps from one side of the antimeridian to the other, so that it is not clear which ground it encloses, or has a point
// that is no longitude and latitude, where the CRS is geographic.
func CheckRings(g *vector.Geometry, crs *earth.CRS) error {
	for _, p := range g.Polygons {
		for _, r := range p {
			if _, err := cleanRing(r, crs.Geographic()); err != nil {
				return err
			}
		}
	}
	return nil
}

// orient turns the shell counter-clockwise and holes clockwise. Rings that are turned are copies.
func orient(p Polygon) Polygon {
	areas := make([]float64, len(p))
	for k, r := range p {
		areas[k] = planar.Area(r)
	}
	turn(p, areas)
	return p
}

// turn is orient for rings whose areas are known.
func turn(p Polygon, areas []float64) {
	for k, r := range p {
		if (areas[k] < 0) == (k == 0) {
			p[k] = slices.Clone(r)
			slices.Reverse(p[k])
		}
	}
}

// mostMended is how many crossings an outline may have to be mended. Around so many, no sound outline was meant.
const mostMended = 10_000

// mend splits a shell that crosses itself into loops. It reports what share of the area the
// crossing makes uncertain, and false when that is more than a millionth or when rings cross
// one another.
func mend(p Polygon, f *crossingFinder) (out Polygon, share float64, at Point, ok bool) {
	found := f.find(p, mostMended)
	if len(found) == 0 {
		return p, 0, at, true
	}
	at = found[0].at
	if len(found) > mostMended {
		return p, 1, at, false
	}
	cuts := map[int][]crossing{} // by edge of the shell
	for _, c := range found {
		if c.a >= len(p[0]) || c.b >= len(p[0]) {
			return p, 1, c.at, false
		}
		cuts[c.a] = append(cuts[c.a], c)
		cuts[c.b] = append(cuts[c.b], c)
	}
	var loops []Ring
	var path Ring
	seen := map[Point]int{}
	step := func(q Point, cut bool) {
		if k, again := seen[q]; cut && again {
			loops = append(loops, append(Ring{}, path[k:]...))
			for _, r := range path[k+1:] {
				delete(seen, r)
			}
			path = path[:k+1]
			return
		}
		if cut {
			seen[q] = len(path)
		}
		path = append(path, q)
	}
	for i, q := range p[0] {
		step(q, false)
		here := cuts[i]
		for len(here) > 0 { // nearest first
			best := 0
			for k := range here {
				if distance2(q, here[k].at) < distance2(q, here[best].at) {
					best = k
				}
			}
			step(here[best].at, true)
			here = append(here[:best:best], here[best+1:]...)
		}
	}
	loops = append(loops, path)
	var signed, gross float64
	largest := 0
	for i, l := range loops {
		a := planar.Area(l)
		signed += a
		gross += math.Abs(a)
		if math.Abs(a) > math.Abs(planar.Area(loops[largest])) {
			largest = i
		}
	}
	share = (gross - math.Abs(planar.Area(loops[largest]))) / gross
	if share > 1e-6 {
		return p, share, at, false
	}
	return append(Polygon{loops[largest]}, p[1:]...), share, at, true
}

func distance2(p, q Point) float64 {
	return (p[0]-q[0])*(p[0]-q[0]) + (p[1]-q[1])*(p[1]-q[1])
}

// apart are polygons, each sound by itself, without ground that two of them share, and whether any did. Those that do not are as they were, behind those that were united.
func apart(polygons []Polygon, f *crossingFinder) (out []Polygon, shared bool, err error) {
	united := make([]bool, len(polygons))
	for _, group := range near(polygons) {
		some := make([]Polygon, len(group))
		for k, i := range group {
			some[k] = polygons[i]
		}
		if !overlap(some, f) {
			continue
		}
		u, err := unite(some)
		if err != nil {
			return nil, true, err
		}
		shared = true
		out = append(out, u...)
		for _, i := range group {
			united[i] = true
		}
	}
	if !shared {
		return polygons, false, nil
	}
	for i, p := range polygons {
		if !united[i] {
			out = append(out, p)
		}
	}
	return out, true, nil
}

// overlap reports whether any two of the polygons, each sound by itself, share ground.
func overlap(polygons []Polygon, f *crossingFinder) bool {
	all := slices.Concat(polygons...)
	if len(f.find(all, 0)) > 0 {
		return true
	}
	_, bad := f.winding.uneven(all, f.ends)
	return bad
}

// near are the polygons, by number, whose extents share ground with that of another one, in groups that hang together. They are gone through along the axis along which they
// lie rather beside one another.
func near(polygons []Polygon) (groups [][]int) {
	if len(polygons) < 2 {
		return nil
	}
	boxes := make([][4]float64, len(polygons))
	order, of := make([]int, len(polygons)), make([]int, len(polygons))
	low, high := Point{math.Inf(1), math.Inf(1)}, Point{math.Inf(-1), math.Inf(-1)}
	var sums Point
	for i, p := range polygons {
		b := vector.Box(p[0])
		boxes[i], order[i], of[i] = b, i, i
		low, high = Point{min(low[0], b[0]), min(low[1], b[1])}, Point{max(high[0], b[2]), max(high[1], b[3])}
		sums[0], sums[1] = sums[0]+b[2]-b[0], sums[1]+b[3]-b[1]
	}
	x := lengthwise(low, high, sums)
	y := 1 - x
	slices.SortFunc(order, func(i, j int) int { return cmp.Compare(boxes[i][x], boxes[j][x]) })
	root := func(i int) int {
		for of[i] != i {
			of[i] = of[of[i]]
			i = of[i]
		}
		return i
	}
	left := len(polygons) // groups, each of one at first
	for k, i := range order {
		for _, j := range order[k+1:] {
			a, b := &boxes[i], &boxes[j]
			if b[x] >= a[x+2] || left == 1 {
				break
			}
			if a[y] < b[y+2] && b[y] < a[y+2] {
				if r, s := root(i), root(j); r != s {
					of[max(r, s)] = min(r, s)
					left--
				}
			}
		}
	}
	members := map[int][]int{}
	for i := range polygons {
		members[root(i)] = append(members[root(i)], i)
	}
	for i := range polygons {
		if m := members[i]; len(m) > 1 {
			groups = append(groups, m)
		}
	}
	return groups
}

// unite dissolves polygons that overlap.
func unite(polygons []Polygon) ([]Polygon, error) {
	var all []geom.Geometry
	for _, p := range polygons {
		some, err := vector.Pieces(p)
		if err != nil {
			return nil, err
		}
		all = append(all, some...)
	}
	u, err := vector.Union(all)
	if err != nil {
		return nil, err
	}
	out := vector.FromGeom(u).Polygons
	if len(out) == 0 {
		return nil, fmt.Errorf("their union is a %s", u.Type())
	}
	for i, p := range out {
		out[i] = orient(p)
	}
	return out, nil
}
