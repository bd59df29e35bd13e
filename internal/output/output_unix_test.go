//go:build unix

package output

import (
	"io"
	"os"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A pipe gets the bytes and stays a pipe; what is not written from front to end cannot go into one.
func TestPipes(t *testing.T) {
	t.Chdir(t.TempDir())
	require.NoError(t, syscall.Mkfifo("pipe", 0o600))
	assert.ErrorContains(t, job(t).Claim("pipe", Rules{Seeks: true}), "cannot be written to one")
	j := job(t)
	require.NoError(t, j.Claim("pipe", Rules{}))
	require.NoError(t, j.Write("pipe", text("rows")))
	got := make(chan string)
	go func() {
		f, err := os.Open("pipe")
		if err != nil {
			got <- err.Error()
			return
		}
		b, _ := io.ReadAll(f)
		got <- string(b)
	}()
	require.NoError(t, j.Commit(nil))
	assert.Equal(t, "rows", <-got)
	j.Discard()
	info, err := os.Lstat("pipe")
	require.NoError(t, err)
	assert.NotZero(t, info.Mode()&os.ModeNamedPipe)
	entries, err := os.ReadDir(".")
	require.NoError(t, err)
	assert.Len(t, entries, 1)
}

// A folder without the right to write is refused before the work, a full one when it is full.
func TestFolderThatTakesNothing(t *testing.T) {
	if os.Getuid() == 0 {
		t.Chdir("/proc/self") // where not even root makes files
	} else {
		t.Chdir(t.TempDir())
		require.NoError(t, os.Chmod(".", 0o555))
	}
	assert.ErrorContains(t, job(t).Claim("x.csv", Rules{}), "its folder cannot be written to")
}

func TestFullFileSystem(t *testing.T) {
	t.Chdir(t.TempDir())
	j := job(t)
	require.NoError(t, j.Claim("x.csv", Rules{}))
	err := j.Make("x.csv", func(string) error { return &os.PathError{Op: "write", Path: "elsewhere", Err: syscall.ENOSPC} })
	assert.EqualError(t, err, "x.csv: it could not be written (no space left on device), and nothing was left behind: make room there, or choose another place")
	j.Discard()
	holds(t, map[string]string{})
}
