package vector

import (
	"math"
	"math/rand/v2"
	"testing"

	"github.com/peterstace/simplefeatures/geom"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const squares = 12

// frames are rectangles on the lines of a grid, some with a hole, turned by an angle, and which squares of the grid they cover: they share edges and corners, lie over one another's
// holes, and fill them.
func frames(r *rand.Rand, n int, angle float64) (list []Polygon, covered [squares][squares]bool) {
	sin, cos := math.Sincos(angle)
	at := func(x, y int) Point {
		return Point{float64(x)*cos - float64(y)*sin, float64(x)*sin + float64(y)*cos}
	}
	box := func(x0, y0, x1, y1 int) Ring { return Ring{at(x0, y0), at(x1, y0), at(x1, y1), at(x0, y1)} }
	for range n {
		x0, y0 := r.IntN(squares-1), r.IntN(squares-1)
		x1, y1 := x0+1+r.IntN(squares-x0-1), y0+1+r.IntN(squares-y0-1)
		p := Polygon{box(x0, y0, x1, y1)}
		hole := [4]int{}
		if x1-x0 > 2 && y1-y0 > 2 && r.IntN(2) == 0 {
			hole = [4]int{x0 + 1, y0 + 1, x1 - 1, y1 - 1}
			p = append(p, box(hole[0], hole[1], hole[2], hole[3]))
		}
		list = append(list, p)
		for y := y0; y < y1; y++ {
			for x := x0; x < x1; x++ {
				if x < hole[0] || x >= hole[2] || y < hole[1] || y >= hole[3] {
					covered[y][x] = true
				}
			}
		}
	}
	return list, covered
}

func TestUnionIsEverySquare(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 1))
	for i := range 3000 {
		polygons, covered := frames(r, 2+r.IntN(7), float64(i%2)*0.3)
		var list []geom.Geometry
		for _, p := range polygons {
			list = append(list, p.Geom().AsGeometry())
		}
		u, err := Union(list)
		require.NoError(t, err)
		require.InDelta(t, count(covered, covered), u.Area(), 1e-9)
	}
}

// Features with pieces that touch and overlap are laid over each other: the library refuses some of them as they are, and panics at others.
func TestShapesShareEverySquare(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 1))
	for i := range 3000 {
		a, coveredByA := frames(r, 1+r.IntN(4), float64(i%3)*0.3)
		b, coveredByB := frames(r, 1+r.IntN(4), float64(i%3)*0.3)
		x, err := Shape(&Geometry{Polygons: a})
		require.NoError(t, err)
		y, err := Shape(&Geometry{Polygons: b})
		require.NoError(t, err)
		require.InDelta(t, count(coveredByA, coveredByA), x.Area(), 1e-9)
		both, err := Intersection(x, y)
		require.NoError(t, err)
		require.InDelta(t, count(coveredByA, coveredByB), both.Area(), 1e-9)
	}
}

// A ring may touch itself in corners, from outside and from within; one that crosses itself there is not sound.
func TestShapesThatTouchThemselves(t *testing.T) {
	for name, c := range map[string]struct {
		polygon Polygon
		want    float64 // 0 for not sound
	}{
		"two squares":          {Polygon{{{0, 0}, {1, 0}, {1, 1}, {2, 1}, {2, 2}, {1, 2}, {1, 1}, {0, 1}}}, 2},
		"the other way around": {Polygon{{{0, 1}, {1, 1}, {1, 2}, {2, 2}, {2, 1}, {1, 1}, {1, 0}, {0, 0}}}, 2},
		"a hole at a corner":   {Polygon{{{0, 0}, {3, 0}, {3, 3}, {0, 3}, {0, 0}, {1, 2}, {2, 1}}}, 7.5},
		"holes that touch":     {Polygon{{{0, 0}, {4, 0}, {4, 4}, {0, 4}}, {{1, 1}, {2, 1}, {2, 2}, {3, 2}, {3, 3}, {2, 3}, {2, 2}, {1, 2}}}, 14},
		"a spike":              {Polygon{{{0, 0}, {2, 0}, {2, 2}, {3, 2}, {2, 2}, {0, 2}}}, 4},
		"crossed in a corner":  {Polygon{{{0, 0}, {1, 1}, {2, 2}, {2, 0}, {1, 1}, {0, 2}}}, 0},
		"crossed":              {Polygon{{{0, 0}, {2, 2}, {2, 0}, {0, 2}}}, 0},
	} {
		g, err := Shape(&Geometry{Polygons: []Polygon{c.polygon}})
		if c.want == 0 {
			assert.Error(t, err, name)
			continue
		}
		require.NoError(t, err, name)
		assert.InDelta(t, c.want, g.Area(), 1e-12, name)
		assert.NoError(t, Sound(g), name)
	}
}

// count is how many squares are in both.
func count(a, b [squares][squares]bool) (n float64) {
	for y := range squares {
		for x := range squares {
			if a[y][x] && b[y][x] {
				n++
			}
		}
	}
	return n
}
