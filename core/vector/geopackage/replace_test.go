package geopackage

import (
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/vector"
)

func squareLayer(t *testing.T, name string, code int, at float64) *vector.Layer {
	t.Helper()
	crs, err := earth.Lookup(code)
	require.NoError(t, err)
	ring := vector.Ring{{at, at}, {at + 1, at}, {at + 1, at + 1}, {at, at + 1}, {at, at}}
	return &vector.Layer{Name: name, CRS: crs, Fields: []vector.Field{{Name: "id", Kind: vector.Text}},
		Features: []vector.Feature{{Values: []any{name}, Geometry: vector.Geometry{Type: "Polygon", Polygons: []vector.Polygon{{ring}}}}}}
}

// A layer is replaced within its file: the others stay as they are, and so do their CRSs.
func TestLayerIsReplacedWithinItsFile(t *testing.T) {
	path := filepath.Join(t.TempDir(), "a'b #1.gpkg")
	own, err := earth.ParseCRS(`PROJCS["own",GEOGCS["WGS 84",DATUM["WGS_1984",SPHEROID["WGS 84",6378137,298.257223563]],PRIMEM["Greenwich",0],UNIT["degree",0.017453292519943295]],PROJECTION["Transverse_Mercator"],PARAMETER["latitude_of_origin",0],PARAMETER["central_meridian",11.5],PARAMETER["scale_factor",1],PARAMETER["false_easting",0],PARAMETER["false_northing",0],UNIT["metre",1]]`)
	require.NoError(t, err)
	other, err := earth.ParseCRS(`PROJCS["other",GEOGCS["WGS 84",DATUM["WGS_1984",SPHEROID["WGS 84",6378137,298.257223563]],PRIMEM["Greenwich",0],UNIT["degree",0.017453292519943295]],PROJECTION["Transverse_Mercator"],PARAMETER["latitude_of_origin",0],PARAMETER["central_meridian",17.5],PARAMETER["scale_factor",1],PARAMETER["false_easting",0],PARAMETER["false_northing",0],UNIT["metre",1]]`)
	require.NoError(t, err)
	a, b, c := squareLayer(t, "north", 3035, 5), squareLayer(t, `so"uth`, 4326, 6), squareLayer(t, "east", 4326, 7)
	a.CRS, c.CRS = own, other
	plain := &vector.Layer{Name: "rows", Plain: true, Fields: []vector.Field{{Name: "n", Kind: vector.Integer}}, Features: []vector.Feature{{Values: []any{int64(4)}}}}
	for _, l := range []*vector.Layer{a, b, plain, c} {
		require.NoError(t, Write(path, l, noon))
	}
	assert.Equal(t, []string{"north", `so"uth`, "rows", "east"}, Contents(path))
	b2 := squareLayer(t, `SO"UTH`, 4326, 60)
	require.NoError(t, Write(path, b2, noon))
	assert.ElementsMatch(t, []string{"north", `SO"UTH`, "rows", "east"}, Contents(path))
	for _, want := range []*vector.Layer{a, b2, c} {
		got, err := Read(files.Disk, path, want.Name)
		require.NoError(t, err)
		assert.Equal(t, want.Features[0].Geometry.Polygons, got.Features[0].Geometry.Polygons, want.Name)
		assert.True(t, want.CRS.Same(got.CRS), want.Name)
	}
	assert.True(t, Has(Contents(path), "NORTH"))
	assert.False(t, Has(Contents(path), "west"))
	copied := filepath.Join(t.TempDir(), "copy.gpkg")
	require.NoError(t, Copy(path, copied))
	assert.Equal(t, Contents(path), Contents(copied))
	assert.Nil(t, Contents(filepath.Join(t.TempDir(), "none.gpkg")))
}

// A layer that goes from file to file does not grow: the number that a file gives its features stays the same column.
func TestFeatureNumbersStay(t *testing.T) {
	dir := t.TempDir()
	l := squareLayer(t, "a", 4326, 5)
	second := l.Features[0]
	second.Values = []any{"b"}
	l.Features = append(l.Features, second)
	for i := range 4 {
		path := filepath.Join(dir, string(rune('a'+i))+".gpkg")
		require.NoError(t, Write(path, l, noon))
		got, err := Read(files.Disk, path, "")
		require.NoError(t, err)
		assert.Equal(t, []string{"fid", "id"}, got.FieldNames())
		assert.Equal(t, []any{int64(2), "b"}, got.Features[1].Values)
		l = got
	}
	l.Features[1].Values[0] = int64(1) // merged from two files: the numbers tell no features apart, and stay as a field
	path := filepath.Join(dir, "merged.gpkg")
	require.NoError(t, Write(path, l, noon))
	got, err := Read(files.Disk, path, "")
	require.NoError(t, err)
	assert.Equal(t, []string{"fid_", "fid", "id"}, got.FieldNames())
}
