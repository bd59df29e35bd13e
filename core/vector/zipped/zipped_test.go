package zipped

import (
	"archive/zip"
	"bytes"
	"io/fs"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/files"
)

// archive makes an archive.
func archive(t testing.TB, add func(z *zip.Writer)) []byte {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	add(z)
	require.NoError(t, z.Close())
	return b.Bytes()
}

func put(t testing.TB, z *zip.Writer, name, text string) {
	w, err := z.Create(name)
	require.NoError(t, err)
	if !strings.HasSuffix(name, "/") {
		_, err = w.Write([]byte(text))
		require.NoError(t, err)
	}
}

func TestFilesAreReadInMemory(t *testing.T) {
	data := archive(t, func(z *zip.Writer) {
		for _, name := range []string{"b/wards.shp", "a.kml", "../../etc/passwd", "/root.kml", "b/", "__MACOSX/a.kml", "b/.hidden"} {
			put(t, z, name, "text of "+name)
		}
	})
	assert.True(t, Is(data))
	a, err := Open("x.zip", files.Bytes(data))
	require.NoError(t, err)
	assert.Equal(t, []string{"../../etc/passwd", "/root.kml", "a.kml", "b/wards.shp"}, a.Names())
	got, err := a.ReadFile("../../etc/passwd") // of the archive, and of nothing else
	require.NoError(t, err)
	assert.Equal(t, "text of ../../etc/passwd", string(got))
	f, err := a.Open("a.kml")
	require.NoError(t, err)
	assert.EqualValues(t, 13, f.Size())
	_, err = a.ReadFile("none")
	assert.ErrorIs(t, err, fs.ErrNotExist)
	_, err = a.Local("a.kml")
	assert.ErrorContains(t, err, "unpack it")
}

// What is unpacked is bounded by what it is, not by what the directory claims.
func TestBombs(t *testing.T) {
	data := archive(t, func(z *zip.Writer) {
		w, err := z.Create("a.geojson")
		require.NoError(t, err)
		zeros := make([]byte, 1<<20)
		for range 20 {
			_, err = w.Write(zeros)
			require.NoError(t, err)
		}
	})
	assert.Less(t, len(data), 2<<20)
	a, err := Open("bomb.zip", files.Bytes(data))
	require.NoError(t, err)
	a.most = 10 << 20
	_, err = a.ReadFile("a.geojson")
	assert.ErrorContains(t, err, "has more than 10 MB: unpack it")
	many := archive(t, func(z *zip.Writer) {
		for range mostFiles + 1 {
			_, err := z.CreateHeader(&zip.FileHeader{Name: "a"})
			require.NoError(t, err)
		}
	})
	_, err = Open("many.zip", files.Bytes(many))
	assert.ErrorContains(t, err, "far more than one looks for zones in")
}

func TestDamagedArchives(t *testing.T) {
	data := archive(t, func(z *zip.Writer) { put(t, z, "a.kml", "0123456789012345678901234567890123456789") })
	_, err := Open("x.zip", files.Bytes(data[:len(data)/2]))
	assert.ErrorContains(t, err, "x.zip: it is not a ZIP archive that can be read")
	bad := bytes.Clone(data)
	bad[40] ^= 0xff
	a, err := Open("x.zip", files.Bytes(bad))
	require.NoError(t, err)
	_, err = a.ReadFile("a.kml")
	assert.ErrorContains(t, err, "x.zip: a.kml in it cannot be unpacked")
	i := bytes.Index(data, []byte("PK\x01\x02"))
	bad = bytes.Clone(data)
	bad[i+8] |= 1
	a, err = Open("x.zip", files.Bytes(bad))
	require.NoError(t, err)
	_, err = a.ReadFile("a.kml")
	assert.ErrorContains(t, err, "is encrypted")
}

func FuzzOpen(f *testing.F) {
	f.Add(archive(f, func(z *zip.Writer) { put(f, z, "a.kml", "text") }))
	f.Fuzz(func(t *testing.T, data []byte) {
		a, err := Open("x.zip", files.Bytes(data))
		if err != nil {
			return
		}
		for i, n := range a.Names() {
			if i < 8 {
				a.ReadFile(n)
			}
		}
	})
}
