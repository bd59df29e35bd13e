package geopackage

import (
	"database/sql"
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/vector"
)

func layer(t *testing.T, name string, code int, rng *rand.Rand) *vector.Layer {
	t.Helper()
	crs, err := earth.Lookup(code)
	require.NoError(t, err)
	l := &vector.Layer{Name: name, CRS: crs, Fields: []vector.Field{{Name: "code"}, {Name: "people", Kind: vector.Integer}, {Name: "share", Kind: vector.Real},
		{Name: "open", Kind: vector.Boolean}, {Name: "since", Form: vector.Date}, {Name: `odd "name"`}}}
	for i := range 1 + rng.IntN(40) {
		x, y := rng.Float64()*50, rng.Float64()*50
		g := vector.Geometry{Type: "MultiPolygon", Polygons: []vector.Polygon{{{{x, y}, {x + 1, y}, {x + 1, y + 1}}}}}
		if rng.IntN(3) == 0 {
			g.Polygons = append(g.Polygons, vector.Polygon{{{x + 5, y}, {x + 9, y}, {x + 9, y + 4}}, {{x + 7, y + 1}, {x + 8, y + 1}, {x + 8, y + 1.5}}})
		}
		values := []any{fmt.Sprintf("Z%d's", i), rng.Int64N(1 << 60), rng.NormFloat64(), rng.IntN(2) == 0, fmt.Sprintf("20%02d-06-30", rng.IntN(99)), "ä€"}
		if rng.IntN(5) == 0 {
			values[rng.IntN(len(values))] = nil
		}
		l.Features = append(l.Features, vector.Feature{Values: values, Geometry: g})
	}
	return l
}

// plain is a layer without the key of rows that a package adds.
func plain(l *vector.Layer) (names []string, rows [][]any) {
	names = l.FieldNames()
	k := slices.Index(names, "fid")
	for _, f := range l.Features {
		rows = append(rows, slices.Delete(slices.Clone(f.Values), k, k+1))
	}
	return slices.Delete(slices.Clone(names), k, k+1), rows
}

// Whatever is written comes back: kinds of fields, dates, missing values, outlines, CRS; and a further layer leaves the others as they are.
func TestEverythingComesBack(t *testing.T) {
	for seed := range uint64(8) {
		rng := rand.New(rand.NewPCG(seed, 3))
		path := filepath.Join(t.TempDir(), "zones.gpkg")
		wards, parishes := layer(t, "wards", 3035, rng), layer(t, "the parishes", 4326, rng)
		require.NoError(t, Write(path, wards, noon))
		require.NoError(t, Write(path, parishes, noon))
		list, err := Layers(files.Disk, path)
		require.NoError(t, err)
		require.Len(t, list, 2)
		for _, want := range []*vector.Layer{wards, parishes} {
			got, err := Read(files.Disk, path, want.Name)
			require.NoError(t, err)
			names, rows := plain(got)
			assert.Equal(t, want.FieldNames(), names)
			assert.True(t, got.CRS.Same(want.CRS))
			require.Len(t, rows, len(want.Features))
			for i, f := range want.Features {
				assert.Equal(t, f.Values, rows[i])
				assert.Equal(t, f.Geometry.Polygons, got.Features[i].Geometry.Polygons)
			}
		}
		_, err = Read(files.Disk, path, "")
		assert.ErrorContains(t, err, "it has 2 layers: name one")
		_, err = Read(files.Disk, path, "none")
		assert.ErrorContains(t, err, `it has no layer "none"`)

		// A layer of the same name is replaced, and the other stays.
		fewer := layer(t, "wards", 3035, rng)
		fewer.Features = fewer.Features[:1]
		require.NoError(t, Write(path, fewer, noon))
		got, err := Read(files.Disk, path, "wards")
		require.NoError(t, err)
		assert.Len(t, got.Features, 1)
		got, err = Read(files.Disk, path, parishes.Name)
		require.NoError(t, err)
		assert.Len(t, got.Features, len(parishes.Features))
		assert.True(t, Has(Contents(path), "wards"))
	}
}

// Another program finds what the standard asks for: the mark of the file, contents, columns, bounds, and an intact database.
func TestAnotherProgramReadsIt(t *testing.T) {
	sqlite, err := exec.LookPath("sqlite3")
	require.NoError(t, err, "make test installs it")
	path := filepath.Join(t.TempDir(), "zones.gpkg")
	l := layer(t, "wards", 3035, rand.New(rand.NewPCG(1, 1)))
	require.NoError(t, Write(path, l, noon))
	ask := func(query string) string {
		out, err := exec.Command(sqlite, "-readonly", path, query).CombinedOutput()
		require.NoError(t, err, string(out))
		return string(out)
	}
	assert.Equal(t, "1196444487\n", ask("PRAGMA application_id"))
	assert.Equal(t, "ok\n", ask("PRAGMA integrity_check"))
	assert.Equal(t, "wards|features|3035\n", ask("SELECT table_name, data_type, srs_id FROM gpkg_contents"))
	assert.Equal(t, "wards|MULTIPOLYGON|3035|0|0\n", ask("SELECT table_name, geometry_type_name, srs_id, z, m FROM gpkg_geometry_columns"))
	assert.Equal(t, fmt.Sprintf("%d\n", len(l.Features)), ask("SELECT count(*) FROM wards"))
	b := [4]float64{math.Inf(1), math.Inf(1), math.Inf(-1), math.Inf(-1)}
	for _, f := range l.Features {
		for _, p := range f.Geometry.Polygons {
			box := vector.Box(p[0])
			b = [4]float64{min(b[0], box[0]), min(b[1], box[1]), max(b[2], box[2]), max(b[3], box[3])}
		}
	}
	assert.Equal(t, "1\n", ask(fmt.Sprintf("SELECT abs(min_x-(%v))<1e-9 AND abs(min_y-(%v))<1e-9 AND abs(max_x-(%v))<1e-9 AND abs(max_y-(%v))<1e-9 FROM gpkg_contents", b[0], b[1], b[2], b[3])))
	assert.Equal(t, "-1\n0\n3035\n4326\n", ask("SELECT srs_id FROM gpkg_spatial_ref_sys ORDER BY srs_id"))
}

// Files that are no package, or that are damaged, are errors that say so.
func TestPackagesThatAreDamaged(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "zones.gpkg")
	require.NoError(t, Write(path, layer(t, "wards", 3035, rand.New(rand.NewPCG(2, 1))), noon))
	sound, err := os.ReadFile(path)
	require.NoError(t, err)
	break_ := func(statement string) string {
		t.Helper()
		other := filepath.Join(dir, "broken.gpkg")
		require.NoError(t, os.WriteFile(other, sound, 0o644))
		db, err := sql.Open("sqlite", other)
		require.NoError(t, err)
		defer db.Close()
		triggers, err := texts(db, "SELECT name FROM sqlite_schema WHERE type = 'trigger'")
		require.NoError(t, err)
		for _, n := range triggers { // which call functions of programs that know outlines
			_, err = db.Exec("DROP TRIGGER " + name(n))
			require.NoError(t, err)
		}
		_, err = db.Exec(statement)
		require.NoError(t, err)
		return other
	}
	for statement, want := range map[string]string{
		"DROP TABLE gpkg_contents":                                   "it is not a GeoPackage that can be read",
		"DELETE FROM gpkg_geometry_columns":                          "it has no layer of outlines",
		"UPDATE wards SET geom = x'0102'":                            "its geometry is damaged",
		"UPDATE wards SET geom = x'47500020db0b0000ff'":              "its geometry is of an extended kind",
		"UPDATE gpkg_geometry_columns SET column_name = 'elsewhere'": "it has no column",
		"DELETE FROM gpkg_contents":                                  "it has no layer of outlines",
	} {
		_, err := Read(files.Disk, break_(statement), "")
		assert.ErrorContains(t, err, want, statement)
	}
	l, err := Read(files.Disk, break_("DELETE FROM gpkg_spatial_ref_sys WHERE srs_id = 3035"), "")
	require.NoError(t, err)
	assert.Nil(t, l.CRS)
	assert.Contains(t, l.CRSProblem, "not in the file's own list")
	notes := filepath.Join(dir, "notes.gpkg")
	require.NoError(t, os.WriteFile(notes, []byte("some notes about wards, longer than the head of a database, so that it can be told from an empty file"), 0o644))
	_, err = Read(files.Disk, notes, "")
	assert.ErrorContains(t, err, "it is not a GeoPackage")
	for _, n := range []int{0, 50, len(sound) / 2, len(sound) - 100} {
		require.NoError(t, os.WriteFile(notes, sound[:n], 0o644))
		_, err := Read(files.Disk, notes, "")
		assert.Error(t, err, "cut off at %d", n)
	}
}

var noon = time.Date(2026, 11, 28, 12, 0, 0, 0, time.UTC)

// CRSs without a form in WKT 1 are written by the extension, and read again from their definition alone.
func TestCRSOfWKT2(t *testing.T) {
	square := vector.Geometry{Polygons: []vector.Polygon{{{{2600000, 1200000}, {2600100, 1200000}, {2600100, 1200100}, {2600000, 1200100}}}}}
	for _, code := range []int{5514, 9377, 3035, 31370, 3857, 2056} {
		c, err := earth.Lookup(code)
		require.NoError(t, err)
		path := filepath.Join(t.TempDir(), "a.gpkg")
		require.NoError(t, Write(path, &vector.Layer{CRS: c, Features: []vector.Feature{{Geometry: square}}}, noon))
		db, err := sql.Open("sqlite", path)
		require.NoError(t, err)
		_, err = db.Exec("UPDATE gpkg_spatial_ref_sys SET organization = 'NONE' WHERE srs_id = ?", code)
		require.NoError(t, err)
		extended, err := texts(db, "SELECT extension_name FROM gpkg_extensions WHERE table_name = 'gpkg_spatial_ref_sys'")
		require.NoError(t, err)
		if _, ok := c.WKT1(); ok {
			assert.Empty(t, extended, code)
		} else {
			assert.Equal(t, []string{"gpkg_crs_wkt"}, extended, code)
		}
		require.NoError(t, db.Close())
		l, err := Read(files.Disk, path, "")
		require.NoError(t, err)
		require.NotNil(t, l.CRS, "%d: %s", code, l.CRSProblem)
		assert.Equal(t, code, l.CRS.Code)
	}
}

// The spatial index has a box for each feature with an outline, and follows what the triggers of the standard do; last_change is the time that is given.
func TestSpatialIndex(t *testing.T) {
	path := filepath.Join(t.TempDir(), "a.gpkg")
	c, err := earth.Lookup(3035)
	require.NoError(t, err)
	l := &vector.Layer{CRS: c, Name: `a "b"`, Fields: []vector.Field{{Name: "geom"}}, Features: []vector.Feature{
		{Values: []any{"x"}, Geometry: vector.Geometry{Polygons: []vector.Polygon{{{{1, 2}, {3, 2}, {3, 5}, {1, 5}}}}}}, {Values: []any{"none"}}}}
	require.NoError(t, Write(path, l, noon))
	require.NoError(t, Write(path, l, noon.Add(time.Hour))) // replaces the layer with its index
	db, err := sql.Open("sqlite", path)
	require.NoError(t, err)
	defer db.Close()
	got, err := texts(db, `SELECT id || ' ' || minx || ' ' || maxx || ' ' || miny || ' ' || maxy FROM "rtree_a ""b""_geom_"`)
	require.NoError(t, err)
	assert.Equal(t, []string{"1 1.0 3.0 2.0 5.0"}, got)
	n, err := texts(db, "SELECT count(*) || (SELECT last_change FROM gpkg_contents) FROM sqlite_schema WHERE type = 'trigger'")
	require.NoError(t, err)
	assert.Equal(t, []string{"62026-11-28T13:00:00.000Z"}, n)
	_, err = db.Exec(`DELETE FROM "a ""b""" WHERE fid = 1`)
	require.NoError(t, err)
	got, err = texts(db, `SELECT id FROM "rtree_a ""b""_geom_"`)
	require.NoError(t, err)
	assert.Empty(t, got)
	registered, err := texts(db, "SELECT extension_name FROM gpkg_extensions")
	require.NoError(t, err)
	assert.Equal(t, []string{"gpkg_rtree_index"}, registered)
}
