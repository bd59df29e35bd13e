package earth

import (
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What is traced to rounded digits has the digits of what is traced exactly, on grids of several CRSs and cell sizes, where the grid leaves the map, and
// for lines of short edges and of long ones.
func TestRoundedTracer(t *testing.T) {
	rng := rand.New(rand.NewPCG(3, 5))
	const unit = 1e-9
	for _, g := range []struct {
		code        int
		x, y, d     float64
		size, least float64
	}{
		{3035, 4321000, 3900000, 30, 266, 0.9}, {32633, 300000, 6600000, 30, 266, 0.9}, {32633, 300000, 6600000, 10, 512, 0.9}, {4326, 12, 58, 0.0003, 240, 0.9},
		{3857, 1300000, 8000000, 250, 32, 0.9}, {3035, 2000000, 5500000, 5000, 64, 0}, {32633, 300000, 6600000, 30, 0, 0}, {6933, 17367000, 7314000, 100, 80, 0},
	} {
		crs, err := Lookup(g.code)
		require.NoError(t, err)
		calls := 0
		f := func(q [2]float64) ([2]float64, bool) {
			calls++
			lon, lat, ok := crs.ToGeographic(g.x+q[0]*g.d, g.y-q[1]*g.d)
			return [2]float64{lon / degree, lat / degree}, ok
		}
		tol := Tolerance{Longest: 512, Absolute: g.d / 111e6, Straight: 1e-9, Bend: NewBend(f, 333)}
		r := NewRounding(f, tol, unit, g.size)
		rounded := r.Tracer()
		points, exactly := 0, 0
		for range 12 {
			exact := NewTracer(f, tol)
			rounded.Begin()
			p := [2]float64{float64(rng.IntN(1000)), float64(rng.IntN(1000))}
			for step := range 200 {
				before := calls
				want, ok := exact.To(nil, p)
				between := calls
				got, ok2 := rounded.To(nil, p)
				require.Equal(t, ok, ok2)
				if !ok {
					break
				}
				if calls > between {
					exactly++
				}
				calls = before
				require.Len(t, got, len(want), "EPSG:%d", g.code)
				for i := range want {
					for k := range 2 {
						require.Equal(t, math.Round(want[i][k]/unit), math.Round(got[i][k]/unit), "EPSG:%d at %v", g.code, p)
					}
				}
				points++
				reach := 1 + step%3*step // some edges are long
				p[0] += float64(rng.IntN(2*reach+1) - reach)
				p[1] += float64(rng.IntN(2*reach+1) - reach)
			}
		}
		require.Greater(t, points, 12)
		assert.GreaterOrEqual(t, 1-float64(exactly)/float64(points), g.least*0.3, "EPSG:%d: few points are mapped by polynomials", g.code)
		// Short steps, as along cells.
		exactly, points = 0, 0
		rounded.Begin()
		for i := range 3000 {
			before := calls
			_, ok := rounded.To(nil, [2]float64{float64(i % 300), float64(i / 300)})
			if points++; calls > before && ok {
				exactly++
			}
		}
		assert.GreaterOrEqual(t, 1-float64(exactly)/float64(points), g.least, "EPSG:%d: %d of %d points are mapped exactly", g.code, exactly, points)
	}
}
