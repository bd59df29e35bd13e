package cli

import (
	"archive/zip"
	"encoding/csv"
	"fmt"
	"io"
	"math"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"

	"github.com/verdex-land/verdex/internal/demo"
)

// verdex runs a command in this process and expects it to end well.
func verdex(t *testing.T, args ...string) (stdout, stderr string) {
	t.Helper()
	var out, errs strings.Builder
	require.Equal(t, exitDone, Main(append([]string{"verdex"}, args...), "test", &out, &errs), "%v: %s", args, errs.String())
	return out.String(), errs.String()
}

// accounts unpacks the sample world into a folder and posts three epochs and their change to a book.
func accounts(t *testing.T) (dir, book string) {
	dir = t.TempDir()
	require.NoError(t, demo.Write(dir, true))
	at := func(name string) string { return filepath.Join(dir, name) }
	book = at("orrin.book")
	verdex(t, "book", "create", book)
	zones := []string{"--zones", at("wards.geojson"), "--zone-id", "code", "--legend", at("legend.csv"), "--post", book, "--account", "wards", "--author", "Ines"}
	verdex(t, append([]string{"measure", at("cover_2004.tif"), "--crosswalk", at("codes_2004.csv"), "--epoch", "2004", "--out", at("e2004.csv")}, zones...)...)
	verdex(t, append([]string{"measure", at("cover_2020.tif"), "--epoch", "2020", "--out", at("e2020.xlsx")}, zones...)...)
	verdex(t, append([]string{"change", "--epoch", "2004=" + at("cover_2004.tif"), "--epoch", "2020=" + at("cover_2020.tif"), "--crosswalk", "2004=" + at("codes_2004.csv"), "--table", "matrix", "--out", at("m.csv")}, zones...)...)
	verdex(t, "book", "export", book, "--out", at("book.xlsx"))
	verdex(t, "account", "composition", at("e2004.csv"), "--legend", at("legend.csv"), "--by", "group", "--out", at("composition.xlsx"))
	verdex(t, "account", "matrix", at("m.csv"), "--legend", at("legend.csv"), "--out", at("matrix.xlsx"))
	verdex(t, "account", "extent", at("m.csv"), "--legend", at("legend.csv"), "--flows", at("flows.csv"), "--out", at("account.xlsx"))
	return dir, book
}

// The formulas of a spreadsheet give the values that stand beside them: as a general library computes them, and as LibreOffice does when
// it is given the file without the values.
func TestSpreadsheetsComputeWhatTheySay(t *testing.T) {
	dir, _ := accounts(t)
	for name, least := range map[string]int{"e2020.xlsx": 50, "book.xlsx": 300, "account.xlsx": 150, "composition.xlsx": 30, "matrix.xlsx": 70} {
		path := filepath.Join(dir, name)
		f, err := excelize.OpenFile(path)
		require.NoError(t, err)
		bare := filepath.Join(t.TempDir(), name)
		withoutValues(t, path, bare)
		run(t, "soffice", "--headless", "-env:UserInstallation=file://"+t.TempDir(), "--convert-to", "csv:Text - txt - csv (StarCalc):44,34,76,1,,0,false,false,false,false,false,-1", "--outdir", filepath.Dir(bare), bare)
		formulas := 0
		for _, sheet := range f.GetSheetList() {
			computed := readCSV(t, strings.TrimSuffix(bare, ".xlsx")+"-"+sheet+".csv")
			rows, err := f.GetRows(sheet, excelize.Options{RawCellValue: true})
			require.NoError(t, err)
			for r, row := range rows {
				for c := range row {
					cell, err := excelize.CoordinatesToCellName(c+1, r+1)
					require.NoError(t, err)
					text, err := f.GetCellFormula(sheet, cell)
					require.NoError(t, err)
					want, err := f.GetCellValue(sheet, cell, excelize.Options{RawCellValue: true})
					require.NoError(t, err)
					if text == "" {
						continue
					}
					formulas++
					place := fmt.Sprintf("%s, %s!%s = %s", name, sheet, cell, text)
					value := numberIn(t, want, place)
					ours, err := f.CalcCellValue(sheet, cell, excelize.Options{RawCellValue: true})
					require.NoError(t, err, place)
					assert.InDelta(t, value, numberIn(t, ours, place), 1e-9*math.Max(1, math.Abs(value)), place)
					assert.InDelta(t, value, numberIn(t, computed[r][c], place+" in LibreOffice"), 1e-9*math.Max(1, math.Abs(value)), place)
				}
			}
		}
		assert.GreaterOrEqual(t, formulas, least, name)
		assert.Contains(t, f.GetSheetList(), "checks")
		assert.Contains(t, f.GetSheetList(), "Provenance")
		require.NoError(t, f.Close())
	}
	f, err := excelize.OpenFile(filepath.Join(dir, "e2020.xlsx"))
	require.NoError(t, err)
	panes, err := f.GetPanes("wards 2020")
	require.NoError(t, err)
	assert.Equal(t, [3]any{true, 2, 3}, [3]any{panes.Freeze, panes.XSplit, panes.YSplit})
	id, err := f.GetCellStyle("wards 2020", "C3")
	require.NoError(t, err)
	style, err := f.GetStyle(id)
	require.NoError(t, err)
	legend, err := os.ReadFile(filepath.Join(dir, "legend.csv"))
	require.NoError(t, err)
	assert.Contains(t, strings.ToUpper(string(legend)), "OPEN WATER,#"+style.Fill.Color[0], "the head of a class has the colour of the legend")
	value, err := f.GetCellValue("wards 2020", "C3")
	require.NoError(t, err)
	assert.Equal(t, "Open water", value)
}

func numberIn(t *testing.T, text, place string) float64 {
	t.Helper()
	v, err := strconv.ParseFloat(text, 64)
	require.NoError(t, err, place)
	return v
}

func readCSV(t *testing.T, path string) [][]string {
	t.Helper()
	f, err := os.Open(path)
	require.NoError(t, err)
	defer f.Close()
	r := csv.NewReader(f)
	r.FieldsPerRecord = -1
	rows, err := r.ReadAll()
	require.NoError(t, err)
	return rows
}

// withoutValues copies a spreadsheet and leaves the values of formulas away.
func withoutValues(t *testing.T, from, to string) {
	t.Helper()
	in, err := zip.OpenReader(from)
	require.NoError(t, err)
	defer in.Close()
	out, err := os.Create(to)
	require.NoError(t, err)
	w := zip.NewWriter(out)
	value := regexp.MustCompile(`(</f>)<v>[^<]*</v>`)
	for _, file := range in.File {
		r, err := file.Open()
		require.NoError(t, err)
		data, err := io.ReadAll(r)
		require.NoError(t, err)
		entry, err := w.Create(file.Name)
		require.NoError(t, err)
		_, err = entry.Write(value.ReplaceAll(data, []byte("$1")))
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	require.NoError(t, out.Close())
}

const parquetReader = `
import { DuckDBInstance } from '@duckdb/node-api';
const connection = await (await DuckDBInstance.create(':memory:')).connect();
const rows = await connection.runAndReadAll("SELECT zone_id, sum(area), count(*) FROM read_parquet('" + process.argv[2] + "') WHERE kind = 'class' GROUP BY zone_id ORDER BY zone_id");
console.log(JSON.stringify(rows.getRowsJson()));
`

// Every format holds the same rows, as other programs read them.
func TestOtherProgramsReadOurTables(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, demo.Write(dir, true))
	at := func(name string) string { return filepath.Join(dir, name) }
	job := []string{"--quiet", "measure", at("cover_2020.tif"), "--zones", at("wards.geojson"), "--zone-id", "code", "--legend", at("legend.csv"), "--epoch", "2020", "--digits", "3", "--out"}
	for _, ending := range []string{"csv", "json", "jsonl", "parquet", "gpkg", "html", "md", "xlsx"} {
		verdex(t, append(job, at("t."+ending))...)
	}
	want := readCSV(t, at("t.csv"))
	require.Len(t, want, 51)

	var expected []string
	for zone := range 5 {
		sum := 0.0
		for _, row := range want[1+10*zone:][:7] {
			sum += numberIn(t, row[6], "area")
		}
		expected = append(expected, fmt.Sprintf("W%d|%s|7", zone+1, strconv.FormatFloat(math.Round(sum*1000)/1000, 'f', -1, 64)))
	}
	sums := strings.TrimSpace(run(t, "sqlite3", at("t.gpkg"), "SELECT zone_id, round(sum(area), 3), count(*) FROM extents WHERE kind = 'class' GROUP BY zone_id ORDER BY zone_id"))
	assert.Equal(t, "attributes", strings.TrimSpace(run(t, "sqlite3", at("t.gpkg"), "SELECT data_type FROM gpkg_contents")))
	assert.Equal(t, "ok", strings.TrimSpace(run(t, "sqlite3", at("t.gpkg"), "PRAGMA integrity_check")))
	assert.Equal(t, expected, strings.Split(sums, "\n"))

	cache, err := os.UserCacheDir()
	require.NoError(t, err)
	script := filepath.Join(cache, "verdex-test-tools", fmt.Sprintf("table-%d.mjs", os.Getpid()))
	require.NoError(t, os.WriteFile(script, []byte(parquetReader), 0o644))
	defer os.Remove(script)
	assert.Regexp(t, `^\[\["W1",15421\.6\d+,"7"\],\["W2",16910\.0\d+,"7"\],.*\["W5",512\.6\d+,"7"\]\]\s*$`, run(t, "node", script, at("t.parquet")))

	// what our own readers take comes back the same
	var first string
	for _, ending := range []string{"csv", "json", "jsonl"} {
		out, _ := verdex(t, "--quiet", "account", "composition", at("t."+ending), "--format", "csv")
		if first == "" {
			first = out
		}
		assert.Equal(t, first, out, ending)
	}
	f, err := excelize.OpenFile(at("t.xlsx"))
	require.NoError(t, err)
	defer f.Close()
	assert.Equal(t, []string{"2020", "extents", "checks", "Provenance"}, f.GetSheetList())

	meta, err := os.ReadFile(at("t.csv-metadata.json"))
	require.NoError(t, err)
	for _, name := range want[0] {
		assert.Contains(t, string(meta), fmt.Sprintf(`"titles": %q`, name))
	}
	assert.Contains(t, string(meta), `"url": "t.csv"`)
}
