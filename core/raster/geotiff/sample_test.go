package geotiff

import (
	"bytes"
	"math"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/raster"
)

// quarters is a raster of 2048 × 2048 cells: 1 and 2 above, 3 and nodata below.
func quarters(t *testing.T, o Options) *Source {
	t.Helper()
	crs, err := earth.Lookup(3035)
	require.NoError(t, err)
	none := 0.0
	g := raster.Grid{Width: 2048, Height: 2048, X0: 4000000, Y0: 3000000, DX: 10, DY: -10, CRS: crs}
	o.TileSize = 128
	b := bytesOf(t, raster.NewFunc(raster.Header{Grid: g, Type: raster.Uint8, NoData: &none}, func(c, r int) float64 {
		switch {
		case r < 1024 && c < 1024:
			return 1
		case r < 1024:
			return 2
		case c < 1024:
			return 3
		}
		return 0
	}), o)
	s, err := New(bytes.NewReader(b), int64(len(b)), "quarters.tif", 1)
	require.NoError(t, err)
	return s
}

// What is shown is read and no more: of the smallest overview that is fine enough, or of the tiles in the frame.
func TestSampleReadsWhatIsShown(t *testing.T) {
	reduced, full := quarters(t, Options{}), quarters(t, Options{NoOverviews: true})
	require.Len(t, raster.Overviews(reduced), 4) // 1024, 512, 256 and 128 cells
	assert.Empty(t, raster.Overviews(full))
	whole := raster.Frame{X1: 2048, Y1: 2048}
	for _, c := range []struct {
		what    string
		s       raster.Source
		f       raster.Frame
		size    int
		windows int
		reduced bool
	}{
		{"all in 128 parts, from one tile", reduced, whole, 128, 1, true},
		{"all in 256 parts", reduced, whole, 256, 4, true},
		{"parts a little smaller than the cells of an overview take the finer one", reduced, whole, 280, 16, true},
		{"all cells", reduced, whole, 2048, 256, false},
		{"no overviews", full, whole, 128, 256, false},
		{"few places in many tiles", full, whole, 4, 16, false},
		{"a frame in one tile", full, raster.Frame{X0: 130, Y0: 130, X1: 250, Y1: 250}, 60, 1, false},
		{"a frame beyond the raster", full, raster.Frame{X0: -500, Y0: -500, X1: 0, Y1: 0}, 60, 0, false},
	} {
		c.f.Width, c.f.Height = c.size, c.size
		got, err := raster.Sample(t.Context(), c.s, c.f, 2)
		require.NoError(t, err, c.what)
		assert.Equal(t, c.windows, got.Windows, c.what)
		assert.Equal(t, c.reduced, got.Reduced, c.what)
	}
	for _, s := range []*Source{reduced, full} {
		got, err := raster.Sample(t.Context(), s, raster.Frame{X0: -1024, Y0: 0, X1: 3072, Y1: 2048, Width: 4, Height: 2}, 0)
		require.NoError(t, err)
		want := []float64{math.NaN(), 1, 2, math.NaN(), math.NaN(), 3, math.NaN(), math.NaN()}
		for i := range want {
			assert.True(t, got.Values[i] == want[i] || got.Values[i] != got.Values[i] && want[i] != want[i], "%d: %v", i, got.Values)
		}
	}
	// Views that change the georeference or the nodata value keep the overviews.
	assert.Len(t, raster.Overviews(raster.WithNoData(reduced, 3)), 4)
	got, err := raster.Sample(t.Context(), raster.WithNoData(reduced, 3), raster.Frame{X1: 2048, Y1: 2048, Width: 128, Height: 128}, 0)
	require.NoError(t, err)
	assert.True(t, got.Reduced && math.IsNaN(got.At(0, 127)) && got.At(127, 127) == 0)
}

// Several figures may be drawn from one raster at once.
func TestSamplesAtOnce(t *testing.T) {
	s := quarters(t, Options{})
	var wg sync.WaitGroup
	for range 8 {
		wg.Go(func() {
			got, err := raster.Sample(t.Context(), s, raster.Frame{X1: 2048, Y1: 2048, Width: 64, Height: 64}, 0)
			assert.NoError(t, err)
			assert.Equal(t, 2.0, got.At(63, 0))
		})
	}
	wg.Wait()
}
