package cli

import (
	"bytes"
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/rogpeppe/go-internal/testscript"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/raster/geotiff"
	"github.com/verdex-land/verdex/core/tally"
	"github.com/verdex-land/verdex/core/vector/geojson"
	"github.com/verdex-land/verdex/core/zone"
	"github.com/verdex-land/verdex/internal/demo"
	"github.com/verdex-land/verdex/internal/postgrestest"
)

func TestMain(m *testing.M) {
	if os.Getenv("VERDEX_CACHE_DIR") == "" { // not that of who runs the tests
		os.Setenv("VERDEX_CACHE_DIR", filepath.Join(os.TempDir(), fmt.Sprintf("verdex-test-cache-%d", os.Getpid())))
	}
	testscript.Main(thenStop{m}, map[string]func(){
		"verdex": func() { os.Exit(Main(os.Args, "test", os.Stdout, os.Stderr)) },
	})
}

// thenStop stops the PostgreSQL server that tests have started.
type thenStop struct{ *testing.M }

func (m thenStop) Run() int {
	if dir := os.Getenv("VERDEX_CACHE_DIR"); strings.Contains(dir, "verdex-test-cache-") {
		defer os.RemoveAll(dir)
	}
	return postgrestest.Main(m.M.Run)
}

// TestScripts drives the program as a user would. Besides the usual commands there are
// status N COMMAND…, which expects an exit status; sample, which unpacks the sample data; raster,
// which makes a small GeoTIFF; nothing-left, which looks for files left behind; cut; serve, which serves the sample world and the folder;
// and no-marker, which looks for secrets.
func TestScripts(t *testing.T) {
	testscript.Run(t, testscript.Params{
		Dir: "testdata/script", ContinueOnError: true, // all that is wrong at once
		Setup: func(e *testscript.Env) error {
			e.Setenv("NO_COLOR", "1")
			e.Setenv("COLUMNS", "120")
			e.Setenv("VERDEX_CACHE_DIR", filepath.Join(e.WorkDir, "webcache"))
			return nil
		},
		Cmds: map[string]func(*testscript.TestScript, bool, []string){
			"status":       status,
			"sample":       func(ts *testscript.TestScript, _ bool, _ []string) { ts.Check(demo.Write(ts.MkAbs("."), true)) },
			"raster":       makeRaster,
			"nothing-left": nothingLeft,
			"serve":        serveFolder,
			"no-marker":    noMarker,
			"envsubst": func(ts *testscript.TestScript, _ bool, args []string) { // FILE OUT: puts values in the places of $NAMES
				ts.Check(os.WriteFile(ts.MkAbs(args[1]), []byte(os.Expand(ts.ReadFile(args[0]), ts.Getenv)), 0o644))
			},
			"cut": cut,
		},
	})
}

// status N COMMAND ARGS… runs a command and expects it to end with status N.
func status(ts *testscript.TestScript, _ bool, args []string) {
	err := ts.Exec(args[1], args[2:]...)
	got := "0"
	if err != nil {
		got = "another"
		var exit interface{ ExitCode() int }
		if e, ok := err.(interface{ ExitCode() int }); ok {
			exit = e
			got = strconv.Itoa(exit.ExitCode())
		}
	}
	if got != args[0] {
		ts.Fatalf("status %s instead of %s: %v", got, args[0], err)
	}
}

// raster FILE EPSG X0 Y0 SIZE WIDTH HEIGHT [NODATA] makes columns of the values 1, 2, 3, …
func makeRaster(ts *testscript.TestScript, _ bool, args []string) {
	number := func(i int) float64 {
		v, err := strconv.ParseFloat(args[i], 64)
		ts.Check(err)
		return v
	}
	g := raster.Grid{X0: number(2), Y0: number(3), DX: number(4), DY: -number(4), Width: int(number(5)), Height: int(number(6))}
	if code := int(number(1)); code != 0 {
		var err error
		g.CRS, err = earth.Lookup(code)
		ts.Check(err)
	}
	h := raster.Header{Grid: g, Type: raster.Uint8}
	if len(args) > 7 {
		v := number(7)
		h.NoData = &v
	}
	f, err := os.Create(ts.MkAbs(args[0]))
	ts.Check(err)
	defer f.Close()
	src := raster.NewFunc(h, func(c, _ int) float64 { return float64(c/10 + 1) })
	ts.Check(geotiff.Write(context.Background(), f, src, geotiff.Options{TileSize: 16}))
}

// nothing-left [DIR] looks for temporary files.
func nothingLeft(ts *testscript.TestScript, _ bool, args []string) {
	dir := "."
	if len(args) > 0 {
		dir = args[0]
	}
	entries, err := os.ReadDir(ts.MkAbs(dir))
	ts.Check(err)
	for _, e := range entries {
		if strings.HasPrefix(e.Name(), ".verdex-") {
			ts.Fatalf("%s was left behind", e.Name())
		}
	}
}

// cut FILE N OUT keeps the first N bytes.
func cut(ts *testscript.TestScript, _ bool, args []string) {
	b, err := os.ReadFile(ts.MkAbs(args[0]))
	ts.Check(err)
	n, err := strconv.Atoi(args[1])
	ts.Check(err)
	ts.Check(os.WriteFile(ts.MkAbs(args[2]), b[:n], 0o644))
}

// Files that libtiff has written anew, in any layout, give the same tally, bit for bit. It keeps
// no georeferencing and no nodata value, so that those of the first file are laid over the others.
func TestReencodedFilesGiveTheSameTally(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, demo.Write(dir, true))
	original := filepath.Join(dir, "cover_2020.tif")
	var grid raster.Grid
	measured := func(path string) *tally.Tally {
		f, err := geotiff.Open(files.Disk, path, 1)
		require.NoError(t, err)
		defer f.Close()
		if path == original {
			grid = f.Header().Grid
		}
		wards, err := geojson.Read(files.Disk, filepath.Join(dir, "wards.geojson"))
		require.NoError(t, err)
		set, err := zone.FromLayer(wards, zone.Selection{IDField: "code"})
		require.NoError(t, err)
		place, err := set.Place(grid)
		require.NoError(t, err)
		got, err := tally.Measure(context.Background(), tally.Request{Layers: []raster.Source{raster.WithNoData(raster.WithGrid(f, grid), 0)}, Zones: set, Placement: place})
		require.NoError(t, err)
		return got
	}
	want := measured(original)
	require.Len(t, want.Zones, 5)
	for i, layout := range []string{
		"-c none -s -r 1", "-c none -s -r 900", "-c lzw -s -r 37", "-c lzw:2 -s -r 900", "-c packbits -s -r 8", "-c zip:2 -t -w 128 -l 64",
		"-c zstd -t -w 512 -l 512", "-c zip -B -t -w 256 -l 256", "-c zip -8 -t -w 16 -l 16", "-c lzw -8 -B -s -r 20",
	} {
		again := filepath.Join(dir, fmt.Sprintf("again%d.tif", i))
		run(t, "tiffcp", append(strings.Fields(layout), original, again)...)
		require.Equal(t, want.Zones, measured(again).Zones, layout)
	}
}

// The whole table comes out the same with any number of threads.
func TestSameTableForAnyThreads(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, demo.Write(dir, true))
	var first string
	for _, threads := range []string{"1", "2", "5"} {
		var out, errs strings.Builder
		args := []string{"verdex", "--threads", threads, "--quiet", "measure", filepath.Join(dir, "cover_2020.tif"), "--zones", filepath.Join(dir, "catchments.geojson"), "--format", "csv"}
		require.Equal(t, exitDone, Main(args, "test", &out, &errs), errs.String())
		if first == "" {
			first = out.String()
		}
		require.Equal(t, first, out.String())
	}
	require.Greater(t, strings.Count(first, "\n"), 60)
}

// The sample files are those that the generator makes.
func TestSampleWorldIsWhatTheGeneratorMakes(t *testing.T) {
	if runtime.GOARCH != "amd64" {
		t.Log("other processors round the noise differently by a cell here and there")
		return
	}
	dir := t.TempDir()
	run(t, "go", "run", "../demo/make", dir)
	total := 0
	for _, name := range demo.Files() {
		want, err := demo.File(name)
		require.NoError(t, err)
		got, err := os.ReadFile(filepath.Join(dir, name))
		require.NoError(t, err)
		require.True(t, bytes.Equal(want, got), "%s: run go generate ./internal/demo", name)
		total += len(got)
	}
	require.Less(t, total, 2<<20)
}

// marker is a secret of the tests, which nothing may show.
const marker = "MARKER-4711"

// serve starts a server on $URL: of the sample world, of the folder of the script under /dir/, and of the same under /secret/ for those who have a secret.
func serveFolder(ts *testscript.TestScript, _ bool, _ []string) {
	entries, err := os.ReadDir(ts.MkAbs("."))
	ts.Check(err)
	for _, e := range entries { // a file of this second may change again within it, so that nothing of it would be kept
		long := time.Now().Add(-time.Hour)
		ts.Check(os.Chtimes(ts.MkAbs(e.Name()), long, long))
	}
	mux := http.NewServeMux()
	mux.Handle("/", demo.Handler())
	folder := http.FileServer(http.Dir(ts.MkAbs(".")))
	mux.Handle("/dir/", http.StripPrefix("/dir", folder))
	mux.HandleFunc("/secret/", func(w http.ResponseWriter, r *http.Request) {
		_, password, _ := r.BasicAuth()
		if password != marker && r.Header.Get("Authorization") != "Bearer "+marker && r.URL.Query().Get("token") != marker {
			w.WriteHeader(http.StatusUnauthorized)
			return
		}
		http.StripPrefix("/secret", folder).ServeHTTP(w, r)
	})
	server := httptest.NewServer(mux)
	ts.Defer(server.Close)
	ts.Setenv("URL", server.URL)
	ts.Setenv("HOST", strings.TrimPrefix(server.URL, "http://"))
	ts.Setenv("MARKER", marker)
}

// no-marker looks for the secret in what the last command has said, and in all files.
func noMarker(ts *testscript.TestScript, _ bool, _ []string) {
	for _, name := range []string{"stdout", "stderr"} {
		if strings.Contains(ts.ReadFile(name), marker) {
			ts.Fatalf("%s shows the secret", name)
		}
	}
	ts.Check(filepath.WalkDir(ts.MkAbs("."), func(path string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		if b, err := os.ReadFile(path); err != nil || strings.Contains(string(b)+path, marker) {
			return fmt.Errorf("%s holds the secret (%v)", path, err)
		}
		return nil
	}))
}
