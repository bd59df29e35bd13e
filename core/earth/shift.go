package earth

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"github.com/verdex-land/verdex/core/earth/ellipsoid"
	"github.com/verdex-land/verdex/core/earth/projection"
)

// Shift carries longitude and latitude from one datum to another, by way of geocentric coordinates.
type Shift struct {
	from, to ellipsoid.Ellipsoid
	m        [3][3]float64 // X' = m·X + t
	t        [3]float64
}

// step is an operation of the registry between two datums.
type step struct {
	from, to int
	code     int
	kind     string
	accuracy float64 // metres
	params   []float64
	back     bool // taken from to to from
}

// null reports whether the registry says that the datums coincide.
func (s *step) null() bool { return len(s.params) == 0 }

// ends are the datums in the direction in which the step is taken.
func (s *step) ends() (from, to int) {
	if s.back {
		return s.to, s.from
	}
	return s.from, s.to
}

// NewShift finds how to go from the datum of one CRS to that of another around a place (longitude
// and latitude in degrees). It is nil where there is nothing to do; the note, empty for the same
// datum, says what was assumed and how good it is stated to be. Where the registry has a null
// transformation that is taken, otherwise the published parameters of the best stated accuracy whose area
// holds the place, over one datum between the two if need be. Transformations by grid files are
// not carried out; when one is registered for the place, the note says so.
func NewShift(from, to *CRS, lon, lat float64) (*Shift, string, error) {
	if from.Datum.Same(to.Datum) {
		return nil, "", nil
	}
	for _, c := range []*CRS{from, to} {
		if c.Datum.Code == 0 {
			return nil, fmt.Sprintf("%s does not state a datum that is known; its longitudes and latitudes are taken to be those of %s",
				c.Name, other(c, from, to).Datum.Name), nil
		}
	}
	path, grid := bestPath(from.Datum.Code, to.Datum.Code, lon, lat)
	if path == nil {
		return nil, "", fmt.Errorf("no published parameters lead from the datum %s to %s around %.2f° east, %.2f° north: bring the zones into a CRS on the raster's datum first",
			from.Datum.Name, to.Datum.Name, lon, lat)
	}
	var codes []string
	accuracy, null := 0.0, true
	for _, s := range path {
		accuracy = math.Hypot(accuracy, s.accuracy)
		null = null && s.null()
		if s.kind != "R" {
			codes = append(codes, fmt.Sprintf("EPSG:%d", s.code))
		}
	}
	same := math.Abs(from.Ellipsoid.A-to.Ellipsoid.A) < 1 && math.Abs(from.Ellipsoid.F-to.Ellipsoid.F) < 1e-9
	switch {
	case len(codes) == 0: // the same datum with another prime meridian
		return nil, "", nil
	case null && same:
		return nil, fmt.Sprintf("%s and %s are taken to coincide, as the registry says (%s); on the ground they differ by up to about %.2g m",
			from.Datum.Name, to.Datum.Name, strings.Join(codes, ", "), accuracy), nil
	}
	note := fmt.Sprintf("from the datum %s to %s by the published parameters %s, with a stated accuracy of %.2g m",
		from.Datum.Name, to.Datum.Name, strings.Join(codes, " and "), accuracy)
	if grid != nil && grid.accuracy < accuracy {
		note += fmt.Sprintf("; the grid of EPSG:%d, with a stated accuracy of %.2g m, is not carried", grid.code, grid.accuracy)
	}
	return compose(path, from.Ellipsoid, to.Ellipsoid), note, nil
}

func other(c, a, b *CRS) *CRS {
	if c == a {
		return b
	}
	return a
}

// steps are the operations around a place that begin or end at a datum, turned so that they begin there.
func steps(datum int, lon, lat float64) (out []step, grids []step) {
	key := strconv.Itoa(datum)
	for line := range strings.SplitSeq(shiftTable, "\n") {
		if !strings.HasPrefix(line, key+"\t") && !strings.Contains(line, "\t"+key+"\t") {
			continue
		}
		cells := strings.Split(line, "\t")
		if len(cells) < 10 || cells[0] != key && cells[1] != key {
			continue
		}
		v := numbers(cells[:9]...)
		s := step{from: int(v[0]), to: int(v[1]), code: int(v[2]), kind: cells[3], accuracy: v[4], back: cells[0] != key}
		if cells[4] == "" {
			s.accuracy = 50 // none is stated
		}
		if w, south, e, n := v[5], v[6], v[7], v[8]; cells[5] != "" && (lon < w || lon > e || lat < south || lat > n) {
			continue
		}
		if s.kind == "G" {
			grids = append(grids, s)
			continue
		}
		if cells[9] != "" {
			s.params = numbers(strings.Fields(cells[9])...)
		}
		out = append(out, s)
	}
	return out, grids
}

// bestPath is the best way between two datums, of one step or two, and the best grid for it, if any.
func bestPath(from, to int, lon, lat float64) (path []step, grid *step) {
	first, grids := steps(from, lon, lat)
	best, bestRank := math.Inf(1), 0
	consider := func(candidate ...step) {
		sum, rank := 0.0, 0 // null ways first
		for _, s := range candidate {
			sum = math.Hypot(sum, s.accuracy)
			if !s.null() {
				rank = 1
			}
		}
		sum += 1e-3 * float64(len(candidate))
		if path == nil || rank < bestRank || rank == bestRank && sum < best {
			path, best, bestRank = candidate, sum, rank
		}
	}
	reach := map[int][]step{}
	for _, s := range first {
		_, end := s.ends()
		reach[end] = append(reach[end], s)
		if end == to {
			consider(s)
		}
	}
	second, _ := steps(to, lon, lat)
	for _, s := range second {
		s.back = !s.back
		middle, _ := s.ends()
		for _, f := range reach[middle] {
			consider(f, s)
		}
	}
	for i, g := range grids {
		if _, end := g.ends(); end == to && (grid == nil || g.accuracy < grid.accuracy) {
			grid = &grids[i]
		}
	}
	return slices.Clone(path), grid
}

// compose makes one linear map of the steps of a path.
func compose(path []step, from, to ellipsoid.Ellipsoid) *Shift {
	s := &Shift{from: from, to: to, m: [3][3]float64{{1, 0, 0}, {0, 1, 0}, {0, 0, 1}}}
	for _, p := range path {
		m, t := p.linear()
		if p.back {
			m = inverse(m)
			t = apply(m, [3]float64{-t[0], -t[1], -t[2]})
		}
		var product [3][3]float64
		for i := range 3 {
			for j := range 3 {
				for k := range 3 {
					product[i][j] += m[i][k] * s.m[k][j]
				}
			}
		}
		moved := apply(m, s.t)
		s.m, s.t = product, [3]float64{moved[0] + t[0], moved[1] + t[1], moved[2] + t[2]}
	}
	return s
}

// linear is the seven-parameter transformation of a step with small angles (EPSG method 1033, position
// vector), or with a pivot (1061): X' = P + T + (1+s)·R·(X-P).
func (p *step) linear() (m [3][3]float64, t [3]float64) {
	var v [10]float64
	copy(v[:], p.params)
	k := 1 + v[6]
	m = [3][3]float64{{k, -k * v[5], k * v[4]}, {k * v[5], k, -k * v[3]}, {-k * v[4], k * v[3], k}}
	pivot := [3]float64{v[7], v[8], v[9]}
	turned := apply(m, pivot)
	for i := range 3 {
		t[i] = v[i] + pivot[i] - turned[i]
	}
	return m, t
}

func apply(m [3][3]float64, v [3]float64) (out [3]float64) {
	for i := range 3 {
		out[i] = m[i][0]*v[0] + m[i][1]*v[1] + m[i][2]*v[2]
	}
	return out
}

// inverse is the inverse of a matrix that is nearly the identity.
func inverse(m [3][3]float64) (out [3][3]float64) {
	det := 0.0
	for i := range 3 {
		a, b := (i+1)%3, (i+2)%3
		det += m[0][i] * (m[1][a]*m[2][b] - m[1][b]*m[2][a])
		for j := range 3 {
			c, d := (j+1)%3, (j+2)%3
			out[i][j] = m[c][a]*m[d][b] - m[c][b]*m[d][a]
		}
	}
	for i := range 3 {
		for j := range 3 {
			out[i][j] /= det
		}
	}
	return out
}

// Forward carries a longitude and latitude in radians, on the ellipsoid's surface.
func (s *Shift) Forward(lon, lat float64) (float64, float64) {
	return carry(lon, lat, s.from, s.to, s.m, s.t)
}

// Back is the inverse of Forward.
func (s *Shift) Back(lon, lat float64) (float64, float64) {
	m := inverse(s.m)
	return carry(lon, lat, s.to, s.from, m, apply(m, [3]float64{-s.t[0], -s.t[1], -s.t[2]}))
}

func carry(lon, lat float64, from, to ellipsoid.Ellipsoid, m [3][3]float64, t [3]float64) (float64, float64) {
	sp, cp := math.Sincos(lat)
	sl, cl := math.Sincos(lon)
	e2 := from.E2()
	n := from.A / math.Sqrt(1-e2*sp*sp)
	v := apply(m, [3]float64{n * cp * cl, n * cp * sl, n * (1 - e2) * sp})
	x, y, z := v[0]+t[0], v[1]+t[1], v[2]+t[2]
	// Bowring's formula (1976), whose error at the surface is below a micrometre, then one more turn.
	p := math.Hypot(x, y)
	e2 = to.E2()
	b := to.B()
	ep2 := e2 / (1 - e2)
	beta := math.Atan2(z*to.A, p*b)
	for range 2 {
		s, c := math.Sincos(beta)
		lat = math.Atan2(z+ep2*b*s*s*s, p-e2*to.A*c*c*c)
		beta = math.Atan((1 - to.F) * math.Tan(lat))
	}
	turned := math.Atan2(y, x)
	return lon + ellipsoid.WrapLongitude(turned-lon), lat
}

// shifted is a CRS's coordinates as a projection of another datum's ellipsoid.
type shifted struct {
	inner *CRS
	shift *Shift
}

// On gives the CRS as seen from another datum: the same coordinates, with longitudes, latitudes and areas
// on the ellipsoid that the shift leads to. With a nil shift it is the CRS itself on that ellipsoid.
func (c *CRS) On(to *CRS, s *Shift) *CRS {
	out := *c
	if s == nil {
		if c.Geographic() {
			out.Ellipsoid = to.Ellipsoid
		}
		return &out
	}
	inner := *c
	inner.Unit = 1
	out.Ellipsoid, out.Datum, out.Meridian, out.Code = to.Ellipsoid, to.Datum, 0, 0
	out.Projection, out.domain = shifted{&inner, s}, nil
	return &out
}

// Forward implements [projection.Projection].
func (p shifted) Forward(lon, lat float64) (x, y float64, ok bool) {
	lon, lat = p.shift.Back(lon, lat)
	return p.inner.FromGeographic(lon, lat)
}

// Inverse implements [projection.Projection].
func (p shifted) Inverse(x, y float64) (lon, lat float64, ok bool) {
	lon, lat, ok = p.inner.ToGeographic(x, y)
	lon, lat = p.shift.Forward(lon, lat)
	return lon, lat, ok
}

// ArealScale implements [projection.Projection].
func (p shifted) ArealScale(lon, lat float64) float64 {
	return projection.ArealByDifference(p, p.shift.to, lon, lat)
}

// Traits implements [projection.Projection]: what an equal-area projection is on its own ellipsoid it is not quite
// on another.
func (p shifted) Traits() projection.Traits {
	return projection.Traits{Method: "shifted", Mirrored: p.inner.Mirrored()}
}
