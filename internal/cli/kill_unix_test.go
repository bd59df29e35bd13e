//go:build unix

package cli

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// contents are the files below a folder. A book counts by name only: databases move pages about.
func contents(t *testing.T, dir string) map[string]string {
	t.Helper()
	out := map[string]string{}
	require.NoError(t, filepath.WalkDir(dir, func(path string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		b, err := os.ReadFile(path)
		rel, _ := filepath.Rel(dir, path)
		if out[rel] = string(b); strings.Contains(rel, ".book") {
			out[rel] = ""
		}
		return err
	}))
	return out
}

// Every command that writes is ended at ten moments, each time by one of the signals that ask for it and by the one that does not. Whatever happens, no file is half there, inputs stay, and a
// book verifies; and unless the program could not do anything about it, no other file is left.
func TestKilledCommandsLeaveNoHalfFile(t *testing.T) {
	_, err := program() // before the working folder is another
	require.NoError(t, err)
	workInWorld(t)
	said, err := built(t, "measure", "cover_2020.tif", "--part", "1/1", "--out", "part", "--force").CombinedOutput() // by the version that is to gather it
	require.NoError(t, err, "%s", said)
	world, err := os.Getwd()
	require.NoError(t, err)
	demoFolder := "demo --files-only >folder"
	for i, line := range append([]string{demoFolder}, writingCommands...) {
		if strings.HasPrefix(line, "run ") { // which keeps its cache folder, and has tests of its own
			continue
		}
		w := parseWriting(line)
		t.Run(fmt.Sprintf("%d-%s", i, w.args[0]), func(t *testing.T) {
			t.Parallel()
			dir := t.TempDir()
			for _, e := range must(os.ReadDir(world)) {
				from, to := filepath.Join(world, e.Name()), filepath.Join(dir, e.Name())
				if strings.HasSuffix(e.Name(), ".book") {
					require.NoError(t, os.WriteFile(to, must(os.ReadFile(from)), 0o644))
				} else {
					require.NoError(t, os.Link(from, to))
				}
			}
			before := contents(t, dir)
			start := func() (end func() (string, error), signal func(os.Signal)) {
				c := built(t, w.args...)
				c.Dir = dir
				var said bytes.Buffer
				c.Stderr = &said
				require.NoError(t, c.Start())
				return func() (string, error) { err := c.Wait(); return said.String(), err }, func(s os.Signal) { _ = c.Process.Signal(s) }
			}
			clean := func() {
				for name := range contents(t, dir) {
					if _, ok := before[name]; !ok {
						require.NoError(t, os.Remove(filepath.Join(dir, name)))
					}
				}
				require.NoError(t, os.RemoveAll(filepath.Join(dir, "folder")))
				require.NoError(t, os.WriteFile(filepath.Join(dir, "orrin.book"), must(os.ReadFile(filepath.Join(world, "orrin.book"))), 0o644))
			}
			begin := time.Now()
			end, _ := start()
			said, err := end()
			require.NoError(t, err, said)
			usual := time.Since(begin)
			after := contents(t, dir)
			clean()
			ended := 0
			for moment := range 10 {
				if testing.Short() && moment%5 != 4 {
					continue
				}
				// Of the three that a program can answer each comes at every moment to a third of the commands, and to all commands at a third of the moments.
				polite := []syscall.Signal{syscall.SIGTERM, syscall.SIGHUP, syscall.SIGINT}[(moment+i)%3]
				for _, s := range []syscall.Signal{polite, syscall.SIGKILL} {
					end, signal := start()
					time.Sleep(usual * time.Duration(moment) / 10)
					signal(s)
					said, err := end()
					what := fmt.Sprintf("%s after %d tenths: %s", s, moment, said)
					found := contents(t, dir)
					complete := true
					for name := range after {
						if _, ok := before[name]; ok {
							continue
						}
						_, there := found[name]
						complete = complete && there
					}
					for name, content := range found {
						want, known := after[name]
						switch {
						case known:
							assert.True(t, content == want, "%s is not whole: %s", name, what)
						case s != syscall.SIGKILL:
							assert.Fail(t, "left behind", "%s: %s", name, what)
						default:
							assert.Regexp(t, `^(.*/)?\.verdex-|\.book-journal$`, name, what)
						}
						_, was := before[name]
						if known && !was && s != syscall.SIGKILL {
							assert.True(t, complete, "%s is there without the others: %s", name, what)
						}
					}
					for name := range before {
						assert.Contains(t, found, name, what)
					}
					if err != nil {
						ended++
					} else {
						assert.True(t, complete, what)
					}
					if strings.Contains(line, "--post") {
						out, err := built(t, "book", "verify", filepath.Join(dir, "orrin.book")).CombinedOutput()
						assert.NoError(t, err, "%s: %s", out, what)
					}
					clean()
				}
			}
			assert.True(t, testing.Short() || ended > 2, "the command is ended before it is done")
		})
	}
}

func must[T any](v T, err error) T {
	if err != nil {
		panic(err)
	}
	return v
}

// A posting states the inputs that were read: where one is replaced while the command works, nothing is posted or written.
func TestInputReplacedWhileItIsRead(t *testing.T) {
	_, err := program()
	require.NoError(t, err)
	workInWorld(t)
	require.NoError(t, syscall.Mkfifo("control.pipe", 0o600)) // the command waits for it after it has noted its inputs
	c := built(t, "measure", "cover_2020.tif", "--zones", "wards.geojson", "--zone-id", "code", "--legend", "legend.csv", "--control", "control.pipe", "--epoch", "2020", "--post", "orrin.book", "--account", "new", "--out", "new.csv")
	var said bytes.Buffer
	c.Stderr = &said
	require.NoError(t, c.Start())
	time.AfterFunc(time.Minute, func() { _ = c.Process.Kill() })
	f, err := os.OpenFile("control.pipe", os.O_WRONLY, 0) // when the command has opened it
	require.NoError(t, err)
	require.NoError(t, os.WriteFile("other.tif", must(os.ReadFile("cover_2012_a.tif")), 0o644))
	require.NoError(t, os.Rename("other.tif", "cover_2020.tif"))
	_, err = f.Write(must(os.ReadFile("control.csv")))
	require.NoError(t, err)
	require.NoError(t, f.Close())
	require.Error(t, c.Wait())
	assert.Contains(t, said.String(), "cover_2020.tif: it was changed while it was read: run the command again")
	assert.NoFileExists(t, "new.csv")
	out, _ := verdex(t, "book", "list", "orrin.book", "--format", "csv")
	assert.NotContains(t, out, "new")
}

// Of programs that make one new file at the same time one does, whole; the others fail and leave nothing. Where files may be replaced all succeed.
func TestProgramsThatMakeOneFile(t *testing.T) {
	_, err := program()
	require.NoError(t, err)
	workInWorld(t)
	before := state(t)
	together := func(args ...string) (done int) {
		ended := make(chan error)
		for range 8 {
			c := built(t, args...)
			go func() { ended <- c.Run() }()
		}
		for range 8 {
			if <-ended == nil {
				done++
			}
		}
		return done
	}
	measure := []string{"measure", "cover_2020.tif", "--zones", "wards.geojson", "--zone-id", "code", "--legend", "legend.csv", "--out", "new.csv", "--attach", "new.gpkg"}
	assert.Equal(t, 1, together(measure...))
	assert.Equal(t, 8, together("mosaic", "cover_2020.tif", "--force", "--out", "new.tif"))
	text := string(must(os.ReadFile("new.csv")))
	assert.Equal(t, 51, strings.Count(text, "\n"))
	for _, name := range []string{"new.csv", "new.csv-metadata.json", "new.gpkg", "new.tif"} {
		require.NoError(t, os.Remove(name))
	}
	assert.Equal(t, before, state(t))
}

// A mosaic may have more tiles than a program may have files open.
func TestMoreTilesThanOpenFiles(t *testing.T) {
	path, err := program()
	require.NoError(t, err)
	t.Chdir(t.TempDir())
	for i := range 120 {
		text := strings.Replace(asciiGrid(10, 10), "500000", fmt.Sprint(500000+300*i), 1)
		require.NoError(t, os.WriteFile(fmt.Sprintf("t%d.asc", i), []byte(text), 0o644))
	}
	out := run(t, "sh", "-c", "ulimit -n 50 && exec "+path+" measure 't*.asc' --crs EPSG:32633 --format csv")
	few, _ := verdex(t, "measure", "t*.asc", "--crs", "EPSG:32633", "--format", "csv")
	assert.Equal(t, few, out)
}
