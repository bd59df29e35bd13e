package vector

import (
	"math"
	"math/rand/v2"
	"testing"

	"github.com/peterstace/simplefeatures/geom"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/planar"
)

// star is a random ring around a place that does not cross itself, counter-clockwise.
func star(rng *rand.Rand, x, y, size float64) Ring {
	n := 3 + rng.IntN(20)
	out := make(Ring, n)
	for i := range out {
		s, c := math.Sincos(2 * math.Pi * float64(i) / float64(n))
		r := size * (0.3 + 0.7*rng.Float64())
		out[i] = Point{x + r*c, y + r*s}
	}
	return out
}

// Geometry goes to the library and to well-known binary and back without losing a bit.
func TestGeometryComesBack(t *testing.T) {
	rng := rand.New(rand.NewPCG(5, 6))
	for range 300 {
		g := Geometry{Type: "MultiPolygon"}
		for k := range 1 + rng.IntN(3) {
			p := Polygon{star(rng, float64(30*k), 0, 10)}
			if rng.IntN(2) == 0 {
				hole := star(rng, float64(30*k), 0, 1)
				p = append(p, hole)
			}
			g.Polygons = append(g.Polygons, p)
		}
		same, err := FromWKB(g.Geom(true).AsBinary())
		require.NoError(t, err)
		assert.Equal(t, g.Polygons, same.Polygons)
		assert.Equal(t, same, FromGeom(g.Geom(true)))
		text, err := FromWKT(g.Geom(true).AsText())
		require.NoError(t, err)
		assert.Equal(t, g.Polygons, text.Polygons)
	}
}

// Rings of nested squares, in any order and direction of the file, cover the ground that they did as polygons.
func TestNestFindsAnyNesting(t *testing.T) {
	rng := rand.New(rand.NewPCG(5, 7))
	for range 300 {
		var rings []Ring
		ground := 0.0
		for k := range 1 + rng.IntN(4) {
			for depth := range 1 + rng.IntN(5) { // shells and holes in turn
				d := float64(depth)
				r := Ring{{float64(20*k) + d, d}, {float64(20*k) + d, 12 - d}, {float64(20*k) + 12 - d, 12 - d}, {float64(20*k) + 12 - d, d}}
				side := 12 - 2*d
				if depth%2 == 1 {
					r = reversed(r)
					side = -side
				}
				ground += side * math.Abs(side)
				rings = append(rings, r)
			}
		}
		rng.Shuffle(len(rings), func(i, j int) { rings[i], rings[j] = rings[j], rings[i] })
		for _, turned := range []bool{false, true} {
			list := make([]Ring, len(rings))
			for i, r := range rings {
				if list[i] = r; turned { // a program that writes all rings the other way round
					list[i] = reversed(r)
				}
			}
			sum := 0.0
			for _, p := range Nest(list) {
				for k, r := range p {
					a := math.Abs(planar.Area(r))
					if k > 0 {
						a = -a
					}
					sum += a
				}
			}
			if !turned || len(rings) > 0 {
				assert.InDelta(t, ground, sum, 1e-9, "%v", turned)
			}
		}
	}
}

// A point lies in a star where it lies nearer to the middle than the star's border in its direction.
func TestInsideAgainstTheDistance(t *testing.T) {
	rng := rand.New(rand.NewPCG(5, 8))
	for range 200 {
		r := star(rng, 3, -2, 10)
		for range 50 {
			q := Point{3 + (rng.Float64()-0.5)*22, -2 + (rng.Float64()-0.5)*22}
			want := false
			for i := range r { // the triangles from the middle tile a star
				a, b := r[i], r[(i+1)%len(r)]
				side := func(p, q, s Point) bool { return (q[0]-p[0])*(s[1]-p[1])-(q[1]-p[1])*(s[0]-p[0]) > 0 }
				m := Point{3, -2}
				want = want || side(m, a, q) && side(a, b, q) && side(b, m, q)
			}
			assert.Equal(t, want, Inside(r, q), "%v in %v", q, r)
		}
	}
}

// The union of many squares of a grid is the ground that they cover, however they overlap.
func TestUnionCoversTheGround(t *testing.T) {
	rng := rand.New(rand.NewPCG(5, 9))
	for range 40 {
		var list []geom.Geometry
		covered := map[[2]int]bool{}
		for range 1 + rng.IntN(40) {
			x, y := rng.IntN(12), rng.IntN(12)
			covered[[2]int{x, y}] = true
			fx, fy := float64(x), float64(y)
			g := Geometry{Type: "Polygon", Polygons: []Polygon{{{{fx, fy}, {fx + 1, fy}, {fx + 1, fy + 1}, {fx, fy + 1}}}}}
			list = append(list, g.Geom(false))
		}
		u, err := Union(list)
		require.NoError(t, err)
		assert.InDelta(t, float64(len(covered)), u.Area(), 1e-9)
	}
}

// Carried to another CRS, a layer keeps the areas of its outlines.
func TestCarryKeepsAreas(t *testing.T) {
	rng := rand.New(rand.NewPCG(5, 10))
	from, err := earth.Lookup(32633)
	require.NoError(t, err)
	for _, code := range []int{4326, 3035, 32632} {
		to, err := earth.Lookup(code)
		require.NoError(t, err)
		l := &Layer{Source: "zones", CRS: from, Fields: []Field{{Name: "id"}}}
		for range 20 {
			l.Features = append(l.Features, Feature{Values: []any{"a"}, Geometry: Geometry{Type: "Polygon", Polygons: []Polygon{{star(rng, 4e5+2e5*rng.Float64(), 6.4e6, 2e4)}}}})
		}
		out, _, err := Carry(l, to)
		require.NoError(t, err)
		for i := range l.Features {
			want, ok := Area(from, &l.Features[i].Geometry)
			require.True(t, ok)
			got, ok := Area(to, &out.Features[i].Geometry)
			require.True(t, ok)
			assert.InEpsilon(t, want, got, 1e-6, "to %v", to)
		}
		assert.Equal(t, l.Features[0].Values, out.Features[0].Values)
	}
	_, ok := Area(nil, &Geometry{})
	assert.False(t, ok)
}

// Fields get the narrowest kind that holds all their values, and the values that kind.
func TestFieldsSettle(t *testing.T) {
	l := &Layer{Fields: []Field{{Name: "whole"}, {Name: "real"}, {Name: "mixed"}, {Name: "truth"}, {Name: "empty"}}, Features: []Feature{
		{Values: []any{int64(1), int64(2), int64(3), true, nil}}, {Values: []any{nil, 2.5, "x", false, nil}}}}
	l.Settle()
	var kinds []Kind
	for _, f := range l.Fields {
		kinds = append(kinds, f.Kind)
	}
	assert.Equal(t, []Kind{Integer, Real, Text, Boolean, Text}, kinds)
	assert.Equal(t, []any{int64(1), 2.0, "3", true, nil}, l.Features[0].Values)
	assert.Equal(t, 1, l.Field("real"))
	assert.Equal(t, -1, l.Field("none"))
	for v, want := range map[any]string{nil: "", "a": "a", int64(-3): "-3", 0.1: "0.1", 1e-9: "1e-09", 1e22: "1e+22", true: "true"} {
		assert.Equal(t, want, TextOf(v))
	}
	for v, ok := range map[any]bool{"2020-06-30": true, "2020-06-30T12:00:00Z": true, "2020-13-01": false, int64(2020): false, "": false} {
		_, err := ParseTime(v)
		assert.Equal(t, ok, err == nil, v)
	}
}
