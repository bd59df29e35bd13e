// Package table writes the tables of package model for other programs and for people: CSV with a description of its columns (CSVW), JSON,
// JSON lines, Parquet, GeoPackage, HTML and Markdown, and spreadsheets (workbook.go). It knows what a column holds from the model alone.
// Rows flow through, so that a table of a million takes no more memory than one of a thousand.
package table

import (
	"bytes"
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
	"github.com/verdex-land/verdex/internal/model"
)

// Writer writes a table.
type Writer struct {
	*model.Table
	Digits int          // decimals of numbers, -1 for full precision
	Stop   func() error // when not nil: no more rows are made once it returns an error

	written int
	stopped error
}

// Written is how many rows were written last.
func (t *Writer) Written() int { return t.written }

// all are the rows, counted as they are made.
func (t *Writer) all() iter.Seq[[]any] {
	return func(yield func([]any) bool) {
		t.written = 0
		t.Rows(func(row []any) bool {
			t.written++
			if t.Stop != nil && t.written%256 == 0 {
				if t.stopped = t.Stop(); t.stopped != nil {
					return false
				}
			}
			return yield(row)
		})
	}
}

// formats are what a table can be written as.
var formats = []struct {
	name, endings string
	binary        bool // not for a terminal or a pipe
}{
	{"csv", ".csv", false}, {"json", ".json", false}, {"jsonl", ".jsonl .ndjson", false}, {"md", ".md", false}, {"html", ".html .htm", false},
	{"xlsx", ".xlsx", true}, {"parquet", ".parquet", true}, {"gpkg", ".gpkg", true},
}

// Names are the names of the formats.
var Names = func() (out []string) {
	for _, f := range formats {
		out = append(out, f.name)
	}
	return out
}()

// Formats are the names of the formats, for messages.
var Formats = strings.Join(Names[:len(Names)-1], ", ") + " or " + Names[len(Names)-1]

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
	return "", fmt.Errorf("%s: its ending is not that of a format: end it with %s or %s, or choose a format", path, strings.Join(all[:len(all)-1], ", "), all[len(all)-1])
}

// Write writes the table in a format that is one stream of bytes: all but gpkg and xlsx.
func (t *Writer) Write(w io.Writer, format string) error {
	write, ok := map[string]func(io.Writer) error{"csv": t.csv, "json": t.json, "jsonl": t.jsonLines, "html": t.html, "md": t.markdown, "parquet": t.parquet}[format]
	if !ok {
		return fmt.Errorf("the format %q is not one of %s", format, Formats)
	}
	t.stopped = nil
	if err := write(w); err != nil {
		return err
	}
	return t.stopped
}

func (t *Writer) parquet(w io.Writer) error {
	return parquet.WriteTable(w, t.rowsName(), t.Fields(), t.Values())
}

// rowsName is the name of the table in a file that names tables.
func (t *Writer) rowsName() string {
	if t.Name == "" {
		return "rows"
	}
	return t.Name
}

// Fields are the columns as fields of features.
func (t *Writer) Fields() []vector.Field {
	kinds := map[model.Type]vector.Kind{model.Text: vector.Text, model.Whole: vector.Integer, model.Number: vector.Real}
	out := make([]vector.Field, len(t.Columns))
	for i, c := range t.Columns {
		out[i] = vector.Field{Name: c.Name, Kind: kinds[c.Type]}
	}
	return out
}

// Values are the rows as values of fields: nil, string, int64 or float64. A row serves until the next one.
func (t *Writer) Values() iter.Seq[[]any] {
	return func(yield func([]any) bool) {
		out := make([]any, len(t.Columns))
		for row := range t.all() {
			for i, v := range row {
				switch v := v.(type) {
				case string:
					if out[i] = v; v == "" {
						out[i] = nil
					}
				case int:
					out[i] = int64(v)
				case float64:
					if out[i] = nil; !math.IsNaN(v) {
						out[i] = t.rounded(v)
					}
				default:
					out[i] = nil
				}
			}
			if !yield(out) {
				return
			}
		}
	}
}

// Layer is the table as a layer without outlines, all of it in memory.
func (t *Writer) Layer() *vector.Layer {
	l := &vector.Layer{Name: t.rowsName(), Plain: true, Fields: t.Fields()}
	for row := range t.Values() {
		l.Features = append(l.Features, vector.Feature{Values: slices.Clone(row)})
	}
	return l
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

// appendShort appends a number that has up to four decimals and 15 digits in all, such as cells of 30 m in hectares. These are its shortest digits, since no two
// decimals of 15 digits are the same float64.
func appendShort(b []byte, v float64) ([]byte, bool) {
	const scale, most = 10_000, 1e15
	n := int64(math.Abs(v)*scale + 0.5)
	if n >= most || float64(n)/scale != math.Abs(v) {
		return b, false
	}
	if v < 0 {
		b = append(b, '-')
	}
	b = strconv.AppendInt(b, n/scale, 10)
	rest := n % scale
	b = append(b, '.', byte('0'+rest/1000), byte('0'+rest/100%10), byte('0'+rest/10%10), byte('0'+rest%10))
	for b[len(b)-1] == '0' {
		b = b[:len(b)-1]
	}
	return b, true
}

// rounded is a number to the decimals of the table.
func (t *Writer) rounded(v float64) float64 {
	if t.Digits >= 0 {
		v, _ = strconv.ParseFloat(Number(v, t.Digits), 64)
	}
	return v
}

// text is a cell as it stands in a text.
func (t *Writer) text(v any) string {
	if s, ok := v.(string); ok {
		return s
	}
	return string(t.appendText(nil, v))
}

// appendText appends the text of a value.
func (t *Writer) appendText(b []byte, v any) []byte {
	switch v := v.(type) {
	case nil:
		return b
	case string:
		return append(b, v...)
	case int:
		return strconv.AppendInt(b, int64(v), 10)
	case float64:
		if math.IsNaN(v) {
			return b
		}
		return appendNumber(b, v, t.Digits)
	}
	return fmt.Append(b, v)
}

// Number is a number as it stands in a file: without exponent, in the fewest digits that give the
// same float64 again, or with a fixed number of decimals.
func Number(v float64, digits int) string { return string(appendNumber(nil, v, digits)) }

func appendNumber(b []byte, v float64, digits int) []byte {
	if digits < 0 {
		if i := int64(v); float64(i) == v && -1<<53 < i && i < 1<<53 {
			return strconv.AppendInt(b, i, 10)
		}
		if out, ok := appendShort(b, v); ok {
			return out
		}
	}
	n := len(b)
	b = strconv.AppendFloat(b, v, 'f', digits, 64)
	if out := b[n:]; len(out) > 1 && out[0] == '-' && out[1] == '0' && len(bytes.Trim(out, "-0.")) == 0 {
		return append(b[:n], out[1:]...) // no negative zero, also where a number is rounded to it
	}
	return b
}
