package files

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Whatever is looked for is noted, whether it is there or not, also by systems over systems.
func TestRecorder(t *testing.T) {
	dir := t.TempDir()
	at := func(name string) string { return filepath.Join(dir, name) }
	require.NoError(t, os.WriteFile(at("a.tif"), []byte("II"), 0o600))
	require.NoError(t, os.WriteFile(at("a.tfw"), []byte("1"), 0o600))
	r := Record(Disk)
	outer := Record(r)
	f, err := outer.Open(at("a.tif"))
	require.NoError(t, err)
	f.Close()
	assert.Equal(t, at("a.tfw"), FindBeside(outer, at("a.tif"), ".wld", ".tfw", ".TFW"))
	_, err = outer.ReadFile(at("a.prj"))
	assert.ErrorIs(t, err, os.ErrNotExist)
	_, err = outer.Local(at("b.gpkg"))
	assert.ErrorIs(t, err, os.ErrNotExist)
	for _, one := range []*Recorder{r, outer} {
		assert.Equal(t, []string{at("a.tfw"), at("a.tif")}, one.Found())
		assert.Equal(t, []string{at("a.prj"), at("a.wld"), at("b.gpkg")}, one.Absent())
		assert.Equal(t, f.Validator(), one.Validator(at("a.tif")))
		assert.Empty(t, one.Validator(at("a.tfw")), "it was not opened")
	}
}
