package table

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"io"
	"math"
	"math/rand/v2"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"

	"github.com/verdex-land/verdex/internal/model"
)

func number(name string) model.Column {
	return model.Column{Name: name, Type: model.Number, Unit: "area"}
}

// writerOf is a writer of rows, whose columns are texts unless their name begins with area or n.
func writerOf(name, title string, columns []string, rows [][]any) *Writer {
	var list []model.Column
	for _, c := range columns {
		switch {
		case strings.HasPrefix(c, "area"):
			list = append(list, number(c))
		case c == "n":
			list = append(list, model.Column{Name: c, Type: model.Whole})
		default:
			list = append(list, model.Column{Name: c})
		}
	}
	return &Writer{Table: model.Of(name, title, list, rows), Digits: -1}
}

var sample = writerOf("", "", []string{"name", "area", "n"}, [][]any{{`Tarn, "upper"`, 1. / 3, nil}, {"Varra", 1e21, math.NaN()}, {"line\nbreak", math.Copysign(0, -1), 7}})

func TestCSVReadsBackAsItWas(t *testing.T) {
	var b strings.Builder
	require.NoError(t, sample.Write(&b, "csv"))
	rows, err := csv.NewReader(strings.NewReader(b.String())).ReadAll()
	require.NoError(t, err)
	assert.Equal(t, [][]string{{"name", "area", "n"}, {`Tarn, "upper"`, "0.3333333333333333", ""},
		{"Varra", "1000000000000000000000", ""}, {"line\nbreak", "0", "7"}}, rows)
}

func TestJSONReadsBackAsItWas(t *testing.T) {
	var b strings.Builder
	require.NoError(t, sample.Write(&b, "json"))
	var rows []map[string]any
	require.NoError(t, json.Unmarshal([]byte(b.String()), &rows))
	assert.Equal(t, []map[string]any{{"name": `Tarn, "upper"`, "area": 1. / 3, "n": nil},
		{"name": "Varra", "area": 1e21, "n": nil}, {"name": "line\nbreak", "area": 0.0, "n": 7.0}}, rows)
	b.Reset()
	require.NoError(t, writerOf("", "", []string{"a"}, nil).Write(&b, "json"))
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
var hostile = writerOf("x", "<b>|", []string{"=head", "a|b", "area"},
	[][]any{{"=HYPERLINK(1)", "<script>alert(1)</script>", 2.5}, {"@SUM(A1)", "a|b\n*c*", math.NaN()}, {"-1", "+x", 1e15}})

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
	for _, cell := range []string{"A1", "A2", "A3", "B4"} {
		formula, err := f.GetCellFormula("x", cell)
		require.NoError(t, err)
		assert.Empty(t, formula)
		kind, err := f.GetCellType("x", cell)
		require.NoError(t, err)
		assert.Equal(t, excelize.CellTypeInlineString, kind, cell)
	}
}

func TestColumnsHaveTheTypeOfTheirModel(t *testing.T) {
	x := writerOf("", "", []string{"n", "area", "text"}, [][]any{{1, 1.25, "a"}, {2, math.NaN(), nil}})
	x.Digits = 1
	require.NoError(t, x.Write(io.Discard, "csv"))
	var got []string
	d := x.Describe("x.csv")
	for _, c := range d.Schema.Columns {
		got = append(got, c.Titles+" "+c.Datatype)
	}
	assert.Equal(t, []string{"n integer", "area double", "text string"}, got)
	assert.Equal(t, "2 rows", d.Extent)
	l := x.Layer()
	assert.Equal(t, []any{int64(1), 1.2, "a"}, l.Features[0].Values)
	assert.Equal(t, []any{int64(2), nil, nil}, l.Features[1].Values)
}

// Rows are made one by one as they are written, whatever the format, and no more are made once the job is called off.
func TestRowsFlow(t *testing.T) {
	for _, format := range []string{"csv", "json", "jsonl", "md", "html", "parquet"} {
		made, stop := 0, error(nil)
		endless := &Writer{Digits: -1, Stop: func() error { return stop }, Table: &model.Table{Columns: []model.Column{{Name: "a"}, number("b")}, Count: -1, Rows: func(yield func([]any) bool) {
			row := make([]any, 2)
			for {
				made++
				if made == 5000 {
					stop = io.ErrClosedPipe
				}
				if row[0], row[1] = "x", float64(made); !yield(row) {
					return
				}
			}
		}}}
		assert.ErrorIs(t, endless.Write(io.Discard, format), io.ErrClosedPipe, format)
		assert.Less(t, made, 5000+257, format)
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

// Numbers of few decimals have the digits that strconv finds, too, and so have those next to them.
func TestShortDecimals(t *testing.T) {
	r := rand.New(rand.NewPCG(2, 7))
	short := 0
	for range 20000 {
		v := math.Round(math.Exp(r.Float64()*40-8)*1e4) / 1e4 * float64(1-2*r.IntN(2))
		for _, v := range []float64{v, math.Nextafter(v, 0), math.Nextafter(v, 1e300), v / 3} {
			assert.Equal(t, strconv.FormatFloat(v+0, 'f', -1, 64), Number(v, -1))
			if _, ok := appendShort(nil, v); ok {
				short++
			}
		}
	}
	assert.Greater(t, short, 10000)
}
