package table

import (
	"fmt"
	"io"
	"math"
	"strings"
	"unicode/utf8"

	"github.com/xuri/excelize/v2"

	"github.com/verdex-land/verdex/core/raster"
)

// Workbook is a spreadsheet of several sheets.
type Workbook struct {
	Title, Author string
	Sheets        []*Sheet
}

// Sheet is a sheet of a workbook: lines of cells, from the upper left corner on.
type Sheet struct {
	Name       string
	Lines      [][]Cell
	FreezeRows int // rows at the top and columns at the left that stay in view
	FreezeCols int
	Widths     []float64 // of columns, in characters; 0 for what their cells need
	Filter     bool      // the last frozen row is the head of a list that can be filtered
}

// Cell is a cell. Value is a string, float64, int or nil; with Formula, such as SUM(B2:B5), it is what the formula gives.
type Cell struct {
	Value   any
	Formula string
	Style   Style
}

// Style is how a cell looks.
type Style struct {
	Bold, Head, Dim, Top bool
	Format               string        // of numbers, such as #,##0.00; "" for the general one
	Fill                 *raster.Color // of a class
}

// Text is a cell of text.
func Text(s string, style Style) Cell { return Cell{Value: s, Style: style} }

// At is the name of a cell, as B3, by its line and column from 0.
func At(line, column int) string {
	name, err := excelize.CoordinatesToCellName(column+1, line+1)
	if err != nil {
		panic(err) // a place that no sheet has
	}
	return name
}

// maxRows is how many rows a sheet may have.
const maxRows = 1 << 20

// Add adds a line and gives its number.
func (s *Sheet) Add(cells ...Cell) int {
	s.Lines = append(s.Lines, cells)
	return len(s.Lines) - 1
}

// Write writes the workbook as XLSX. Nothing in it tells when it was made: the same content makes the same bytes.
func (b *Workbook) Write(w io.Writer) error {
	f := excelize.NewFile()
	defer f.Close()
	styles := map[string]int{}
	names := map[string]bool{}
	for i, s := range b.Sheets {
		s.Name = sheetName(s.Name, names)
		if i == 0 {
			if err := f.SetSheetName("Sheet1", s.Name); err != nil {
				return err
			}
		} else if _, err := f.NewSheet(s.Name); err != nil {
			return err
		}
		if len(s.Lines) > maxRows {
			return fmt.Errorf("the sheet %s would have %d rows, and a spreadsheet takes %d: choose csv or parquet", s.Name, len(s.Lines), maxRows)
		}
		if err := s.write(f, styles); err != nil {
			return fmt.Errorf("sheet %s: %w", s.Name, err)
		}
	}
	const never = "2000-01-01T00:00:00Z"
	if err := f.SetDocProps(&excelize.DocProperties{Title: b.Title, Creator: b.Author, LastModifiedBy: b.Author, Created: never, Modified: never}); err != nil {
		return err
	}
	full := true // numbers are computed anew when the file is opened
	if err := f.SetCalcProps(&excelize.CalcPropsOptions{FullCalcOnLoad: &full}); err != nil {
		return err
	}
	_, err := f.WriteTo(w)
	return err
}

// sheetName is a name that a sheet may have and no other has.
func sheetName(name string, taken map[string]bool) string {
	clean := strings.Trim(strings.Map(func(r rune) rune {
		if strings.ContainsRune(`:\/?*[]`, r) || r < ' ' {
			return '-'
		}
		return r
	}, name), "'")
	if clean == "" {
		clean = "sheet"
	}
	for n := 1; ; n++ {
		end := ""
		if n > 1 {
			end = fmt.Sprintf(" (%d)", n)
		}
		short := clean
		for utf8.RuneCountInString(short) > 31-len(end) {
			_, size := utf8.DecodeLastRuneInString(short)
			short = short[:len(short)-size]
		}
		if key := strings.ToLower(short + end); !taken[key] {
			taken[key] = true
			return short + end
		}
	}
}

func (s *Sheet) write(f *excelize.File, styles map[string]int) error {
	widths := append([]float64{}, s.Widths...)
	for row, line := range s.Lines {
		for col, c := range line {
			name := At(row, col)
			if c.Style != (Style{}) {
				id, err := styleOf(f, styles, c.Style)
				if err != nil {
					return err
				}
				if err := f.SetCellStyle(s.Name, name, name, id); err != nil {
					return err
				}
			}
			for len(widths) <= col {
				widths = append(widths, 0)
			}
			if row >= s.FreezeRows || c.Style.Head {
				if n := float64(utf8.RuneCountInString(c.shown())) + 2; col >= len(s.Widths) || s.Widths[col] == 0 {
					widths[col] = min(60, max(widths[col], n))
				}
			}
			if err := c.set(f, s.Name, name); err != nil {
				return err
			}
		}
	}
	for col, width := range widths {
		name, err := excelize.ColumnNumberToName(col + 1)
		if err != nil {
			return err
		}
		if err := f.SetColWidth(s.Name, name, name, max(width, 8)); err != nil {
			return err
		}
	}
	if s.FreezeRows+s.FreezeCols > 0 {
		panes := &excelize.Panes{Freeze: true, XSplit: s.FreezeCols, YSplit: s.FreezeRows, TopLeftCell: At(s.FreezeRows, s.FreezeCols), ActivePane: "bottomRight"}
		switch {
		case s.FreezeCols == 0:
			panes.ActivePane = "bottomLeft"
		case s.FreezeRows == 0:
			panes.ActivePane = "topRight"
		}
		if err := f.SetPanes(s.Name, panes); err != nil {
			return err
		}
	}
	if s.Filter && len(s.Lines) > s.FreezeRows && s.FreezeRows > 0 {
		head := s.Lines[s.FreezeRows-1]
		if err := f.AutoFilter(s.Name, At(s.FreezeRows-1, 0)+":"+At(len(s.Lines)-1, len(head)-1), nil); err != nil {
			return err
		}
	}
	return nil
}

// shown is about what a cell shows, for the width of its column.
func (c *Cell) shown() string {
	switch v := c.Value.(type) {
	case string:
		return v
	case float64:
		text := Number(v, strings.Count(c.Style.Format, "0")-1)
		if c.Style.Format == "" {
			text = Number(v, 6)
		}
		return text + strings.Repeat(",", max(0, (len(text)-4)/3))
	case int:
		return fmt.Sprint(v)
	}
	return ""
}

// set enters the value of a cell: a text is never a formula. A formula keeps its value for programs that do not compute.
func (c *Cell) set(f *excelize.File, sheet, name string) (err error) {
	switch v := c.Value.(type) {
	case string:
		err = f.SetCellStr(sheet, name, v)
	case float64:
		if !math.IsNaN(v) && !math.IsInf(v, 0) {
			if v == 0 {
				v = 0
			}
			err = f.SetCellFloat(sheet, name, v, -1, 64)
		}
	case int:
		err = f.SetCellInt(sheet, name, int64(v))
	}
	if err == nil && c.Formula != "" {
		err = f.SetCellFormula(sheet, name, c.Formula)
	}
	return err
}

func styleOf(f *excelize.File, styles map[string]int, s Style) (int, error) {
	key := fmt.Sprintf("%v %v %v %v %q", s.Bold, s.Head, s.Dim, s.Top, s.Format)
	if s.Fill != nil {
		key += s.Fill.String()
	}
	if id, ok := styles[key]; ok {
		return id, nil
	}
	style := &excelize.Style{Font: &excelize.Font{Bold: s.Bold || s.Head, Size: 11, Family: "Calibri", Color: "22302B"}}
	if s.Dim {
		style.Font.Color = "7A8781"
	}
	if s.Head {
		style.Fill = excelize.Fill{Type: "pattern", Pattern: 1, Color: []string{"E6EDE9"}}
		style.Alignment = &excelize.Alignment{WrapText: true, Vertical: "center"}
	}
	if s.Fill != nil {
		style.Fill = excelize.Fill{Type: "pattern", Pattern: 1, Color: []string{strings.ToUpper(s.Fill.String()[1:])}}
		if light := 0.299*float64(s.Fill.R) + 0.587*float64(s.Fill.G) + 0.114*float64(s.Fill.B); light < 150 {
			style.Font.Color = "FFFFFF"
		}
	}
	if s.Top {
		style.Border = []excelize.Border{{Type: "top", Color: "7A8781", Style: 1}}
	}
	if s.Format != "" {
		style.CustomNumFmt = &s.Format
	}
	id, err := f.NewStyle(style)
	styles[key] = id
	return id, err
}

// Sheet is the table as a list that can be filtered.
func (t *Table) Sheet() *Sheet {
	s := &Sheet{Name: t.Name, FreezeRows: 1, Filter: true}
	if s.Name == "" {
		s.Name = "table"
	}
	if t.Title != "" {
		s.Add(Text(t.Title, Style{Bold: true}))
		s.FreezeRows = 2
	}
	var head []Cell
	for _, c := range t.Columns {
		head = append(head, Text(c, Style{Head: true}))
	}
	s.Add(head...)
	format := "#,##0.00##"
	if t.Digits == 0 {
		format = "#,##0"
	} else if t.Digits > 0 {
		format = "#,##0." + strings.Repeat("0", t.Digits)
	}
	for _, row := range t.Rows {
		var line []Cell
		for _, v := range row {
			c := Cell{Value: v}
			if _, ok := v.(float64); ok {
				c.Value, c.Style.Format = t.rounded(v), format
			}
			line = append(line, c)
		}
		s.Add(line...)
	}
	return s
}
