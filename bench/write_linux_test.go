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

// BenchmarkWrite writes rasters with the built program, beside decoding the inputs and encoding the output, with overviews and nothing else: the ratios are of
// processor times. What encoding takes is what copying the output takes, less decoding it.
func BenchmarkWrite(b *testing.B) {
	program := built(b)
	path, dir := patchy(b, "UTM"), b.TempDir()
	crosswalk, out := filepath.Join(dir, "crosswalk.csv"), filepath.Join(dir, "out.tif")
	require.NoError(b, os.WriteFile(crosswalk, []byte("from,to,note\n9,1,\nelse,keep,\n"), 0o644))
	took := func(do func()) time.Duration {
		before := processorTime()
		do()
		return processorTime() - before
	}
	decode := func(path string) time.Duration {
		return took(func() { decodeAll(b, path, 2, nil) })
	}
	copied := func() time.Duration {
		s, err := geotiff.Open(files.Disk, out, 1)
		require.NoError(b, err)
		defer s.Close()
		f, err := os.Create(filepath.Join(dir, "copy.tif"))
		require.NoError(b, err)
		defer f.Close()
		return took(func() {
			require.NoError(b, geotiff.Write(context.Background(), f, s, geotiff.Options{SpillDir: dir, Values: s.Header().Type.Floating()}))
		})
	}
	for _, c := range []struct {
		name   string
		inputs int // that have to be decoded: where a mosaic's upper raster has no data, the lower one is read
		args   []string
	}{
		{"reclassify", 1, []string{"reclassify", path, "--crosswalk", crosswalk}},
		{"mosaic", 2, []string{"mosaic", path, path}},
		{"align", 1, []string{"align", path, "--grid", path, "--nodata", "255"}},
		{"derive", 1, []string{"derive", "expr", "(a + 1) / 2", "--layer", "a=" + path}},
	} {
		b.Run(c.name, func(b *testing.B) {
			in, again, back, whole := time.Hour, time.Hour, time.Hour, time.Hour
			for range max(3, b.N) {
				x := exec.Command(program, append(c.args, "--out", out, "--force", "--quiet")...)
				text, err := x.CombinedOutput()
				require.NoError(b, err, "%s", text)
				whole = min(whole, x.ProcessState.UserTime()+x.ProcessState.SystemTime())
				in, back, again = min(in, decode(path)), min(back, decode(out)), min(again, copied())
			}
			floor := time.Duration(c.inputs)*in + again - back
			b.ReportMetric(float64(whole)/float64(floor), "processor-ratio")
			b.ReportMetric(float64(floor.Milliseconds()), "floor-ms")
			b.ReportMetric(0, "ns/op")
		})
	}
}
