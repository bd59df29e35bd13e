package asciigrid

import (
	"fmt"
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

const header = "ncols 4\nnrows 3\nxllcorner 100\nyllcorner 200\ncellsize 10\nNODATA_value -9999\n"

func parseText(text string) (*Source, error) {
	return New(strings.NewReader(text), int64(len(text)), "test.asc")
}

func read(t *testing.T, s *Source, w raster.Window) (out []float64) {
	t.Helper()
	var c raster.Cells
	require.NoError(t, s.NewReader().Read(w, &c))
	for r := range w.Height {
		for k := range w.Width {
			out = append(out, c.At(k, r))
		}
	}
	return out
}

func TestReadsCellsAndPlace(t *testing.T) {
	// Lines need not be rows.
	s, err := parseText(header + "1 2 3 4\n5 6\n7 8 9 10 -9999\r\n12")
	require.NoError(t, err)
	h := s.Header()
	assert.Equal(t, raster.Grid{Width: 4, Height: 3, X0: 100, Y0: 230, DX: 10, DY: -10}, h.Grid)
	assert.Equal(t, raster.Int16, h.Type)
	assert.Equal(t, -9999.0, *h.NoData)
	assert.Contains(t, h.CRSProblem, "no .prj file")
	assert.Equal(t, []float64{1, 2, 3, 4, 5, 6, 7, 8, 9, 10, -9999, 12}, read(t, s, raster.Window{Width: 4, Height: 3}))
	assert.Equal(t, []float64{6, 7, 10, -9999}, read(t, s, raster.Window{Col: 1, Row: 1, Width: 2, Height: 2}))
}

func TestVariantsOfTheHeader(t *testing.T) {
	s, err := parseText("NCOLS 2\nNROWS 1\nXLLCENTER 5\nYLLCENTER 5\nDX 10\nDY 20\n1.5 nan")
	require.NoError(t, err)
	assert.Equal(t, raster.Grid{Width: 2, Height: 1, X0: 0, Y0: 15, DX: 10, DY: -20}, s.Header().Grid)
	assert.Equal(t, raster.Float32, s.Header().Type)
	got := read(t, s, raster.Window{Width: 2, Height: 1})
	assert.Equal(t, 1.5, got[0])
	assert.True(t, math.IsNaN(got[1]))
}

func TestTheNarrowestTypeThatHoldsTheValues(t *testing.T) {
	for values, want := range map[string]raster.CellType{
		"1 2": raster.Uint8, "0 255": raster.Uint8, "1 256": raster.Int16, "-1 2": raster.Int16, "1 70000": raster.Int32, "1 3000000000": raster.Float64,
		"1.5 2": raster.Float32, "0.1 2": raster.Float64, "1e3 2": raster.Int16,
	} {
		s, err := parseText("ncols 2\nnrows 1\nxllcorner 0\nyllcorner 0\ncellsize 1\n" + values)
		require.NoError(t, err, values)
		assert.Equal(t, want, s.Header().Type, values)
	}
}

// Many rows, so that there are several blocks and windows begin within them.
func TestWindowsOfALargerGrid(t *testing.T) {
	const w, h = 3000, 200
	var b strings.Builder
	fmt.Fprintf(&b, "ncols %d\nnrows %d\nxllcorner 0\nyllcorner 0\ncellsize 1\n", w, h)
	for r := range h {
		for c := range w {
			fmt.Fprintf(&b, "%d ", (c*3+r*7)%200)
		}
		b.WriteByte('\n')
	}
	s, err := parseText(b.String())
	require.NoError(t, err)
	require.Greater(t, len(s.rows), 2)
	for _, win := range []raster.Window{{Col: 2990, Row: 80, Width: 10, Height: 20}, {Row: 199, Width: w, Height: 1}, {Col: 5, Row: 86, Width: 3, Height: 90}} {
		for i, v := range read(t, s, win) {
			c, r := win.Col+i%win.Width, win.Row+i/win.Width
			require.Equal(t, float64((c*3+r*7)%200), v)
		}
	}
}

func TestMistakes(t *testing.T) {
	for text, want := range map[string]string{
		"":                                      "within its header",
		"ncols 4\nnrows":                        "within its header",
		"ncols 4\nnrows x\n":                    "not a number",
		"ncols 4\nncols 4\n":                    "twice",
		"ncols 4\nbands 2\n":                    "not one of ncols",
		header + "1 2 3":                        "after 3 of 12 values",
		header + strings.Repeat("1 ", 9):        "after 9 of 12 values",
		header + strings.Repeat("1 ", 13):       "something follows",
		header + "1 2 a 4 5 6 7 8 9 10 11 12":   "not a number",
		header + "1 2 inf 4 5 6 7 8 9 10 11 12": "not a number",
		header + strings.Repeat("7", 100):       "more than 64 characters",
		strings.Replace(header, "ncols 4", "ncols 4000000000", 1) + "1":                        "claims",
		strings.Replace(header, "ncols 4", "ncols 0", 1) + "1":                                 "claims",
		strings.Replace(header, "cellsize 10", "cellsize 0", 1) + "1 2 3 4 5 6 7 8 9 10 11 12": "cellsize",
		strings.Replace(header, "xllcorner 100\n", "", 1) + "1 2 3 4 5 6 7 8 9 10 11 12":       "lower left corner",
	} {
		_, err := parseText(text)
		assert.ErrorContains(t, err, want, "%q", text)
	}
}

func TestCRSFromTheFileBesideIt(t *testing.T) {
	path := filepath.Join(t.TempDir(), "a.asc")
	require.NoError(t, os.WriteFile(path, []byte(header+"1 2 3 4 5 6 7 8 9 10 11 12"), 0o644))
	prj := strings.TrimSuffix(path, ".asc") + ".prj"
	require.NoError(t, os.WriteFile(prj, []byte(`PROJCS["x",GEOGCS["y",DATUM["D_WGS_1984",SPHEROID["WGS_1984",6378137,298.257223563]],PRIMEM["Greenwich",0],UNIT["Degree",0.0174532925199433]],PROJECTION["Transverse_Mercator"],PARAMETER["Central_Meridian",15],PARAMETER["Scale_Factor",0.9996],PARAMETER["False_Easting",500000],UNIT["Meter",1]]`), 0o644))
	s, err := Open(files.Disk, path)
	require.NoError(t, err)
	defer s.Close()
	require.NotNil(t, s.Header().Grid.CRS)
	assert.Equal(t, 6326, s.Header().Grid.CRS.Datum.Code)
	require.NoError(t, os.WriteFile(prj, []byte("nonsense"), 0o644))
	again, err := Open(files.Disk, path)
	require.NoError(t, err)
	defer again.Close()
	assert.Nil(t, again.Header().Grid.CRS)
	assert.Contains(t, again.Header().CRSProblem, "not understood")
}

func FuzzASCIIGrid(f *testing.F) {
	f.Add(header + "1 2 3 4 5 6 7 8 9 10 -9999 12")
	f.Add("ncols 2\nnrows 2\nxllcenter 0\nyllcenter 0\ndx 1\ndy 2\n1.5 nan 1e300 -0")
	f.Fuzz(func(t *testing.T, text string) {
		s, err := parseText(text)
		if err != nil {
			return
		}
		var c raster.Cells
		g := s.Header().Grid
		_ = s.NewReader().Read(raster.Window{Col: g.Width / 2, Row: g.Height / 2, Width: g.Width - g.Width/2, Height: g.Height - g.Height/2}, &c)
	})
}

// A file that holds a mark of its encoding and nothing else is refused.
func TestMarkAlone(t *testing.T) {
	for _, text := range []string{"\ufeff ", "\ufeff", "ncols 2\n\ufeff ", " "} {
		_, err := New(strings.NewReader(text), int64(len(text)), "mark")
		assert.Error(t, err, "%q", text)
	}
}
