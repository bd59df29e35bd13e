package bench

import (
	"context"
	"fmt"
	"os"
	"runtime"
	"runtime/pprof"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/raster/geotiff"
	"github.com/verdex-land/verdex/core/tally"
	"github.com/verdex-land/verdex/core/vector/geojson"
	"github.com/verdex-land/verdex/core/zone"
)

func TestPhases(t *testing.T) {
	path := patchy(t, "equal-area")
	for _, c := range []struct{ n, points int }{{317, 4}, {55, 165}} {
		zones := fmt.Sprintf("/tmp/zones-%d.geojson", c.n)
		if _, err := os.Stat(zones); err != nil {
			p := wiggly(t, "equal-area", c.n, c.points)
			b, _ := os.ReadFile(p)
			os.WriteFile(zones, b, 0o644)
		}
		f, _ := os.Create(fmt.Sprintf("/tmp/phase-%d.prof", c.n))
		pprof.StartCPUProfile(f)
		var best [6]time.Duration
		var bestp [6]time.Duration
		for i := 0; i < 6; i++ {
			f0 := processorTime()
			fl0 := decodeAll(t, path, 2, nil)
			if d := processorTime() - f0; best[5] == 0 || fl0 < best[5] {
				best[5], bestp[5] = fl0, d
			}
			runtime.GC()
			var at [6]time.Time
			var pr [6]time.Duration
			mark := func(k int) { at[k] = time.Now(); pr[k] = processorTime() }
			mark(0)
			s, err := geotiff.Open(path, 1)
			require.NoError(t, err)
			layer, err := geojson.Read(zones)
			require.NoError(t, err)
			mark(1)
			set, err := zone.FromLayer(layer, zone.Selection{IDField: "id"})
			require.NoError(t, err)
			mark(2)
			place, err := set.Place(s.Header().Grid)
			require.NoError(t, err)
			mark(3)
			_, err = tally.Measure(context.Background(), tally.Request{Layers: []raster.Source{s}, Zones: set, Placement: place})
			require.NoError(t, err)
			mark(4)
			s.Close()
			for k := 0; k < 4; k++ {
				d := at[k+1].Sub(at[k])
				q := pr[k+1] - pr[k]
				if best[k] == 0 || d < best[k] {
					best[k] = d
				}
				if bestp[k] == 0 || q < bestp[k] {
					bestp[k] = q
				}
			}
			d := at[4].Sub(at[0])
			if best[4] == 0 || d < best[4] {
				best[4] = d
			}
		}
		pprof.StopCPUProfile()
		f.Close()
		fl := best[5]
		fmt.Printf("in floors (cpu): read %.2f from %.2f place %.2f measure %.2f\n", float64(bestp[0])/float64(bestp[5]), float64(bestp[1])/float64(bestp[5]), float64(bestp[2])/float64(bestp[5]), float64(bestp[3])/float64(bestp[5]))
		fmt.Printf("%d: read %v/%v from %v/%v place %v/%v measure %v/%v total %v floor %v ratio %.2f\n", c.n, best[0], bestp[0], best[1], bestp[1], best[2], bestp[2], best[3], bestp[3], best[4], fl, float64(best[4])/float64(fl))
	}
}
