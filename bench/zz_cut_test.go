package bench

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/raster/geotiff"
	"github.com/verdex-land/verdex/core/vector/geojson"
	"github.com/verdex-land/verdex/core/zone"
)

func TestCutOnly(t *testing.T) {
	path := patchy(t, "equal-area")
	for _, n := range []int{317, 55} {
		s, err := geotiff.Open(path, 1)
		require.NoError(t, err)
		layer, err := geojson.Read(fmt.Sprintf("/tmp/zones-%d.geojson", n))
		require.NoError(t, err)
		set, err := zone.FromLayer(layer, zone.Selection{IDField: "id"})
		require.NoError(t, err)
		place, err := set.Place(s.Header().Grid)
		require.NoError(t, err)
		best := time.Hour
		for range 12 {
			start := time.Now()
			c := zone.Cutter{Width: 16384, Down: true}
			for i := range place.Outlines {
				o := &place.Outlines[i]
				c.Cut(o, i, o.RowFrom, o.RowTo).Free()
			}
			best = min(best, time.Since(start))
		}
		fmt.Println("cut", n, best)
	}
}
