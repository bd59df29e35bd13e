package reference

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/internal/cli"
)

// handMade writes an image of 2 × 1 cells in UTM with more fields than image.write has.
func handMade(t *testing.T, name string, more map[uint16]field, strip []byte) string {
	t.Helper()
	short := func(v ...byte) field {
		f := field{3, len(v), nil}
		for _, b := range v {
			f.data = append(f.data, b, 0)
		}
		return f
	}
	double := func(v ...float64) field {
		m := field{12, len(v), nil}
		for _, x := range v {
			m.data = appendDouble(m.data, x)
		}
		return m
	}
	keys := field{3, 12, []byte{1, 0, 1, 0, 0, 0, 2, 0, 0, 4, 0, 0, 1, 0, 1, 0, 0, 0x0c, 0, 0, 1, 0, 0x79, 0x7f}} // EPSG:32633
	d := map[uint16]field{256: short(2), 257: short(1), 258: short(8), 259: short(1), 262: short(1), 277: short(1), 278: short(1), 284: short(1),
		33550: double(30, 30, 0), 33922: double(0, 0, 0, 500000, 6400000, 0), 34735: keys}
	for tag, f := range more {
		d[tag] = f
	}
	path := filepath.Join(t.TempDir(), name)
	require.NoError(t, os.WriteFile(path, tiff([]map[uint16]field{d}, [][]byte{strip}), 0o644))
	return path
}

func verdex(args ...string) (code int, out, errs string) {
	var o, e strings.Builder
	code = cli.Main(append([]string{"verdex"}, args...), "test", &o, &e)
	return code, o.String(), e.String()
}

// An image of three bands is not measured by its first without being asked.
func TestImagesOfSeveralBands(t *testing.T) {
	three := map[uint16]field{258: {3, 3, []byte{8, 0, 8, 0, 8, 0}}, 262: {3, 1, []byte{2, 0}}, 277: {3, 1, []byte{3, 0}}}
	path := handMade(t, "photo.tif", three, []byte{1, 2, 3, 1, 2, 3})
	for _, command := range [][]string{{"measure", path}, {"change", "--epoch", "2000=" + path, "--epoch", "2001=" + path}, {"summarise", path},
		{"derive", "expr", "a", "--layer", "a=" + path, "--out", path + ".out.tif"}, {"mosaic", path, "--out", path + ".out.tif"}} {
		code, _, errs := verdex(command...)
		assert.Equal(t, 1, code, "%v", command)
		assert.Contains(t, errs, "it has 3 bands, and nothing says which of them holds the values: name it, the first as "+path+"#1")
	}
	code, out, errs := verdex("measure", path+"#2", "--format", "csv")
	require.Equal(t, 0, code, errs)
	assert.Contains(t, out, "class,2,class 2,0.18")
	code, out, errs = verdex("look", path)
	require.Equal(t, 0, code, errs)
	assert.Contains(t, out, "bands           3")
}

// A scale turns numbers into measurements, which are not classes.
func TestScaledNumbers(t *testing.T) {
	text := []byte(`<Metadata><Item name="SCALE" sample="0" role="scale">0.5</Item></Metadata>` + "\x00")
	path := handMade(t, "scaled.tif", map[uint16]field{42112: {2, len(text), text}}, []byte{3, 5})
	code, _, errs := verdex("measure", path)
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "its values are stored numbers × 0.5, so they are measurements and not classes: put them into classes by intervals with --crosswalk FILE")
	code, out, errs := verdex("summarise", path, "--stats", "min,max,mean", "--format", "csv")
	require.Equal(t, 0, code, errs)
	assert.Contains(t, out, ",1.5,2.5,1.9999999") // the western cell, on the central meridian, is a hair larger
	walk := filepath.Join(filepath.Dir(path), "walk.csv")
	require.NoError(t, os.WriteFile(walk, []byte("from,to\n\"[0,2)\",1\n\"[2,9)\",2\n"), 0o644))
	code, out, errs = verdex("measure", path, "--crosswalk", walk, "--format", "csv", "--digits", "2")
	require.Equal(t, 0, code, errs)
	assert.Contains(t, out, "class,1,class 1,0.09,ha,50.00")
	code, out, _ = verdex("look", path)
	assert.Equal(t, 0, code)
	assert.Contains(t, out, "values          measurements: stored numbers × 0.5")
}

// look says what leaves ground out.
func TestLookAtAMask(t *testing.T) {
	path := handMade(t, "alpha.tif", map[uint16]field{258: {3, 2, []byte{8, 0, 8, 0}}, 277: {3, 1, []byte{2, 0}}, 338: {3, 1, []byte{2, 0}}}, []byte{1, 255, 2, 0})
	code, out, errs := verdex("look", path)
	require.Equal(t, 0, code, errs)
	assert.Contains(t, out, "mask            band 2 (transparency): ground that it leaves out is nodata")
	code, out, errs = verdex("measure", path, "--format", "csv", "--digits", "2")
	require.Equal(t, 0, code, errs)
	assert.Contains(t, out, "class,1,class 1,0.09,ha,50.00")
	assert.Contains(t, out, "nodata,,no data,0.09,ha,50.00")
}

// Keys that name a metric CRS beside feet contradict one another.
func TestKeysThatContradict(t *testing.T) {
	keys := field{3, 16, []byte{1, 0, 1, 0, 0, 0, 3, 0, 0, 4, 0, 0, 1, 0, 1, 0, 0, 0x0c, 0, 0, 1, 0, 0x79, 0x7f, 4, 0x0c, 0, 0, 1, 0, 0x2b, 0x23}} // unit 9003
	path := handMade(t, "feet.tif", map[uint16]field{34735: keys}, []byte{1, 2})
	code, _, errs := verdex("measure", path)
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "its keys name EPSG:32633 WGS 84 / UTM zone 33N, whose unit is the metre, beside the unit US survey foot: one of them is wrong")
}
