package bench

import (
	"context"
	"iter"
	"testing"

	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/raster/view"

	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/patch"
	"github.com/verdex-land/verdex/core/raster/geotiff"
)

// BenchmarkPatches traces the patches of all classes of a sixteenth of the patchy raster, of which one runs through
// all of it.
func BenchmarkPatches(b *testing.B) {
	s, err := geotiff.Open(files.Disk, patchy(b, "equal-area"), 1)
	require.NoError(b, err)
	defer s.Close()
	g := s.Header().Grid
	g.Width, g.Height = 4096, 4096
	part, err := view.Crop(s, g)
	require.NoError(b, err)
	for range b.N {
		points := int64(0)
		_, err := patch.Find(context.Background(), patch.Request{Source: part, Keep: func(float64) bool { return true }, Dir: b.TempDir(), Found: func(p *patch.Patch) error {
			return p.Rings(func(_ bool, n int64, _ iter.Seq[[2]int32]) error {
				points += n
				return nil
			})
		}})
		require.NoError(b, err)
		b.ReportMetric(float64(points), "points")
	}
	b.SetBytes(4096 * 4096)
}
