package survey_test

import (
	"fmt"
	"io"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/raster/geotiff"
	"github.com/verdex-land/verdex/core/survey"
)

// Writing a raster reads every tile of it once, in the windows in which it is surveyed; nothing is left to be read for the survey.
func TestSurveyWhileWriting(t *testing.T) {
	crs, err := earth.Lookup(32633)
	require.NoError(t, err)
	g := raster.Grid{Width: 3*geotiff.TileSize - 400, Height: geotiff.TileSize + 188, X0: 640000, Y0: 6500000, DX: 30, DY: -30, CRS: crs}
	nodata := 9.0
	src := raster.NewMemory("cover.tif", g, raster.Uint8, 100, 60)
	src.SetNoData(&nodata)
	for r := range g.Height {
		for c := range g.Width {
			src.Set(c, r, float64((c/40+r/9)%10))
		}
	}
	path := filepath.Join(t.TempDir(), "crosswalk.csv")
	require.NoError(t, os.WriteFile(path, []byte("from,to\n0;1;2;3,1\n4,nodata\nelse,2\n"), 0o644))
	walk, problems, err := cover.InspectCrosswalk(files.Disk, path, nil)
	require.NoError(t, err)
	coder := &cover.Coder{Crosswalk: walk, NoData: &nodata}
	want, err := survey.Take(t.Context(), src, coder, problems, 1, nil)
	require.NoError(t, err)

	w, err := survey.Watch(src, coder, problems, geotiff.TileSize, geotiff.TileSize)
	require.NoError(t, err)
	_, ok := w.Survey()
	assert.False(t, ok, "nothing has been read")
	view, err := cover.View(w, coder, nil)
	require.NoError(t, err)
	require.NoError(t, geotiff.Write(t.Context(), io.Discard, view, geotiff.Options{}))
	got, ok := w.Survey()
	require.True(t, ok)
	assert.Equal(t, fmt.Sprint(*want), fmt.Sprint(*got)) // NaN stands for what is missing, and equals nothing

	measured, err := survey.Watch(raster.NewMemory("slope.tif", g, raster.Float32, 100, 60), coder, problems, geotiff.TileSize, geotiff.TileSize)
	require.NoError(t, err)
	assert.Nil(t, measured, "measurements may have too many values")
}
