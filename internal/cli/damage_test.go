package cli

import (
	"bytes"
	"encoding/binary"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A bit is flipped in many copies of a file of every kind that is read. Nothing crashes; and where the
// format has checksums, the file is refused or the numbers are the same.
func TestOneFlippedBitInAnyContainer(t *testing.T) {
	t.Chdir(t.TempDir())
	require.NoError(t, os.WriteFile("a.asc", []byte(asciiGrid(40, 30)), 0o644))
	require.NoError(t, os.WriteFile("a.prj", []byte("EPSG:32633"), 0o644))
	require.NoError(t, os.WriteFile("keep.csv", []byte("from,to,note\nelse,keep,\n"), 0o644))
	for _, c := range []string{"deflate", "zstd"} {
		verdex(t, "reclassify", "a.asc", "--crs", "EPSG:32633", "--crosswalk", "keep.csv", "--no-overviews", "--compress", c, "--out", c+".tif")
	}
	verdex(t, "zones", "grid", "--grid", "deflate.tif", "--cells", "10", "--out", "z.geojson")
	for _, name := range []string{"z.gpkg", "z.shp", "z.parquet", "z.geojsonl"} {
		verdex(t, "zones", "pick", "z.geojson", "--out", name)
	}
	verdex(t, "book", "create", "b.book")
	verdex(t, "measure", "deflate.tif", "--zones", "z.geojson", "--zone-id", "zone_id", "--epoch", "2020", "--post", "b.book", "--account", "a", "--out", "t.csv")
	verdex(t, "book", "export", "b.book", "--package", "p")

	type container struct {
		file string
		args []string
		from func(b []byte) int // where checksums begin to hold, up to
		to   func(b []byte) int
		sure bool
	}
	zones := func(file string) []string {
		return []string{"measure", "deflate.tif", "--zones", strings.TrimSuffix(strings.TrimSuffix(file, ".dbf"), ".shx") + map[bool]string{true: ".shp"}[strings.HasSuffix(file, ".dbf") || strings.HasSuffix(file, ".shx")],
			"--zone-id", "zone_id", "--format", "csv"}
	}
	all := func(b []byte) int { return len(b) }
	none := func([]byte) int { return 0 }
	footer := func(b []byte) int { return len(b) - 8 - int(binary.LittleEndian.Uint32(b[len(b)-8:])) }
	containers := []container{
		{"z.parquet", zones("z.parquet"), func([]byte) int { return 4 }, footer, true},
		{"z.gpkg", zones("z.gpkg"), none, all, false},
		{"z.shp", zones("z.shp"), none, all, false},
		{"z.dbf", zones("z.dbf"), none, all, false},
		{"z.geojson", zones("z.geojson"), none, all, false},
		{"z.geojsonl", zones("z.geojsonl"), none, all, false},
		{"deflate.tif", []string{"measure", "deflate.tif", "--format", "csv"}, none, all, false},
		{"zstd.tif", []string{"measure", "zstd.tif", "--format", "csv"}, none, all, false},
		{"a.asc", []string{"measure", "a.asc", "--crs", "EPSG:32633", "--format", "csv"}, none, all, false},
		{"t.csv", []string{"account", "composition", "t.csv", "--format", "csv"}, none, all, false},
	}
	files, err := filepath.Glob("p/*")
	require.NoError(t, err)
	for _, f := range files {
		if !strings.HasSuffix(f, ".json") && !strings.HasSuffix(f, ".md") {
			containers = append(containers, container{f, []string{"book", "import", "new.book", "p"}, none, all, true})
		}
	}
	require.Greater(t, len(containers), 12)
	for _, c := range containers {
		t.Run(c.file, func(t *testing.T) {
			good, err := os.ReadFile(c.file)
			require.NoError(t, err)
			defer func() { require.NoError(t, os.WriteFile(c.file, good, 0o644)) }()
			numbers := func() (string, string, int) {
				if c.args[0] == "book" {
					_ = os.Remove("new.book")
					verdex(t, "book", "create", "new.book")
				}
				var out, errs strings.Builder
				code := Main(append([]string{"verdex"}, c.args...), "test", &out, &errs)
				if c.args[0] == "book" && code == exitDone {
					shown, _ := verdex(t, "book", "show", "new.book", "a", "--format", "csv")
					return shown, errs.String(), code
				}
				return out.String(), errs.String(), code
			}
			want, _, code := numbers()
			require.Equal(t, exitDone, code)
			r := rand.New(rand.NewPCG(15, uint64(len(good))))
			refused, other := 0, 0
			n := 100
			switch {
			case c.args[0] == "book": // each of which makes a book
				n = 100
			case c.sure:
				n = 1000
			}
			for range n {
				b := bytes.Clone(good)
				from, to := c.from(good), c.to(good)
				b[from+r.IntN(to-from)] ^= 1 << r.IntN(8)
				require.NoError(t, os.WriteFile(c.file, b, 0o644))
				got, said, code := numbers()
				if !assert.NotContains(t, said, "unforeseen fault") {
					return
				}
				switch {
				case code != exitDone:
					refused++
				case got != want:
					other++
				}
			}
			t.Logf("of %d: %d refused, %d with other numbers", n, refused, other)
			if c.sure {
				assert.Zero(t, other)
				assert.Positive(t, refused)
			}
		})
	}
}

// asciiGrid is an ASCII grid of 30 m cells with the values 1 to 5.
func asciiGrid(width, height int) string {
	var b strings.Builder
	b.WriteString("ncols " + strconv.Itoa(width) + "\nnrows " + strconv.Itoa(height) + "\nxllcorner 500000\nyllcorner 6500000\ncellsize 30\nNODATA_value 0\n")
	for r := range height {
		for c := range width {
			b.WriteString(strconv.Itoa(1+(c/7*3+r/5*11)%5) + " ")
		}
		b.WriteString("\n")
	}
	return b.String()
}
