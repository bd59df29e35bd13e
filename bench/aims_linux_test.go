package bench

import (
	"bytes"
	"compress/zlib"
	"io"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// BenchmarkAims says what decoding and whole commands take, in processor time of one process each, as a multiple of L: what decoding all Deflate tiles of the raster
// in UTM takes with libdeflate (floor/floor.c), measured in the same run; where that cannot be built, with the standard library, and the output
// says so. "plain" is the same without AVX2, by GODEBUG=cpu.avx2=off.
func BenchmarkAims(b *testing.B) {
	if b.N > 1 { // the first call has done it
		return
	}
	program := built(b)
	floor := floorOf(b, patchy(b, "UTM"))
	least := time.Duration(math.MaxInt64)
	// All is measured in turns, so that what else the machine does meets all alike.
	type aim struct {
		name    string
		args    []string
		decode  string // instead of a command
		L       float64
		of      string // or a multiple of another case
		times   float64
		took    time.Duration
		without time.Duration // AVX2
	}
	change := []string{"change"}
	for e, label := range []string{"2000", "2010", "2020"} {
		change = append(change, "--epoch", label+"="+patchyAt(b, "equal-area", e))
	}
	cases := []*aim{
		{name: "decode Deflate", decode: patchy(b, "UTM"), L: 2},
		{name: "decode LZW", decode: lzwOf(b, patchy(b, "UTM")), L: 3},
	}
	for _, grid := range []string{"equal-area", "UTM", "geographic"} {
		cases = append(cases, &aim{name: "whole " + grid, args: []string{"measure", patchy(b, grid)}, L: 3.5})
	}
	for _, grid := range []string{"equal-area", "UTM", "geographic"} {
		aimed := 6.0
		if grid == "equal-area" {
			aimed = 5
		}
		cases = append(cases, &aim{name: "1,024 zones " + grid, args: []string{"measure", patchy(b, grid), "--zones", wiggly(b, grid, 32, 32), "--zone-id", "id"}, L: aimed})
	}
	cases = append(cases, &aim{name: "100,489 zones", args: []string{"measure", patchy(b, "equal-area"), "--zones", wiggly(b, "equal-area", 317, 4), "--zone-id", "id"}},
		&aim{name: "three epochs", args: change, of: "whole equal-area", times: 3.3})
	for range 7 {
		least = min(least, floor())
		for _, c := range cases {
			for _, vectors := range []bool{true, false} {
				took := decodingTime(b, program, c.decode, c.args, vectors)
				if best := &c.took; vectors && (*best == 0 || took < *best) {
					*best = took
				}
				if best := &c.without; !vectors && (*best == 0 || took < *best) {
					*best = took
				}
			}
		}
	}
	b.Logf("L = %d ms", least.Milliseconds())
	b.Logf("%-24s %8s %8s %8s %14s", "", "ms", "L", "aim", "plain/vectors")
	took := map[string]time.Duration{}
	for _, c := range cases {
		took[c.name] = c.took
		aimed := "-"
		if c.L > 0 {
			aimed = strconv.FormatFloat(c.L, 'f', 1, 64)
		}
		if c.of != "" {
			aimed = strconv.FormatFloat(c.times*float64(took[c.of])/float64(least), 'f', 1, 64)
		}
		b.Logf("%-24s %8d %8.2f %8s %14.2f", c.name, c.took.Milliseconds(), float64(c.took)/float64(least), aimed, float64(c.without)/float64(c.took))
	}
	b.ReportMetric(float64(least.Milliseconds()), "L-ms")
	b.ReportMetric(0, "ns/op")
}

// decodingTime is the processor time of a command, or of decoding all tiles of a raster, which a process of this test does.
func decodingTime(b *testing.B, program, decode string, args []string, vectors bool) time.Duration {
	c := exec.Command(program, append(args, "--format", "csv", "--quiet")...)
	if decode != "" {
		c = exec.Command(os.Args[0], "-test.run", "TestDecodeAll", "-test.v")
		c.Env = append(os.Environ(), "VERDEX_BENCH_DECODE="+decode)
	} else {
		c.Env = os.Environ()
	}
	if !vectors {
		c.Env = append(c.Env, "GODEBUG=cpu.avx2=off")
	}
	var out, said bytes.Buffer
	c.Stdout, c.Stderr = &out, &said
	require.NoError(b, c.Run(), "%s", said.String())
	if decode == "" {
		return c.ProcessState.UserTime() + c.ProcessState.SystemTime()
	}
	_, rest, ok := strings.Cut(out.String(), "decoded in ")
	require.True(b, ok, out.String())
	text, _, _ := strings.Cut(rest, "\n")
	d, err := time.ParseDuration(text)
	require.NoError(b, err)
	return d
}

// TestDecodeAll is a process of BenchmarkAims: it decodes a raster.
func TestDecodeAll(t *testing.T) {
	path := os.Getenv("VERDEX_BENCH_DECODE")
	if path == "" {
		t.Skip("it is a part of BenchmarkAims")
	}
	before := processorTime()
	decodeAll(t, path, 1, nil)
	t.Logf("decoded in %v", processorTime()-before)
}

// lzwOf is the raster with its tiles in LZW, as libtiff writes it.
func lzwOf(b *testing.B, path string) string {
	to := strings.TrimSuffix(path, ".tif") + "-lzw.tif"
	if _, err := os.Stat(to); err != nil {
		out, err := exec.Command("tiffcp", "-c", "lzw", "-t", "-w", strconv.Itoa(tile), "-l", strconv.Itoa(tile), path, to+".part").CombinedOutput()
		require.NoError(b, err, "%s", out)
		require.NoError(b, os.Rename(to+".part", to))
	}
	return to
}

// floorOf prepares to decode all Deflate tiles of a raster with nothing else, and gives the processor time of doing so.
func floorOf(b *testing.B, path string) func() time.Duration {
	floor := filepath.Join(b.TempDir(), "floor")
	if out, err := exec.Command("cc", "-O2", "-o", floor, "floor/floor.c", "-ldeflate").CombinedOutput(); err != nil {
		b.Logf("L is that of the standard library's inflate: libdeflate is not to be had (%v %s)", err, bytes.TrimSpace(out))
		tiles := sync.OnceValue(func() [][]byte { return tilesOf(b, path) })
		return func() time.Duration {
			room := make([]byte, tile*tile)
			list := tiles()
			before := processorTime()
			for _, packed := range list {
				r, err := zlib.NewReader(bytes.NewReader(packed))
				require.NoError(b, err)
				_, err = io.ReadFull(r, room)
				require.NoError(b, err)
			}
			return processorTime() - before
		}
	}
	b.Log("L is that of libdeflate")
	return func() time.Duration {
		out, err := exec.Command(floor, path, "2").Output()
		require.NoError(b, err)
		n, err := strconv.ParseInt(strings.TrimSpace(string(out)), 10, 64)
		require.NoError(b, err)
		return time.Duration(n)
	}
}

// tilesOf are the packed tiles of a file that patchy has made.
func tilesOf(b *testing.B, path string) (tiles [][]byte) {
	file, lists := listsOf(b, path)
	for i, from := range lists[324].values {
		tiles = append(tiles, file[from:][:lists[325].values[i]])
	}
	return tiles
}
