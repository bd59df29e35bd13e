package bench

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"testing"
	"time"

	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/raster/view"

	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/raster/geotiff"
	"github.com/verdex-land/verdex/core/tally"
)

// blockSide is that of the blocks of the files: 16384 / 10 cells are 6.4 of them, where files of national rasters
// have a dozen and more, so that the blocks that stand over their borders weigh more here than there.
const blockSide = 256

// blocked writes the raster in blocks of blockSide.
func blocked(tb testing.TB, path string) string {
	out := path + ".blocks"
	if _, err := os.Stat(out); err == nil {
		return out
	}
	s, err := geotiff.Open(files.Disk, path, 1)
	require.NoError(tb, err)
	defer s.Close()
	f, err := os.Create(out)
	require.NoError(tb, err)
	require.NoError(tb, geotiff.Write(context.Background(), f, raster.Cached(s, 64<<20), geotiff.Options{TileSize: blockSide, NoOverviews: true}))
	require.NoError(tb, f.Close())
	return out
}

// tiled cuts the raster into 10 × 10 files, whose sides are not a multiple of their blocks, as those of national
// rasters are.
func tiled(tb testing.TB, path string) (tiles []string) {
	s, err := geotiff.Open(files.Disk, path, 1)
	require.NoError(tb, err)
	defer s.Close()
	dir := path + ".tiles"
	require.NoError(tb, os.MkdirAll(dir, 0o755))
	const n = (side + 9) / 10
	for r := 0; r < side; r += n {
		for c := 0; c < side; c += n {
			file := filepath.Join(dir, fmt.Sprintf("%05d_%05d.tif", r, c))
			tiles = append(tiles, file)
			if _, err := os.Stat(file); err == nil {
				continue
			}
			g := s.Header().Grid
			g.X0, g.Y0 = g.Point(float64(c), float64(r))
			g.Width, g.Height = min(n, side-c), min(n, side-r)
			part, err := view.Crop(s, g)
			require.NoError(tb, err)
			f, err := os.Create(file)
			require.NoError(tb, err)
			require.NoError(tb, geotiff.Write(context.Background(), f, part, geotiff.Options{TileSize: blockSide, NoOverviews: true}))
			require.NoError(tb, f.Close())
		}
	}
	return tiles
}

// BenchmarkMosaic measures a mosaic of 100 files beside one file of the same cells in blocks of the same size.
func BenchmarkMosaic(b *testing.B) {
	path := blocked(b, patchy(b, "equal-area"))
	tiles := tiled(b, path)
	threads := runtime.GOMAXPROCS(0)
	var one *tally.Tally
	b.Run("100-files", func(b *testing.B) {
		ratio(b, func() time.Duration {
			d, t := measureAll(b, path, "", threads)
			one = t
			return d
		}, func() time.Duration {
			start := time.Now()
			var sources []raster.Source
			for _, f := range tiles {
				s, err := geotiff.Open(files.Disk, f, 1)
				require.NoError(b, err)
				defer s.Close()
				sources = append(sources, s)
			}
			m, err := view.Mosaic(sources, view.MosaicOptions{})
			require.NoError(b, err)
			set, place, err := tally.Whole(m.Header().Grid)
			require.NoError(b, err)
			t, err := tally.Measure(context.Background(), tally.Request{Layers: []raster.Source{m}, Zones: set, Placement: place, Threads: threads})
			require.NoError(b, err)
			require.Equal(b, one.Zones, t.Zones)
			return time.Since(start)
		})
	})
}
