package files

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A thousand files are read by many at once, and no more than allowed are open.
func TestManyFiles(t *testing.T) {
	dir := t.TempDir()
	list := make([]*diskFile, 1000)
	for i := range list {
		path := filepath.Join(dir, fmt.Sprint(i))
		require.NoError(t, os.WriteFile(path, fmt.Appendf(nil, "%08d", i), 0o644))
		f, err := openDisk(path)
		require.NoError(t, err)
		assert.EqualValues(t, 8, f.Size())
		list[i] = f
	}
	var wait sync.WaitGroup
	for w := range 8 {
		wait.Go(func() {
			r := rand.New(rand.NewPCG(uint64(w), 3))
			b := make([]byte, 8)
			for range 2000 {
				i := r.IntN(len(list))
				_, err := list[i].ReadAt(b, 0)
				assert.NoError(t, err)
				assert.Equal(t, fmt.Sprintf("%08d", i), string(b))
			}
		})
	}
	wait.Wait()
	assert.LessOrEqual(t, open.count, most)
	for _, f := range list {
		require.NoError(t, f.Close())
	}
	assert.Zero(t, open.count)
	_, err := list[0].ReadAt(make([]byte, 1), 0)
	assert.ErrorIs(t, err, os.ErrClosed)
}

// A file that is opened again must be the one that it was.
func TestChangedFile(t *testing.T) {
	path := filepath.Join(t.TempDir(), "a")
	require.NoError(t, os.WriteFile(path, []byte("one"), 0o644))
	f, err := openDisk(path)
	require.NoError(t, err)
	defer f.Close()
	open.mu.Lock()
	for open.shutOne() {
	}
	open.mu.Unlock()
	b := make([]byte, 3)
	_, err = f.ReadAt(b, 0)
	require.NoError(t, err)
	open.mu.Lock()
	for open.shutOne() {
	}
	open.mu.Unlock()
	require.NoError(t, os.WriteFile(path, []byte("other"), 0o644))
	_, err = f.ReadAt(b, 0)
	assert.ErrorContains(t, err, "changed while it was read")
	_, err = openDisk(path + "x")
	assert.ErrorContains(t, err, "check the path")
}
