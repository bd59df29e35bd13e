package cli

import (
	"os"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Three hundred commands of all kinds at once in one process give what they give one by one: they share no option.
func TestManyCommandsInOneProcess(t *testing.T) {
	t.Chdir(t.TempDir())
	require.NoError(t, os.WriteFile("a.asc", []byte(asciiGrid(20, 15)), 0o644))
	require.NoError(t, os.WriteFile("keep.csv", []byte("from,to,note\nelse,keep,\n"), 0o644))
	verdex(t, "reclassify", "a.asc", "--crs", "EPSG:32633", "--crosswalk", "keep.csv", "--out", "a.tif")
	verdex(t, "book", "create", "b.book")
	verdex(t, "measure", "a.tif", "--epoch", "2020", "--post", "b.book", "--account", "x", "--out", "t.csv")
	jobs := []string{"measure a.tif --format csv", "measure a.tif --unit km2 --format csv", "measure a.tif --unit acre --digits 2 --format csv --layout wide", "look a.tif --json",
		"change --epoch 1=a.tif --epoch 2=a.tif --format csv", "change --epoch 1=a.tif --epoch 2=a.tif --format json --table matrix --unit m2", "summarise a.tif --format csv --unit mi2",
		"account composition t.csv --format csv", "account composition t.csv --format csv --unit km2", "book show b.book x --format csv", "book show b.book x --unit m2 --format csv",
		"measure a.tif --frobnicate", "measure a.tif --edges centre --format csv --quiet"}
	run := func(job string) string {
		var out, errs strings.Builder
		code := Main(append([]string{"verdex"}, strings.Fields(job)...), "test", &out, &errs)
		return string(rune('0'+code)) + out.String() + errs.String()
	}
	want := map[string]string{}
	for _, j := range jobs {
		want[j] = run(j)
	}
	var wait sync.WaitGroup
	for i := range 300 {
		job := jobs[i%len(jobs)]
		wait.Go(func() { assert.Equal(t, want[job], run(job), job) })
	}
	wait.Wait()
}
