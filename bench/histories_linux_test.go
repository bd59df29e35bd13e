package bench

import (
	"bufio"
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/raster/geotiff"
)

// Eight epochs with 100,000 different histories, in 1,024 zones that have a million of them together, are traced in less than 512 MiB.
func TestManyHistoriesInLittleMemory(t *testing.T) {
	const n, epochs, different = 4000, 8, 100_000
	dir := t.TempDir()
	crs, err := earth.Lookup(3035)
	require.NoError(t, err)
	g := raster.Grid{Width: n, Height: n, X0: 4321000, Y0: 3900000, DX: 30, DY: -30, CRS: crs}
	mixed := func(v uint64) uint64 {
		v = (v ^ v>>31) * 0x9e3779b97f4a7c15
		return (v ^ v>>29) * 0xbf58476d1ce4e5b9 >> 20
	}
	args := []string{"change", "--table", "histories", "--out", filepath.Join(dir, "h.csv")}
	for e := range uint64(epochs) {
		path := filepath.Join(dir, fmt.Sprint(e, ".tif"))
		f, err := os.Create(path)
		require.NoError(t, err)
		src := raster.NewFunc(raster.Header{Type: raster.Uint8, Grid: g}, func(c, r int) float64 { // patches of 4 × 4 cells
			history := mixed(uint64(r/4)<<20|uint64(c/4)+1) % different
			return float64(1 + mixed(history<<8|e+7)%12)
		})
		require.NoError(t, geotiff.Write(context.Background(), f, src, geotiff.Options{TileSize: tile, NoOverviews: true}))
		require.NoError(t, f.Close())
		args = append(args, "--epoch", fmt.Sprintf("%d=%s", 2000+e, path))
	}
	program := built(t)
	zones := filepath.Join(dir, "zones.gpkg")
	out, err := exec.Command(program, "zones", "grid", "--grid", filepath.Join(dir, "0.tif"), "--cells", "125", "--out", zones).CombinedOutput()
	require.NoError(t, err, "%s", out)
	c := exec.Command(program, append(args, "--zones", zones, "--quiet")...)
	require.NoError(t, c.Start())
	done := make(chan error, 1)
	go func() { done <- c.Wait() }()
	peak := watch(c.Process.Pid, done) >> 10
	f, err := os.Open(filepath.Join(dir, "h.csv"))
	require.NoError(t, err)
	defer f.Close()
	rows, found, ids := 0, map[string]bool{}, map[string]bool{}
	for lines := bufio.NewScanner(f); lines.Scan(); {
		if cells := strings.Split(lines.Text(), ","); len(cells) > 4 && rows > 0 {
			found[cells[4]], ids[cells[0]] = true, true
		}
		rows++
	}
	t.Logf("%d rows, %d histories, %d zones: %d MiB", rows, len(found), len(ids), peak)
	assert.Greater(t, rows, 900_000)
	assert.Greater(t, len(found), different*95/100)
	assert.Len(t, ids, 1024)
	assert.Less(t, peak, int64(512))
}
