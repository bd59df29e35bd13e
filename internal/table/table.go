// Package table writes rows for other programs: CSV and JSON.
package table

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"math"
	"path/filepath"
	"strconv"
	"strings"
)

// Table is a list of rows under named columns. Cells are string, float64, int or nil; NaN counts
// as nil.
type Table struct {
	Columns []string
	Rows    [][]any
	Digits  int // decimals of numbers, -1 for full precision
}

// Formats are the names of what Write can do, with the file endings that choose them.
var Formats = map[string]string{".csv": "csv", ".json": "json"}

// FormatOf finds the format of a file by its ending.
func FormatOf(path string) (string, error) {
	if f, ok := Formats[strings.ToLower(filepath.Ext(path))]; ok {
		return f, nil
	}
	return "", fmt.Errorf("%s: its ending says no format: end it with .csv or .json, or give --format", path)
}

// Write writes the table as csv or json.
func (t *Table) Write(w io.Writer, format string) error {
	switch format {
	case "csv":
		return t.csv(w)
	case "json":
		return t.json(w)
	}
	return fmt.Errorf("the format %q is not known: choose table, csv or json", format)
}

// Number is a number as it stands in a file: without exponent, in the fewest digits that give the
// same float64 again, or with a fixed number of decimals.
func Number(v float64, digits int) string {
	if v == 0 {
		v = 0 // no negative zero
	}
	return strconv.FormatFloat(v, 'f', digits, 64)
}

func (t *Table) csv(w io.Writer) error {
	out := csv.NewWriter(w)
	if err := out.Write(t.Columns); err != nil {
		return err
	}
	record := make([]string, len(t.Columns))
	for _, row := range t.Rows {
		for i, v := range row {
			switch v := v.(type) {
			case nil:
				record[i] = ""
			case float64:
				record[i] = ""
				if !math.IsNaN(v) {
					record[i] = Number(v, t.Digits)
				}
			default:
				record[i] = fmt.Sprint(v)
			}
		}
		if err := out.Write(record); err != nil {
			return err
		}
	}
	out.Flush()
	return out.Error()
}

func (t *Table) json(w io.Writer) error {
	var b strings.Builder
	b.WriteString("[")
	for i, row := range t.Rows {
		if i > 0 {
			b.WriteString(",")
		}
		b.WriteString("\n  {")
		for k, v := range row {
			if k > 0 {
				b.WriteString(", ")
			}
			name, err := json.Marshal(t.Columns[k])
			if err != nil {
				return err
			}
			value := []byte("null")
			switch v := v.(type) {
			case nil:
			case float64:
				if !math.IsNaN(v) {
					value = []byte(Number(v, t.Digits))
				}
			default:
				if value, err = json.Marshal(v); err != nil {
					return err
				}
			}
			b.Write(name)
			b.WriteString(": ")
			b.Write(value)
		}
		b.WriteString("}")
	}
	b.WriteString("\n]\n")
	_, err := io.WriteString(w, b.String())
	return err
}
