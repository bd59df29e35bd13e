package bench

import (
	"context"
	"fmt"
	"math/rand/v2"
	"runtime"
	"testing"
	"time"

	"github.com/verdex-land/verdex/core/area"
	"github.com/verdex-land/verdex/core/change"
	"github.com/verdex-land/verdex/core/files"

	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/raster/geotiff"
	"github.com/verdex-land/verdex/core/tally"
	"github.com/verdex-land/verdex/core/zone"
)

// BenchmarkThreeEpochs compares three epochs in one pass, in the whole raster and in 1,024 zones, beside decoding the three.
func BenchmarkThreeEpochs(b *testing.B) { benchmarkEpochs(b, 3, false) }

// BenchmarkHistories traces the histories of eight epochs, with the change of all pairs, beside decoding the eight.
func BenchmarkHistories(b *testing.B) { benchmarkEpochs(b, 8, true) }

func benchmarkEpochs(b *testing.B, n int, histories bool) {
	threads := runtime.GOMAXPROCS(0)
	var paths, labels []string
	for e := range n {
		paths, labels = append(paths, patchyAt(b, "equal-area", e)), append(labels, fmt.Sprint(2000+e))
	}
	floor := func() (d time.Duration) {
		for _, p := range paths {
			d += decodeAll(b, p, threads, nil)
		}
		return d
	}
	for _, side := range []int{1, 32} {
		zones := ""
		if side > 1 {
			zones = wiggly(b, "equal-area", side, 32)
		}
		b.Run(fmt.Sprintf("%d-zones", side*side), func(b *testing.B) {
			ratio(b, floor, func() time.Duration {
				start := time.Now()
				in := change.Input{Epochs: labels, Rasters: paths}
				var layers []raster.Source
				for _, p := range paths {
					s, err := geotiff.Open(files.Disk, p, 1)
					require.NoError(b, err)
					defer s.Close()
					layers = append(layers, s)
					in.Coders = append(in.Coders, &cover.Coder{})
				}
				in.Zones, in.Placement = zonesOf(b, layers[0].Header().Grid, zones)
				var err error
				in.Tally, err = tally.Measure(context.Background(), tally.Request{Layers: layers, Groups: change.Groups(n, histories),
					Zones: in.Zones, Placement: in.Placement, Threads: threads})
				require.NoError(b, err)
				ch, err := change.Compare(in, area.Units[0])
				require.NoError(b, err)
				if histories {
					ch.Trace(in)
				}
				return time.Since(start)
			})
		})
	}
}

// Change between two rasters of 200 classes each in 10,000 zones stays under 1 GiB: the heap is read at its highest, when tallies
// and transitions are both there.
func TestManyTransitionsInLittleMemory(t *testing.T) {
	const n = 4000
	crs, err := earth.Lookup(3035)
	require.NoError(t, err)
	g := raster.Grid{Width: n, Height: n, X0: 4321000, Y0: 3900000, DX: 30, DY: -30, CRS: crs}
	rasterOf := func(salt uint64) raster.Source {
		m := raster.NewMemory("m", g, raster.Uint8, 512, 512)
		rng := rand.New(rand.NewPCG(salt, 1))
		for r := 0; r < n; r += 4 {
			for c := 0; c < n; c += 4 { // patches of 4 × 4 cells
				v := float64(1 + rng.IntN(200))
				for i := range 4 {
					for j := range 4 {
						m.Set(c+i, r+j, v)
					}
				}
			}
		}
		return m
	}
	layers := []raster.Source{rasterOf(1), rasterOf(2)}
	set := &zone.Set{Source: "squares", CRS: crs}
	const side = 40 * 30
	for r := range n / 40 {
		for c := range n / 40 {
			x, y := g.X0+float64(c)*side, g.Y0-float64(r)*side
			set.Zones = append(set.Zones, zone.Zone{ID: fmt.Sprint(r, c), Polygons: []zone.Polygon{{{{x, y}, {x, y - side}, {x + side, y - side}, {x + side, y}}}}})
		}
	}
	place, err := set.Place(g)
	require.NoError(t, err)
	before := heap()
	in := change.Input{Epochs: []string{"2000", "2020"}, Rasters: []string{"a", "b"}, Coders: []*cover.Coder{{}, {}}, Zones: set, Placement: place}
	in.Tally, err = tally.Measure(context.Background(), tally.Request{Layers: layers, Groups: change.Groups(2, false), Zones: set, Placement: place})
	require.NoError(t, err)
	ch, err := change.Compare(in, area.Units[0])
	require.NoError(t, err)
	used := heap() - before
	transitions := 0
	for _, z := range ch.Pairs[0].Zones {
		transitions += len(z.Transitions)
	}
	t.Logf("%d transitions in %d zones: %d MiB", transitions, len(set.Zones), used>>20)
	require.Greater(t, transitions, 900000)
	require.Less(t, used, uint64(700<<20))
	runtime.KeepAlive(in)
}

// heap is what is allocated after a collection.
func heap() uint64 {
	runtime.GC()
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	return m.HeapAlloc
}
