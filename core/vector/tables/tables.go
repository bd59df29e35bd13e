// Package tables reads tables without places, whichever of the formats they have: CSV and JSON as text, workbooks, Parquet files and GeoPackages.
package tables

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"

	"github.com/verdex-land/verdex/core/fault"
	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/rows"
	"github.com/verdex-land/verdex/core/text"
	"github.com/verdex-land/verdex/core/vector"
	"github.com/verdex-land/verdex/core/vector/delimited"
	"github.com/verdex-land/verdex/core/vector/geopackage"
	"github.com/verdex-land/verdex/core/vector/open"
	"github.com/verdex-land/verdex/core/vector/parquet"
	"github.com/verdex-land/verdex/core/vector/workbook"
	"github.com/verdex-land/verdex/core/vector/zipped"
)

// Readable are the formats of tables that are read.
const Readable = ".csv, .tsv, .json, .jsonl, .xlsx, .parquet or .gpkg"

// Rows reads the rows of a table with names of columns in lower case, as [rows.Read] does; of a workbook FILE#SHEET, and of a GeoPackage FILE#TABLE names one of several.
func Rows(from files.System, where string, needed, optional []string) ([]rows.Row, []string, error) {
	t, l, err := binary(from, where, needed)
	if err != nil {
		return nil, nil, err
	}
	var notes []string
	if l != nil {
		t, notes = texts(l), l.Notes
	}
	if t == nil {
		return rows.Long(from, where, needed, optional)
	}
	list, err := rows.Of(where, t, needed, optional)
	return list, notes, err
}

// Each reads a table as [Rows] does, and hands over its rows one by one.
func Each(from files.System, where string, needed, optional []string, each func(rows.Row) error) (notes []string, err error) {
	list, notes, err := Rows(from, where, needed, optional)
	if err != nil {
		return nil, err
	}
	for _, r := range list {
		if err := each(r); err != nil {
			return nil, err
		}
	}
	return notes, nil
}

// Layer reads a table as features without outlines, whose fields have the names and the order of its columns. A list in a workbook is found by a column; a long
// tally, as measure writes it, comes before other lists.
func Layer(from files.System, where, column string) (*vector.Layer, error) {
	t, l, err := binary(from, where, []string{column, "kind", "class_code", "area"})
	if errors.Is(err, workbook.ErrNoList) {
		t, l, err = binary(from, where, []string{column})
	}
	switch {
	case err != nil:
		return nil, err
	case l != nil:
		l.Source = where
		return l, nil
	case t != nil:
		return delimited.FromTable(where, t), nil
	}
	data, notes, err := text.Read(from, where)
	if err != nil {
		return nil, err
	}
	if rows.IsJSON(data) {
		t, err = rows.TableOfJSON(data)
	} else {
		t, err = text.Parse(data, text.Options{Even: true})
	}
	if err != nil {
		return nil, fmt.Errorf("%s: %w", where, err)
	}
	l = delimited.FromTable(where, t)
	l.Notes = append(notes, l.Notes...)
	return l, nil
}

// binary reads a table in a format that is no text, as cells or as features with the types that the file states; both are nil if it is a text. What
// is surely no table is an error that says what it is.
func binary(from files.System, where string, needed []string) (*text.Table, *vector.Layer, error) {
	path, part := open.Split(where)
	kind, err := kindOf(from, path)
	if err != nil {
		return nil, nil, err
	}
	if kind == "" {
		return nil, nil, nil
	}
	switch kind {
	case "workbook":
		t, err := workbook.Read(from, path, part, needed)
		return t, nil, err
	case "parquet":
		l, err := parquet.ReadTable(from, path)
		return nil, l, err
	case "geopackage":
		l, err := geopackage.ReadTable(from, path, part)
		return nil, l, err
	}
	return nil, nil, fmt.Errorf("%s: it is %s, not a table that is read: give it as %s", path, kind, Readable)
}

// kindOf tells by the first bytes of a file that can be read at any place whether it is a workbook, Parquet or a GeoPackage, or something else that is no
// table; "" is text, and what is read from front to end.
func kindOf(from files.System, path string) (string, error) {
	f, err := from.Open(path)
	if err != nil {
		return "", nil //nolint:nilerr // a pipe, or a missing file, of which reading it says more
	}
	defer f.Close()
	head := make([]byte, 512)
	n, err := f.ReadAt(head, 0)
	if err != nil && !errors.Is(err, io.EOF) {
		return "", fault.Opening(path, err)
	}
	head = head[:n]
	start := bytes.ToLower(bytes.TrimLeft(bytes.TrimPrefix(head, []byte("\xef\xbb\xbf")), " \t\r\n"))
	switch {
	case bytes.HasPrefix(head, []byte("SQLite format 3\x00")):
		return "geopackage", nil
	case bytes.HasPrefix(head, []byte("PAR1")):
		return "parquet", nil
	case zipped.Is(head):
		a, err := zipped.Open(path, f)
		if err != nil {
			return "", err
		}
		if workbook.Is(a) {
			return "workbook", nil
		}
		return "an archive", nil
	case bytes.HasPrefix(start, []byte("<!doctype html")), bytes.HasPrefix(start, []byte("<html")):
		return "a page (HTML)", nil
	case bytes.HasPrefix(start, []byte("<?xml")):
		return "XML", nil
	case bytes.HasPrefix(start, []byte("%pdf-")):
		return "a PDF", nil
	case bytes.HasPrefix(head, []byte("\xd0\xcf\x11\xe0")):
		return "a workbook of the old kind (.xls)", nil
	case bytes.HasPrefix(head, []byte("II*\x00")), bytes.HasPrefix(head, []byte("MM\x00*")), bytes.HasPrefix(head, []byte("II+\x00")), bytes.HasPrefix(head, []byte("MM\x00+")):
		return "a raster (TIFF)", nil
	case bytes.HasPrefix(head, []byte("\x89PNG")):
		return "a picture (PNG)", nil
	case bytes.HasPrefix(head, []byte("**")), bytes.HasPrefix(head, []byte("| ")):
		return "Markdown", nil
	}
	return "", nil
}

// texts are the values of a layer as the cells of a table, with every digit of a number.
func texts(l *vector.Layer) *text.Table {
	t := &text.Table{Head: l.FieldNames(), DecimalCommas: make([]bool, len(l.Fields))}
	for i, f := range l.Features {
		row := make([]string, len(f.Values))
		for k, v := range f.Values {
			if n, ok := v.(float64); ok && l.Fields[k].Decimals == 0 {
				row[k] = strconv.FormatFloat(n, 'f', -1, 64) // without an exponent
			} else {
				row[k] = strings.TrimSpace(l.Fields[k].Text(v))
			}
		}
		t.Rows, t.Lines = append(t.Rows, row), append(t.Lines, i+1)
	}
	return t
}
