package geotiff

import (
	"bytes"
	"context"
	"encoding/binary"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/raster"
)

// unplacedTIFF is the smallest raster without a place: an uncompressed strip of 2 × 1 bytes.
func unplacedTIFF() []byte {
	b := []byte("II*\x00\x08\x00\x00\x00")
	entries := [][3]uint32{{256, 3, 2}, {257, 3, 1}, {258, 3, 8}, {259, 3, 1}, {262, 3, 1}, {273, 4, 8 + 2 + 12*9 + 4}, {277, 3, 1}, {278, 3, 1}, {279, 4, 2}}
	b = append(b, byte(len(entries)), 0)
	for _, e := range entries {
		b = append(b, byte(e[0]), byte(e[0]>>8), byte(e[1]), 0, 1, 0, 0, 0, byte(e[2]), byte(e[2]>>8), 0, 0)
	}
	return append(b, 0, 0, 0, 0, 7, 9)
}

func TestWorldFiles(t *testing.T) {
	const laea = `PROJCS["ETRS89-extended / LAEA Europe",GEOGCS["ETRS89",DATUM["European_Terrestrial_Reference_System_1989",SPHEROID["GRS 1980",6378137,298.257222101]],PRIMEM["Greenwich",0],UNIT["degree",0.0174532925199433]],PROJECTION["Lambert_Azimuthal_Equal_Area"],PARAMETER["latitude_of_center",52],PARAMETER["longitude_of_center",10],PARAMETER["false_easting",4321000],PARAMETER["false_northing",3210000],UNIT["metre",1],AUTHORITY["EPSG","3035"]]`
	for _, c := range []struct {
		ending, world, prj, problem, err string
	}{
		{".tfw", "20\n0\n0\n-20\n4000010\n3000010\n", laea, "", ""},
		{".TFW", "20,0\r\n0,0\r\n0,0\r\n-20,0\r\n4000010,0\r\n3000010,0", laea, "", ""},
		{".wld", "20 0 0 -20 4000010 3000010", "", "it has no CRS: no .prj file stands beside", ""},
		{".tfw", "20\n0\n0\n-20\n4000010\n3000010\n", "LOCAL", "is not understood", ""},
		{".tfw", "20\n1\n0\n-20\n4000010\n3000010\n", laea, "", "a.tfw: its grid is rotated against its CRS"},
		{".tfw", "20\n0\n0\n-20\n4000010\n", laea, "", "a.tfw: it has 5 numbers, and a world file has six"},
		{".tfw", "20\n0\n0\n-20\nwest\n3000010\n", laea, "", `a.tfw: line 5: "west" is not a number`},
		{".tfw", "0\n0\n0\n0\n1\n1\n", laea, "", "is that what"},
		{"", "", laea, "it has no georeferencing", ""},
	} {
		dir := t.TempDir()
		path := filepath.Join(dir, "a.tif")
		require.NoError(t, os.WriteFile(path, unplacedTIFF(), 0o600))
		if c.ending != "" {
			require.NoError(t, os.WriteFile(filepath.Join(dir, "a"+c.ending), []byte(c.world), 0o600))
		}
		if c.prj != "" {
			require.NoError(t, os.WriteFile(filepath.Join(dir, "a.prj"), []byte(c.prj), 0o600))
		}
		s, err := Open(files.Disk, path, 1)
		if c.err != "" {
			require.ErrorContains(t, err, c.err)
			continue
		}
		require.NoError(t, err, c.ending)
		h := s.Header()
		require.NoError(t, s.Close())
		if c.problem != "" {
			assert.Contains(t, h.CRSProblem, c.problem)
			assert.Equal(t, c.ending == "", h.Unplaced)
			continue
		}
		require.Empty(t, h.CRSProblem)
		assert.Equal(t, 3035, h.Grid.CRS.Code)
		assert.Equal(t, []float64{4000000, 3000020, 20, -20}, []float64{h.Grid.X0, h.Grid.Y0, h.Grid.DX, h.Grid.DY})
		assert.Len(t, h.Notes, 1)
	}
}

// A description is asked for when all cells are written, and stands in the tag that TIFF has for it.
func TestDescriptionOfAnImage(t *testing.T) {
	m := raster.NewMemory("a", raster.Grid{Width: 3, Height: 2, DX: 1, DY: -1}, raster.Uint8, 3, 2)
	var b bytes.Buffer
	require.NoError(t, Write(context.Background(), &b, m, Options{Describe: func() string { return "classes: 1 Heide und Öd" }}))
	text := []byte("classes: 1 Heide und Öd\x00")
	at := bytes.Index(b.Bytes(), text)
	require.Positive(t, at)
	entry := binary.LittleEndian.AppendUint16(nil, 270)
	entry = binary.LittleEndian.AppendUint16(entry, 2)
	entry = binary.LittleEndian.AppendUint32(entry, uint32(len(text)))
	entry = binary.LittleEndian.AppendUint32(entry, uint32(at))
	assert.True(t, bytes.Contains(b.Bytes(), entry))
}
