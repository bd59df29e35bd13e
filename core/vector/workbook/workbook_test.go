package workbook

import (
	"archive/zip"
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/files"
)

const (
	list = `<?xml version="1.0"?><workbook xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main" xmlns:r="http://schemas.openxmlformats.org/officeDocument/2006/relationships">
<sheets><sheet name="Notes" sheetId="1" r:id="rId1"/><sheet name="A &amp; B" sheetId="2" r:id="rId2"/></sheets></workbook>`
	relations = `<Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships">
<Relationship Id="rId1" Target="worksheets/sheet1.xml"/><Relationship Id="rId2" Target="/xl/worksheets/sheet2.xml"/><Relationship Id="rId3" Target="sharedStrings.xml"/></Relationships>`
	shared = `<sst xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main"><si><t>zone_id</t></si><si><r><t>ar</t></r><r><t>ea</t></r><rPh sb="0" eb="1"><t>reading</t></rPh></si><si><t xml:space="preserve"> W 1 </t></si></sst>`
	notes  = `<worksheet><sheetData><row r="1"><c r="A1" t="inlineStr"><is><t>made by hand</t></is></c></row></sheetData></worksheet>`
	// A title, an empty row, the names from the second column on, and rows of each kind of cell.
	rows = `<worksheet><sheetData><row r="1"><c r="A1" t="inlineStr"><is><t>Areas</t></is></c></row>
<row r="3"><c r="B3" t="s"><v>0</v></c><c r="C3" t="s"><v>1</v></c><c r="D3" t="inlineStr"><is><t>ok</t></is></c></row>
<row r="4"><c r="B4" t="s"><v>2</v></c><c r="C4"><f>1+1</f><v>2</v></c><c r="D4" t="b"><v>1</v></c></row>
<row r="6"><c r="B6" t="str"><f>"W"&amp;2</f><v>W2</v></c><c r="C6" s="3"><v>1.5E-3</v></c></row>
<row><c/><c t="inlineStr"><is><t>W3</t></is></c><c><v>7</v></c><c t="inlineStr"><is><t>'=x</t></is></c></row></sheetData></worksheet>`
)

// made writes a workbook of parts into a file.
func made(t testing.TB, sheet string) string {
	path := filepath.Join(t.TempDir(), "a.xlsx")
	require.NoError(t, os.WriteFile(path, packed(t, sheet), 0o600))
	return path
}

func packed(t testing.TB, sheet string) []byte {
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	for name, text := range map[string]string{"xl/workbook.xml": list, "xl/_rels/workbook.xml.rels": relations, "xl/sharedStrings.xml": shared, "xl/worksheets/sheet1.xml": notes, "xl/worksheets/sheet2.xml": sheet} {
		f, err := w.Create(name)
		require.NoError(t, err)
		_, err = f.Write([]byte(text))
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	return b.Bytes()
}

func TestListOfASheet(t *testing.T) {
	path := made(t, rows)
	got, err := Read(files.Disk, path, "", []string{"ZONE_ID", "area"})
	require.NoError(t, err)
	assert.Equal(t, []string{"", "zone_id", "area", "ok"}, got.Head)
	assert.Equal(t, [][]string{{"", "W 1", "2", "true"}, {"", "W2", "0.0015", ""}, {"", "W3", "7", "=x"}}, got.Rows)
	assert.Equal(t, []int{4, 6, 7}, got.Lines)
	named, err := Read(files.Disk, path, "A & B", []string{"area"})
	require.NoError(t, err)
	assert.Equal(t, got, named)
}

func TestWorkbooksThatAreRefused(t *testing.T) {
	for _, c := range []struct{ sheet, named, says string }{
		{rows, "C", `it has no sheet "C": name one of Notes, A & B`},
		{rows, "Notes", "there is no list with the columns area on its sheet Notes: put it on a sheet"},
		{`<worksheet><sheetData><row r="1"><c r="A1" t="inlineStr"><is><t>area</t></is></c></row><row r="2"><c r="A2"><f>SUM(B1)</f></c></row></sheetData></worksheet>`, "", "row 2, column 1: the value of its formula was never computed: open the file in a spreadsheet program and save it"},
		{`<worksheet><sheetData><row r="1"><c r="A1" t="inlineStr"><is><t>area</t></is></c></row><row r="2"><c r="A2" t="e"><v>#DIV/0!</v></c></row></sheetData></worksheet>`, "", "its formula gives the error #DIV/0!"},
		{`<worksheet><sheetData><row r="1"><c r="A1" t="inlineStr"><is><t>area</t></is></c></row><row r="2"><c r="A2"><v>1</v></c><c r="B2"><v>2</v></c></row></sheetData></worksheet>`, "", "row 2 has 2 cells, but the line of names 1"},
		{`<worksheet><sheetData><row r="1"><c r="A1" t="s"><v>3</v></c></row></sheetData></worksheet>`, "", `it names the text "3", which the workbook does not have`},
		{`<worksheet><sheetData><row r="1"><c r="ZZZZZZZZ1"><v>3</v></c></row></sheetData></worksheet>`, "", "has more than 16384 cells"},
		{`<worksheet><sheetData><row r="1"><c r="A1">`, "", "XML syntax error"},
	} {
		_, err := Read(files.Disk, made(t, c.sheet), c.named, []string{"area"})
		assert.ErrorContains(t, err, c.says)
	}
}

// A few bytes for each row of cells that are far to the right do not take all memory.
func TestManyEmptyCells(t *testing.T) {
	const row = `<row><c r="A1"><v>1</v></c><c r="XFD1"><v>1</v></c></row>`
	sheet := `<worksheet><sheetData><row><c r="A1" t="inlineStr"><is><t>area</t></is></c><c r="XFD1" t="inlineStr"><is><t>far</t></is></c></row>` + strings.Repeat(row, 3000) + `</sheetData></worksheet>`
	_, err := Read(files.Disk, made(t, sheet), "", []string{"area"})
	assert.ErrorContains(t, err, "it has more than 32 million cells: give the table as CSV or Parquet")
}

func FuzzRead(f *testing.F) {
	f.Add([]byte(rows))
	f.Add([]byte(notes))
	f.Fuzz(func(t *testing.T, sheet []byte) {
		_, _ = Read(files.Disk, made(t, string(sheet)), "", []string{"area"}) // any error will do
	})
}
