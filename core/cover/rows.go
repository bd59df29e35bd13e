package cover

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"

	"github.com/verdex-land/verdex/core/fault"
)

// Row is a line of a table by column name.
type Row struct {
	Line int // of the file; of JSON, which object it is
	Cell map[string]string
}

// ErrNoColumn is in the error of a table that lacks a column.
var ErrNoColumn = errors.New("it has no column")

// ReadRows reads CSV with a header, in which lines that begin with # are comments, or JSON: a list of objects, or one in each line. Names
// of columns are taken in lower case. A column that is needed and missing is an error; others are read as well.
func ReadRows(path string, needed, optional []string) ([]Row, error) {
	data, err := os.ReadFile(path)
	if err != nil {
		return nil, fault.Opening(path, err)
	}
	data = bytes.TrimPrefix(data, []byte("\xef\xbb\xbf"))
	var header []string
	var rows []Row
	if text := bytes.TrimLeft(data, " \t\r\n"); len(text) > 0 && (text[0] == '[' || text[0] == '{') {
		header, rows, err = rowsOfJSON(path, text)
	} else {
		header, rows, err = rowsOfCSV(path, data, slices.Concat(needed, optional))
	}
	if err != nil {
		return nil, err
	}
	for _, n := range needed {
		if !slices.Contains(header, n) {
			return nil, fmt.Errorf("%s: %w %q (its columns are %s): give it %s", path, ErrNoColumn, n, strings.Join(header, ","), strings.Join(slices.Concat(needed, optional), ","))
		}
	}
	return rows, nil
}

func rowsOfCSV(path string, data []byte, wanted []string) (header []string, rows []Row, err error) {
	r := csv.NewReader(bytes.NewReader(data))
	r.Comment, r.FieldsPerRecord, r.TrimLeadingSpace = '#', -1, true
	if header, err = r.Read(); err != nil {
		return nil, nil, fmt.Errorf("%s: it has no header line (%s)", path, strings.Join(wanted, ","))
	}
	for i := range header {
		header[i] = strings.ToLower(Unguard(strings.TrimSpace(header[i])))
	}
	for {
		record, err := r.Read()
		if errors.Is(err, io.EOF) {
			return header, rows, nil
		}
		if err != nil {
			return nil, nil, fmt.Errorf("%s: %w", path, err)
		}
		line, _ := r.FieldPos(0)
		row := Row{line, make(map[string]string, len(record))}
		empty := true
		for i, v := range record {
			if i >= len(header) {
				return nil, nil, fmt.Errorf("%s: line %d has more cells than the header", path, line)
			}
			v = Unguard(strings.TrimSpace(v))
			row.Cell[header[i]] = v
			empty = empty && v == ""
		}
		if !empty {
			rows = append(rows, row)
		}
	}
}

func rowsOfJSON(path string, data []byte) (header []string, rows []Row, err error) {
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
		return nil, nil, fmt.Errorf("%s: it is not a JSON list of rows, nor a row in each line (%w)", path, err)
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
				return nil, nil, fmt.Errorf("%s: object %d: %q is neither a text nor a number", path, i+1, name)
			}
		}
		rows = append(rows, row)
	}
	slices.Sort(header)
	return header, rows, nil
}
