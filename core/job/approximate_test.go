package job_test

import (
	"context"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/job"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/raster/geotiff"
)

// patchy writes a raster of blots of four classes, the smaller the higher their code.
func patchy(t *testing.T, seed uint64, side int) string {
	r := rand.New(rand.NewPCG(seed, 1))
	cells := make([]uint8, side*side)
	for i := range cells {
		cells[i] = 1
	}
	for _, blots := range []struct {
		class  uint8
		radius int
	}{{2, 20}, {3, 7}, {4, 2}} {
		class, radius := blots.class, blots.radius
		for range side * side / (radius * radius * 12) {
			x, y := r.IntN(side), r.IntN(side)
			for dy := -radius; dy <= radius; dy++ {
				for dx := -radius; dx <= radius; dx++ {
					if dx*dx+dy*dy <= radius*radius && x+dx >= 0 && x+dx < side && y+dy >= 0 && y+dy < side {
						cells[(y+dy)*side+x+dx] = class
					}
				}
			}
		}
	}
	crs, err := earth.Lookup(32633)
	require.NoError(t, err)
	h := raster.Header{Name: "patchy", Type: raster.Uint8, Grid: raster.Grid{Width: side, Height: side, X0: 344000, Y0: 6480000, DX: 30, DY: -30, CRS: crs}}
	path := filepath.Join(t.TempDir(), "patchy.tif")
	f, err := os.Create(path)
	require.NoError(t, err)
	defer f.Close()
	require.NoError(t, geotiff.Write(context.Background(), f, raster.NewFunc(h, func(c, r int) float64 { return float64(cells[r*side+c]) }), geotiff.Options{TileSize: 64}))
	return path
}

// The error that is announced is that of 93 of 100 extents at least, however many tiles there are beside those of the sample, and not many times larger than it.
func TestApproximateExtentsStateTheirError(t *testing.T) {
	within, all, announced, real := 0, 0, 0.0, 0.0
	for seed := range uint64(14) {
		path := patchy(t, seed, []int{1024, 512, 1536}[seed%3])
		exact, err := job.Measure(t.Context(), job.Env{}, job.MeasureOptions{Covers: []string{path}})
		require.NoError(t, err)
		for level := 1; level <= 3; level++ {
			m, err := job.Measure(t.Context(), job.Env{}, job.MeasureOptions{Covers: []string{path}, ApproximateOption: job.ApproximateOption{Approximate: level}})
			require.NoError(t, err)
			require.NotNil(t, m.Approximate)
			assert.Equal(t, [2]int{1 << level, 1 << level}, m.Approximate.Times)
			assert.Equal(t, 48, m.Approximate.Tiles)
			assert.InDelta(t, exact.Zones[0].Area, m.Zones[0].Area, 1e-6*exact.Zones[0].Area)
			require.NotEmpty(t, m.Composition.Warnings)
			assert.Contains(t, m.Composition.Warnings[0], "all extents are approximate")
			truth := map[string]float64{}
			for _, r := range exact.Zones[0].Rows() {
				truth[r.Code] = r.Area
			}
			for _, r := range m.Zones[0].Rows() {
				if r.Kind != cover.Classified || r.Area == 0 {
					continue
				}
				expected := m.Approximate.Error(r.Code, r.Area*m.Unit.M2, m.Zones[0].Area*m.Unit.M2) / 100 * r.Area
				off := max(r.Area-truth[r.Code], truth[r.Code]-r.Area)
				if all++; off <= expected {
					within++
				}
				announced, real = announced+expected, real+off
			}
		}
	}
	t.Logf("%d of %d", within, all)
	assert.GreaterOrEqual(t, float64(within), 0.93*float64(all), "%d of %d", within, all)
	assert.Less(t, announced, 6*real)
}

func TestApproximateNeedsACopy(t *testing.T) {
	path := patchy(t, 1, 200)
	_, err := job.Measure(t.Context(), job.Env{}, job.MeasureOptions{Covers: []string{path}, ApproximateOption: job.ApproximateOption{Approximate: 9}})
	assert.ErrorContains(t, err, "is a level that")
}
