package bench

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/raster/geotiff"
)

// BenchmarkWrite writes rasters with the built program, beside decoding the raster and encoding it again, with overviews and nothing else: the ratios are of
// processor times.
func BenchmarkWrite(b *testing.B) {
	program := built(b)
	path, dir := patchy(b, "UTM"), b.TempDir()
	crosswalk := filepath.Join(dir, "crosswalk.csv")
	require.NoError(b, os.WriteFile(crosswalk, []byte("from,to,note\n9,1,\nelse,keep,\n"), 0o644))
	floor := func() time.Duration {
		s, err := geotiff.Open(files.Disk, path, 1)
		require.NoError(b, err)
		defer s.Close()
		f, err := os.Create(filepath.Join(dir, "copy.tif"))
		require.NoError(b, err)
		defer f.Close()
		before := processorTime()
		require.NoError(b, geotiff.Write(context.Background(), f, s, geotiff.Options{SpillDir: dir}))
		return processorTime() - before
	}
	for _, c := range []struct {
		name string
		args []string
	}{
		{"reclassify", []string{"reclassify", path, "--crosswalk", crosswalk}},
		{"mosaic", []string{"mosaic", path, path}},
		{"align", []string{"align", path, "--grid", path, "--nodata", "255"}},
	} {
		b.Run(c.name, func(b *testing.B) {
			least, took := time.Hour, time.Hour
			for range max(3, b.N) {
				least = min(least, floor())
				x := exec.Command(program, append(c.args, "--out", filepath.Join(dir, "out.tif"), "--force", "--quiet")...)
				out, err := x.CombinedOutput()
				require.NoError(b, err, "%s", out)
				took = min(took, x.ProcessState.UserTime()+x.ProcessState.SystemTime())
			}
			b.ReportMetric(float64(took)/float64(least), "processor-ratio")
			b.ReportMetric(float64(least.Milliseconds()), "floor-ms")
			b.ReportMetric(0, "ns/op")
		})
	}
}
