package bench

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// BenchmarkProgram runs the built program on the raster, from start to the table, and reports the
// memory that it takes at its peak.
func BenchmarkProgram(b *testing.B) {
	program := built(b)
	for _, name := range []string{"equal-area", "UTM"} {
		path := patchy(b, name)
		zones := wiggly(b, name, 32, 32)
		for _, args := range [][]string{{}, {"--zones", zones, "--zone-id", "id"}} {
			label := name + "/1-zone"
			if len(args) > 0 {
				label = name + "/1024-zones"
			}
			b.Run(label, func(b *testing.B) {
				var peak int64
				best := time.Hour
				for range max(3, b.N) {
					c := exec.Command(program, append([]string{"measure", path, "--format", "csv", "--quiet"}, args...)...)
					start := time.Now()
					require.NoError(b, c.Start())
					done := make(chan error, 1)
					go func() { done <- c.Wait() }()
					peak = max(peak, watch(c.Process.Pid, done))
					best = min(best, time.Since(start))
				}
				b.ReportMetric(float64(peak)/1024, "peak-MiB")
				b.ReportMetric(float64(best.Milliseconds()), "whole-ms")
				b.ReportMetric(0, "ns/op")
			})
		}
	}
}

// watch gives the greatest resident memory of a process in KiB, as the system keeps it, until done.
func watch(pid int, done <-chan error) (peak int64) {
	for {
		select {
		case err := <-done:
			if err != nil {
				panic(err)
			}
			return peak
		case <-time.After(2 * time.Millisecond):
		}
		status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
		if err != nil {
			continue
		}
		for _, line := range strings.Split(string(status), "\n") {
			var kib int64
			if _, err := fmt.Sscanf(line, "VmHWM: %d kB", &kib); err == nil {
				peak = max(peak, kib)
			}
		}
	}
}

// BenchmarkFewTiles measures a zone that touches about a hundredth of the tiles; the ratio is to the
// floor of decoding all of them, and should be about a hundredth too.
func BenchmarkFewTiles(b *testing.B) {
	path := patchy(b, "equal-area")
	g := grids["equal-area"]
	x0, y1 := g.x0+5000*g.dx, g.y0+5000*g.dy
	x1, y0 := g.x0+6000*g.dx, g.y0+6000*g.dy
	zones := filepath.Join(b.TempDir(), "few.geojson")
	require.NoError(b, os.WriteFile(zones, fmt.Appendf(nil,
		`{"type":"FeatureCollection","crs":{"type":"name","properties":{"name":"EPSG:3035"}},"features":[{"type":"Feature","properties":{"id":1},"geometry":{"type":"Polygon","coordinates":[[[%g,%g],[%g,%g],[%g,%g],[%g,%g]]]}}]}`,
		x0, y0, x1, y0, x1, y1, x0, y1), 0o644))
	threads := runtime.GOMAXPROCS(0)
	var tiles int
	ratio(b, func() time.Duration { return decodeAll(b, path, threads, nil) }, func() time.Duration {
		d, t := measureAll(b, path, zones, threads)
		tiles = t.Tiles
		return d
	})
	b.ReportMetric(float64(tiles)/float64((side/tile)*(side/tile)), "tiles-share")
}
