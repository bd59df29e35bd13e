package bench

import (
	"bytes"
	"compress/zlib"
	"encoding/binary"
	"fmt"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/raster"
)

// national writes a BigTIFF of 131072 × 131072 cells, 16 GiB when it is not compressed, of which it stores four
// tiles: the others point to one of them.
func national(t *testing.T) string {
	t.Helper()
	const n, ts = 1 << 17, 512
	var tiles [][]byte
	for k := range 4 {
		tile := make([]byte, ts*ts)
		for i := range tile {
			tile[i] = byte(k + 1)
			if i/ts%64 < k*8 { // bands of another class
				tile[i] = 5
			}
		}
		tiles = append(tiles, packed(t, tile))
	}
	path := filepath.Join(t.TempDir(), "national.tif")
	repeated(t, path, raster.Grid{Width: n, Height: n, X0: 4e6, Y0: 4e6, DX: 10, DY: -10}, tiles, func(col, row int) int { return (row*(n/ts) + col + row) % 4 })
	return path
}

// packed is a tile as a zlib stream.
func packed(tb testing.TB, tile []byte) []byte {
	var b bytes.Buffer
	z := zlib.NewWriter(&b)
	_, err := z.Write(tile)
	require.NoError(tb, err)
	require.NoError(tb, z.Close())
	return b.Bytes()
}

// repeated writes a square BigTIFF in EPSG:3035 whose tiles, of 512 × 512 cells, are some that are stored once: which gives the number of each.
func repeated(tb testing.TB, path string, g raster.Grid, tiles [][]byte, which func(col, row int) int) {
	tb.Helper()
	const ts = tile
	n := g.Width
	le := binary.LittleEndian
	var file bytes.Buffer
	file.Write(le.AppendUint64([]byte{'I', 'I', 43, 0, 8, 0, 0, 0}, 0))
	var at []uint64
	for _, tile := range tiles {
		at = append(at, uint64(file.Len()))
		file.Write(tile)
	}
	count := uint64(n/ts) * uint64(n/ts)
	var offsets, sizes []byte
	for i := range int(count) {
		k := which(i%(n/ts), i/(n/ts))
		offsets, sizes = le.AppendUint64(offsets, at[k]), le.AppendUint64(sizes, uint64(len(tiles[k])))
	}
	doubles := func(v ...float64) (b []byte) {
		for _, x := range v {
			b = le.AppendUint64(b, math.Float64bits(x))
		}
		return b
	}
	shorts := func(v ...uint16) (b []byte) {
		for _, x := range v {
			b = le.AppendUint16(b, x)
		}
		return b
	}
	type entry struct {
		tag, kind uint16
		count     uint64
		data      []byte
	}
	entries := []entry{
		{256, 4, 1, le.AppendUint32(nil, uint32(n))}, {257, 4, 1, le.AppendUint32(nil, uint32(n))}, {258, 3, 1, shorts(8)}, {259, 3, 1, shorts(8)}, {262, 3, 1, shorts(1)},
		{277, 3, 1, shorts(1)}, {322, 3, 1, shorts(uint16(ts))}, {323, 3, 1, shorts(uint16(ts))}, {324, 16, count, offsets}, {325, 16, count, sizes},
		{33550, 12, 3, doubles(g.DX, -g.DY, 0)}, {33922, 12, 6, doubles(0, 0, 0, g.X0, g.Y0, 0)},
		{34735, 3, 16, shorts(1, 1, 0, 3, 1024, 0, 1, 1, 1025, 0, 1, 1, 3072, 0, 1, 3035)},
	}
	directory := le.AppendUint64(nil, uint64(len(entries)))
	for _, e := range entries {
		directory = le.AppendUint64(le.AppendUint16(le.AppendUint16(directory, e.tag), e.kind), e.count)
		if len(e.data) <= 8 {
			directory = append(append(directory, e.data...), make([]byte, 8-len(e.data))...)
			continue
		}
		directory = le.AppendUint64(directory, uint64(file.Len()))
		file.Write(e.data)
	}
	start := file.Len()
	file.Write(append(directory, make([]byte, 8)...))
	b := file.Bytes()
	le.PutUint64(b[8:], uint64(start))
	require.NoError(tb, os.WriteFile(path, b, 0o644))
}

// A raster of 16 GiB is looked at at once, and measured where a zone is, in little memory.
func TestNationalRaster(t *testing.T) {
	program := built(t)
	path := national(t)
	run := func(args ...string) (string, time.Duration, float64) {
		var stdout, stderr bytes.Buffer
		c := exec.Command(program, args...)
		c.Stdout, c.Stderr = &stdout, &stderr
		start := time.Now()
		require.NoError(t, c.Start())
		done := make(chan error, 1)
		go func() { done <- c.Wait() }()
		peak := watch(c.Process.Pid, done)
		return stdout.String(), time.Since(start), float64(peak) / 1024
	}
	text, took, peak := run("look", path, "--quick")
	assert.Contains(t, text, "131,072 × 131,072 of uint8, 16.0 GiB in memory")
	assert.Less(t, took, time.Second)
	assert.Less(t, peak, 256.0)
	t.Logf("look --quick: %v, %.0f MiB", took.Round(time.Millisecond), peak)

	// A square of 4,145 cells, a thousandth of the raster, that begins within a tile.
	const c0, side = 50100, 4145
	x0, y1 := 4e6+c0*10, 4e6-c0*10.
	x1, y0 := x0+side*10, y1-side*10
	ring := fmt.Sprintf("POLYGON((%f %f,%f %f,%f %f,%f %f,%f %f))", x0, y0, x1, y0, x1, y1, x0, y1, x0, y0)
	text, took, peak = run("measure", path, "--zones", ring, "--zones-crs", "EPSG:3035", "--format", "csv", "--unit", "km2")
	assert.Less(t, peak, 256.0)
	sum := 0.0
	for _, line := range strings.Split(text, "\n") {
		var area float64
		if i := strings.Index(line, ",km2,"); i > 0 && strings.Contains(line, ",class,") {
			_, err := fmt.Sscan(line[strings.LastIndexByte(line[:i], ',')+1:i], &area)
			require.NoError(t, err)
		}
		sum += area
	}
	assert.InEpsilon(t, side*side*1e-4, sum, 1e-12)
	t.Logf("measure: %v, %.0f MiB", took.Round(time.Millisecond), peak)
	// 81 or 100 of 65,536 tiles are read. Decoding all of them takes over half a millisecond each on any machine;
	// this is a few times the share that is read, and a hundredth of reading all.
	assert.Less(t, took, 2*time.Second)
}
