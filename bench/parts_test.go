package bench

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/raster/geotiff"
	"github.com/verdex-land/verdex/core/tally"
)

// BenchmarkParts measures 64 parts one after another, beside the whole, each on one thread: what measuring in parts costs beyond starting the program and placing the zones, which every part does for itself. The parts
// gather to the whole.
func BenchmarkParts(b *testing.B) {
	for _, name := range []string{"equal-area", "UTM"} {
		path := patchy(b, name)
		s, err := geotiff.Open(files.Disk, path, 1)
		require.NoError(b, err)
		defer s.Close()
		for _, c := range []struct{ name, zones string }{{"1-zone", ""}, {"1024-zones", wiggly(b, name, 32, 32)}} {
			set, place := zonesOf(b, s.Header().Grid, c.zones)
			measure := func(part tally.Part) *tally.Tally {
				t, err := tally.Measure(context.Background(), tally.Request{Layers: []raster.Source{s}, Zones: set, Placement: place, Threads: 1, Part: part})
				require.NoError(b, err)
				return t
			}
			b.Run(name+"/"+c.name, func(b *testing.B) {
				want := measure(tally.Part{})
				ratio(b, func() time.Duration {
					start := time.Now()
					measure(tally.Part{})
					return time.Since(start)
				}, func() time.Duration {
					start := time.Now()
					var parts []*tally.Tally
					for i := range 64 {
						parts = append(parts, measure(tally.Part{I: i + 1, N: 64}))
					}
					took := time.Since(start)
					got, err := tally.Gather(parts, nil, 0, []string{path})
					require.NoError(b, err)
					require.Equal(b, want.Zones, got.Zones)
					return took
				})
			})
		}
	}
}
