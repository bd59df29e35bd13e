package bench

import (
	"context"
	"fmt"
	"os"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/change"
	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/raster/geotiff"
	"github.com/verdex-land/verdex/core/tally"
)

func BenchmarkZZ(b *testing.B) {
	var layers []raster.Source
	const n = 4096
	for e := range 8 {
		s, err := geotiff.Open(files.Disk, patchyAt(b, "equal-area", e), 1)
		require.NoError(b, err)
		g := s.Header().Grid
		g.Width, g.Height = n, n
		m := raster.NewMemory(fmt.Sprint(e), g, raster.Uint8, 512, bh())
		rd := s.NewReader()
		var c raster.Cells
		for r := 0; r < n; r += 512 {
			for col := 0; col < n; col += 512 {
				require.NoError(b, rd.Read(raster.Window{Col: col, Row: r, Width: 512, Height: 512}, &c))
				for i := range 512 {
					for j := range 512 {
						m.Set(col+j, r+i, float64(c.U8[i*c.Stride+j]))
					}
				}
			}
		}
		layers = append(layers, m)
	}
	zones, place := zonesOf(b, layers[0].Header().Grid, "")
	least := time.Hour
	b.ResetTimer()
	for range b.N {
		before := processorTime()
		_, err := tally.Measure(context.Background(), tally.Request{Layers: layers, Groups: change.Groups(8, true), Zones: zones, Placement: place, Threads: 1})
		require.NoError(b, err)
		least = min(least, processorTime()-before)
	}
	b.ReportMetric(float64(least.Microseconds())/1000, "ms")
}

func bh() int { n, _ := strconv.Atoi(os.Getenv("BH")); return n }
