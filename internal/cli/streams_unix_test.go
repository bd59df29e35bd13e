//go:build unix

package cli

import (
	"bytes"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/internal/demo"
)

// shell runs a line of a shell in a folder, with the program as verdex and its temporary files in the folder tmp, which is empty afterwards.
func shell(t *testing.T, dir, line string) (stdout, stderr string, code int) {
	t.Helper()
	path, err := program()
	require.NoError(t, err)
	temporary := filepath.Join(dir, "tmp")
	require.NoError(t, os.MkdirAll(temporary, 0o755))
	c := exec.Command("bash", "-o", "pipefail", "-c", line)
	c.Dir = dir
	c.Env = append(os.Environ(), "PATH="+filepath.Dir(path)+":"+os.Getenv("PATH"), "TMPDIR="+temporary)
	var out, errs bytes.Buffer
	c.Stdout, c.Stderr = &out, &errs
	err = c.Run()
	if exit, ok := err.(*exec.ExitError); ok {
		code = exit.ExitCode()
	} else {
		require.NoError(t, err)
	}
	left, err := os.ReadDir(temporary)
	require.NoError(t, err)
	assert.Empty(t, left, line)
	return out.String(), errs.String(), code
}

const inWards = " --zones wards.geojson --zone-id code --legend legend.csv "

// Standard input, pipes and process substitution stand for every input, and standard output, pipes and devices for every output; the result is that of files.
func TestStreamsStandForFiles(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, demo.Write(dir, true))
	want, _, code := shell(t, dir, "verdex --quiet measure cover_2020.tif"+inWards+"--format csv")
	require.Zero(t, code)
	require.Contains(t, want, "W1,Tarn Heights")
	for _, line := range []string{
		"cat cover_2020.tif | verdex --quiet measure -" + inWards + "--format csv",
		"verdex --quiet measure - " + inWards + "--format csv < cover_2020.tif",
		"cat wards.geojson | verdex --quiet measure cover_2020.tif --zones - --zone-id code --legend legend.csv --format csv",
		"verdex --quiet measure <(cat cover_2020.tif) --zones <(cat wards.geojson) --zone-id code --legend <(cat legend.csv) --format csv",
		"verdex --quiet measure cover_2020.tif" + inWards + "--out -",
		"verdex --quiet measure cover_2020.tif" + inWards + "--out /dev/stdout",
		"verdex --quiet measure cover_2020.tif" + inWards + "--out /dev/stdout > whole.csv && cat whole.csv",
		"mkfifo fifo && (verdex --quiet measure cover_2020.tif" + inWards + "--out fifo & cat fifo; wait)",
		"verdex --quiet measure cover_2020.tif" + inWards + "--out >(cat > copy.csv; touch copied) && while [ ! -e copied ]; do sleep 0.1; done && cat copy.csv",
		"verdex --quiet clip cover_2020.tif --to bbox:12,58,13,59 --nodata 255 --out - | verdex --quiet measure -" + inWards + "--format csv",
		"verdex --quiet zones pick wards.geojson --where \"code > ''\" --out - | verdex --quiet measure cover_2020.tif --zones - --zone-id code --legend legend.csv --format csv",
		"touch target.csv && ln -s target.csv link.csv && verdex --quiet measure cover_2020.tif" + inWards + "--out link.csv --force && test -L link.csv && cat target.csv",
	} {
		out, errs, code := shell(t, dir, line)
		assert.Zero(t, code, "%s: %s", line, errs)
		assert.Equal(t, want, out, line)
	}
	for line, says := range map[string]string{
		"verdex change --epoch 2004=- --epoch 2020=- < cover_2020.tif":      "named twice, and what comes from it comes once: name a file for one of them",
		"cat wards.geojson | verdex measure - --zones /dev/stdin":           "named twice",
		"false | verdex measure -":                                          "standard input: nothing came from it: look at what the command before the pipe says",
		"cat wards.geojson | verdex measure -":                              "- holds polygons: name the field with their class",
		"verdex measure cover_2020.tif --format csv --out - --checks -":     "two outputs would be this one file",
		"verdex measure cover_2020.tif --format shp --out -":                "format",
		"verdex zones pick wards.geojson --where \"code = 'W1'\" --out x.q": "features are written as",
	} {
		out, errs, code := shell(t, dir, line)
		assert.NotZero(t, code, line)
		assert.Regexp(t, says, errs, line)
		assert.Empty(t, out, line)
	}
	// Results that are shown go elsewhere when a file goes to standard output.
	out, errs, code := shell(t, dir, "verdex reclassify cover_2004.tif --crosswalk codes_2004.csv --legend legend.csv --out -")
	assert.Zero(t, code)
	assert.True(t, strings.HasPrefix(out, "II*\x00"))
	assert.Contains(t, errs, "Open water")
	// When nobody reads any more, that is no failure worth a message, and nothing is left.
	_, errs, _ = shell(t, dir, "verdex --quiet measure cover_2020.tif"+inWards+"--out - | head -c 1; verdex --quiet clip cover_2020.tif --to bbox:12,58,13,59 --compress none --out - | head -c 1")
	assert.Empty(t, errs)
}

// Signals end a command with 128 and their number, and leave nothing behind.
func TestSignalsInExitCodes(t *testing.T) {
	dir := t.TempDir()
	for _, s := range []syscall.Signal{syscall.SIGINT, syscall.SIGTERM, syscall.SIGHUP} {
		if signal.Ignored(s) { // as nohup does, and then the program ignores it too
			continue
		}
		read, write, err := os.Pipe()
		require.NoError(t, err)
		c := built(t, "--log-json", "measure", "-")
		c.Stdin, c.Dir, c.Env = read, dir, append(os.Environ(), "TMPDIR="+dir)
		var errs bytes.Buffer
		c.Stderr = &errs
		require.NoError(t, c.Start())
		_, err = write.Write([]byte("II*\x00"))
		require.NoError(t, err)
		require.Eventually(t, func() bool { left, _ := os.ReadDir(dir); return len(left) > 0 }, 10*time.Second, 5*time.Millisecond)
		require.NoError(t, c.Process.Signal(s))
		late := time.AfterFunc(20*time.Second, func() { _ = c.Process.Kill() })
		err = c.Wait()
		late.Stop()
		read.Close()
		write.Close()
		var exit *exec.ExitError
		require.ErrorAs(t, err, &exit)
		assert.Equal(t, 128+int(s), exit.ExitCode())
		assert.Contains(t, errs.String(), `"code":"interrupted"`)
		left, err := os.ReadDir(dir)
		require.NoError(t, err)
		assert.Empty(t, left)
	}
}

// A result that goes nowhere is not lost without a word, where that was not asked for.
func TestClosedOutputIsNoted(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, demo.Write(dir, true))
	for line, noted := range map[string]bool{
		"verdex measure cover_2020.tif >&-":                              true,
		"verdex measure cover_2020.tif --format csv >&-":                 true,
		"verdex measure cover_2020.tif --out a.csv >&-":                  false,
		"verdex measure cover_2020.tif >/dev/null":                       false,
		"verdex measure cover_2020.tif --out /dev/null --format csv":     false,
		"verdex measure cover_2020.tif --format csv 1<>/dev/null":        true, // looks just like a closed one
		"verdex measure cover_2020.tif --out - --format csv --quiet >&-": false,
	} {
		_, errs, code := shell(t, dir, line)
		assert.Zero(t, code, line)
		assert.Equal(t, noted, strings.Contains(errs, "standard output is closed, or the null device, so that the result is lost"), "%s: %s", line, errs)
	}
}
