package open

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/files"
)

// Files of other formats are named, with what to do.
func TestOtherFormatsAreNamed(t *testing.T) {
	dir := t.TempDir()
	for head, want := range map[string]string{
		"\x89PNG\r\n\x1a\n":        "it is a PNG image; rasters are read from GeoTIFF and ASCII grids: convert it to GeoTIFF first",
		"\x89HDF\r\n\x1a\nxx":      "an HDF5 or NetCDF-4 file",
		"CDF\x01xxxx":              "a NetCDF file",
		"\x00\x00\x00\x0cjP  \r\n": "a JPEG 2000 file",
		"\xff\xd8\xff\xe0":         "a JPEG image",
		"PK\x03\x04xx":             "a ZIP archive (unpack it)",
		"\x1f\x8bxx":               "a gzipped file (unpack it)",
		"SQLite format 3\x00":      "an SQLite database or GeoPackage",
		`{"type":"Feature"}`:       "JSON text",
		"hello":                    "no raster format that is known",
		"":                         "the file is empty",
		"II*\x00":                  "it has only 4 bytes",
		"ncols 4":                  "within its header",
	} {
		path := filepath.Join(dir, "f")
		require.NoError(t, os.WriteFile(path, []byte(head), 0o644))
		_, err := Raster(files.Disk, path, 1)
		require.ErrorContains(t, err, want, "%q", head)
		assert.ErrorContains(t, err, path)
	}
	_, err := Raster(files.Disk, dir, 1)
	assert.ErrorContains(t, err, "it is a folder")
	_, err = Raster(files.Disk, filepath.Join(dir, "nothing"), 1)
	assert.ErrorContains(t, err, "check the path")
}
