// Package bench measures how long measuring takes beside merely decoding the same tiles, in one
// run and with the same threads. Absolute times on shared machines mean little; the ratio is
// what counts. Run it with make bench.
package bench

import (
	"bytes"
	"compress/zlib"
	"context"
	"encoding/binary"
	"fmt"
	"io"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	general "github.com/klauspost/compress/zlib"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/raster/geotiff"
	"github.com/verdex-land/verdex/core/tally"
	"github.com/verdex-land/verdex/core/vector/geojson"
	"github.com/verdex-land/verdex/core/zone"
)

func TestMain(m *testing.M) {
	debug.SetGCPercent(400) // as the program does
	os.Exit(m.Run())
}

// built is the program.
func built(tb testing.TB) string {
	path := filepath.Join(tb.TempDir(), "verdex")
	build := exec.Command("go", "build", "-o", path, "../cmd/verdex")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	out, err := build.CombinedOutput()
	require.NoError(tb, err, "%s", out)
	return path
}

const (
	side = 16384
	tile = 512
)

// grids that the raster can be laid on: its cells stay the same.
var grids = map[string]struct {
	code           int
	x0, y0, dx, dy float64
}{
	"equal-area": {3035, 4321000, 3900000, 30, -30},
	"geographic": {4326, 10, 60, 0.0003, -0.0003},
	"UTM":        {32633, 300000, 6600000, 30, -30},
}

// noise is value noise on a lattice, smooth between its points.
func noise(x, y float64, seed uint64) float64 {
	ix, iy := math.Floor(x), math.Floor(y)
	fx, fy := x-ix, y-iy
	at := func(i, j float64) float64 {
		h := uint64(int64(i))*0x9e3779b97f4a7c15 ^ uint64(int64(j))*0xc2b2ae3d27d4eb4f ^ seed
		h ^= h >> 29
		h *= 0xbf58476d1ce4e5b9
		h ^= h >> 32
		return float64(h>>11) / (1 << 53)
	}
	fx, fy = fx*fx*(3-2*fx), fy*fy*(3-2*fy)
	a := at(ix, iy)*(1-fx) + at(ix+1, iy)*fx
	b := at(ix, iy+1)*(1-fx) + at(ix+1, iy+1)*fx
	return a*(1-fy) + b*fy
}

// patchy makes the raster once for each grid: nine classes in patches of many sizes, with ragged
// borders and, as in maps made from satellite images, a cell in a hundred of another class.
func patchy(tb testing.TB, name string) string { return patchyAt(tb, name, 0) }

// patchyAt is the raster at an epoch: from one to the next a few percent of the cells change, in patches, and other cells are of
// another class by mistake.
func patchyAt(tb testing.TB, name string, epoch int) string {
	dir := os.Getenv("VERDEX_BENCH_DIR")
	if dir == "" {
		dir = filepath.Join(os.TempDir(), "verdex-bench")
	}
	require.NoError(tb, os.MkdirAll(dir, 0o755))
	path := filepath.Join(dir, "patchy-"+name+".tif")
	if epoch > 0 {
		path = filepath.Join(dir, fmt.Sprintf("patchy-%s-%d.tif", name, epoch))
	}
	if _, err := os.Stat(path); err == nil {
		return path
	}
	p := grids[name]
	crs, err := earth.Lookup(p.code)
	require.NoError(tb, err)
	h := raster.Header{Type: raster.Uint8, Grid: raster.Grid{Width: side, Height: side, X0: p.x0, Y0: p.y0, DX: p.dx, DY: p.dy, CRS: crs}}
	f, err := os.Create(path + ".part")
	require.NoError(tb, err)
	src := raster.NewFunc(h, func(c, r int) float64 {
		x, y := float64(c), float64(r)
		v := noise(x/120, y/120, 1) + 0.5*noise(x/31, y/31, 2) + 0.25*noise(x/7, y/7, 3)
		if epoch > 0 && noise(x/200, y/200, 31) > 0.8 {
			v = math.Min(1.7499, v+0.1*float64(epoch))
		}
		class := math.Floor(v / 1.75 * 9)
		if odd := noise(x*7919, y*104729, 9+uint64(epoch)); odd < 0.01 {
			class = math.Floor(odd * 900)
		}
		return class + 1
	})
	require.NoError(tb, geotiff.Write(context.Background(), f, src, geotiff.Options{TileSize: tile, NoOverviews: true}))
	require.NoError(tb, f.Close())
	repack(tb, path+".part")
	require.NoError(tb, os.Rename(path+".part", path))
	return path
}

// repack compresses the tiles of a small TIFF anew with a general library: rasters mostly come from other programs, which do not know what their cells are.
func repack(tb testing.TB, path string) {
	tb.Helper()
	file, lists := listsOf(tb, path)
	le := binary.LittleEndian
	offsets, counts := lists[324], lists[325]
	first := slices.Min(offsets.values)
	out := bytes.NewBuffer(slices.Clone(file[:first]))
	for i, from := range offsets.values {
		r, err := zlib.NewReader(bytes.NewReader(file[from:][:counts.values[i]]))
		require.NoError(tb, err)
		plain, err := io.ReadAll(r)
		require.NoError(tb, err)
		at := out.Len()
		z := general.NewWriter(out)
		_, err = z.Write(plain)
		require.NoError(tb, err)
		require.NoError(tb, z.Close())
		le.PutUint32(out.Bytes()[offsets.at+4*uint32(i):], uint32(at))
		le.PutUint32(out.Bytes()[counts.at+4*uint32(i):], uint32(out.Len()-at))
	}
	require.NoError(tb, os.WriteFile(path, out.Bytes(), 0o644))
}

// list is a list of numbers in a TIFF, and where it lies.
type list struct {
	at     uint32
	values []uint32
}

// listsOf are the bytes of a file that geotiff has written, a small TIFF with the least of byte orders, and the lists of where its tiles lie and how long they are.
func listsOf(tb testing.TB, path string) (file []byte, lists map[uint16]list) {
	tb.Helper()
	file, err := os.ReadFile(path)
	require.NoError(tb, err)
	le := binary.LittleEndian
	at := le.Uint32(file[4:])
	lists = map[uint16]list{}
	for i := range uint32(le.Uint16(file[at:])) {
		e := file[at+2+12*i:]
		n, where := le.Uint32(e[4:]), le.Uint32(e[8:])
		if tag := le.Uint16(e); tag == 324 || tag == 325 {
			l := list{at: where}
			for k := range n {
				l.values = append(l.values, le.Uint32(file[where+4*k:]))
			}
			lists[tag] = l
		}
	}
	require.Len(tb, lists[324].values, (side/tile)*(side/tile))
	return file, lists
}

// decodeAll reads every tile that want accepts and nothing else: the floor.
func decodeAll(tb testing.TB, path string, threads int, want func(col, row int) bool) time.Duration {
	s, err := geotiff.Open(files.Disk, path, 1)
	require.NoError(tb, err)
	defer s.Close()
	start := time.Now()
	var next atomic.Int64
	var wg sync.WaitGroup
	for range threads {
		wg.Go(func() {
			r := s.NewReader()
			var c raster.Cells
			for {
				i := int(next.Add(1)) - 1
				if i >= (side/tile)*(side/tile) {
					return
				}
				col, row := i%(side/tile), i/(side/tile)
				if want != nil && !want(col, row) {
					continue
				}
				if err := r.Read(raster.Window{Col: col * tile, Row: row * tile, Width: tile, Height: tile}, &c); err != nil {
					panic(err)
				}
			}
		})
	}
	wg.Wait()
	return time.Since(start)
}

// measureAll does the whole measuring, from opening the files to the sums.
func measureAll(tb testing.TB, path, zones string, threads int) (time.Duration, *tally.Tally) {
	start := time.Now()
	s, err := geotiff.Open(files.Disk, path, 1)
	require.NoError(tb, err)
	defer s.Close()
	set, place := zonesOf(tb, s.Header().Grid, zones)
	t, err := tally.Measure(context.Background(), tally.Request{Layers: []raster.Source{s}, Zones: set, Placement: place, Threads: threads})
	require.NoError(tb, err)
	return time.Since(start), t
}

// zonesOf reads and places the zones of a file; the whole grid without one.
func zonesOf(tb testing.TB, g raster.Grid, path string) (*zone.Set, *zone.Placement) {
	if path == "" {
		set, place, err := tally.Whole(g)
		require.NoError(tb, err)
		return set, place
	}
	layer, err := geojson.Read(files.Disk, path)
	require.NoError(tb, err)
	set, err := zone.FromLayer(layer, zone.Selection{IDField: "id"})
	require.NoError(tb, err)
	place, err := set.Place(g)
	require.NoError(tb, err)
	return set, place
}

// wiggly writes n × n zones of uneven size over the raster; their shared borders bend at every
// 1/points of a side.
func wiggly(tb testing.TB, name string, n, points int) string {
	return wigglyOver(tb, name, n, points, 1)
}

// wigglyOver is wiggly over a raster that has so many times the cells along each side.
func wigglyOver(tb testing.TB, name string, n, points, times int) string {
	p := grids[name]
	p.dx, p.dy = p.dx*float64(times), p.dy*float64(times)
	crs, err := earth.Lookup(p.code)
	require.NoError(tb, err)
	// Borders lie anywhere, as those of real zones do, not along the tiles.
	lines := func(salt uint64) []float64 {
		out := make([]float64, n+1)
		for i := range out {
			out[i] = float64(side) / float64(n) * float64(i)
			if i > 0 && i < n {
				out[i] += float64(side) / float64(n) * (noise(float64(i)*7.5, 0, salt) - 0.5)
			}
		}
		return out
	}
	xs, ys := lines(21), lines(22)
	degrees := func(c, r float64) (float64, float64) {
		x, y := p.x0+c*p.dx, p.y0+r*p.dy
		if name == "equal-area" { // these zones come in the CRS of the raster
			return x, y
		}
		lon, lat, ok := crs.ToGeographic(x, y)
		require.True(tb, ok)
		return lon * 180 / math.Pi, lat * 180 / math.Pi
	}
	at := func(c, r float64) string { // a lattice position moved by smooth noise, kept at the border
		dc, dr := (noise(c/90, r/90, 11)-0.5)*36+(noise(c/25, r/25, 12)-0.5)*6, (noise(c/90, r/90, 13)-0.5)*36+(noise(c/25, r/25, 14)-0.5)*6
		fade := func(x float64) float64 { return math.Min(1, math.Min(x, side-x)/160) } // straight at the border
		dc, dr = dc*fade(c)*fade(r), dr*fade(c)*fade(r)
		x, y := degrees(c+dc, r+dr)
		if name == "equal-area" {
			return fmt.Sprintf("[%.3f,%.3f]", x, y)
		}
		return fmt.Sprintf("[%.8f,%.8f]", x, y)
	}
	var b strings.Builder
	b.WriteString(`{"type":"FeatureCollection",`)
	if name == "equal-area" {
		b.WriteString(`"crs":{"type":"name","properties":{"name":"EPSG:3035"}},`)
	}
	b.WriteString(`"features":[`)
	for j := range n {
		for i := range n {
			if i+j > 0 {
				b.WriteByte(',')
			}
			var pts []string
			c0, r0, c1, r1 := xs[i], ys[j], xs[i+1], ys[j+1]
			along := func(a, b float64, k int) float64 { // the same from both ends
				return a*float64(points-k)/float64(points) + b*float64(k)/float64(points)
			}
			for k := range points {
				pts = append(pts, at(c0, along(r0, r1, k)))
			}
			for k := range points {
				pts = append(pts, at(along(c0, c1, k), r1))
			}
			for k := range points {
				pts = append(pts, at(c1, along(r0, r1, points-k)))
			}
			for k := range points {
				pts = append(pts, at(along(c0, c1, points-k), r0))
			}
			pts = append(pts, pts[0])
			fmt.Fprintf(&b, `{"type":"Feature","properties":{"id":"%d-%d"},"geometry":{"type":"Polygon","coordinates":[[%s]]}}`, j, i, strings.Join(pts, ","))
		}
	}
	b.WriteString("]}")
	path := filepath.Join(tb.TempDir(), "zones.geojson")
	require.NoError(tb, os.WriteFile(path, []byte(b.String()), 0o644))
	return path
}

// ratio alternates the floor and the measuring and gives the ratio of the fastest of each: what
// other programs on the machine add only slows. Beside it stands the ratio of the least processor
// times, which other programs disturb less, but which leaves out waiting of one thread for another.
func ratio(b *testing.B, floor, whole func() time.Duration) { ratioOf(b, max(5, b.N), floor, whole) }

// ratioOf is ratio with so many rounds. A long run is disturbed more often than the floor, so that it takes more of them to find
// both undisturbed.
func ratioOf(b *testing.B, rounds int, floor, whole func() time.Duration) {
	var f, w, fp, wp []time.Duration
	timed := func(run func() time.Duration, wall, processor *[]time.Duration) {
		before := processorTime()
		*wall = append(*wall, run())
		*processor = append(*processor, processorTime()-before)
	}
	floor()
	for range rounds {
		timed(floor, &f, &fp)
		timed(whole, &w, &wp)
	}
	b.ReportMetric(float64(slices.Min(w))/float64(slices.Min(f)), "ratio")
	if p := slices.Min(fp); p > 0 {
		b.ReportMetric(float64(slices.Min(wp))/float64(p), "processor-ratio")
	}
	b.ReportMetric(float64(slices.Min(f).Milliseconds()), "floor-ms")
	b.ReportMetric(float64(slices.Min(w).Milliseconds()), "measure-ms")
	b.ReportMetric(0, "ns/op")
}

func BenchmarkMeasure(b *testing.B) {
	threads := runtime.GOMAXPROCS(0)
	for _, name := range []string{"equal-area", "geographic", "UTM"} {
		path := patchy(b, name)
		floor := func() time.Duration { return decodeAll(b, path, threads, nil) }
		b.Run(name+"/1-zone", func(b *testing.B) {
			ratio(b, floor, func() time.Duration { d, _ := measureAll(b, path, "", threads); return d })
		})
		b.Run(name+"/1024-zones", func(b *testing.B) {
			zones := wiggly(b, name, 32, 32)
			ratio(b, floor, func() time.Duration { d, _ := measureAll(b, path, zones, threads); return d })
		})
	}
}

// BenchmarkManyZones measures 100,489 small zones, and 3,025 zones with two million corners, in the CRS of the raster.
func BenchmarkManyZones(b *testing.B) {
	threads := runtime.GOMAXPROCS(0)
	path := patchy(b, "equal-area")
	floor := func() time.Duration { return decodeAll(b, path, threads, nil) }
	for _, c := range []struct {
		name      string
		n, points int
	}{{"100489-zones", 317, 4}, {"2-million-corners", 55, 165}} {
		b.Run(c.name, func(b *testing.B) {
			zones := wiggly(b, "equal-area", c.n, c.points)
			ratioOf(b, max(25, b.N), floor, func() time.Duration { d, _ := measureAll(b, path, zones, threads); return d })
		})
	}
}
