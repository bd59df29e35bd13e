//go:build unix

package spread

import (
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A pipe that never ends is given up, and one that is short enough is read.
func TestPipes(t *testing.T) {
	pipe := filepath.Join(t.TempDir(), "pipe")
	require.NoError(t, syscall.Mkfifo(pipe, 0o600))
	for n, want := range map[int]error{1000: nil, 1001: ErrLongPipe} {
		go func() {
			f, err := os.OpenFile(pipe, os.O_WRONLY, 0)
			assert.NoError(t, err)
			_, _ = f.Write(make([]byte, n)) // the reader may be gone
			f.Close()
		}()
		data, err := readFile(pipe, 1000)
		assert.ErrorIs(t, err, want)
		if want == nil {
			assert.Len(t, data, n)
		}
	}
}
