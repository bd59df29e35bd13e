package table

import (
	"archive/zip"
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"iter"
	"maps"
	"math"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/xuri/excelize/v2"

	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/spill"
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
	More       iter.Seq[[]Cell] // more lines, made as they are asked for, or nil; there may be a million
	Count      int              // of More, -1 when it is not known
	Done       func()           // when not nil: called when the sheet is written, and what More is made of is not needed any more
	FreezeRows int              // rows at the top and columns at the left that stay in view
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
	Right                bool          // for the heads of numbers
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

// MaxRows is how many rows a sheet may have.
const MaxRows = 1 << 20

// Fits reports whether a spreadsheet takes all lines of the sheet.
func (s *Sheet) Fits() bool { return s.rows() <= MaxRows }

// rows is how many lines the sheet has.
func (s *Sheet) rows() int {
	if s.More != nil && s.Count < 0 {
		s.Count = 0
		for range s.More {
			s.Count++
		}
	}
	if s.More == nil {
		return len(s.Lines)
	}
	return len(s.Lines) + s.Count
}

// all are the lines, at most a number of them.
func (s *Sheet) all(most int) iter.Seq2[int, []Cell] {
	return func(yield func(int, []Cell) bool) {
		n := 0
		for _, line := range s.Lines {
			if n >= most || !yield(n, line) {
				return
			}
			n++
		}
		if s.More == nil {
			return
		}
		for line := range s.More {
			if n >= most || !yield(n, line) {
				return
			}
			n++
		}
	}
}

// Add adds a line and gives its number.
func (s *Sheet) Add(cells ...Cell) int {
	s.Lines = append(s.Lines, cells)
	return len(s.Lines) - 1
}

// Write writes the workbook as XLSX. Nothing in it depends on when it was made: the same content makes the same bytes.
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
		if n := s.rows(); n > MaxRows {
			return fmt.Errorf("the sheet %s would have %d rows, and a spreadsheet takes %d: choose csv or parquet", s.Name, n, MaxRows)
		}
		if err := s.write(f, styles); err != nil {
			return fmt.Errorf("sheet %s: %w", s.Name, err)
		}
		if s.More = nil; s.Done != nil {
			s.Done()
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
	settled := &parts{w: w, of: map[string]*part{}, store: spill.Store{Room: 1 << 20}}
	defer settled.store.Close()
	f.SetZipWriter(func(io.Writer) excelize.ZipWriter { return settled })
	_, err := f.WriteTo(io.Discard)
	return err
}

// parts are the parts of a workbook while the library makes them. They are written in one order, each with the attributes of its
// outermost element in one order: the library takes both from maps. Long parts wait in a temporary file.
type parts struct {
	w     io.Writer
	of    map[string]*part
	store spill.Store
}

// part is a part of a workbook: its first bytes, and where the others wait.
type part struct {
	of     *parts
	head   bytes.Buffer
	pieces [][2]int64 // places in the store, and lengths
}

// headBytes is how much of a part is kept with it, which holds its first tag.
const headBytes = 1 << 16

func (p *part) Write(b []byte) (int, error) {
	if p.head.Len() < headBytes {
		return p.head.Write(b)
	}
	at, err := p.of.store.Add(b)
	p.pieces = append(p.pieces, [2]int64{at, int64(len(b))})
	return len(b), err
}

// Create begins a part.
func (p *parts) Create(name string) (io.Writer, error) {
	made := &part{of: p}
	p.of[name] = made
	return made, nil
}

// AddFS is not used.
func (p *parts) AddFS(fs.FS) error { return errors.ErrUnsupported }

// Close writes the parts.
func (p *parts) Close() error {
	const first = "[Content_Types].xml" // as programs expect it
	names := slices.SortedFunc(maps.Keys(p.of), func(a, b string) int {
		return cmp.Or(-cmp.Compare(boolInt(a == first), boolInt(b == first)), strings.Compare(a, b))
	})
	out := zip.NewWriter(p.w)
	for _, name := range names {
		head := p.of[name].head.Bytes()
		if name == "docProps/core.xml" {
			head = []byte(prefixed.Replace(string(head)))
		}
		w, err := out.Create(name)
		if err == nil {
			_, err = w.Write(rootTag.ReplaceAllFunc(head, sortAttributes))
		}
		if err != nil {
			return err
		}
		for _, piece := range p.of[name].pieces {
			b := make([]byte, piece[1])
			if err := p.store.Get(piece[0], b); err != nil {
				return err
			}
			if _, err := w.Write(b); err != nil {
				return err
			}
		}
	}
	return out.Close()
}

// prefixed gives the names of the document's properties the prefix that the standard's own examples have, and without which some programs refuse them.
var prefixed = strings.NewReplacer("<coreProperties xmlns=", "<cp:coreProperties xmlns:cp=", "<coreProperties ", "<cp:coreProperties ", ` xmlns="http://schemas.openxmlformats.org/package`, ` xmlns:cp="http://schemas.openxmlformats.org/package`,
	"</coreProperties>", "</cp:coreProperties>", "<lastModifiedBy>", "<cp:lastModifiedBy>", "</lastModifiedBy>", "</cp:lastModifiedBy>")

func boolInt(b bool) int {
	if b {
		return 1
	}
	return 0
}

// rootTag is the first tag of an XML text; attribute is one of its attributes.
var (
	rootTag   = regexp.MustCompile(`^(?:<\?xml[^>]*\?>)?\s*<[^>]*>`)
	attribute = regexp.MustCompile(` xmlns:?[a-z0-9]*="[^"]*"`)
)

func sortAttributes(tag []byte) []byte {
	found := attribute.FindAll(tag, -1)
	sorted := slices.Clone(found)
	slices.SortFunc(sorted, bytes.Compare)
	n := -1
	return attribute.ReplaceAllFunc(tag, func([]byte) []byte { n++; return sorted[n] })
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
	if n := s.rows(); s.Filter && n > s.FreezeRows && s.FreezeRows > 0 {
		head := s.Lines[s.FreezeRows-1]
		if err := f.AutoFilter(s.Name, At(s.FreezeRows-1, 0)+":"+At(n-1, len(head)-1), nil); err != nil {
			return err
		}
	}
	if err := s.printing(f); err != nil {
		return err
	}
	w, err := f.NewStreamWriter(s.Name)
	if err != nil {
		return err
	}
	widths := s.widths()
	for col, width := range widths {
		if err := w.SetColWidth(col+1, col+1, max(width, 8)); err != nil {
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
		if err := w.SetPanes(panes); err != nil {
			return err
		}
	}
	for row, line := range s.all(MaxRows) {
		cells, height := make([]any, len(line)), excelize.RowOpts{}
		for col, c := range line {
			cell := excelize.Cell{Formula: c.Formula, Value: c.plain()}
			if c.Style != (Style{}) {
				if cell.StyleID, err = styleOf(f, styles, c.Style); err != nil {
					return err
				}
			}
			cells[col] = cell
			if c.Style.Head && float64(utf8.RuneCountInString(c.shown()))+1 > max(widths[col], 8) {
				height.Height = 32 // points, for two lines
			}
		}
		if err := w.SetRow(At(row, 0), cells, height); err != nil {
			return err
		}
	}
	return w.Flush()
}

// printing makes the sheet fit the width of a page, across.
func (s *Sheet) printing(f *excelize.File) error {
	across, a4, one, any, fit := "landscape", 9, 1, 0, true
	if err := f.SetPageLayout(s.Name, &excelize.PageLayoutOptions{Size: &a4, Orientation: &across, FitToWidth: &one, FitToHeight: &any}); err != nil {
		return err
	}
	return f.SetSheetProps(s.Name, &excelize.SheetPropsOptions{FitToPage: &fit})
}

// widthRows is how many lines are looked at for the widths of columns.
const widthRows = 2000

// widths are those of the columns: as they are given, or what the cells need.
func (s *Sheet) widths() []float64 {
	out := append([]float64{}, s.Widths...)
	for row, line := range s.all(widthRows) {
		for col, c := range line {
			for len(out) <= col {
				out = append(out, 0)
			}
			given := col < len(s.Widths) && s.Widths[col] != 0
			if n := float64(utf8.RuneCountInString(c.shown())) + 2; !given && row >= s.FreezeRows {
				out[col] = min(60, max(out[col], n))
			} else if !given && c.Style.Head {
				out[col] = min(60, max(out[col], min(n, 18))) // a head may take two lines
			}
		}
	}
	return out
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

// plain is the value of a cell; what is not a number is left empty. A text is never a formula.
func (c *Cell) plain() any {
	if v, ok := c.Value.(float64); ok {
		switch {
		case math.IsNaN(v) || math.IsInf(v, 0):
			return nil
		case v == 0:
			return 0.0 // not -0
		}
	}
	return c.Value
}

func styleOf(f *excelize.File, styles map[string]int, s Style) (int, error) {
	key := fmt.Sprintf("%v %v %v %v %v %q", s.Bold, s.Head, s.Dim, s.Top, s.Right, s.Format)
	if s.Fill != nil {
		key += s.Fill.String()
	}
	if id, ok := styles[key]; ok {
		return id, nil
	}
	style := &excelize.Style{Font: &excelize.Font{Bold: s.Bold || s.Head, Size: 11, Family: "Calibri"}}
	if s.Dim {
		style.Font.Color = "7A8781"
	}
	if s.Head {
		style.Fill = excelize.Fill{Type: "pattern", Pattern: 1, Color: []string{"E6EDE9"}}
		style.Alignment = &excelize.Alignment{WrapText: true, Vertical: "center"}
		if s.Right {
			style.Alignment.Horizontal = "right"
		}
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

// Sheet is the table as a list that can be filtered, with the names of the columns in the first line.
func (t *Writer) Sheet() *Sheet {
	s := &Sheet{Name: t.Name, FreezeRows: 1, Filter: true, Count: t.Count}
	if s.Name == "" {
		s.Name = "table"
	}
	var head []Cell
	for _, c := range t.Columns {
		head = append(head, Text(c.Name, Style{Head: true}))
	}
	s.Add(head...)
	number := Style{Format: "#,##0.00##"}
	if t.Digits == 0 {
		number.Format = "#,##0"
	} else if t.Digits > 0 {
		number.Format = "#,##0." + strings.Repeat("0", t.Digits)
	}
	s.More = func(yield func([]Cell) bool) {
		line := make([]Cell, len(t.Columns))
		for row := range t.all() {
			for i, v := range row {
				line[i] = Cell{Value: v}
				if f, ok := v.(float64); ok {
					line[i] = Cell{Value: t.rounded(f), Style: number}
				}
			}
			if !yield(line) {
				return
			}
		}
	}
	return s
}
