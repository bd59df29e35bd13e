//go:build unix

package cli

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/internal/demo"
)

const clientScript = `
delete globalThis.fetch // so that the GeoPackage library reads its code from the disk
const fs = require('fs'), path = require('path')
const at = n => path.join(process.argv[2], n)
const out = {}
const sum = (rows, area, kind) => rows.filter(r => r[kind] === 'class').reduce((s, r) => s + Number(r[area]), 0)
const named = (names, rows) => rows.map(r => Object.fromEntries(names.map((n, i) => [n, r[i]])))
;(async () => {
  const excel = new (require('exceljs').Workbook)()
  await excel.xlsx.readFile(at('t.xlsx'))
  const sheet = excel.getWorksheet('extents')
  const all = sheet.getSheetValues().slice(1).map(r => r.slice(1))
  out.exceljs = sum(named(all[0], all.slice(1)), 'area', 'kind')
  out.exceljsSheets = excel.worksheets.map(s => s.name)
  const xlsx = require('xlsx')
  out.sheetjs = sum(xlsx.utils.sheet_to_json(xlsx.readFile(at('t.xlsx')).Sheets.extents), 'area', 'kind')
  const { parquetReadObjects, asyncBufferFromFile } = await import('hyparquet')
  const { compressors } = await import('hyparquet-compressors')
  out.hyparquet = sum(await parquetReadObjects({ file: await asyncBufferFromFile(at('t.parquet')), compressors }), 'area', 'kind')
  const { fromFile } = require('geotiff')
  for (const name of ['r.tif', 'moved.tif']) {
    const image = await (await fromFile(at(name))).getImage()
    const [cells] = await image.readRasters()
    const counts = {}
    for (const v of cells) counts[v] = (counts[v] || 0) + 1
    out['geotiff ' + name] = { counts, description: String(image.fileDirectory.ImageDescription || '').replace(/\0/g, ''), colors: (image.fileDirectory.ColorMap || []).length, epsg: image.getGeoKeys().ProjectedCSTypeGeoKey }
  }
  const { DBFFile } = require('dbffile')
  const dbf = await DBFFile.open(at('z.dbf'))
  out.dbffile = { fields: dbf.fields.map(f => [f.name, f.type, f.size, f.decimalPlaces]), rows: await dbf.readRecords(100) }
  const shapes = await require('shapefile').read(at('z.shp'), at('z.dbf'))
  out.shapefile = shapes.features.map(f => [f.properties.code, f.geometry.type])
  const { GeoPackageAPI, setSqljsWasmLocateFile } = require('@ngageoint/geopackage')
  setSqljsWasmLocateFile(f => path.join(__dirname, 'node_modules/rtree-sql.js/dist', f))
  for (const name of ['z.gpkg', 'krovak.gpkg']) {
    const g = await GeoPackageAPI.open(new Uint8Array(fs.readFileSync(at(name))))
    const d = g.getFeatureDao(g.getFeatureTables()[0])
    out['geopackage ' + name] = { errors: g.validate(), features: d.count(), indexed: d.isIndexed(), srs: d.srs.srs_id }
  }
  const { DuckDBInstance } = require('@duckdb/node-api')
  const connection = await (await DuckDBInstance.create(':memory:')).connect()
  const query = async q => (await connection.runAndReadAll(q)).getRowObjectsJson()
  out.duckdb = (await query("SELECT sum(area) AS s FROM read_parquet('" + at('t.parquet') + "') WHERE kind = 'class'"))[0].s
  out.duckdbJSON = (await query("SELECT sum(area) AS s FROM read_json('" + at('t.json') + "') WHERE kind = 'class'"))[0].s
  out.duckdbCSV = (await query("SELECT sum(area) AS s FROM read_csv('" + at('t.csv') + "') WHERE kind = 'class'"))[0].s
  out.geo = JSON.parse((await query("SELECT decode(value) AS v FROM parquet_kv_metadata('" + at('z.parquet') + "') WHERE decode(key) = 'geo'"))[0].v)
  console.log(JSON.stringify(out))
})().catch(e => { console.error(e); process.exit(1) })
`

const openpyxlScript = `
import json, sys, openpyxl
b = openpyxl.load_workbook(sys.argv[1], data_only=True)
rows = list(b["extents"].values)
at = {n: i for i, n in enumerate(rows[0])}
print(json.dumps({"sum": sum(r[at["area"]] for r in rows[1:] if r[at["kind"]] == "class"), "sheets": b.sheetnames}))
`

// Clients that nobody here has written open what the program writes, with equal values.
func TestClientsReadOurFiles(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, demo.Write(dir, true))
	t.Chdir(dir)
	require.NoError(t, os.WriteFile("krovak.geojson", []byte(`{"type":"FeatureCollection","crs":{"type":"name","properties":{"name":"urn:ogc:def:crs:EPSG::5514"}},"features":[{"type":"Feature","properties":{"code":"A"},"geometry":{"type":"Polygon","coordinates":[[[-700000,-1100000],[-699000,-1100000],[-699000,-1099000],[-700000,-1100000]]]}}]}`), 0o644))
	for _, ending := range []string{"csv", "json", "xlsx", "parquet"} {
		verdex(t, "--quiet", "measure", "cover_2020.tif", "--zones", "wards.geojson", "--zone-id", "code", "--legend", "legend.csv", "--epoch", "2020", "--out", "t."+ending)
	}
	verdex(t, "--quiet", "reclassify", "cover_2004.tif", "--crosswalk", "codes_2004.csv", "--legend", "legend.csv", "--out", "r.tif")
	verdex(t, "--quiet", "change", "--epoch", "2004=cover_2004.tif", "--epoch", "2020=cover_2020.tif", "--crosswalk", "2004=codes_2004.csv", "--legend", "legend.csv", "--map", "moved.tif", "--out", "c.csv")
	for _, ending := range []string{"shp", "gpkg", "parquet"} {
		verdex(t, "--quiet", "attach", "t.csv", "--zones", "wards.geojson", "--zone-id", "code", "--out", "w."+ending)
		verdex(t, "--quiet", "patches", "cover_2020.tif", "--legend", "legend.csv", "--class", "Wetland", "--min-area", "2", "--out", "z."+ending)
	}
	verdex(t, "--quiet", "zones", "pick", "krovak.geojson", "--out", "krovak.gpkg")

	want := 0.0
	for _, row := range readCSV(t, "t.csv")[1:] {
		if row[3] == "class" {
			want += numberIn(t, row[6], "area")
		}
	}
	cache, err := os.UserCacheDir()
	require.NoError(t, err)
	script := filepath.Join(cache, "verdex-test-tools", fmt.Sprintf("clients-%d.cjs", os.Getpid())) // beside its modules, where node looks for them
	require.NoError(t, os.WriteFile(script, []byte(clientScript), 0o644))
	defer os.Remove(script)
	c := exec.Command("node", script, dir)
	text, err := c.Output()
	var failed *exec.ExitError
	if err != nil && assert.ErrorAs(t, err, &failed) {
		t.Fatalf("%s", failed.Stderr)
	}
	var got struct {
		ExcelJS       float64  `json:"exceljs"`
		ExcelJSSheets []string `json:"exceljsSheets"`
		SheetJS       float64  `json:"sheetjs"`
		Hyparquet     float64  `json:"hyparquet"`
		DuckDB        float64  `json:"duckdb"`
		DuckDBJSON    float64  `json:"duckdbJSON"`
		DuckDBCSV     float64  `json:"duckdbCSV"`
		Reclassified  tiff     `json:"geotiff r.tif"`
		Moved         tiff     `json:"geotiff moved.tif"`
		DBF           struct {
			Fields [][]any
			Rows   []map[string]any
		} `json:"dbffile"`
		Shapes     [][]string `json:"shapefile"`
		GeoPackage gpkg       `json:"geopackage z.gpkg"`
		Krovak     gpkg       `json:"geopackage krovak.gpkg"`
		Geo        struct {
			Columns map[string]struct {
				CRS struct {
					Type string
					ID   struct{ Code int }
				}
			}
		}
	}
	require.NoError(t, json.Unmarshal(text, &got), "%s", text)
	for name, sum := range map[string]float64{"ExcelJS": got.ExcelJS, "SheetJS": got.SheetJS, "hyparquet": got.Hyparquet, "DuckDB, Parquet": got.DuckDB, "DuckDB, JSON": got.DuckDBJSON, "DuckDB, CSV": got.DuckDBCSV} {
		assert.InDelta(t, want, sum, 1e-9*want, name)
	}
	assert.Equal(t, []string{"2020", "extents", "checks", "Provenance"}, got.ExcelJSSheets)

	assert.Equal(t, 32633, got.Reclassified.EPSG)
	assert.Contains(t, got.Reclassified.Description, "classes: 1 Open water; 2 Wetland; ")
	assert.Equal(t, 3*256, got.Moved.Colors)
	assert.Contains(t, got.Moved.Description, "11 Open water, unchanged; ")
	cells := 0
	for _, n := range got.Moved.Counts {
		cells += n
	}
	assert.Equal(t, 1100*900, cells)

	require.NotEmpty(t, got.DBF.Rows)
	areas := 0.0
	for _, f := range got.DBF.Fields {
		if f[1] == "N" {
			assert.LessOrEqual(t, f[2], 20.0, f[0])
		}
	}
	for _, r := range got.DBF.Rows {
		areas += r["area"].(float64)
	}
	assert.Len(t, got.Shapes, len(got.DBF.Rows))
	assert.Greater(t, areas, 50.0)
	for _, g := range []gpkg{got.GeoPackage, got.Krovak} {
		assert.Empty(t, g.Errors)
		assert.True(t, g.Indexed)
	}
	assert.Equal(t, len(got.DBF.Rows), got.GeoPackage.Features)
	assert.Equal(t, 5514, got.Krovak.SRS)
	crs := got.Geo.Columns["geometry"].CRS
	assert.Equal(t, "ProjectedCRS", crs.Type)
	assert.Equal(t, 32633, crs.ID.Code)

	out, err := exec.Command("/usr/bin/python3", "-c", openpyxlScript, "t.xlsx").CombinedOutput()
	require.NoError(t, err, "%s", out)
	var python struct {
		Sum    float64
		Sheets []string
	}
	require.NoError(t, json.Unmarshal(out, &python))
	assert.InDelta(t, want, python.Sum, 1e-9*want, "openpyxl")
	sums := run(t, "sqlite3", "w.gpkg", "SELECT count(*) FROM w")
	n, err := strconv.Atoi(string(sums[0]))
	require.NoError(t, err)
	assert.Equal(t, 5, n)
}

type tiff struct {
	Counts      map[string]int
	Description string
	Colors      int
	EPSG        int
}

type gpkg struct {
	Errors   []any
	Features int
	Indexed  bool
	SRS      int
}
