package patch

import (
	"context"
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/raster"
)

// plainFold folds one piece after another in the plainest way: after each it looks for all pieces again.
func plainFold(g raster.Grid, cells []int, least float64, area func(cell int) float64) (found int) {
	w, h := g.Width, g.Height
	before := append([]int(nil), cells...)
	for {
		of := make([]int, len(cells)) // pieces by cell, from 1 on, in the order of their first cells
		var areas []float64
		for i, v := range cells {
			if v == 0 || of[i] > 0 {
				continue
			}
			n, sum := len(areas)+1, 0.0
			stack := []int{i}
			of[i] = n
			for len(stack) > 0 {
				q := stack[len(stack)-1]
				stack = stack[:len(stack)-1]
				sum += area(q)
				for _, next := range besides(q, w, h) {
					if cells[next] == v && of[next] == 0 {
						of[next] = n
						stack = append(stack, next)
					}
				}
			}
			areas = append(areas, sum)
		}
		smallest, best := 0, 0
		for n, a := range areas {
			if a >= least || smallest > 0 && a >= areas[smallest-1]*(1-1e-12) {
				continue
			}
			lengths := make([]float64, len(areas)+1)
			class := make([]int, len(areas)+1)
			for i := range cells {
				if of[i] != n+1 {
					continue
				}
				for _, next := range besides(i, w, h) {
					if to := of[next]; to > 0 && to != n+1 {
						lengths[to] += sideLength(g, i, next)
						class[to] = cells[next]
					}
				}
			}
			choice := 0
			for to, l := range lengths {
				if l > 0 && (choice == 0 || l > lengths[choice]*(1+1e-9) || l > lengths[choice]*(1-1e-9) && class[to] < class[choice]) {
					choice = to
				}
			}
			if choice > 0 {
				smallest, best = n+1, class[choice]
			}
		}
		if smallest == 0 {
			break
		}
		for i := range cells {
			if of[i] == smallest {
				cells[i] = best
			}
		}
	}
	seen := map[int]bool{}
	for i := range cells { // pieces as they were, of which cells have changed
		if cells[i] == before[i] || seen[i] {
			continue
		}
		found++
		stack := []int{i}
		seen[i] = true
		for len(stack) > 0 {
			q := stack[len(stack)-1]
			stack = stack[:len(stack)-1]
			for _, next := range besides(q, w, h) {
				if before[next] == before[i] && !seen[next] {
					seen[next] = true
					stack = append(stack, next)
				}
			}
		}
	}
	return found
}

func besides(i, w, h int) (out []int) {
	if i%w > 0 {
		out = append(out, i-1)
	}
	if i%w < w-1 {
		out = append(out, i+1)
	}
	if i/w > 0 {
		out = append(out, i-w)
	}
	if i/w < h-1 {
		out = append(out, i+w)
	}
	return out
}

func sideLength(g raster.Grid, a, b int) float64 {
	ca, ra, cb, rb := a%g.Width, a/g.Width, b%g.Width, b/g.Width
	if ra == rb {
		m, _ := g.CRS.Metric(g.Point(float64(max(ca, cb)), float64(ra)+0.5))
		return math.Sqrt(m.YY) * math.Abs(g.DY)
	}
	m, _ := g.CRS.Metric(g.Point(float64(ca)+0.5, float64(max(ra, rb))))
	return math.Sqrt(m.XX) * math.Abs(g.DX)
}

// Random rasters are folded as one piece after another is, whatever the CRS.
func TestFoldIsOnePieceAfterAnother(t *testing.T) {
	grids := []struct {
		code         int
		x, y, dx, dy float64
	}{{3035, 4321000, 3210000, 10, -10}, {4326, 12, 60, 1e-4, -1e-4}, {32633, 800000, 6600000, 300, -200}}
	rng := rand.New(rand.NewPCG(9, 9))
	for try := range 300 {
		c := grids[try%len(grids)]
		crs, err := earth.Lookup(c.code)
		require.NoError(t, err)
		g := raster.Grid{Width: 3 + rng.IntN(14), Height: 3 + rng.IntN(14), X0: c.x, Y0: c.y, DX: c.dx, DY: c.dy, CRS: crs}
		areas, err := raster.NewAreas(g)
		require.NoError(t, err)
		cells := make([]int, g.Width*g.Height)
		classes := 2 + rng.IntN(4)
		for i := range cells {
			if i%g.Width > 0 && rng.IntN(3) == 0 {
				cells[i] = cells[i-1]
			} else if cells[i] = 1 + rng.IntN(classes); rng.IntN(12) == 0 {
				cells[i] = 0
			}
		}
		area := func(cell int) float64 {
			a, err := areas.Cell(cell%g.Width, cell/g.Width)
			require.NoError(t, err)
			return a
		}
		limit := area(0) * (0.5 + float64(rng.IntN(7)))
		none := 0.0
		given := append([]int(nil), cells...)
		f, err := Fold(context.Background(), raster.NewFunc(raster.Header{Grid: g, Type: raster.Uint8, NoData: &none}, func(c, r int) float64 { return float64(given[r*g.Width+c]) }), limit, nil)
		require.NoError(t, err)
		var got raster.Cells
		require.NoError(t, f.NewReader().Read(raster.Window{Width: g.Width, Height: g.Height}, &got))
		found := plainFold(g, cells, limit, area)
		for i, want := range cells {
			require.EqualValues(t, want, got.At(i%g.Width, i/g.Width), "try %d, cell %d of %d × %d", try, i, g.Width, g.Height)
		}
		assert.Equal(t, found, f.Found)
	}
}

// Interpolated lengths are those at the middles of sides to a part in 10⁹.
func TestLengthsOfSides(t *testing.T) {
	for _, c := range []struct {
		code     int
		x, y, dx float64
	}{{32633, 800000, 6600000, 30}, {3035, 2700000, 1600000, 10}, {4326, 12, 60, 1e-3}, {3857, 1e6, 8e6, 100}} {
		crs, err := earth.Lookup(c.code)
		require.NoError(t, err)
		g := raster.Grid{Width: 200, Height: 200, X0: c.x, Y0: c.y, DX: c.dx, DY: -c.dx, CRS: crs}
		s := newSides(g)
		for i := range 400 {
			col, row := i*7%200, i*13%200
			m, _ := crs.Metric(g.Point(float64(col), float64(row)+0.5))
			assert.InEpsilon(t, math.Sqrt(m.YY)*c.dx, s.upright(col, row), 2e-9, "%d", c.code)
			m, _ = crs.Metric(g.Point(float64(col)+0.5, float64(row)))
			assert.InEpsilon(t, math.Sqrt(m.XX)*c.dx, s.level(col, row), 2e-9, "%d", c.code)
		}
	}
}
