package vector

import (
	"math"
	"math/rand/v2"
	"testing"

	"github.com/peterstace/simplefeatures/geom"
	"github.com/stretchr/testify/require"
)

// Rectangles with holes on the lines of a grid, whose union is counted square by square: they share edges and corners, lie over one another's holes, and fill them.
func TestUnionIsEverySquare(t *testing.T) {
	const n = 12
	r := rand.New(rand.NewPCG(5, 1))
	for i := range 3000 {
		sin, cos := math.Sincos(float64(i%2) * 0.3) // every other one is turned
		at := func(x, y int) Point {
			return Point{float64(x)*cos - float64(y)*sin, float64(x)*sin + float64(y)*cos}
		}
		box := func(x0, y0, x1, y1 int) Ring { return Ring{at(x0, y0), at(x1, y0), at(x1, y1), at(x0, y1)} }
		var list []geom.Geometry
		var covered [n][n]bool
		for range 2 + r.IntN(7) {
			x0, y0 := r.IntN(n-1), r.IntN(n-1)
			x1, y1 := x0+1+r.IntN(n-x0-1), y0+1+r.IntN(n-y0-1)
			p := Polygon{box(x0, y0, x1, y1)}
			hole := [4]int{}
			if x1-x0 > 2 && y1-y0 > 2 && r.IntN(2) == 0 {
				hole = [4]int{x0 + 1, y0 + 1, x1 - 1, y1 - 1}
				p = append(p, box(hole[0], hole[1], hole[2], hole[3]))
			}
			list = append(list, p.Geom().AsGeometry())
			for y := y0; y < y1; y++ {
				for x := x0; x < x1; x++ {
					if x < hole[0] || x >= hole[2] || y < hole[1] || y >= hole[3] {
						covered[y][x] = true
					}
				}
			}
		}
		want := 0.0
		for _, row := range covered {
			for _, c := range row {
				if c {
					want++
				}
			}
		}
		u, err := Union(list)
		require.NoError(t, err)
		require.InDelta(t, want, u.Area(), 1e-9)
	}
}
