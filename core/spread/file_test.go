package spread

import (
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestFilesAreReadWhole(t *testing.T) {
	path := filepath.Join(t.TempDir(), "file")
	for _, size := range []int{0, 1, largeFile - 1, largeFile, largeFile + 3*fileBlock + 17} {
		data := make([]byte, size)
		r := rand.NewChaCha8([32]byte{byte(size)})
		_, _ = r.Read(data)
		require.NoError(t, os.WriteFile(path, data, 0o600))
		got, err := ReadFile(path)
		require.NoError(t, err)
		assert.True(t, string(data) == string(got), "%d bytes", size)
	}
	_, err := ReadFile(filepath.Join(t.TempDir(), "none"))
	assert.ErrorIs(t, err, os.ErrNotExist)
	_, err = ReadFile(t.TempDir())
	assert.Error(t, err)
}
