package spill

import (
	"bytes"
	"os"
	"runtime"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What does not fit into memory waits in a file and comes back whole, whichever goroutine asks.
func TestStore(t *testing.T) {
	s := Store{Dir: t.TempDir(), Room: 3 << 20}
	defer s.Close()
	var at []int64
	for i := range 8 {
		p, err := s.Add(bytes.Repeat([]byte{byte(i)}, 1<<20))
		require.NoError(t, err)
		at = append(at, p)
	}
	info, err := s.file.Stat()
	require.NoError(t, err)
	assert.EqualValues(t, 5<<20, info.Size())
	if runtime.GOOS != "windows" {
		left, err := os.ReadDir(s.Dir)
		require.NoError(t, err)
		assert.Empty(t, left, "nothing is left, whatever happens")
	}
	var wg sync.WaitGroup
	for i, p := range at {
		wg.Go(func() {
			b := make([]byte, 1<<20)
			assert.NoError(t, s.Get(p, b))
			assert.Equal(t, byte(i), b[0])
			assert.Equal(t, byte(i), b[1<<20-1])
		})
	}
	wg.Wait()
	s.Close()
	left, err := os.ReadDir(s.Dir)
	require.NoError(t, err)
	assert.Empty(t, left)
}

func TestStoreWithoutPlace(t *testing.T) {
	s := Store{Dir: t.TempDir() + "/none", Room: 1}
	_, err := s.Add([]byte("ab"))
	assert.Error(t, err)
}
