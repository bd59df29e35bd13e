package bench

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// BenchmarkPlan runs a plan of three epochs in two sets of zones beside the command change over the three in one set: the extents of each epoch, the changes and all
// checks come from the same pass. It also runs the plan again, when nothing has changed.
func BenchmarkPlan(b *testing.B) {
	dir := b.TempDir()
	program := built(b)
	var rasters []string
	for e := range 3 {
		rasters = append(rasters, patchyAt(b, "equal-area", e))
	}
	run := func(args ...string) (wall, processor time.Duration) {
		c := exec.Command(program, args...)
		c.Dir = dir
		start := time.Now()
		out, err := c.CombinedOutput()
		require.NoError(b, err, "%s", out)
		u := c.ProcessState.SysUsage().(*syscall.Rusage)
		return time.Since(start), time.Duration(u.Utime.Nano() + u.Stime.Nano())
	}
	for _, sides := range [][2]int{{3, 4}, {32, 11}} {
		b.Run(fmt.Sprintf("%d-and-%d-zones", sides[0]*sides[0], sides[1]*sides[1]), func(b *testing.B) {
			for i, n := range sides {
				run("zones", "grid", "--grid", rasters[0], "--cells", fmt.Sprint(side/n), "--out", fmt.Sprintf("zones%d.gpkg", i), "--force", "--quiet")
			}
			text := "zones:\n  a: {zones: zones0.gpkg, zone-id: zone_id}\n  b: {zones: zones1.gpkg, zone-id: zone_id}\nepochs:\n"
			for e, r := range rasters {
				text += fmt.Sprintf("  %d: %s\n", 2000+10*e, r)
			}
			text += "outputs:\n  extents: {make: measure, out: \"extents_{zones}_{epoch}.csv\"}\n  change: {make: change, out: \"change_{zones}.csv\"}\n"
			require.NoError(b, os.WriteFile(filepath.Join(dir, "plan.yaml"), []byte(text), 0o644))
			best, work := [3]time.Duration{time.Hour, time.Hour, time.Hour}, [3]time.Duration{time.Hour, time.Hour, time.Hour}
			note := func(k int, wall, processor time.Duration) {
				best[k], work[k] = min(best[k], wall), min(work[k], processor)
			}
			for range max(3, b.N) {
				require.NoError(b, os.RemoveAll(filepath.Join(dir, ".verdex")))
				wall, processor := run("run", "plan.yaml", "--quiet", "--force")
				note(0, wall, processor)
				wall, processor = run("change", "--epoch", "2000="+rasters[0], "--epoch", "2010="+rasters[1], "--epoch", "2020="+rasters[2], "--zones", "zones0.gpkg", "--zone-id", "zone_id",
					"--out", "typed.csv", "--force", "--quiet")
				note(1, wall, processor)
				wall, processor = run("run", "plan.yaml", "--quiet")
				note(2, wall, processor)
			}
			b.ReportMetric(float64(best[0])/float64(best[1]), "ratio-to-change")
			b.ReportMetric(float64(work[0])/float64(work[1]), "processor-ratio")
			b.ReportMetric(float64(best[2].Milliseconds()), "again-ms")
			b.ReportMetric(0, "ns/op")
		})
	}
}
