//go:build unix

package cli

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/internal/demo"
)

// outputsOf are the files of a folder that a run of the sample plan makes, but what has times in it and the book, which is verified by itself.
func outputsOf(t *testing.T, dir string) map[string]string {
	t.Helper()
	out := map[string]string{}
	for name, content := range contents(t, dir) {
		if !strings.Contains(name, ".book") && !strings.HasPrefix(name, ".verdex/") && !strings.HasSuffix(name, ".record.json") && !strings.Contains(name, "package") {
			out[name] = content
		}
	}
	return out
}

// A run that is killed at any moment is taken up by the next one: the outputs are those of a run without a break, no other file stays, and the
// book and the cache are sound.
func TestKilledRunsGoOn(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	_, err := program()
	require.NoError(t, err)
	run := func(where string) error {
		c := built(t, "run", "orrin.yaml", "--quiet")
		c.Dir = where
		out, err := c.CombinedOutput()
		if err != nil {
			t.Logf("%s", out)
		}
		return err
	}
	good := filepath.Join(dir, "good")
	require.NoError(t, demo.Write(good, true))
	begin := time.Now()
	require.NoError(t, run(good))
	usual := time.Since(begin)
	want := outputsOf(t, good)
	kills := 50
	if testing.Short() {
		kills = 8
	}
	for kills > 0 {
		where := filepath.Join(dir, "k")
		require.NoError(t, os.RemoveAll(where))
		require.NoError(t, demo.Write(where, true))
		for range 1 + rand.IntN(4) {
			c := built(t, "run", "orrin.yaml", "--quiet")
			c.Dir = where
			require.NoError(t, c.Start())
			time.Sleep(time.Duration(rand.Int64N(int64(usual))))
			_ = c.Process.Signal(syscall.SIGKILL)
			_ = c.Wait()
			kills--
		}
		require.NoError(t, run(where))
		got := outputsOf(t, where)
		for name, content := range want {
			assert.True(t, got[name] == content, name)
		}
		assert.Len(t, got, len(want))
		for name := range contents(t, where) {
			assert.NotRegexp(t, `(^|/)\.(verdex-|staged-)`, name)
		}
		verify := built(t, "book", "verify", "orrin.book")
		verify.Dir = where
		out, err := verify.CombinedOutput()
		assert.NoError(t, err, "%s", out)
		before := outputsOf(t, where)
		require.NoError(t, run(where))
		assert.Equal(t, before, outputsOf(t, where), "and what is kept gives the same")
	}
}

// Two runs of a plan at once wait for one another.
func TestTwoRunsAtOnce(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	require.NoError(t, demo.Write(dir, true))
	ends := make(chan error)
	for range 3 {
		c := built(t, "run", "orrin.yaml", "--quiet")
		c.Dir = dir
		go func() {
			out, err := c.CombinedOutput()
			if err != nil {
				err = fmt.Errorf("%w: %s", err, out)
			}
			ends <- err
		}()
	}
	for range 3 {
		assert.NoError(t, <-ends)
	}
	for name := range contents(t, dir) {
		assert.NotRegexp(t, `(^|/)\.(verdex-|staged-)`, name)
	}
}

// A run that is interrupted says so, leaves nothing half done, and goes on when it is run again.
func TestInterruptedRun(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	require.NoError(t, demo.Write(dir, true))
	c := built(t, "run", "orrin.yaml")
	c.Dir = dir
	require.NoError(t, c.Start())
	time.Sleep(50 * time.Millisecond)
	require.NoError(t, c.Process.Signal(syscall.SIGINT))
	_ = c.Wait()
	for name := range contents(t, dir) {
		assert.NotRegexp(t, `(^|/)\.(verdex-|staged-)`, name)
	}
	again := built(t, "run", "orrin.yaml")
	again.Dir = dir
	out, err := again.CombinedOutput()
	assert.NoError(t, err, "%s", out)
}
