package spill

import (
	"bytes"
	"io"
	"math/rand/v2"
	"os"
	"runtime"
	"strings"
	"sync"
	"testing"
	"testing/iotest"

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

// What is read is whole, and nothing is kept of what is longer than allowed.
func TestRead(t *testing.T) {
	for _, n := range []int{0, 1, room, room + 1, 2 * room} {
		data, size, err := Read(io.LimitReader(rand.NewChaCha8([32]byte{1}), int64(n)), 2*room)
		require.NoError(t, err)
		assert.EqualValues(t, n, size)
		want := make([]byte, n)
		rand.NewChaCha8([32]byte{1}).Read(want)
		assert.True(t, bytes.Equal(want, data), n)
	}
	data, size, err := Read(rand.NewChaCha8([32]byte{1}), 100)
	require.NoError(t, err)
	assert.Nil(t, data)
	assert.Greater(t, size, int64(100))
	_, _, err = Read(iotest.TimeoutReader(iotest.OneByteReader(strings.NewReader("abc"))), 100)
	assert.ErrorIs(t, err, iotest.ErrTimeout)
}

func TestStoreWithoutPlace(t *testing.T) {
	s := Store{Dir: t.TempDir() + "/none", Room: 1}
	_, err := s.Add([]byte("ab"))
	assert.Error(t, err)
}
