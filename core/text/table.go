package text

import (
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"iter"
	"regexp"
	"slices"
	"strings"

	"github.com/verdex-land/verdex/core/decimal"
)

// Table is a table in a text: a line of names, and rows.
type Table struct {
	Head  []string
	Rows  [][]string // each as long as Head
	Lines []int      // of the file, by row
	// Texts and Numbers are the names of columns of which the file itself states that they have texts, or numbers; nil for a file that states nothing.
	Texts, Numbers map[string]bool
	// DecimalCommas are the columns whose numbers were written with commas; they have points now.
	DecimalCommas []bool
}

// Options say what a table may hold.
type Options struct {
	Comments bool // lines that begin with # are left out
	Even     bool // every row must have as many cells as there are names
	// Numbers reports whether a column holds numbers, which may have decimal commas. nil takes columns for such that hold nothing else.
	Numbers func(name string) bool
	// Head is asked about the line of names before any row is read; nil takes every one.
	Head func(names []string) error
	Most int // how many rows there may be; 0 is any number
}

// ErrCommas is that of a column of numbers in which some have a decimal comma and some a point.
var errCommas = errors.New("some numbers have a decimal comma and some a decimal point")

// Parse reads a table from a text in UTF-8. Cells are separated by the one of comma, semicolon and tab that a first line "sep=" names, or
// that the line of names has most of. Cells and names have no spaces around them, and no apostrophe that [Guard] put before them. Rows that are empty are left out, and short rows are
// filled up; a row with more cells than names is an error.
func Parse(data []byte, o Options) (*Table, error) {
	comma, rest, skipped := separator(data, o.Comments)
	r := csv.NewReader(bytes.NewReader(rest))
	r.Comma, r.FieldsPerRecord, r.TrimLeadingSpace = comma, -1, comma != '\t'
	if o.Comments {
		r.Comment = '#'
	}
	t := &Table{}
	for {
		record, err := r.Read()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, csvError(err, skipped)
		}
		line, _ := r.FieldPos(0)
		line += skipped
		empty := true
		for i := range record {
			record[i] = Unguard(strings.TrimSpace(record[i]))
			empty = empty && record[i] == ""
		}
		switch {
		case empty:
			continue
		case t.Head == nil:
			t.Head = record
			if o.Head != nil {
				if err := o.Head(record); err != nil {
					return nil, err
				}
			}
			continue
		case o.Even && len(record) != len(t.Head):
			return nil, fmt.Errorf("line %d has %s, but the line of names has %d", line, Count(len(record), "cell"), len(t.Head))
		case len(record) > len(t.Head):
			for _, cell := range record[len(t.Head):] {
				if cell != "" {
					return nil, fmt.Errorf("line %d has %d cells, but the line of names %d", line, len(record), len(t.Head))
				}
			}
			record = record[:len(t.Head)]
		}
		for len(record) < len(t.Head) {
			record = append(record, "")
		}
		if o.Most > 0 && len(t.Rows) == o.Most {
			return nil, fmt.Errorf("it has more than %s rows: look whether it is the right file", Number(float64(o.Most), 0))
		}
		t.Rows, t.Lines = append(t.Rows, record), append(t.Lines, line)
	}
	if t.Head == nil {
		return nil, errors.New("it is empty: it needs a line of names")
	}
	t.DecimalCommas = make([]bool, len(t.Head))
	if comma != ',' {
		for i, name := range t.Head {
			if o.Numbers == nil || o.Numbers(name) {
				if err := t.points(i, o.Numbers != nil); err != nil {
					return nil, err
				}
			}
		}
	}
	return t, nil
}

func csvError(err error, skipped int) error {
	var p *csv.ParseError
	if errors.As(err, &p) {
		return fmt.Errorf("line %d cannot be read (%w)", p.Line+skipped, p.Err)
	}
	return err
}

// separator finds what stands between cells, by the first line that is no comment, and takes away a line that only says so.
func separator(data []byte, comments bool) (comma rune, rest []byte, skipped int) {
	rest = data
	line, after, _ := bytes.Cut(rest, []byte("\n"))
	if text := strings.TrimSpace(string(line)); len(text) == 5 && strings.EqualFold(text[:4], "sep=") && strings.ContainsAny(text[4:], ",;\t") {
		return rune(text[4]), after, 1
	} else if strings.EqualFold(text, "sep=") && bytes.HasPrefix(bytes.TrimRight(line, "\r"), []byte("sep=\t")) {
		return '\t', after, 1
	}
	for comments && (bytes.HasPrefix(line, []byte("#")) || len(bytes.TrimSpace(line)) == 0) && len(after) > 0 {
		line, after, _ = bytes.Cut(after, []byte("\n"))
	}
	best := ','
	for _, c := range ";\t" {
		if bytes.Count(line, []byte(string(c))) > bytes.Count(line, []byte(string(best))) {
			best = c
		}
	}
	return best, rest, 0
}

var (
	withComma = regexp.MustCompile(`^[+-]?[0-9]*,[0-9]+([eE][+-]?[0-9]+)?$`)
	withPoint = regexp.MustCompile(`^[+-]?[0-9]*\.[0-9]+([eE][+-]?[0-9]+)?$`)
	whole     = regexp.MustCompile(`^[+-]?[0-9]+([eE][+-]?[0-9]+)?$`)
)

// points gives the numbers of a column decimal points, where they have commas. A column of other cells stays as it is, unless it must be one of
// numbers.
func (t *Table) points(i int, must bool) error {
	commas, points, others, at := 0, 0, 0, 0
	for k, row := range t.Rows {
		switch cell := row[i]; {
		case cell == "" || whole.MatchString(cell):
		case withComma.MatchString(cell):
			commas++
		case withPoint.MatchString(cell):
			points, at = points+1, t.Lines[k]
		default:
			others++
		}
	}
	switch {
	case commas == 0 || others > 0 && !must:
		return nil
	case points > 0:
		return fmt.Errorf("line %d, column %q: %w: write all of them in one way", at, t.Head[i], errCommas)
	}
	point := func(cell string) string {
		if withComma.MatchString(cell) {
			return strings.Replace(cell, ",", ".", 1)
		}
		return cell
	}
	pointed := make([]string, len(t.Rows))
	for k, row := range t.Rows {
		pointed[k] = point(row[i])
	}
	if !must && decimal.Of(slices.Values(pointed)).Kind == decimal.Text {
		return nil // ids, which stay as they are
	}
	for k, row := range t.Rows {
		row[i] = pointed[k]
	}
	t.DecimalCommas[i] = true
	return nil
}

// Column gives the cells of a column.
func (t *Table) Column(i int) iter.Seq[string] {
	return func(yield func(string) bool) {
		for _, row := range t.Rows {
			if !yield(row[i]) {
				return
			}
		}
	}
}

// HasCommas reports whether all cells of a column that are not empty are numbers, and some have a decimal comma, which the separator of the table
// does not allow.
func (t *Table) HasCommas(i int) bool {
	commas := false
	for _, row := range t.Rows {
		cell := row[i]
		comma := withComma.MatchString(cell)
		if cell != "" && !comma && !whole.MatchString(cell) {
			return false
		}
		commas = commas || comma
	}
	return commas && !t.DecimalCommas[i]
}
