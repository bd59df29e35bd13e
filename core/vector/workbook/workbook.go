// Package workbook reads the lists in spreadsheets: Office Open XML workbooks (.xlsx), of ISO/IEC 29500-1, part SpreadsheetML. It gives the values of cells as they are
// stored, not as they are shown, and reads no style.
package workbook

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"path"
	"slices"
	"strconv"
	"strings"

	"github.com/verdex-land/verdex/core/decimal"
	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/text"
	"github.com/verdex-land/verdex/core/vector/zipped"
)

const (
	mostColumns = 1 << 14 // of a sheet, by the limits of spreadsheet programs
	headRows    = 50      // within which a list begins
	mostCells   = 1 << 25 // of a list, empty ones among them, which take memory too
)

// sheet is a sheet of a workbook.
type sheet struct {
	name, part string
}

// book is a workbook that is open.
type book struct {
	*zipped.Archive
	sheets []sheet
	shared []string // texts that cells share
}

// Is reports whether an archive is a workbook.
func Is(a *zipped.Archive) bool { return slices.Contains(a.Names(), "xl/workbook.xml") }

// Read reads the list in a sheet, or with sheet "" the first that any has: a line of names, among which are those that are needed, in whichever letters, and the rows below it.
// Cells have the texts of their values.
func Read(from files.System, name, sheet string, needed []string) (*text.Table, error) {
	f, err := from.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	a, err := zipped.Open(name, f)
	if err != nil {
		return nil, err
	}
	b := &book{Archive: a}
	if err := b.open(); err != nil {
		return nil, fmt.Errorf("%s: it is not a workbook that can be read (%w): save it again as .xlsx", name, err)
	}
	var names []string
	for _, s := range b.sheets {
		names = append(names, s.name)
		if sheet != "" && s.name != sheet {
			continue
		}
		t, err := b.list(s, needed)
		if err != nil {
			return nil, fmt.Errorf("%s: sheet %s: %w", name, s.name, err)
		}
		if t != nil {
			return t, nil
		}
	}
	if sheet != "" && !slices.Contains(names, sheet) {
		return nil, fmt.Errorf("%s: it has no sheet %q: name one of %s", name, sheet, text.List(names, 10))
	}
	where := "any of its sheets (" + text.List(names, 10) + ")"
	if sheet != "" {
		where = "its sheet " + sheet
	}
	return nil, fmt.Errorf("%s: %w %s on %s: put it on a sheet with the names of the columns in its first line", name, ErrNoList, strings.Join(needed, ", "), where)
}

// ErrNoList is in the error of a workbook that lacks a list with the columns that are needed.
var ErrNoList = errors.New("there is no list with the columns")

// begins reports whether a line has the names of columns that are needed; without any, two names are enough.
func begins(line, needed []string) bool {
	filled := 0
	for _, c := range line {
		if c != "" {
			filled++
		}
	}
	for _, n := range needed {
		if !slices.ContainsFunc(line, func(c string) bool { return strings.EqualFold(c, n) }) {
			return false
		}
	}
	return len(needed) > 0 || filled >= 2
}

// open reads the list of sheets and the texts that cells share.
func (b *book) open() error {
	var list struct {
		Sheets []struct {
			Name       string     `xml:"name,attr"`
			Attributes []xml.Attr `xml:",any,attr"`
		} `xml:"sheets>sheet"`
	}
	var relations struct {
		List []struct {
			ID     string `xml:"Id,attr"`
			Target string `xml:"Target,attr"`
		} `xml:"Relationship"`
	}
	if err := b.decode("xl/workbook.xml", &list); err != nil {
		return err
	}
	if err := b.decode("xl/_rels/workbook.xml.rels", &relations); err != nil {
		return err
	}
	parts := map[string]string{}
	for _, r := range relations.List {
		parts[r.ID] = strings.TrimPrefix(path.Join("/xl", r.Target), "/")
		if strings.HasPrefix(r.Target, "/") {
			parts[r.ID] = strings.TrimPrefix(path.Clean(r.Target), "/")
		}
	}
	for _, s := range list.Sheets {
		for _, a := range s.Attributes { // sheetId has another name; that of the relation has a prefix
			if part := parts[a.Value]; a.Name.Local == "id" && part != "" {
				b.sheets = append(b.sheets, sheet{s.Name, part})
			}
		}
	}
	if len(b.sheets) == 0 {
		return errors.New("it has no sheet")
	}
	return b.texts()
}

func (b *book) decode(part string, into any) error {
	data, err := b.ReadFile(part)
	if err != nil {
		return err
	}
	return xml.NewDecoder(bytes.NewReader(data)).Decode(into)
}

// texts reads the texts that cells share, if there are any.
func (b *book) texts() error {
	const part = "xl/sharedStrings.xml"
	if !slices.Contains(b.Names(), part) {
		return nil
	}
	data, err := b.ReadFile(part)
	if err != nil {
		return err
	}
	d := xml.NewDecoder(bytes.NewReader(data))
	for {
		t, err := d.Token()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		if e, ok := t.(xml.StartElement); ok && e.Name.Local == "si" {
			s, err := content(d)
			if err != nil {
				return err
			}
			b.shared = append(b.shared, s)
		}
	}
}

// content is the text of all elements t up to the end of the element that has begun, but for readings in another script (rPh).
func content(d *xml.Decoder) (string, error) {
	var out strings.Builder
	inText := false
	for depth := 1; depth > 0; {
		t, err := d.Token()
		if err != nil {
			return "", err
		}
		switch t := t.(type) {
		case xml.StartElement:
			if t.Name.Local == "rPh" {
				if err := d.Skip(); err != nil {
					return "", err
				}
				continue
			}
			depth++
			inText = t.Name.Local == "t"
		case xml.EndElement:
			depth--
			inText = false
		case xml.CharData:
			if inText {
				out.Write(t)
			}
		}
	}
	return out.String(), nil
}

// list reads the list in a sheet, nil if it has none.
func (b *book) list(s sheet, needed []string) (*text.Table, error) {
	data, err := b.ReadFile(s.part)
	if err != nil {
		return nil, err
	}
	d := xml.NewDecoder(bytes.NewReader(data))
	var out *text.Table
	line := 0
	for {
		t, err := d.Token()
		if errors.Is(err, io.EOF) {
			return out, nil
		}
		if err != nil {
			return nil, err
		}
		e, ok := t.(xml.StartElement)
		if !ok || e.Name.Local != "row" {
			continue
		}
		line++
		if n, err := strconv.Atoi(attribute(e, "r")); err == nil {
			line = n
		}
		if out == nil && line > headRows {
			return nil, nil
		}
		cells, numbers, err := b.row(d, line)
		if err != nil {
			return nil, err
		}
		if err := add(&out, line, cells, numbers, needed); err != nil {
			return nil, err
		}
	}
}

// add adds a row to a list, or begins one.
func add(out **text.Table, line int, cells []string, numbers []int, needed []string) error {
	for len(cells) > 0 && cells[len(cells)-1] == "" {
		cells = cells[:len(cells)-1]
	}
	t := *out
	switch {
	case len(cells) == 0:
	case t == nil:
		if begins(cells, needed) {
			*out = &text.Table{Head: cells, Texts: map[string]bool{}, Numbers: map[string]bool{}, DecimalCommas: make([]bool, len(cells))}
		}
	case len(cells) > len(t.Head):
		return fmt.Errorf("row %d has %d cells, but the line of names %d", line, len(cells), len(t.Head))
	case (len(t.Rows)+1)*len(t.Head) > mostCells:
		return fmt.Errorf("it has more than %d million cells: give the table as CSV or Parquet", mostCells>>20)
	default:
		for i, cell := range cells {
			if slices.Contains(numbers, i) {
				t.Numbers[t.Head[i]] = true
			} else if cell != "" {
				t.Texts[t.Head[i]] = true
			}
		}
		for len(cells) < len(t.Head) {
			cells = append(cells, "")
		}
		t.Rows, t.Lines = append(t.Rows, cells), append(t.Lines, line)
	}
	return nil
}

func attribute(e xml.StartElement, name string) string {
	for _, a := range e.Attr {
		if a.Name.Local == name {
			return a.Value
		}
	}
	return ""
}

// row reads the cells of a row up to its end; numbers are the places of those that the sheet stores as numbers.
func (b *book) row(d *xml.Decoder, line int) (cells []string, numbers []int, err error) {
	for {
		t, err := d.Token()
		if err != nil {
			return nil, nil, err
		}
		switch t := t.(type) {
		case xml.EndElement:
			if t.Name.Local == "row" {
				return cells, numbers, nil
			}
		case xml.StartElement:
			if t.Name.Local != "c" {
				continue
			}
			at := len(cells)
			if r := attribute(t, "r"); r != "" {
				if at, err = column(r); err != nil {
					return nil, nil, fmt.Errorf("row %d: %w", line, err)
				}
			}
			if at >= mostColumns {
				return nil, nil, fmt.Errorf("row %d has more than %d cells", line, mostColumns)
			}
			kind := attribute(t, "t")
			v, err := b.cell(d, kind)
			if err != nil {
				return nil, nil, fmt.Errorf("row %d, column %d: %w", line, at+1, err)
			}
			for len(cells) <= at {
				cells = append(cells, "")
			}
			cells[at] = text.Unguard(strings.TrimSpace(v))
			if number, err := decimal.Finite(v); err == nil && (kind == "" || kind == "n") { // which may be stored with more digits than it needs
				if numbers = append(numbers, at); strings.ContainsAny(v, ".eE") {
					cells[at] = strconv.FormatFloat(number, 'f', -1, 64)
				}
			}
		}
	}
}

// column is the number of the column, from 0, in the name of a cell, such as B3.
func column(name string) (int, error) {
	n, i := 0, 0
	for ; i < len(name) && name[i] >= 'A' && name[i] <= 'Z' && n < mostColumns; i++ {
		n = 26*n + int(name[i]-'A') + 1
	}
	if n == 0 {
		return 0, fmt.Errorf("%q is not the name of a cell", name)
	}
	return n - 1, nil
}

// cell reads the value of a cell of a kind up to its end.
func (b *book) cell(d *xml.Decoder, kind string) (string, error) {
	var value, inline string
	formula := false
	for {
		t, err := d.Token()
		if err != nil {
			return "", err
		}
		switch t := t.(type) {
		case xml.StartElement:
			switch t.Name.Local {
			case "v":
				err = d.DecodeElement(&value, &t)
			case "is":
				inline, err = content(d)
			case "f":
				formula = true
				err = d.Skip()
			default:
				err = d.Skip()
			}
			if err != nil {
				return "", err
			}
		case xml.EndElement:
			switch {
			case kind == "inlineStr":
				return inline, nil
			case kind == "e":
				return "", fmt.Errorf("its formula gives the error %s: correct it in a spreadsheet program", value)
			case formula && value == "" && kind != "str":
				return "", errors.New("the value of its formula was never computed: open the file in a spreadsheet program and save it")
			case kind == "s":
				n, err := strconv.Atoi(strings.TrimSpace(value))
				if err != nil || n < 0 || n >= len(b.shared) {
					return "", fmt.Errorf("it names the text %q, which the workbook does not have", value)
				}
				return b.shared[n], nil
			case kind == "b":
				return map[string]string{"1": "true", "0": "false"}[value], nil
			}
			return value, nil
		}
	}
}
