package vector

import (
	"fmt"
	"math"

	"github.com/verdex-land/verdex/core/earth"
)

// Carry gives a layer in another CRS. Straight edges of outlines, which are curves there, become lines that stay within a
// centimetre of them and enclose the same area. note says what was assumed of the datums.
func Carry(l *Layer, to *earth.CRS) (out *Layer, note string, err error) {
	if l.CRS == nil {
		return nil, "", fmt.Errorf("%s: %s", l.Source, l.CRSProblem)
	}
	if l.CRS.Same(to) {
		same := *l
		same.CRS = to
		return &same, "", nil
	}
	x, y, found := l.middle()
	if !found {
		x, y = 0, 0
	}
	lon, lat, ok := l.CRS.ToGeographic(x, y)
	if !ok {
		return nil, "", fmt.Errorf("%s: its features lie where %v is not defined: check its CRS", l.Source, l.CRS)
	}
	shift, note, err := earth.NewShift(l.CRS, to, lon*180/math.Pi, lat*180/math.Pi)
	if err != nil {
		return nil, "", fmt.Errorf("%s: %w", l.Source, err)
	}
	own := l.CRS.On(to, shift)
	east := false // longitudes from 0 to 360, of a feature across 180
	carry := func(p Point) (Point, bool) {
		lon, lat, ok := own.ToGeographic(p[0], p[1])
		if !ok {
			return p, false
		}
		if east && lon < 0 {
			lon += 2 * math.Pi
		}
		x, y, ok := to.FromGeographic(lon, lat)
		return Point{x, y}, ok
	}
	const metre = 1 / 111e3 // of a degree
	tol := earth.Tolerance{Longest: 50000 / l.CRS.Unit, Absolute: 0.01, Straight: 1e-4}
	if l.CRS.Geographic() {
		tol.Longest = 0.5 * math.Pi / 180 / l.CRS.Unit
	}
	if to.Geographic() {
		tol.Absolute, tol.Straight = 0.01*metre, 1e-9
	} else {
		tol.Absolute, tol.Straight = 0.01/to.Unit, 1e-4/to.Unit
	}
	copied := *l
	copied.CRS = to
	copied.Features = make([]Feature, len(l.Features))
	for i, f := range l.Features {
		east = to.Geographic() && !l.CRS.Geographic() && crosses(&f.Geometry, own)
		g, ok := f.Geometry.carried(carry, tol)
		if !ok {
			return nil, "", fmt.Errorf("%s: feature %d reaches ground where %v is not defined", l.Source, i+1, to)
		}
		f.Geometry = g
		copied.Features[i] = f
	}
	return &copied, note, nil
}

// crosses reports whether polygons in the plane of a projection lie across 180° of longitude: counted from 0 to 360 they reach less far than half around the
// Earth, and counted from -180 to 180 farther.
func crosses(g *Geometry, own *earth.CRS) bool {
	least, most := [2]float64{math.Inf(1), math.Inf(1)}, [2]float64{math.Inf(-1), math.Inf(-1)}
	for _, p := range g.Polygons {
		for _, ring := range p {
			for _, q := range ring {
				lon, _, ok := own.ToGeographic(q[0], q[1])
				if !ok {
					return false
				}
				for k, v := range [2]float64{lon, math.Mod(lon+2*math.Pi, 2*math.Pi)} {
					least[k], most[k] = min(least[k], v), max(most[k], v)
				}
			}
		}
	}
	return most[0]-least[0] > math.Pi && most[1]-least[1] < math.Pi
}

// Around gives polygons of a geographic CRS whose longitudes go on beyond 180° the longitudes from -180 to 180 that the same ground has, cut at the
// antimeridian, so that they can be laid over others however these count. Polygons that do not go beyond are returned as they are, and so are
// those of projections.
func Around(crs *earth.CRS, g *Geometry) (*Geometry, error) {
	if crs == nil || !crs.Geographic() {
		return g, nil
	}
	half := math.Pi / crs.Unit
	if d := math.Round(half); math.Abs(half-d) < 1e-9 {
		half = d
	}
	west, east, south, north := math.Inf(1), math.Inf(-1), math.Inf(1), math.Inf(-1)
	for _, p := range g.Polygons {
		b := Box(p[0])
		west, south, east, north = min(west, b[0]), min(south, b[1]), max(east, b[2]), max(north, b[3])
	}
	if !(west < -half || east > half) || math.IsInf(west, 0) || east-west > 100*half {
		return g, nil
	}
	shape, err := Shape(g)
	if err != nil {
		return nil, err
	}
	out := &Geometry{Type: "MultiPolygon"}
	for turn := math.Floor((west + half) / (2 * half)); turn*2*half-half < east; turn++ {
		x0, by := turn*2*half-half, turn*2*half
		strip := Geometry{Polygons: []Polygon{{{{x0, south - 1}, {x0 + 2*half, south - 1}, {x0 + 2*half, north + 1}, {x0, north + 1}}}}}
		part, err := Intersection(shape, strip.Geom(true))
		if err != nil {
			return nil, err
		}
		for _, p := range FromGeom(part).Polygons {
			for _, ring := range p {
				for i := range ring {
					ring[i][0] -= by
				}
			}
			out.Polygons = append(out.Polygons, p)
		}
	}
	return out, nil
}

func (g Geometry) carried(carry func(Point) (Point, bool), tol earth.Tolerance) (Geometry, bool) {
	out := Geometry{Type: g.Type}
	for _, p := range g.Polygons {
		var q Polygon
		for _, r := range p {
			if len(r) == 0 {
				continue
			}
			t, ok := earth.TraceRing(r, carry, tol)
			if !ok {
				return out, false
			}
			q = append(q, t)
		}
		out.Polygons = append(out.Polygons, q)
	}
	for _, p := range g.Points {
		q, ok := carry(p)
		if !ok {
			return out, false
		}
		out.Points = append(out.Points, q)
	}
	return out, true
}

// middle is the middle of the extent of a layer; found is false when it has none.
func (l *Layer) middle() (x, y float64, found bool) {
	box := [4]float64{math.Inf(1), math.Inf(1), math.Inf(-1), math.Inf(-1)}
	add := func(r Ring) {
		b := Box(r)
		box = [4]float64{math.Min(box[0], b[0]), math.Min(box[1], b[1]), math.Max(box[2], b[2]), math.Max(box[3], b[3])}
	}
	for _, f := range l.Features {
		for _, p := range f.Geometry.Polygons {
			add(p[0])
		}
		if len(f.Geometry.Points) > 0 {
			add(f.Geometry.Points)
		}
	}
	return (box[0] + box[2]) / 2, (box[1] + box[3]) / 2, !math.IsInf(box[0], 0)
}
