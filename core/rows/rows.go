// Package rows reads tables in text, row by row, with columns by name.
package rows

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/text"
)

// Row is a line of a table by column name.
type Row struct {
	Line int // of the file; of JSON, which object it is
	Cell map[string]string
}

// mostRows is how many rows a list may have, such as a legend: each takes some hundred bytes.
const mostRows = 1_000_000

// ErrNoColumn is in the error of a table that lacks a column.
var ErrNoColumn = errors.New("it has no column")

// Read reads a table as [text.Parse] does, in which lines that begin with # are comments, or JSON: a list of objects, or one in each line. Names
// of columns are taken in lower case, and codes of classes as [text.Code] gives them. A column that is needed and missing is an error; others are read
// as well. Notes say what had to be assumed.
func Read(from files.System, path string, needed, optional []string) (rows []Row, notes []string, err error) {
	return read(from, path, needed, optional, mostRows)
}

// Long is Read for a table of results, which may have any number of rows.
func Long(from files.System, path string, needed, optional []string) (rows []Row, notes []string, err error) {
	return read(from, path, needed, optional, 0)
}

func read(from files.System, path string, needed, optional []string, most int) (rows []Row, notes []string, err error) {
	data, notes, err := text.Read(from, path)
	if err != nil {
		return nil, nil, err
	}
	if rows, err = parse(path, data, needed, optional, most); err != nil {
		return nil, nil, err
	}
	return rows, notes, nil
}

// Parse reads the rows of a table in memory as [Long] does; name stands for it in errors.
func Parse(name string, data []byte, needed, optional []string) ([]Row, error) {
	return parse(name, data, needed, optional, 0)
}

func parse(name string, data []byte, needed, optional []string, most int) ([]Row, error) {
	var t *text.Table
	var err error
	whole := func(names []string) error { return missing(names, needed, optional) }
	if IsJSON(data) {
		t, err = TableOfJSON(data)
	} else if t, err = text.Parse(data, text.Options{Comments: true, Numbers: isNumber, Head: whole, Most: most}); err != nil && !errors.Is(err, ErrNoColumn) {
		err = fmt.Errorf("%w (columns: %s)", err, strings.Join(slices.Concat(needed, optional), ","))
	}
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	return Of(name, t, needed, optional)
}

// Of makes rows of the cells of a table; name stands for it in errors.
func Of(name string, t *text.Table, needed, optional []string) (rows []Row, err error) {
	header := make([]string, len(t.Head))
	for i, n := range t.Head {
		header[i] = strings.ToLower(n)
	}
	for i, cells := range t.Rows {
		row := Row{t.Lines[i], make(map[string]string, len(cells))}
		for k, v := range cells {
			row.Cell[header[k]] = v
		}
		rows = append(rows, row)
	}
	if err := plainCodes(rows); err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	if err := missing(t.Head, needed, optional); err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	return rows, nil
}

// missing is an error if a table lacks a column that is needed.
func missing(names, needed, optional []string) error {
	for _, n := range needed {
		if !slices.ContainsFunc(names, func(has string) bool { return strings.ToLower(has) == n }) {
			return fmt.Errorf("%w %q (its columns are %s): give it %s", ErrNoColumn, n, strings.ToLower(strings.Join(names, ",")), strings.Join(slices.Concat(needed, optional), ","))
		}
	}
	return nil
}

// codeColumns are the columns of codes, and those of the names beside them.
var codeColumns = map[string]string{"code": "name", "class_code": "class_name", "from_code": "from_name", "to_code": "to_name"}

// plainCodes writes codes as whole numbers. A class without a code is known by its name, which stays as it is.
func plainCodes(rows []Row) error {
	for _, r := range rows {
		for column, name := range codeColumns {
			cell, ok := r.Cell[column]
			if !ok || cell == "" || cell == r.Cell[name] {
				continue
			}
			code, err := text.Code(cell)
			if err != nil {
				return fmt.Errorf("line %d, column %s: %w: was the table changed by a program that takes codes for measurements?", r.Line, column, err)
			}
			r.Cell[column] = code
		}
	}
	return nil
}

// isNumber reports whether a column of our tables holds numbers.
func isNumber(name string) bool {
	name = strings.ToLower(name)
	return strings.HasPrefix(name, "pct_") || slices.Contains([]string{"area", "nominal_area", "tolerance", "count", "cells", "opening", "additions", "reductions", "net_change", "closing", "value"}, name)
}

// IsJSON reports whether a text is JSON by its first character.
func IsJSON(data []byte) bool {
	plain := bytes.TrimLeft(data, " \t\r\n")
	return len(plain) > 0 && (plain[0] == '[' || plain[0] == '{')
}

// TableOfJSON reads a JSON list of objects, or one in each line, as a table. Its columns are the names in the order in which they occur; the lines are the numbers
// of the objects.
func TableOfJSON(data []byte) (*text.Table, error) {
	d := json.NewDecoder(bytes.NewReader(data))
	d.UseNumber()
	list := bytes.TrimLeft(data, " \t\r\n")[0] == '['
	wrong := func(err error) error {
		return fmt.Errorf("it is not a JSON list of rows, nor a row in each line (%w)", err)
	}
	if list {
		if _, err := d.Token(); err != nil {
			return nil, wrong(err)
		}
	}
	t := &text.Table{Texts: map[string]bool{}, Numbers: map[string]bool{}}
	at := map[string]int{}
	for n := 1; d.More(); n++ {
		row := make([]string, len(t.Head))
		err := eachMember(d, func(name string, v any) error {
			i, known := at[name]
			if !known {
				i = len(t.Head)
				at[name] = i
				t.Head, row = append(t.Head, name), append(row, "")
			}
			switch v := v.(type) {
			case nil:
			case string:
				row[i] = strings.TrimSpace(v)
				t.Texts[name] = true
			case json.Number:
				row[i] = v.String()
				t.Numbers[name] = true
			case bool:
				row[i] = fmt.Sprint(v)
			default:
				return fmt.Errorf("object %d: %q is neither a text nor a number: give a list of rows, [{\"column\": value, ...}, ...]; GeoJSON is a file of zones, not a table", n, name)
			}
			return nil
		})
		if err != nil {
			return nil, err
		}
		t.Rows, t.Lines = append(t.Rows, row), append(t.Lines, n)
	}
	if list {
		if _, err := d.Token(); err != nil {
			return nil, wrong(err)
		}
	}
	if _, err := d.Token(); !errors.Is(err, io.EOF) {
		return nil, wrong(errors.New("something follows it"))
	}
	for i, row := range t.Rows { // names that later objects brought
		for len(row) < len(t.Head) {
			row = append(row, "")
		}
		t.Rows[i] = row
	}
	t.DecimalCommas = make([]bool, len(t.Head))
	return t, nil
}

// eachMember hands over the members of the next object in their order.
func eachMember(d *json.Decoder, each func(name string, v any) error) error {
	wrong := func(err error) error {
		return fmt.Errorf("it is not a JSON list of rows, nor a row in each line (%w)", err)
	}
	if open, err := d.Token(); err != nil {
		return wrong(err)
	} else if open != json.Delim('{') {
		return wrong(fmt.Errorf("%v is not an object", open))
	}
	for d.More() {
		name, err := d.Token()
		if err != nil {
			return wrong(err)
		}
		var v any
		if err := d.Decode(&v); err != nil {
			return wrong(err)
		}
		if err := each(fmt.Sprint(name), v); err != nil {
			return err
		}
	}
	if _, err := d.Token(); err != nil {
		return wrong(err)
	}
	return nil
}
