package table

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"html"
	"io"
	"math"
	"math/rand/v2"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/parquet-go/parquet-go"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"

	"github.com/verdex-land/verdex/core/text"
	"github.com/verdex-land/verdex/internal/model"
)

// random is a table of texts, numbers and whole numbers, with everything that is awkward in some format.
func random(rng *rand.Rand) *Writer {
	columns := []model.Column{{Name: "zone_id", About: "identifies the zone"}, {Name: "area", Type: model.Number, Unit: "area", About: "true area"},
		{Name: "unit", About: "unit of the areas"}, {Name: "rank", Type: model.Whole, About: "place"}, {Name: "pct of <all> & more", Type: model.Number, Unit: "%", About: `a "share"`}}
	texts := []string{"", "W1", "=1+1", "'quoted", "a,b;c", "line\nbreak", "<b>&amp;</b>", "ä€𝄞", "-1", "@x", " space ", "|pipe|", `"`, "00012", "1e5", "TRUE"}
	var rows [][]any
	for range rng.IntN(30) {
		number := func() any {
			switch rng.IntN(7) {
			case 0:
				return nil
			case 1:
				return math.NaN()
			case 2:
				return 0.0
			case 3:
				return rng.NormFloat64() * 1e-9
			}
			return rng.NormFloat64() * 1e6
		}
		row := []any{texts[rng.IntN(len(texts))], number(), texts[rng.IntN(len(texts))], rng.IntN(1000) - 500, number()}
		if rng.IntN(5) == 0 {
			row[3] = nil
		}
		rows = append(rows, row)
	}
	return &Writer{Table: model.Of("random", "Random <rows>", columns, rows), Digits: -1}
}

// same reports whether a cell that was read is the one that was written: "" and nil where nothing is known.
func same(want any, got string) bool {
	switch w := want.(type) {
	case nil:
		return got == ""
	case float64:
		if math.IsNaN(w) {
			return got == ""
		}
		v, err := strconv.ParseFloat(got, 64)
		return err == nil && v == w
	case int:
		return got == strconv.Itoa(w)
	}
	return got == want
}

// Every format gives back what was written, read by a reader that is not ours where there is one.
func TestAnyTableComesBack(t *testing.T) {
	for seed := range uint64(60) {
		w := random(rand.New(rand.NewPCG(seed, 2)))
		var rows [][]any
		for r := range w.Table.Rows {
			rows = append(rows, append([]any(nil), r...))
		}
		check := func(format string, k int, cell func(row, column int) string) {
			t.Helper()
			require.Equal(t, len(rows), k, format)
			for i, r := range rows {
				for c, want := range r {
					got := cell(i, c)
					assert.True(t, same(want, got), "%s, row %d, %s: %q is not %v", format, i, w.Columns[c].Name, got, want)
				}
			}
		}
		write := func(format string) []byte {
			var b bytes.Buffer
			require.NoError(t, w.Write(&b, format))
			return b.Bytes()
		}

		lines, err := csv.NewReader(bytes.NewReader(write("csv"))).ReadAll()
		require.NoError(t, err)
		assert.Equal(t, w.Names(), lines[0])
		check("csv", len(lines)-1, func(row, c int) string { return text.Unguard(lines[row+1][c]) })

		var objects []map[string]any
		require.NoError(t, json.Unmarshal(write("json"), &objects))
		check("json", len(objects), func(row, c int) string {
			switch v := objects[row][w.Columns[c].Name].(type) {
			case nil:
				return ""
			case float64:
				if w.Columns[c].Type == model.Whole {
					return strconv.Itoa(int(v))
				}
				return strconv.FormatFloat(v, 'g', -1, 64)
			default:
				return fmt.Sprint(v)
			}
		})

		data := write("parquet")
		file, err := parquet.OpenFile(bytes.NewReader(data), int64(len(data)))
		require.NoError(t, err)
		var columns []string
		for _, path := range file.Schema().Columns() {
			columns = append(columns, path[0])
		}
		assert.ElementsMatch(t, w.Names(), columns)
		var got []map[string]string
		for _, group := range file.RowGroups() {
			reader := group.Rows()
			buffer := make([]parquet.Row, 100)
			for {
				n, err := reader.ReadRows(buffer)
				for _, r := range buffer[:n] {
					cells := map[string]string{}
					for _, v := range r {
						if !v.IsNull() {
							cells[columns[v.Column()]] = v.String()
						}
					}
					got = append(got, cells)
				}
				if err != nil {
					require.ErrorIs(t, err, io.EOF)
					break
				}
			}
			reader.Close()
		}
		check("parquet", len(got), func(row, c int) string { return got[row][w.Columns[c].Name] })

		var workbook bytes.Buffer
		require.NoError(t, (&Workbook{Sheets: []*Sheet{w.Sheet()}}).Write(&workbook))
		book, err := excelize.OpenReader(&workbook)
		require.NoError(t, err)
		sheet := book.GetSheetList()[0]
		head := 0
		for ; ; head++ { // above the names stands the title
			name, err := book.GetCellValue(sheet, At(head, 0))
			require.NoError(t, err)
			if name == "zone_id" {
				break
			}
			require.Less(t, head, 10)
		}
		check("xlsx", len(rows), func(row, c int) string {
			v, err := book.GetCellValue(sheet, At(head+1+row, c), excelize.Options{RawCellValue: true})
			require.NoError(t, err)
			f, err := book.GetCellFormula(sheet, At(head+1+row, c))
			require.NoError(t, err)
			assert.Empty(t, f, "a text became a formula")
			if want, ok := rows[row][c].(float64); ok && v != "" { // the reader shows 15 digits
				got, err := strconv.ParseFloat(v, 64)
				require.NoError(t, err)
				if math.Abs(got-want) <= 1e-14*math.Abs(want) {
					return strconv.FormatFloat(want, 'g', -1, 64)
				}
			}
			return v
		})
		book.Close()

		// A page shows each cell once, with its marks escaped.
		page := string(write("html"))
		cells := regexp.MustCompile(`(?s)<td[^>]*>(.*?)</td>`).FindAllStringSubmatch(page, -1)
		assert.Len(t, cells, len(rows)*len(w.Columns))
		assert.NotContains(t, page, "<b>&")
		for i, r := range rows {
			if s, ok := r[0].(string); ok {
				assert.Equal(t, s, html.UnescapeString(cells[i*len(w.Columns)][1]))
			}
		}
		// A Markdown table has a line for each row, and as many cells in each.
		md := strings.Split(strings.TrimSpace(string(write("md"))), "\n")
		count := 0
		for _, line := range md {
			if strings.HasPrefix(line, "|") {
				count++
				assert.Equal(t, len(w.Columns)+1, strings.Count(strings.ReplaceAll(line, `\|`, ""), "|"), line)
			}
		}
		assert.Equal(t, len(rows)+2, count)
	}
}

// The description beside a CSV names each column, in order, with its type and meaning.
func TestMetadataDescribesEachColumn(t *testing.T) {
	w := random(rand.New(rand.NewPCG(1, 1)))
	var b bytes.Buffer
	require.NoError(t, w.Metadata(&b, "random.csv"))
	var doc struct {
		URL    string `json:"url"`
		Schema struct {
			Columns []struct {
				Name        string          `json:"titles"`
				Type        string          `json:"datatype"`
				Description json.RawMessage `json:"dc:description"`
			} `json:"columns"`
		} `json:"tableSchema"`
	}
	require.NoError(t, json.Unmarshal(b.Bytes(), &doc), b.String())
	assert.Equal(t, "random.csv", doc.URL)
	require.Len(t, doc.Schema.Columns, len(w.Columns))
	for i, c := range doc.Schema.Columns {
		assert.Equal(t, w.Columns[i].Name, c.Name)
		assert.NotEmpty(t, c.Description)
		assert.Equal(t, []string{"string", "integer", "double"}[w.Columns[i].Type], c.Type, c.Name)
	}
}

// Numbers are written with the digits that were asked for, and never as -0.
func TestDigitsOfNumbers(t *testing.T) {
	for _, of := range []struct {
		v      float64
		digits int
		want   string
	}{{1. / 3, -1, "0.3333333333333333"}, {1. / 3, 2, "0.33"}, {2.5, 0, "2"}, {-0.001, 2, "0.00"}, {1e21, -1, "1000000000000000000000"}, {math.Copysign(0, -1), -1, "0"}, {123456.789, 1, "123456.8"}} {
		assert.Equal(t, of.want, Number(of.v, of.digits), "%v to %d", of.v, of.digits)
	}
}
