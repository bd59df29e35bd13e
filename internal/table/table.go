// Package table writes rows for other programs and for people: CSV with a description of its columns (CSVW), JSON, JSON lines, Parquet,
// GeoPackage, HTML, Markdown (each a file of its own name here), and spreadsheets (workbook.go). What a column holds, whatever table it is in,
// is said once, in columns.go.
package table

import (
	"fmt"
	"io"
	"iter"
	"math"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/verdex-land/verdex/core/vector"
	"github.com/verdex-land/verdex/core/vector/parquet"
)

// Table is a list of rows under named columns. Cells are string, float64, int or nil; NaN counts
// as nil, and so does an empty text: formats that know null have it there.
type Table struct {
	Name    string // of the kind of table, as extents; a table in a file that names tables has it
	Title   string // for people
	Columns []string
	Rows    [][]any
	// Each, when not nil, makes Count rows instead of Rows as they are asked for, each of which serves until the next one: there may be
	// a million.
	Each   iter.Seq[[]any]
	Count  int
	Digits int          // decimals of numbers, -1 for full precision
	Stop   func() error // when not nil: no more rows are made once it returns an error
}

// all are the rows. One serves until the next.
func (t *Table) all() iter.Seq[[]any] {
	rows := t.Each
	if rows == nil {
		rows = slices.Values(t.Rows)
	}
	if t.Stop == nil {
		return rows
	}
	return func(yield func([]any) bool) {
		n := 0
		rows(func(row []any) bool {
			n++
			return (n%256 != 0 || t.Stop() == nil) && yield(row)
		})
	}
}

// count is how many rows there are.
func (t *Table) count() int {
	if t.Each != nil {
		return t.Count
	}
	return len(t.Rows)
}

// formats are what a table can be written as.
var formats = []struct {
	name, endings string
	binary        bool // not for a terminal or a pipe
}{
	{"csv", ".csv", false}, {"json", ".json", false}, {"jsonl", ".jsonl .ndjson", false}, {"md", ".md", false}, {"html", ".html .htm", false},
	{"xlsx", ".xlsx", true}, {"parquet", ".parquet", true}, {"gpkg", ".gpkg", true},
}

// Formats are the names of the formats, for messages.
var Formats = func() string {
	var out []string
	for _, f := range formats {
		out = append(out, f.name)
	}
	return strings.Join(out[:len(out)-1], ", ") + " or " + out[len(out)-1]
}()

// Known reports whether a format has this name, and whether it takes a file.
func Known(name string) (known, binary bool) {
	for _, f := range formats {
		if f.name == name {
			return true, f.binary
		}
	}
	return false, false
}

// FormatOf finds the format of a file by its ending.
func FormatOf(path string) (string, error) {
	ending := strings.ToLower(filepath.Ext(path))
	var all []string
	for _, f := range formats {
		if slices.Contains(strings.Fields(f.endings), ending) {
			return f.name, nil
		}
		all = append(all, strings.Fields(f.endings)[0])
	}
	return "", fmt.Errorf("%s: its ending says no format: end it with %s or %s, or give --format", path, strings.Join(all[:len(all)-1], ", "), all[len(all)-1])
}

// Write writes the table in a format that is one stream of bytes: all but gpkg and xlsx.
func (t *Table) Write(w io.Writer, format string) error {
	switch format {
	case "csv":
		return t.csv(w)
	case "json":
		return t.json(w)
	case "jsonl":
		return t.jsonLines(w)
	case "html":
		return t.html(w)
	case "md":
		return t.markdown(w)
	case "parquet":
		return parquet.Write(w, t.Layer())
	}
	return fmt.Errorf("the format %q is not known: choose table, %s", format, Formats)
}

// Layer is the table as a layer without outlines. A column of nothing but whole numbers is one of integers, of numbers
// one of reals, and all others of text.
func (t *Table) Layer() *vector.Layer {
	l := &vector.Layer{Name: t.Name, Plain: true}
	if l.Name == "" {
		l.Name = "rows"
	}
	kinds := t.kinds()
	for i, name := range t.Columns {
		l.Fields = append(l.Fields, vector.Field{Name: name, Kind: kinds[i]})
	}
	for row := range t.all() {
		f := vector.Feature{Values: make([]any, len(row))}
		for i, v := range row {
			switch kind := l.Fields[i].Kind; {
			case isNull(v):
			case kind == vector.Integer:
				f.Values[i] = int64(v.(int))
			case kind == vector.Real:
				f.Values[i] = t.rounded(v)
			default:
				f.Values[i] = t.text(v)
			}
		}
		l.Features = append(l.Features, f)
	}
	return l
}

// kinds are what the cells of each column are. One without any is what its name says.
func (t *Table) kinds() []vector.Kind {
	const whole, real, text = 1, 2, 4
	found := make([]int, len(t.Columns))
	for row := range t.all() {
		for i, v := range row {
			switch v := v.(type) {
			case int:
				found[i] |= whole
			case float64:
				if !math.IsNaN(v) {
					found[i] |= real
				}
			case nil:
			default:
				found[i] |= text
			}
		}
	}
	out := make([]vector.Kind, len(found))
	for i, f := range found {
		switch {
		case f&text != 0:
			out[i] = vector.Text
		case f == whole:
			out[i] = vector.Integer
		case f != 0 || describe(t.Columns[i]).number:
			out[i] = vector.Real
		default:
			out[i] = vector.Text
		}
	}
	return out
}

// isNull reports whether a cell is empty: without a value, a number or a text.
func isNull(v any) bool {
	switch v := v.(type) {
	case nil:
		return true
	case float64:
		return math.IsNaN(v)
	case string:
		return v == ""
	}
	return false
}

// rounded is a number to the decimals of the table.
func (t *Table) rounded(v any) float64 {
	f, ok := v.(float64)
	if !ok {
		return float64(v.(int))
	}
	if t.Digits >= 0 {
		f, _ = strconv.ParseFloat(Number(f, t.Digits), 64)
	}
	return f
}

// text is a cell as it stands in a text.
func (t *Table) text(v any) string {
	switch v := v.(type) {
	case nil:
		return ""
	case float64:
		if math.IsNaN(v) {
			return ""
		}
		return Number(v, t.Digits)
	}
	return fmt.Sprint(v)
}

// Number is a number as it stands in a file: without exponent, in the fewest digits that give the
// same float64 again, or with a fixed number of decimals.
func Number(v float64, digits int) string {
	if v == 0 {
		v = 0 // no negative zero
	}
	return strconv.FormatFloat(v, 'f', digits, 64)
}
