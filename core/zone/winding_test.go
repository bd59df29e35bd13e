package zone

import (
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/planar"
)

// Rectangles on the lines of a grid, as shells and holes that touch, lie in and over one another: how often they run around is counted square by square. Some are turned and far from
// the origin, so that edges are on others by rounding only, and some rings have corners between their corners.
func TestUnevenIsCountedBySquares(t *testing.T) {
	const n = 8
	r := rand.New(rand.NewPCG(3, 9))
	var f crossingFinder
	even, uneven := 0, 0
	for k := range 30000 {
		sin, cos := math.Sincos([]float64{0, 0.3, math.Pi / 2, 1e-4}[k%4])
		far := float64(k/4%2) * 6e6
		var p Polygon
		var times [n][n]int
		for i := range 1 + r.IntN(4) {
			x0, y0 := r.IntN(n-1), r.IntN(n-1)
			x1, y1 := x0+1+r.IntN(n-x0-1), y0+1+r.IntN(n-y0-1)
			corners := [][2]int{{x0, y0}, {x1, y0}, {x1, y1}, {x0, y1}}
			if r.IntN(3) == 0 {
				corners = [][2]int{{x0, y0}, {x0 + r.IntN(x1-x0+1), y0}, {x1, y0}, {x1, y0 + r.IntN(y1-y0+1)}, {x1, y1}, {x0, y1}}
			}
			way := 1
			if i > 0 && r.IntN(2) == 0 {
				way = -1
			}
			if r.IntN(20) == 0 { // around twice
				corners = append(corners, corners...)
				for y := y0; y < y1; y++ {
					for x := x0; x < x1; x++ {
						times[y][x] += way
					}
				}
			}
			var ring Ring
			for _, c := range corners {
				x, y := float64(c[0]), float64(c[1])
				ring = append(ring, Point{x*cos - y*sin + far/10, x*sin + y*cos + far})
			}
			if way < 0 {
				slices.Reverse(ring)
			}
			ring, err := cleanRing(ring, false)
			require.NoError(t, err)
			p = append(p, ring)
			for y := y0; y < y1; y++ {
				for x := x0; x < x1; x++ {
					times[y][x] += way
				}
			}
		}
		if len(f.find(p, 0)) > 0 {
			continue
		}
		want := false
		for _, row := range times {
			for _, v := range row {
				want = want || v < 0 || v > 1
			}
		}
		_, got := f.winding.uneven(p, f.ends)
		require.Equal(t, want, got, "%d: %v", k, p)
		if want {
			uneven++
		} else {
			even++
		}
	}
	assert.Greater(t, min(even, uneven), 5000)
}

// Pieces are looked at together where their extents meet, in time that follows their number: stripes, of which three share ground with one more piece, and islands in the extent of a mainland.
func TestNearPieces(t *testing.T) {
	rect := func(x, y, w, h float64) Polygon { return Polygon{{{x, y}, {x + w, y}, {x + w, y + h}, {x, y + h}}} }
	var stripes []Polygon
	for i := range 50000 {
		stripes = append(stripes, rect(0, float64(i), 2e5, 1))
	}
	assert.Empty(t, near(stripes))
	assert.Equal(t, [][]int{{7, 8, 9, 50000}}, near(append(stripes, rect(5, 7.5, 1, 2))))
	frame := rect(0, 0, 100, 100)
	hole := rect(1, 1, 98, 98)[0]
	slices.Reverse(hole)
	frame = append(frame, hole)
	assert.Equal(t, [][]int{{0, 1, 3}}, near([]Polygon{frame, rect(10, 10, 5, 5), rect(200, 0, 1, 1), rect(20, 20, 5, 5)}))
	assert.Equal(t, [][]int{{0, 2}, {1, 3}}, near([]Polygon{rect(0, 0, 2, 2), rect(10, 0, 2, 2), rect(1, 1, 2, 2), rect(11, 1, 2, 2)}))
	z := Zone{ID: "a", Polygons: []Polygon{rect(0, 0, 2, 2), rect(10, 0, 2, 2), rect(1, 0, 2, 2), rect(5, 0, 2, 2)}}
	var f crossingFinder
	note, err := z.repair(&Set{CRS: crsOf(t, 3035)}, &f)
	require.NoError(t, err)
	assert.Contains(t, note, "overlap")
	assert.Len(t, z.Polygons, 3)
	sum := 0.0
	for _, p := range z.Polygons {
		sum += planar.Area(p[0])
	}
	assert.InDelta(t, 14, sum, 1e-9)
}
