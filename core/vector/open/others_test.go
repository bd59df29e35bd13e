package open

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/vector"
)

// run runs a program that .ci/tools installs.
func run(t *testing.T, name string, args ...string) string {
	t.Helper()
	out, err := exec.Command(name, args...).Output()
	if e, ok := err.(*exec.ExitError); ok {
		t.Fatalf("%s: %s", name, e.Stderr)
	}
	require.NoError(t, err, "make test installs what the tests need")
	return strings.TrimSpace(string(out))
}

// SQLite's own program finds a sound database with what a GeoPackage must have.
func TestGeoPackageForSQLite(t *testing.T) {
	path := filepath.Join(t.TempDir(), "a.gpkg")
	write(t, path, sample(t, 3035))
	ask := func(sql string) string { return run(t, "sqlite3", path, sql) }
	assert.Equal(t, "ok", ask("PRAGMA integrity_check"))
	assert.Empty(t, ask("PRAGMA foreign_key_check"))
	assert.Equal(t, "1196444487", ask("PRAGMA application_id")) // GPKG
	assert.Equal(t, "10300", ask("PRAGMA user_version"))
	assert.Equal(t, "wards|features|4321000.0|3210000.0|4324000.0|3211000.0|3035", ask("SELECT table_name, data_type, min_x, min_y, max_x, max_y, srs_id FROM gpkg_contents"))
	assert.Equal(t, "wards|geom|MULTIPOLYGON|3035|0|0", ask("SELECT * FROM gpkg_geometry_columns"))
	assert.Equal(t, "-1\n0\n3035\n4326", ask("SELECT srs_id FROM gpkg_spatial_ref_sys ORDER BY srs_id"))
	assert.Equal(t, "1|007|1800|0.1|1\n2|W2|9223372036854775807|-1.0e-07|0\n3||||", ask("SELECT fid, code, people, share, coast FROM wards"))
	assert.Equal(t, "47500003DB0B0000", ask("SELECT substr(hex(geom), 1, 16) FROM wards WHERE fid = 1")) // GP, version, flags, CRS
}

const reader = `
import { DuckDBInstance } from '@duckdb/node-api';
import * as shapefile from 'shapefile';
const [shp, parquet] = process.argv.slice(2);
const shapes = await shapefile.read(shp, undefined, { encoding: 'utf-8' });
const connection = await (await DuckDBInstance.create(':memory:')).connect();
const rows = await connection.runAndReadAll("SELECT * REPLACE (geometry::VARCHAR AS geometry) FROM read_parquet('" + parquet + "')");
console.log(JSON.stringify({ shapes: shapes.features, rows: rows.getRowObjectsJson(), names: rows.columnNames() }));
`

// Two readers for node read the shapefile and the GeoParquet file that we write: values, and outlines with their holes.
func TestShapefileAndParquetForOthers(t *testing.T) {
	dir := t.TempDir()
	l := sample(t, 4326)
	l.Features[1].Values[1] = int64(123456789012)
	write(t, filepath.Join(dir, "a.shp"), l)
	write(t, filepath.Join(dir, "a.parquet"), l)
	cache := os.Getenv("XDG_CACHE_HOME")
	if cache == "" {
		home, err := os.UserHomeDir()
		require.NoError(t, err)
		cache = filepath.Join(home, ".cache")
	}
	script := filepath.Join(cache, "verdex-test-tools", "read.mjs") // beside its modules, where node looks for them
	require.NoError(t, os.WriteFile(script, []byte(reader), 0o644))
	out := run(t, "node", script, filepath.Join(dir, "a.shp"), filepath.Join(dir, "a.parquet"))
	var got struct {
		Shapes []struct {
			Properties map[string]any
			Geometry   *struct {
				Type        string
				Coordinates json.RawMessage
			}
		}
		Rows  []map[string]any
		Names []string
	}
	require.NoError(t, json.Unmarshal([]byte(out), &got))
	require.Len(t, got.Shapes, 3)
	p := got.Shapes[0].Properties
	assert.Equal(t, "007", p["code"])
	assert.EqualValues(t, 1800, p["people"])
	assert.EqualValues(t, 0.1, p["share"])
	assert.Equal(t, true, p["coast"])
	assert.Equal(t, "Ærø, \"north\"\nline", p["größe"])
	assert.EqualValues(t, 123456789012, got.Shapes[1].Properties["people"])
	assert.Nil(t, got.Shapes[2].Geometry)
	assert.Equal(t, "Polygon", got.Shapes[0].Geometry.Type)
	var rings vector.Polygon
	require.NoError(t, json.Unmarshal(got.Shapes[0].Geometry.Coordinates, &rings))
	assert.Len(t, rings, 3)
	assert.Equal(t, "MultiPolygon", got.Shapes[1].Geometry.Type)

	assert.Equal(t, []string{"code", "people", "share", "coast", "größe", "geometry"}, got.Names)
	require.Len(t, got.Rows, 3)
	assert.Equal(t, "007", got.Rows[0]["code"])
	assert.Equal(t, "123456789012", got.Rows[1]["people"])
	assert.EqualValues(t, 0.1, got.Rows[0]["share"])
	assert.Equal(t, true, got.Rows[0]["coast"])
	assert.Nil(t, got.Rows[2]["geometry"])
	g, err := vector.FromWKT(got.Rows[1]["geometry"].(string))
	require.NoError(t, err)
	assert.Len(t, g.Polygons, 2)
	assert.Len(t, g.Polygons[0], 2)
	assert.Equal(t, l.Features[1].Geometry.Polygons[0][0], g.Polygons[0][0])
}
