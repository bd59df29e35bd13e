package geotiff

import (
	"bytes"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/raster"
)

// stored are the stretches of a file that hold its blocks.
func stored(t *testing.T, b []byte) (out [][2]uint64) {
	t.Helper()
	s, err := New(bytes.NewReader(b), int64(len(b)), "stored", 1)
	require.NoError(t, err)
	d := directory{order: s.file.order}
	for i := range uint64(s.layout.across * s.layout.down) {
		offset, ok := d.at(s.layout.offsets, i)
		count, ok2 := d.at(s.layout.counts, i)
		require.True(t, ok && ok2)
		out = append(out, [2]uint64{offset, count})
	}
	return out
}

// all are the cells of a file.
func all(b []byte) ([]byte, error) {
	s, err := New(bytes.NewReader(b), int64(len(b)), "all", 1)
	if err != nil {
		return nil, err
	}
	var c raster.Cells
	g := s.Header().Grid
	err = s.NewReader().Read(raster.Window{Width: g.Width, Height: g.Height}, &c)
	return bytes.Clone(c.U8), err
}

// One bit is flipped in the blocks of a thousand copies. Where the compression has a checksum, the file is refused or its cells are the
// same. Where it has none, as docs/formats.md says, half of such files are refused still, for their blocks do not end where they should.
func TestOneFlippedBit(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "a.tif")
	nodata := 0.0
	h := raster.Header{Grid: grid(t, 3035), Type: raster.Uint8, NoData: &nodata}
	written := map[string][]byte{"Zstandard, ours": nil, "Deflate, ours": nil}
	for name, o := range map[string]Options{"Deflate, ours": {TileSize: 32, NoOverviews: true}, "Zstandard, ours": {TileSize: 32, NoOverviews: true, Compression: Zstandard}} {
		write(t, path, h, o)
		b, err := os.ReadFile(path)
		require.NoError(t, err)
		written[name] = b
	}
	for _, c := range []string{"zip", "zip:2", "lzw", "packbits"} {
		for layout, options := range map[string][]string{"strips": {"-s", "-r", "10"}, "tiles": {"-t", "-w", "48", "-l", "32"}} {
			out := filepath.Join(dir, "out.tif")
			tool(t, "tiffcp", append(append([]string{"-c", c}, options...), path, out)...)
			b, err := os.ReadFile(out)
			require.NoError(t, err)
			written[c+", "+layout] = b
		}
	}
	for name, good := range written {
		t.Run(name, func(t *testing.T) {
			want, err := all(good)
			require.NoError(t, err)
			blocks := stored(t, good)
			r := rand.New(rand.NewPCG(15, 7))
			refused, other := 0, 0
			for range 1000 {
				block := blocks[r.IntN(len(blocks))]
				b := bytes.Clone(good)
				at := block[0] + r.Uint64N(block[1])
				b[at] ^= 1 << r.IntN(8)
				got, err := all(b)
				switch {
				case err != nil:
					refused++
				case !bytes.Equal(got, want):
					other++
				}
			}
			t.Logf("of 1000: %d refused, %d with other cells", refused, other)
			if hasChecksum := name[0] != 'l' && name[0] != 'p'; hasChecksum {
				assert.Zero(t, other)
				assert.Greater(t, refused, 950)
			}
		})
	}
}

// A block that ends early or late is damaged, whatever its compression.
func TestBlocksEndWhereTheyShould(t *testing.T) {
	dir := t.TempDir()
	path, out := filepath.Join(dir, "a.tif"), filepath.Join(dir, "out.tif")
	write(t, path, raster.Header{Grid: grid(t, 3035), Type: raster.Uint8}, Options{TileSize: 32, NoOverviews: true})
	var d decoder
	for scheme, name := range map[Compression]string{Deflate: "zip", 5: "lzw", 32773: "packbits", Zstandard: "zstd", Uncompressed: "none"} {
		tool(t, "tiffcp", "-c", name, "-s", "-r", "25", path, out)
		b, err := os.ReadFile(out)
		require.NoError(t, err)
		block := stored(t, b)[1]
		src := b[block[0] : block[0]+block[1]]
		const need = 100 * 25
		decode := codecs[scheme].decode
		assert.NoError(t, decode(&d, make([]byte, need), src, 0), name)
		assert.Error(t, decode(&d, make([]byte, need+1), src, 0), name)
		assert.Error(t, decode(&d, make([]byte, need-4), src, 0), name)
		assert.Error(t, decode(&d, make([]byte, need-100), src, 200), name)
		assert.Error(t, decode(&d, make([]byte, need), src[:len(src)-5], 0), name)
		assert.NoError(t, decode(&d, make([]byte, need-100), src, 100), "%s: a last strip as long as the others", name)
	}
}
