package remote

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/job"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/raster/geotiff"
)

// noiseRaster writes a raster that does not compress.
func noiseRaster(tb testing.TB, side int) string {
	crs, err := earth.Lookup(32633)
	require.NoError(tb, err)
	h := raster.Header{Name: "noise", Type: raster.Uint8, Grid: raster.Grid{Width: side, Height: side, X0: 344000, Y0: 6480000, DX: 1, DY: -1, CRS: crs}}
	path := filepath.Join(tb.TempDir(), "noise.tif")
	f, err := os.Create(path)
	require.NoError(tb, err)
	defer f.Close()
	src := raster.NewFunc(h, func(c, r int) float64 {
		x := uint32(c)*2654435761 ^ uint32(r)*2246822519
		x = (x ^ x>>13) * 3266489917
		return float64(x >> 24)
	})
	require.NoError(tb, geotiff.Write(context.Background(), f, src, geotiff.Options{Compression: geotiff.Uncompressed, TileSize: 256, NoOverviews: true}))
	return path
}

// slowLine serves a file over a line with a latency and a number of bytes a second, 0 for as many as there are, and counts.
type slowLine struct {
	*httptest.Server
	requests, bytes, free atomic.Int64
}

func serveSlowly(tb testing.TB, path string, latency time.Duration, rate float64) *slowLine {
	s := &slowLine{}
	s.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		s.requests.Add(1)
		time.Sleep(latency)
		w.Header().Set("ETag", `"1"`)
		f, err := os.Open(path)
		if err != nil {
			w.WriteHeader(500)
			return
		}
		defer f.Close()
		http.ServeContent(&slowWriter{w, s, rate}, r, "noise.tif", time.Time{}, f)
	}))
	tb.Cleanup(s.Close)
	return s
}

type slowWriter struct {
	http.ResponseWriter
	s    *slowLine
	rate float64
}

func (w *slowWriter) Write(b []byte) (n int, err error) {
	for n < len(b) && err == nil {
		part := b[n:min(len(b), n+16<<10)]
		if w.rate > 0 {
			took := int64(float64(len(part)) / w.rate * 1e9)
			for now := time.Now().UnixNano(); ; {
				at := w.s.free.Load()
				begin := max(at, now)
				if w.s.free.CompareAndSwap(at, begin+took) {
					time.Sleep(time.Duration(begin + took - now))
					break
				}
			}
		}
		var k int
		k, err = w.ResponseWriter.Write(part)
		w.s.bytes.Add(int64(k))
		n += k
	}
	return n, err
}

func measureNoise(tb testing.TB, url string) *job.Measured {
	s := New(tb.Context(), Options{})
	defer s.Close()
	zone := fmt.Sprintf("POLYGON((%d %d, %d %d, %d %d, %d %d, %d %d))", 344000+1300, 6480000-1200, 344000+2700, 6480000-1000, 344000+2900, 6480000-2200, 344000+1500, 6480000-2600, 344000+1300, 6480000-1200)
	m, err := job.Measure(tb.Context(), job.Env{Files: s}, job.MeasureOptions{Covers: []string{url}, ZoneOptions: job.ZoneOptions{Zones: zone, SelectionOptions: job.SelectionOptions{FeatureOptions: job.FeatureOptions{ZonesCRS: "EPSG:32633"}}}})
	require.NoError(tb, err)
	return m
}

// touched are the stored bytes of the blocks that the zone touches: those in which a cell of it lies, in rows of the outline's box.
func touchedBytes() int64 {
	corners := [][2]float64{{1300, 1200}, {2700, 1000}, {2900, 2200}, {1500, 2600}}
	inside := func(x, y float64) bool {
		in := false
		for i, j := 0, len(corners)-1; i < len(corners); j, i = i, i+1 {
			a, b := corners[i], corners[j]
			if a[1] > y != (b[1] > y) && x < (b[0]-a[0])*(y-a[1])/(b[1]-a[1])+a[0] {
				in = !in
			}
		}
		return in
	}
	blocks := map[[2]int]bool{}
	for y := 1000; y < 2600; y++ {
		for x := 1300; x < 2900; x++ {
			if inside(float64(x)+0.5, float64(y)+0.5) {
				blocks[[2]int{x / 256, y / 256}] = true
			}
		}
	}
	return int64(len(blocks)) * 256 * 256
}

// Of a raster on a server at most 1.2 times the bytes of the blocks that zones touch are fetched, besides its head, in a request for each run of blocks.
func TestOnlyWhatZonesTouchIsFetched(t *testing.T) {
	path := noiseRaster(t, 4096)
	s := serveSlowly(t, path, 0, 0)
	m := measureNoise(t, s.URL+"/noise.tif")
	assert.InDelta(t, m.Zones[0].Area, m.Zones[0].Classified, 1e-6*m.Zones[0].Area)
	head := int64(firstBytes)
	assert.LessOrEqual(t, float64(s.bytes.Load()-head), 1.2*float64(touchedBytes()))
	assert.GreaterOrEqual(t, s.bytes.Load(), touchedBytes())
	assert.LessOrEqual(t, s.requests.Load(), int64(1+8+1), "the head, and a run for each of up to 8 rows of blocks")
}

// A raster on a server that is turned into classes and written is fetched once, in few requests, and surveyed on the way.
func TestReclassifyFetchesOnce(t *testing.T) {
	path := noiseRaster(t, 4096)
	s := serveSlowly(t, path, 0, 0)
	crosswalk := filepath.Join(t.TempDir(), "crosswalk.csv")
	require.NoError(t, os.WriteFile(crosswalk, []byte("from,to,note\n7;255,8,\nelse,keep,\n"), 0o644))
	files := New(t.Context(), Options{})
	defer files.Close()
	_, err := job.Reclassify(t.Context(), job.Env{Files: files}, job.ReclassifyOptions{Rasters: []string{s.URL + "/noise.tif"}, Crosswalk: crosswalk}, func(r *job.Reclassified) error {
		if err := geotiff.Write(t.Context(), io.Discard, r.Source, geotiff.Options{SpillDir: t.TempDir()}); err != nil {
			return err
		}
		fetched := s.bytes.Load()
		survey, err := r.Survey()
		require.NoError(t, err)
		assert.EqualValues(t, 4096*4096, survey.Lines[0].Cells+survey.Lines[1].Cells)
		assert.Equal(t, fetched, s.bytes.Load(), "nothing is fetched for the survey")
		return nil
	})
	require.NoError(t, err)
	assert.LessOrEqual(t, s.bytes.Load(), int64(4096*4096+2*firstBytes))
	assert.LessOrEqual(t, s.requests.Load(), int64(1+16+1), "the head, and one for each row of blocks")
}

// BenchmarkSlowLine measures a part of a raster behind 50 ms and 100 Mbit/s, beside fetching the same bytes in one request.
func BenchmarkSlowLine(b *testing.B) {
	path := noiseRaster(b, 8192)
	s := serveSlowly(b, path, 50*time.Millisecond, 100e6/8)
	var whole, floor time.Duration
	for b.Loop() {
		s.bytes.Store(0)
		begun := time.Now()
		measureNoise(b, s.URL+"/noise.tif")
		whole += time.Since(begun)
		begun = time.Now()
		r, err := http.NewRequest("GET", s.URL, nil)
		require.NoError(b, err)
		r.Header.Set("Range", fmt.Sprintf("bytes=0-%d", s.bytes.Load()-1))
		resp, err := http.DefaultClient.Do(r)
		require.NoError(b, err)
		io.Copy(io.Discard, resp.Body)
		resp.Body.Close()
		floor += time.Since(begun)
	}
	b.ReportMetric(float64(whole)/float64(floor), "ratio")
}
