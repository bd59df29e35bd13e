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

// ErrNoColumn is in the error of a table that lacks a column.
var ErrNoColumn = errors.New("it has no column")

// Read reads a table as [text.Parse] does, in which lines that begin with # are comments, or JSON: a list of objects, or one in each line. Names
// of columns are taken in lower case, and codes of classes as [text.Code] gives them. A column that is needed and missing is an error; others are read
// as well. Notes say what had to be assumed.
func Read(from files.System, path string, needed, optional []string) (rows []Row, notes []string, err error) {
	data, notes, err := text.Read(from, path)
	if err != nil {
		return nil, nil, err
	}
	if rows, err = Parse(path, data, needed, optional); err != nil {
		return nil, nil, err
	}
	return rows, notes, nil
}

// Parse reads the rows of a table in memory as [Read] does; name stands for it in errors.
func Parse(name string, data []byte, needed, optional []string) (rows []Row, err error) {
	var header []string
	if plain := bytes.TrimLeft(data, " \t\r\n"); len(plain) > 0 && (plain[0] == '[' || plain[0] == '{') {
		header, rows, err = rowsOfJSON(plain)
	} else {
		header, rows, err = rowsOfCSV(data, slices.Concat(needed, optional))
	}
	if err == nil {
		err = plainCodes(rows)
	}
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	for _, n := range needed {
		if !slices.Contains(header, n) {
			return nil, fmt.Errorf("%s: %w %q (its columns are %s): give it %s", name, ErrNoColumn, n, strings.Join(header, ","), strings.Join(slices.Concat(needed, optional), ","))
		}
	}
	return rows, nil
}

// Each reads a table as [Read] does, and hands over its rows one by one.
func Each(from files.System, path string, needed, optional []string, each func(Row) error) (notes []string, err error) {
	rows, notes, err := Read(from, path, needed, optional)
	if err != nil {
		return nil, err
	}
	for _, r := range rows {
		if err := each(r); err != nil {
			return nil, err
		}
	}
	return notes, nil
}

// codeColumns are the columns of codes, and those of the names beside them.
var codeColumns = map[string]string{"code": "name", "class_code": "class_name", "from_code": "from_name", "to_code": "to_name", "map": "", "reference": ""}

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

func rowsOfCSV(data []byte, wanted []string) (header []string, rows []Row, err error) {
	t, err := text.Parse(data, text.Options{Comments: true, Numbers: isNumber})
	if err != nil {
		return nil, nil, fmt.Errorf("%w (columns: %s)", err, strings.Join(wanted, ","))
	}
	for _, name := range t.Head {
		header = append(header, strings.ToLower(name))
	}
	for i, cells := range t.Rows {
		row := Row{t.Lines[i], make(map[string]string, len(cells))}
		for k, v := range cells {
			row.Cell[header[k]] = v
		}
		rows = append(rows, row)
	}
	return header, rows, nil
}

func rowsOfJSON(data []byte) (header []string, rows []Row, err error) {
	d := json.NewDecoder(bytes.NewReader(data))
	d.UseNumber()
	var objects []map[string]any
	if data[0] == '[' {
		err = d.Decode(&objects)
	}
	for data[0] == '{' && err == nil { // JSON lines
		var o map[string]any
		if err = d.Decode(&o); err == nil {
			objects = append(objects, o)
		}
	}
	if err != nil && (data[0] == '[' || !errors.Is(err, io.EOF)) {
		return nil, nil, fmt.Errorf("it is not a JSON list of rows, nor a row in each line (%w)", err)
	}
	seen := map[string]bool{}
	for i, o := range objects {
		row := Row{i + 1, make(map[string]string, len(o))}
		for name, v := range o {
			name = strings.ToLower(name)
			if !seen[name] {
				seen[name] = true
				header = append(header, name)
			}
			switch v := v.(type) {
			case nil:
			case string:
				row.Cell[name] = strings.TrimSpace(v)
			case json.Number:
				row.Cell[name] = v.String()
			case bool:
				row.Cell[name] = fmt.Sprint(v)
			default:
				return nil, nil, fmt.Errorf("object %d: %q is neither a text nor a number", i+1, name)
			}
		}
		rows = append(rows, row)
	}
	slices.Sort(header)
	return header, rows, nil
}
