package bench

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
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

// BenchmarkPartsOfALongJob does a job of a raster of 262144 × 262144 cells with the built program, as a whole and in 64 parts that are gathered, once, and compares the bytes: the ratio is that of the processor time of all 65
// processes to that of the one. Starting, reading and placing the zones is in it.
func BenchmarkPartsOfALongJob(b *testing.B) {
	program := built(b)
	s, err := geotiff.Open(files.Disk, patchy(b, "equal-area"), 1)
	require.NoError(b, err)
	defer s.Close()
	r := s.NewReader()
	const times, across = 16, side / tile
	var tiles [][]byte
	for i := range across * across {
		var c raster.Cells
		require.NoError(b, r.Read(raster.Window{Col: i % across * tile, Row: i / across * tile, Width: tile, Height: tile}, &c))
		tiles = append(tiles, packed(b, c.U8))
	}
	path := filepath.Join(b.TempDir(), "long.tif")
	g := grids["equal-area"]
	repeated(b, path, raster.Grid{Width: side * times, Height: side * times, X0: g.x0, Y0: g.y0, DX: g.dx, DY: g.dy}, tiles,
		func(col, row int) int { return row%across*across + col%across })
	for _, c := range []struct {
		name string
		args []string
	}{{"1-zone", nil}, {"1024-zones", []string{"--zones", wigglyOver(b, "equal-area", 32, 32, times), "--zone-id", "id"}}} {
		b.Run(c.name, func(b *testing.B) {
			dir := b.TempDir()
			run := func(args ...string) time.Duration {
				p := exec.Command(program, args...)
				out, err := p.CombinedOutput()
				require.NoError(b, err, "%s", out)
				return p.ProcessState.UserTime() + p.ProcessState.SystemTime()
			}
			args := append([]string{"measure", path, "--quiet", "--force", "--out"}, c.args...)
			whole := run(slices.Insert(slices.Clone(args), 5, filepath.Join(dir, "whole.csv"))...)
			parts := time.Duration(0)
			gather := []string{"gather", "--quiet", "--force", "--out", filepath.Join(dir, "gathered.csv")}
			for i := range 64 {
				part := filepath.Join(dir, fmt.Sprintf("part-%d", i+1))
				parts += run(append(slices.Insert(slices.Clone(args), 5, part), "--part", fmt.Sprintf("%d/64", i+1))...)
				gather = append(gather, part)
			}
			parts += run(gather...)
			want, err := os.ReadFile(filepath.Join(dir, "whole.csv"))
			require.NoError(b, err)
			got, err := os.ReadFile(filepath.Join(dir, "gathered.csv"))
			require.NoError(b, err)
			require.Equal(b, string(want), string(got))
			b.ReportMetric(whole.Seconds(), "whole-s")
			b.ReportMetric(parts.Seconds(), "parts-s")
			b.ReportMetric(parts.Seconds()/whole.Seconds(), "ratio")
			b.ReportMetric(0, "ns/op")
		})
	}
}
