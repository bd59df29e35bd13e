package cli

import (
	"bufio"
	"bytes"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/raster/geotiff"
)

// peak runs a command of the built program and returns how much memory it took at most, in MB.
func peak(t *testing.T, args ...string) float64 {
	t.Helper()
	c := built(t, append(args, "--quiet")...)
	var errs bytes.Buffer
	c.Stderr = &errs
	require.NoError(t, c.Run(), "%v: %s", args, errs.String())
	return float64(c.ProcessState.SysUsage().(*syscall.Rusage).Maxrss) / 1024
}

const littleMemory = 300 // MB

// A million rows of one account go through every table, in little memory: five epochs of 20,000 zones and ten classes.
func TestAMillionRowsOfABookInLittleMemory(t *testing.T) {
	if testing.Short() {
		t.Skip("makes a book of a million rows")
	}
	dir := t.TempDir()
	at := func(name string) string { return filepath.Join(dir, name) }
	verdex(t, "book", "create", at("big.book"))
	for e := range 5 {
		f, err := os.Create(at("tally.csv"))
		require.NoError(t, err)
		w := bufio.NewWriter(f)
		fmt.Fprintln(w, "epoch,zone_id,zone_name,kind,class_code,class_name,area,unit")
		for z := range 20000 {
			for c := range 10 {
				share := float64((z+c+e)%10+1) / 8 // the whole of a zone is always the same
				fmt.Fprintf(w, "%d,Z%05d,Zone %d,class,%d,Class %d,%g,ha\n", 2000+4*e, z, z, c+1, c+1, share)
			}
		}
		require.NoError(t, w.Flush())
		require.NoError(t, f.Close())
		built := built(t, "book", "post", at("big.book"), at("tally.csv"), "--account", "one", "--zone-set", "zones", "--quiet")
		out, err := built.CombinedOutput()
		require.NoError(t, err, string(out))
	}
	for _, args := range [][]string{
		{"account", "series", at("big.book") + "#one", "--out", at("series.csv")},
		{"account", "series", at("big.book") + "#one", "--out", at("series.parquet")},
		{"book", "export", at("big.book"), "one", "--out", at("one.csv")},
		{"book", "export", at("big.book"), "one", "--out", at("one.parquet")},
		{"book", "export", at("big.book"), "one", "--out", at("one.html")},
		{"book", "export", at("big.book"), "one", "--out", at("one.xlsx")},
		{"book", "verify", at("big.book")},
	} {
		used := peak(t, args...)
		t.Logf("%v: %.0f MB", args[:2], used)
		assert.Less(t, used, float64(littleMemory), "%v", args)
	}
	lines, err := os.ReadFile(at("one.csv"))
	require.NoError(t, err)
	assert.Equal(t, 1000001, bytes.Count(lines, []byte("\n")))
}

// A measure of 1.2 million rows (twelve classes and three other parts in each of 80,089 squares) goes to every format, in little memory.
func TestAMillionRowsOfAMeasureInLittleMemory(t *testing.T) {
	if testing.Short() {
		t.Skip("measures a hundred thousand zones")
	}
	dir := t.TempDir()
	at := func(name string) string { return filepath.Join(dir, name) }
	crs, err := earth.Lookup(3035)
	require.NoError(t, err)
	const side, cells, classes = 283, 10, 12 // squares along a side, and cells along one of theirs
	rng := rand.New(rand.NewPCG(1, 2))
	m := raster.NewMemory("classes.tif", raster.Grid{Width: side * cells, Height: side * cells, X0: 4e6, Y0: 3e6, DX: 30, DY: -30, CRS: crs}, raster.Uint8, 256, 256)
	for row := range side * cells {
		for col := range side * cells {
			m.Set(col, row, float64(1+(rng.IntN(2)*6+row+col*5)%classes))
		}
	}
	f, err := os.Create(at("classes.tif"))
	require.NoError(t, err)
	require.NoError(t, geotiff.Write(t.Context(), f, m, geotiff.Options{}))
	require.NoError(t, f.Close())
	verdex(t, "zones", "grid", "--grid", at("classes.tif"), "--cells", fmt.Sprint(cells), "--out", at("squares.gpkg"))
	for _, format := range []string{"csv", "jsonl", "parquet", "xlsx", "gpkg", "html", "md"} {
		out := at("measure." + format)
		used := peak(t, "measure", at("classes.tif"), "--zones", at("squares.gpkg"), "--out", out)
		t.Logf("%s: %.0f MB", format, used)
		assert.Less(t, used, float64(littleMemory), format)
	}
	lines, err := os.ReadFile(at("measure.csv"))
	require.NoError(t, err)
	assert.Equal(t, 1+side*side*(classes+3), bytes.Count(lines, []byte("\n")))
}
