package bench

import (
	"context"
	"os"
	"path/filepath"
	"runtime"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/raster/view"

	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/raster/geotiff"
	"github.com/verdex-land/verdex/core/tally"
)

const fusedRules = `
rules:
  - class: 1
    when: cover IN (1, 2) AND slope > 5
  - class: 2
    when: cover = 3 OR cover = 4 AND slope BETWEEN 2 AND 6
  - class: 3
    when: slope IS NULL
else: 4
`

// BenchmarkFused measures what a mosaic of 100 files, with a nodata value that they do not declare, becomes by a
// crosswalk and by rules together with a second raster: every tile of both is read once, and nothing is written. The
// floor is decoding the tiles of both and nothing else.
func BenchmarkFused(b *testing.B) {
	single := blocked(b, patchy(b, "equal-area"))
	names := tiled(b, single)
	dir := b.TempDir()
	write := func(name, text string) string {
		path := filepath.Join(dir, name)
		require.NoError(b, os.WriteFile(path, []byte(text), 0o644))
		return path
	}
	walk, err := cover.ReadCrosswalk(files.Disk, write("codes.csv", "from,to\n1;2,1\n3,2\n4;5,3\n6,4\nelse,5\n"), nil)
	require.NoError(b, err)
	rules, err := cover.ReadRules(files.Disk, write("rules.yaml", fusedRules), nil)
	require.NoError(b, err)
	threads := runtime.GOMAXPROCS(0)
	open := func() (tiles []raster.Source, second raster.Source, end func()) {
		var all []*geotiff.Source
		for _, f := range append(names, single) {
			s, err := geotiff.Open(files.Disk, f, 1)
			require.NoError(b, err)
			all = append(all, s)
		}
		for _, s := range all[:len(names)] {
			tiles = append(tiles, raster.WithNoData(s, 9))
		}
		return tiles, all[len(names)], func() {
			for _, s := range all {
				s.Close()
			}
		}
	}
	floor := func() time.Duration {
		tiles, second, end := open()
		defer end()
		start := time.Now()
		type job struct {
			s raster.Source
			w raster.Window
		}
		var jobs []job
		for _, s := range append(tiles, second) {
			g := s.Header().Grid
			for r := 0; r < g.Height; r += blockSide {
				for c := 0; c < g.Width; c += blockSide {
					jobs = append(jobs, job{s, raster.Window{Col: c, Row: r, Width: min(blockSide, g.Width-c), Height: min(blockSide, g.Height-r)}})
				}
			}
		}
		var next atomic.Int64
		var wg sync.WaitGroup
		for range threads {
			wg.Go(func() {
				readers := map[raster.Source]raster.Reader{}
				var c raster.Cells
				for {
					i := int(next.Add(1)) - 1
					if i >= len(jobs) {
						return
					}
					r := readers[jobs[i].s]
					if r == nil {
						r = jobs[i].s.NewReader()
						readers[jobs[i].s] = r
					}
					if err := r.Read(jobs[i].w, &c); err != nil {
						panic(err)
					}
				}
			})
		}
		wg.Wait()
		return time.Since(start)
	}
	ratio(b, floor, func() time.Duration {
		start := time.Now()
		tiles, second, end := open()
		defer end()
		m, err := view.Mosaic(tiles, view.MosaicOptions{})
		require.NoError(b, err)
		classes, err := cover.View(m, &cover.Coder{Crosswalk: walk, NoData: m.Header().NoData}, nil)
		require.NoError(b, err)
		layers, err := view.NewLayers([]view.Layer{{Name: "cover", Source: classes}, {Name: "slope", Source: second}})
		require.NoError(b, err)
		view, err := cover.NewRuleView(rules, layers, nil, cover.RuleApart)
		require.NoError(b, err)
		set, place, err := tally.Whole(view.Header().Grid)
		require.NoError(b, err)
		_, err = tally.Measure(context.Background(), tally.Request{Layers: []raster.Source{view}, Zones: set, Placement: place, Threads: threads})
		require.NoError(b, err)
		return time.Since(start)
	})
}
