package table

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"math"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"
)

var sample = Table{
	Columns: []string{"name", "area", "note"},
	Rows:    [][]any{{`Tarn, "upper"`, 1. / 3, nil}, {"Varra", 1e21, math.NaN()}, {"line\nbreak", math.Copysign(0, -1), 7}},
	Digits:  -1,
}

func TestCSVReadsBackAsItWas(t *testing.T) {
	var b strings.Builder
	require.NoError(t, sample.Write(&b, "csv"))
	rows, err := csv.NewReader(strings.NewReader(b.String())).ReadAll()
	require.NoError(t, err)
	assert.Equal(t, [][]string{{"name", "area", "note"}, {`Tarn, "upper"`, "0.3333333333333333", ""},
		{"Varra", "1000000000000000000000", ""}, {"line\nbreak", "0", "7"}}, rows)
}

func TestJSONReadsBackAsItWas(t *testing.T) {
	var b strings.Builder
	require.NoError(t, sample.Write(&b, "json"))
	var rows []map[string]any
	require.NoError(t, json.Unmarshal([]byte(b.String()), &rows))
	assert.Equal(t, []map[string]any{{"name": `Tarn, "upper"`, "area": 1. / 3, "note": nil},
		{"name": "Varra", "area": 1e21, "note": nil}, {"name": "line\nbreak", "area": 0.0, "note": 7.0}}, rows)
	b.Reset()
	require.NoError(t, (&Table{Columns: []string{"a"}}).Write(&b, "json"))
	require.NoError(t, json.Unmarshal([]byte(b.String()), &rows))
	assert.Empty(t, rows)
}

func TestJSONLinesAreARowEach(t *testing.T) {
	var b strings.Builder
	require.NoError(t, sample.Write(&b, "jsonl"))
	lines := strings.Split(strings.TrimSpace(b.String()), "\n")
	require.Len(t, lines, 3)
	for i, name := range []string{`Tarn, "upper"`, "Varra", "line\nbreak"} {
		var row map[string]any
		require.NoError(t, json.Unmarshal([]byte(lines[i]), &row))
		assert.Equal(t, name, row["name"])
	}
}

// hostile is a table whose texts are formulas, markup and the signs of each format.
var hostile = Table{Name: "x", Title: "<b>|", Columns: []string{"=head", "a|b", "area"}, Digits: -1,
	Rows: [][]any{{"=HYPERLINK(1)", "<script>alert(1)</script>", 2.5}, {"@SUM(A1)", "a|b\n*c*", math.NaN()}, {"-1", "+x", 1e15}}}

func TestTextIsNeverRun(t *testing.T) {
	var b strings.Builder
	require.NoError(t, hostile.Write(&b, "csv"))
	rows, err := csv.NewReader(strings.NewReader(b.String())).ReadAll()
	require.NoError(t, err)
	assert.Equal(t, [][]string{{"'=head", "a|b", "area"}, {"'=HYPERLINK(1)", "<script>alert(1)</script>", "2.5"}, {"'@SUM(A1)", "a|b\n*c*", ""}, {"-1", "'+x", "1000000000000000"}}, rows)
	b.Reset()
	require.NoError(t, hostile.Write(&b, "html"))
	assert.NotContains(t, b.String(), "<script>")
	assert.Contains(t, b.String(), "&lt;script&gt;alert(1)&lt;/script&gt;")
	b.Reset()
	require.NoError(t, hostile.Write(&b, "md"))
	assert.Equal(t, "**&lt;b>\\|**\n\n| =head | a\\|b | area |\n| --- | --- | --: |\n| =HYPERLINK(1) | &lt;script>alert(1)&lt;/script> | 2.5000 |\n| @SUM(A1) | a\\|b \\*c\\* |  |\n| -1 | +x | 1000000000000000.0000 |\n", b.String())
	var book bytes.Buffer
	require.NoError(t, (&Workbook{Sheets: []*Sheet{hostile.Sheet()}}).Write(&book))
	f, err := excelize.OpenReader(&book)
	require.NoError(t, err)
	for _, cell := range []string{"A2", "A3", "A4", "B5"} {
		formula, err := f.GetCellFormula("x", cell)
		require.NoError(t, err)
		assert.Empty(t, formula)
		kind, err := f.GetCellType("x", cell)
		require.NoError(t, err)
		assert.Equal(t, excelize.CellTypeInlineString, kind, cell)
	}
}

func TestColumnsHaveTheKindOfTheirCells(t *testing.T) {
	x := Table{Columns: []string{"n", "area", "mixed", "text", "area_2", "zone_id"}, Digits: 1, Rows: [][]any{{1, 1.25, 1, "a", nil, nil}, {2, math.NaN(), 2.5, nil, nil, nil}}}
	var got []string
	for _, c := range x.Describe("x.csv").Schema.Columns {
		got = append(got, c.Titles+" "+c.Datatype)
	}
	assert.Equal(t, []string{"n integer", "area double", "mixed double", "text string", "area_2 double", "zone_id string"}, got)
	l := x.Layer()
	assert.Equal(t, []any{int64(1), 1.2, 1.0, "a", nil, nil}, l.Features[0].Values)
	assert.Equal(t, []any{int64(2), nil, 2.5, nil, nil, nil}, l.Features[1].Values)
}

func TestGrouped(t *testing.T) {
	for text, want := range map[string]string{"": "", "1": "1", "999.5": "999.5", "1000": "1,000", "-1000.25": "-1,000.25", "-999": "-999", "1234567.1234": "1,234,567.1234"} {
		assert.Equal(t, want, Grouped(text))
	}
}

func TestSheetNames(t *testing.T) {
	taken := map[string]bool{}
	long := strings.Repeat("ö", 40)
	assert.Equal(t, "a-b-c", sheetName("a/b:c", taken))
	assert.Equal(t, "A-B-C (2)", sheetName("A/B:C", taken))
	assert.Equal(t, strings.Repeat("ö", 31), sheetName(long, taken))
	assert.Equal(t, strings.Repeat("ö", 27)+" (2)", sheetName(long, taken))
	assert.Equal(t, "sheet", sheetName("''", taken))
}

func TestTheSameWorkbookHasTheSameBytes(t *testing.T) {
	make := func() []byte {
		var b bytes.Buffer
		require.NoError(t, (&Workbook{Title: "t", Sheets: []*Sheet{sample.Sheet(), hostile.Sheet()}}).Write(&b))
		return b.Bytes()
	}
	first := make()
	time.Sleep(1100 * time.Millisecond) // a time of writing would differ
	for range 30 {                      // and the order of maps
		assert.True(t, bytes.Equal(first, make()))
	}
}

func TestDigitsAndFormats(t *testing.T) {
	assert.Equal(t, "0.33", Number(1./3, 2))
	assert.Equal(t, "-2", Number(-2, -1))
	f, err := FormatOf("x/Y.CSV")
	require.NoError(t, err)
	assert.Equal(t, "csv", f)
	_, err = FormatOf("x.docx")
	assert.ErrorContains(t, err, "end it with .csv, .json, .jsonl,")
	assert.Error(t, sample.Write(&strings.Builder{}, "xml"))
}
