package geotiff

import (
	"bytes"
	"context"
	"errors"
	"math"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/raster"
)

func bytesOf(t *testing.T, src raster.Source, o Options) []byte {
	t.Helper()
	var b bytes.Buffer
	require.NoError(t, Write(context.Background(), &b, src, o))
	return b.Bytes()
}

func TestWhatIsWrittenIsLaidOutAsCOG(t *testing.T) {
	nodata := 99.0
	for _, typ := range []raster.CellType{raster.Uint8, raster.Int16, raster.Float32} {
		for _, o := range []Options{{TileSize: 16}, {TileSize: 32, BigTIFF: true}, {TileSize: 16, Threads: 1, Compression: Zstandard}} {
			b := bytesOf(t, raster.NewFunc(raster.Header{Grid: grid(t, 3035), Type: typ, NoData: &nodata}, value), o)
			problems, err := CheckCOG(bytes.NewReader(b), int64(len(b)))
			require.NoError(t, err)
			assert.Empty(t, problems)
			s, err := New(bytes.NewReader(b), int64(len(b)), "a", 1)
			require.NoError(t, err)
			assert.True(t, s.Header().COG)
			assert.Equal(t, map[int]int{16: 3, 32: 2}[o.TileSize], s.Header().Overviews)
			same(t, s)
			// The order in which threads finish leaves no trace.
			o.Threads = 3
			assert.Equal(t, b, bytesOf(t, raster.NewFunc(raster.Header{Grid: grid(t, 3035), Type: typ, NoData: &nodata}, value), o))
		}
	}
}

// level reads overview n of a file through another program, which writes it out as the only image.
func overview(t *testing.T, path string, n int) *Source {
	t.Helper()
	out := filepath.Join(t.TempDir(), "level.tif")
	tool(t, "tiffcp", "-c", "none", path+","+string(rune('0'+n)), out)
	s, err := Open(files.Disk, out, 1)
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	return s
}

func cells(t *testing.T, s raster.Source) (out [][]float64) {
	t.Helper()
	var c raster.Cells
	g := s.Header().Grid
	require.NoError(t, s.NewReader().Read(raster.Window{Width: g.Width, Height: g.Height}, &c))
	for r := range g.Height {
		row := make([]float64, g.Width)
		for k := range row {
			row[k] = c.At(k, r)
		}
		out = append(out, row)
	}
	return out
}

func TestOverviewsByMajorityAndMean(t *testing.T) {
	g := grid(t, 3035)
	g.Width, g.Height = 33, 19
	nodata := 0.0
	v := func(c, r int) float64 { return float64((c/3+r/2*5)%4 + (c*r)%2) }
	for _, typ := range []raster.CellType{raster.Uint8, raster.Int16} {
		for _, mean := range []bool{false, true} {
			path := filepath.Join(t.TempDir(), "a.tif")
			b := bytesOf(t, raster.NewFunc(raster.Header{Grid: g, Type: typ, NoData: &nodata}, v), Options{TileSize: 16, Values: mean})
			require.NoError(t, os.WriteFile(path, b, 0o644))
			got := cells(t, overview(t, path, 1))
			require.Len(t, got, 10)
			require.Len(t, got[0], 17)
			for r := range got {
				for c := range got[r] {
					var values []float64
					for _, d := range [4][2]int{{0, 0}, {1, 0}, {0, 1}, {1, 1}} {
						if x, y := 2*c+d[0], 2*r+d[1]; x < 33 && y < 19 && v(x, y) != 0 {
							values = append(values, v(x, y))
						}
					}
					want := 0.0
					if len(values) > 0 && mean {
						for _, x := range values {
							want += x
						}
						want = math.Round(want / float64(len(values)))
					} else if len(values) > 0 { // the lowest of those that occur most
						most := 0
						for _, x := range values {
							n := 0
							for _, y := range values {
								if x == y {
									n++
								}
							}
							if n > most || n == most && x < want {
								want, most = x, n
							}
						}
					}
					require.Equal(t, want, got[r][c], "%v %v at %d, %d of %v", typ, mean, c, r, values)
				}
			}
		}
	}
}

func TestOtherLayoutsAreNoCOG(t *testing.T) {
	path := filepath.Join(t.TempDir(), "a.tif")
	write(t, path, raster.Header{Grid: grid(t, 3035), Type: raster.Uint8}, Options{TileSize: 16})
	out := filepath.Join(t.TempDir(), "b.tif")
	tool(t, "tiffcp", "-s", path, out)
	b, err := os.ReadFile(out)
	require.NoError(t, err)
	problems, err := CheckCOG(bytes.NewReader(b), int64(len(b)))
	require.NoError(t, err)
	text := strings.Join(problems, "; ")
	assert.Contains(t, text, "in strips, not in tiles")
	assert.Contains(t, text, "a directory lies behind cells")
}

type failing struct{ *raster.Func }

func (f failing) NewReader() raster.Reader { return f }
func (f failing) Read(w raster.Window, dst *raster.Cells) error {
	if w.Row > 40 {
		return errors.New("damaged")
	}
	return f.Func.Read(w, dst)
}

func TestWritingStopsWithTheSource(t *testing.T) {
	src := failing{raster.NewFunc(raster.Header{Grid: grid(t, 3035), Type: raster.Uint8}, value)}
	assert.ErrorContains(t, Write(context.Background(), &bytes.Buffer{}, src, Options{TileSize: 16}), "damaged")
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	assert.ErrorIs(t, Write(ctx, &bytes.Buffer{}, src.Func, Options{TileSize: 16}), context.Canceled)
	assert.Error(t, Write(context.Background(), &bytes.Buffer{}, src.Func, Options{TileSize: 17}))
}
