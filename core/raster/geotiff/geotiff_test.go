package geotiff

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/earth/projection"
	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/raster"
)

func grid(t testing.TB, code int) raster.Grid {
	t.Helper()
	crs, err := earth.Lookup(code)
	require.NoError(t, err)
	g := raster.Grid{Width: 100, Height: 75, X0: 500000, Y0: 6500000, DX: 30, DY: -30, CRS: crs}
	if crs.Geographic() {
		g.X0, g.Y0, g.DX, g.DY = 12, 59, 0.001, -0.0005
	}
	return g
}

// value is what the test rasters hold: whole numbers that differ from band to band and fit in
// every type.
func value(c, r int) float64 { return float64((c/7*3 + r/5*11) % 100) }

func write(t testing.TB, path string, h raster.Header, o Options) {
	t.Helper()
	f, err := os.Create(path)
	require.NoError(t, err)
	defer f.Close()
	require.NoError(t, encode(f, h, o))
}

func encode(f io.Writer, h raster.Header, o Options) error {
	return Write(context.Background(), f, raster.NewFunc(h, value), o)
}

// same checks every cell, read in windows that do not follow the blocks.
func same(t testing.TB, s *Source) {
	t.Helper()
	g := s.Header().Grid
	r := s.NewReader()
	var cells raster.Cells
	for _, step := range [][2]int{{g.Width, g.Height}, {33, 17}} {
		for r0 := 0; r0 < g.Height; r0 += step[1] {
			for c0 := 0; c0 < g.Width; c0 += step[0] {
				w := raster.Window{Col: c0, Row: r0, Width: min(step[0], g.Width-c0), Height: min(step[1], g.Height-r0)}
				require.NoError(t, r.Read(w, &cells))
				for y := range w.Height {
					for x := range w.Width {
						if got := cells.At(x, y); got != value(c0+x, r0+y) {
							require.Equal(t, value(c0+x, r0+y), got, "cell %d, %d", c0+x, r0+y)
						}
					}
				}
			}
		}
	}
}

func TestWhatIsWrittenIsRead(t *testing.T) {
	nodata := 99.0
	for typ := raster.Uint8; typ <= raster.Float64; typ++ {
		for _, o := range []Options{{}, {Compression: Zstandard, TileSize: 64}, {Compression: Uncompressed, TileSize: 16}, {BigTIFF: true, TileSize: 32}} {
			for _, code := range []int{32633, 4326, 3035} {
				path := filepath.Join(t.TempDir(), "a.tif")
				h := raster.Header{Grid: grid(t, code), Type: typ, NoData: &nodata}
				write(t, path, h, o)
				s, err := Open(files.Disk, path, 1)
				require.NoError(t, err)
				got := s.Header()
				assert.Equal(t, typ, got.Type)
				assert.Equal(t, nodata, *got.NoData)
				assert.NoError(t, h.Grid.Aligned(got.Grid))
				assert.Equal(t, code, got.Grid.CRS.Code)
				same(t, s)
				require.NoError(t, s.Close())
			}
		}
	}
}

func TestCRSWrittenOut(t *testing.T) {
	wgs, _ := earth.Lookup(4326)
	for _, of := range []struct {
		method *projection.Method
		roles  projection.Params
	}{
		{projection.TransverseMercator, projection.Params{"lon0": 13.5, "scale": 0.9999, "fe": 1000}},
		{projection.TransverseMercatorSouth, projection.Params{"lon0": 13.5, "lat0": 10, "scale": 1, "fe": 1000}},
		{projection.AzimuthalEqualArea, projection.Params{"lat0": 58, "lon0": 12, "fn": 500}},
		{projection.Albers, projection.Params{"lat0": 50, "lon0": 12, "lat1": 55, "lat2": 61}},
		{projection.CylindricalEqualArea, projection.Params{"lon0": 12, "lat1": 30}},
		{projection.MercatorB, projection.Params{"lon0": 12, "lat1": 58}},
		{projection.MercatorA, projection.Params{"lon0": 12, "scale": 0.9}},
		{projection.LambertConformal2, projection.Params{"lat0": 50, "lon0": 12, "lat1": 55, "lat2": 61, "fe": 7}},
		{projection.LambertConformal1, projection.Params{"lat0": 50, "lon0": 12, "scale": 0.99, "fe": 7}},
		{projection.PolarStereographicA, projection.Params{"lat0": 90, "lon0": 12, "scale": 0.994, "fe": 7}},
		{projection.PolarStereographicB, projection.Params{"lat1": 71, "lon0": 12, "fe": 7}},
		{projection.ObliqueStereographic, projection.Params{"lat0": 52, "lon0": 12, "scale": 0.9999, "fe": 7}},
		{projection.ObliqueMercatorA, projection.Params{"lat0": 52, "lon0": 12, "azimuth": 30, "skew": 30, "scale": 0.9999, "fe": 7}},
		{projection.ObliqueMercatorB, projection.Params{"lat0": 52, "lon0": 12, "azimuth": 30, "skew": 29, "scale": 0.9999, "ce": 7}},
		{projection.Cassini, projection.Params{"lat0": 52, "lon0": 12, "fe": 7}},
		{projection.Polyconic, projection.Params{"lat0": 52, "lon0": 12, "fe": 7}},
		{projection.Sinusoidal, projection.Params{"lon0": 12}},
		{projection.EquidistantSpherical, projection.Params{"lon0": 12, "lat1": 40}},
	} {
		d := earth.Definition{Method: of.method, Params: of.roles}
		for _, unit := range []float64{1, 0.3048} {
			d.Base, d.Name, d.Unit, d.UnitName = wgs, "local", unit, "unit"
			crs, err := earth.Define(d)
			require.NoError(t, err)
			g := grid(t, 32633)
			g.CRS = crs
			path := filepath.Join(t.TempDir(), "a.tif")
			write(t, path, raster.Header{Grid: g, Type: raster.Uint8}, Options{})
			s, err := Open(files.Disk, path, 1)
			require.NoError(t, err)
			require.NotNil(t, s.Header().Grid.CRS, s.Header().CRSProblem)
			x, y, ok := crs.FromGeographic(0.22, 1.01)
			require.True(t, ok)
			x2, y2, ok := s.Header().Grid.CRS.FromGeographic(0.22, 1.01)
			require.True(t, ok)
			assert.InDelta(t, x, x2, 1e-6, d.Method.Name)
			assert.InDelta(t, y, y2, 1e-6, d.Method.Name)
			s.Close()
		}
	}
}

// tool runs one of Debian's programs; make test installs them.
func tool(t *testing.T, name string, args ...string) string {
	t.Helper()
	path, err := exec.LookPath(name)
	require.NoError(t, err, "make test installs what the tests need")
	var stdout, stderr bytes.Buffer
	c := exec.Command(path, args...)
	c.Stdout, c.Stderr = &stdout, &stderr
	require.NoError(t, c.Run(), "%s %v: %s", name, args, &stderr)
	return stdout.String()
}

// Files that libtiff has written anew, in every layout that it knows, hold the same cells.
func TestFilesOfAnotherWriter(t *testing.T) {
	dir := t.TempDir()
	nodata := 99.0
	for typ := raster.Uint8; typ <= raster.Float64; typ++ {
		path := filepath.Join(dir, typ.String()+".tif")
		write(t, path, raster.Header{Grid: grid(t, 3035), Type: typ, NoData: &nodata}, Options{TileSize: 32})
		for _, compression := range []string{"none", "zip", "zip:2", "zip:3", "lzw", "lzw:2", "packbits", "zstd", "zstd:2"} {
			if strings.HasSuffix(compression, ":2") && (typ == raster.Float32 || typ == raster.Float64) {
				continue
			}
			if strings.HasSuffix(compression, ":3") && typ != raster.Float32 && typ != raster.Float64 {
				continue
			}
			for _, layout := range [][]string{{"-s", "-r", "1"}, {"-s", "-r", "13"}, {"-s", "-r", "75"}, {"-t", "-w", "48", "-l", "16"}} {
				for _, container := range [][]string{{"-L"}, {"-B"}, {"-8", "-L"}, {"-8", "-B"}} {
					if strings.HasSuffix(compression, ":3") && container[len(container)-1] == "-B" {
						continue // libtiff 4.5 cannot read back what it writes so
					}
					out := filepath.Join(dir, "out.tif")
					tool(t, "tiffcp", append(append(append([]string{"-c", compression}, layout...), container...), path, out)...)
					s, err := Open(files.Disk, out, 1)
					require.NoError(t, err, "%v %s %v %v", typ, compression, layout, container)
					same(t, s)
					s.Close()
				}
			}
		}
	}
}

func TestBandsOfAnotherWriter(t *testing.T) {
	dir := t.TempDir()
	for _, order := range []string{"contig", "separate"} {
		var parts []string
		for b := range 3 {
			h := raster.Header{Grid: grid(t, 3035), Type: raster.Uint8}
			h.Grid.CRS = nil
			path := filepath.Join(dir, fmt.Sprintf("b%d.tif", b))
			f, err := os.Create(path)
			require.NoError(t, err)
			require.NoError(t, Write(context.Background(), f, raster.NewFunc(h, func(c, r int) float64 { return value(c, r) + float64(b)*50 }), Options{TileSize: 128}))
			f.Close()
			parts = append(parts, path)
		}
		joined := filepath.Join(dir, order+".tif")
		// tiffcp cannot join bands: the file is put together here and written anew there.
		require.NoError(t, os.WriteFile(joined, threeBands(t, parts), 0o644))
		again := filepath.Join(dir, "again.tif")
		tool(t, "tiffcp", "-c", "lzw", "-p", order, "-s", "-r", "9", joined, again)
		for b := range 3 {
			s, err := Open(files.Disk, again, b+1)
			require.NoError(t, err)
			assert.Equal(t, 3, s.Header().Bands)
			var c raster.Cells
			require.NoError(t, s.NewReader().Read(raster.Window{Width: 100, Height: 75}, &c))
			assert.Equal(t, value(40, 50)+float64(b)*50, c.At(40, 50), "%s band %d", order, b+1)
			s.Close()
		}
		_, err := Open(files.Disk, again, 4)
		assert.ErrorContains(t, err, "band 4")
	}
}

// threeBands makes the plainest TIFF of three 8-bit bands, interleaved by pixel in one strip.
func threeBands(t *testing.T, parts []string) []byte {
	var bands [3]raster.Cells
	for b, p := range parts {
		s, err := Open(files.Disk, p, 1)
		require.NoError(t, err)
		require.NoError(t, s.NewReader().Read(raster.Window{Width: 100, Height: 75}, &bands[b]))
		s.Close()
	}
	var data bytes.Buffer
	for r := range 75 {
		for c := range 100 {
			for b := range 3 {
				data.WriteByte(byte(bands[b].At(c, r)))
			}
		}
	}
	head := []byte{'I', 'I', 42, 0, 0, 0, 0, 0}
	out := append(head, data.Bytes()...)
	bits := len(out)
	out = append(out, 8, 0, 8, 0, 8, 0)
	dir := len(out)
	out[4], out[5], out[6], out[7] = byte(dir), byte(dir>>8), byte(dir>>16), byte(dir>>24)
	entries := [][4]int{{256, 3, 1, 100}, {257, 3, 1, 75}, {258, 3, 3, bits}, {259, 3, 1, 1}, {262, 3, 1, 1}, {273, 4, 1, 8},
		{277, 3, 1, 3}, {278, 3, 1, 75}, {279, 4, 1, data.Len()}}
	out = append(out, byte(len(entries)), 0)
	for _, e := range entries {
		for i, size := range []int{2, 2, 4, 4} {
			for k := range size {
				out = append(out, byte(e[i]>>(8*k)))
			}
		}
	}
	return append(out, 0, 0, 0, 0)
}

// Other programs find in our files what was meant.
func TestOtherReaders(t *testing.T) {
	dir := t.TempDir()
	nodata := 99.0
	for _, big := range []bool{false, true} {
		path := filepath.Join(dir, fmt.Sprintf("%v.tif", big))
		h := raster.Header{Grid: grid(t, 32633), Type: raster.Uint8, NoData: &nodata, Palette: []raster.Color{{}, {R: 255, G: 128}}}
		write(t, path, h, Options{TileSize: 64, BigTIFF: big})
		info := tool(t, "tiffinfo", path)
		for _, want := range []string{"Image Width: 100 Image Length: 75", "Tile Width: 64 Tile Length: 64", "Bits/Sample: 8", "palette color", "AdobeDeflate"} {
			assert.Contains(t, info, want)
		}
		if big {
			continue // Debian's listgeo reads no BigTIFF
		}
		geo := tool(t, "listgeo", "-d", path)
		for _, want := range []string{"ProjectedCRSGeoKey (Short,1): Code-32633 (WGS 84 / UTM zone 33N)", "RasterPixelIsArea", "Upper Left    (  500000.000, 6500000.000)",
			"Lower Right   (  503000.000, 6497750.000)", "500000            6500000           0", "30                30                0"} {
			assert.Contains(t, geo, want)
		}
		// Put together again by geotifcp from listgeo's own words.
		meta := filepath.Join(dir, "meta")
		require.NoError(t, os.WriteFile(meta, []byte(tool(t, "listgeo", "-no_norm", path)), 0o644))
		again := filepath.Join(dir, "again.tif")
		tool(t, "geotifcp", "-g", meta, "-c", "lzw", path, again)
		s, err := Open(files.Disk, again, 1)
		require.NoError(t, err)
		assert.NoError(t, h.Grid.Aligned(s.Header().Grid))
		same(t, s)
		s.Close()
	}
}

func TestGeoreferencing(t *testing.T) {
	// PixelIsPoint: the tiepoint is the centre of a cell.
	for _, c := range []struct {
		name   string
		fields map[uint16]field
		x0, y0 float64
		err    string
	}{
		{"area", fields(pixelArea, []float64{30, 30, 0}, []float64{0, 0, 0, 500, 600, 0}, nil), 500, 600, ""},
		{"point", fields(pixelPoint, []float64{30, 30, 0}, []float64{0, 0, 0, 500, 600, 0}, nil), 485, 615, ""},
		{"tied elsewhere", fields(pixelArea, []float64{30, 30, 0}, []float64{2, 3, 0, 500, 600, 0}, nil), 440, 690, ""},
		{"matrix", fields(pixelArea, nil, nil, []float64{30, 0, 0, 500, 0, -30, 0, 600, 0, 0, 0, 0, 0, 0, 0, 1}), 500, 600, ""},
		{"rotated", fields(pixelArea, nil, nil, []float64{30, 5, 0, 500, 5, -30, 0, 600, 0, 0, 0, 0, 0, 0, 0, 1}), 0, 0, "rotated"},
		{"control points", fields(pixelArea, nil, make([]float64, 24), nil), 0, 0, "control points"},
		{"not finite", fields(pixelArea, []float64{math.NaN(), 30, 0}, []float64{0, 0, 0, 500, 600, 0}, nil), 0, 0, "not finite"},
	} {
		d := &directory{order: binaryLE, fields: c.fields}
		var h raster.Header
		err := georeference(d, &layout{width: 10, height: 10}, &h)
		if c.err != "" {
			assert.ErrorContains(t, err, c.err, c.name)
			continue
		}
		require.NoError(t, err, c.name)
		assert.Equal(t, c.x0, h.Grid.X0, c.name)
		assert.Equal(t, c.y0, h.Grid.Y0, c.name)
		assert.Equal(t, 32633, h.Grid.CRS.Code)
	}
}

func TestDamagedFilesAreRefused(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "good.tif")
	write(t, path, raster.Header{Grid: grid(t, 3035), Type: raster.Uint8}, Options{TileSize: 32})
	good, err := os.ReadFile(path)
	require.NoError(t, err)
	_, err = New(bytes.NewReader(good), int64(len(good)), "good", 1)
	require.NoError(t, err)
	for cut := 0; cut < len(good); cut += 1 + len(good)/200 {
		s, err := New(bytes.NewReader(good[:cut]), int64(cut), "cut", 1)
		if err == nil {
			err = readAll(s)
		}
		assert.Error(t, err, "cut at %d of %d", cut, len(good))
	}
	for name, text := range map[string]string{"PNG": "\x89PNG\r\n\x1a\n", "text": "ncols 5\nnrows 7\n", "empty": "", "odd": "II\x2b\x00\x04\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00"} {
		_, err := New(strings.NewReader(text), int64(len(text)), name, 1)
		assert.Error(t, err, name)
	}
}

// readAll reads every block, or the first ones of a file that claims many.
func readAll(s *Source) error {
	g := s.Header().Grid
	bw, bh := s.BlockSize()
	r := s.NewReader()
	var c raster.Cells
	read := 0
	for row := 0; row < g.Height && read < 1<<21; row += bh {
		for col := 0; col < g.Width && read < 1<<21; col += bw {
			read += bw * bh
			if err := r.Read(raster.Window{Col: col, Row: row, Width: min(bw, s.header.Grid.Width-col), Height: min(bh, s.header.Grid.Height-row)}, &c); err != nil {
				return err
			}
		}
	}
	return nil
}

// FuzzRead opens anything and reads what it claims to hold.
func FuzzRead(f *testing.F) {
	dir := f.TempDir()
	n := 0
	for _, o := range []Options{{TileSize: 16}, {TileSize: 32, Compression: Zstandard}, {TileSize: 16, Compression: Uncompressed}, {TileSize: 16, BigTIFF: true}} {
		for _, typ := range []raster.CellType{raster.Uint8, raster.Int16, raster.Float32} {
			path := filepath.Join(dir, fmt.Sprint(n))
			n++
			h := raster.Header{Grid: grid(f, 32633), Type: typ}
			h.Grid.Width, h.Grid.Height = 40, 20
			write(f, path, h, o)
			b, err := os.ReadFile(path)
			if err != nil {
				f.Fatal(err)
			}
			f.Add(b)
			if tiffcp, err := exec.LookPath("tiffcp"); err == nil {
				for _, c := range []string{"lzw", "packbits"} {
					if exec.Command(tiffcp, "-c", c, "-s", "-r", "7", "-B", path, path+c).Run() == nil {
						if b, err := os.ReadFile(path + c); err == nil {
							f.Add(b)
						}
					}
				}
			}
		}
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		s, err := New(bytes.NewReader(b), int64(len(b)), "fuzz", 1)
		if err != nil {
			return
		}
		_ = readAll(s)
	})
}
