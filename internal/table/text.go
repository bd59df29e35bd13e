package table

import (
	"bufio"
	"bytes"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"html/template"
	"io"
	"iter"
	"math"
	"strings"
	"unicode/utf8"

	"github.com/verdex-land/verdex/core/text"
	"github.com/verdex-land/verdex/internal/model"
)

func (t *Writer) csv(w io.Writer) error {
	head := make([]string, len(t.Columns))
	for i, c := range t.Columns {
		head[i] = text.Guard(c.Name)
	}
	out := csv.NewWriter(w)
	if err := out.Write(head); err != nil {
		return err
	}
	if out.Flush(); out.Error() != nil {
		return out.Error()
	}
	return t.inOrder(w, func(b *bytes.Buffer, _ int, rows iter.Seq[[]any]) error {
		all := b.AvailableBuffer()
		known := make([][keptTexts]cell, len(t.Columns))
		for row := range rows {
			var seen numbers
			line := all // of its own, so that it stays in registers
			for i, v := range row {
				if i > 0 {
					line = append(line, ',')
				}
				switch v := v.(type) {
				case *float64:
					line = seen.append(line, *v, t.Digits)
				case float64:
					line = seen.append(line, v, t.Digits)
				case string:
					c := &known[i][place(v)]
					if v != c.value {
						text, err := quoted(v)
						if err != nil {
							return err
						}
						*c = cell{v, text}
					}
					line = append(line, c.text...)
				default:
					line = t.appendText(line, v)
				}
			}
			all = append(line, '\n')
		}
		_, err := b.Write(all)
		return err
	})
}

// cell is a text as it was in a row before, and in the file: most columns have few texts in many rows.
type cell struct{ value, text string }

// keptTexts is how many texts of a column are kept, a power of two, and place is where one is.
const keptTexts = 32

func place(s string) int {
	if s == "" {
		return 0
	}
	return (len(s)*5 + int(s[0])*3 + int(s[len(s)-1])) % keptTexts
}

// quoted is a text as it stands in a CSV file.
func quoted(s string) (string, error) {
	if s = text.Guard(s); plain(s) {
		return s, nil
	}
	var b strings.Builder
	out := csv.NewWriter(&b)
	if err := out.Write([]string{s}); err != nil {
		return "", err
	}
	out.Flush()
	return strings.TrimSuffix(b.String(), "\n"), out.Error()
}

// numbers are the last numbers of a row and where their texts stand in it: an area is often its nominal area too, and a percentage of a zone that of what
// is classified, and the shortest digits of a number take longer to find than to copy.
type numbers struct {
	last [4]struct {
		bits     uint64
		from, to int
	}
	n int
}

// append appends the text of a number, that of NaN being none.
func (n *numbers) append(b []byte, v float64, digits int) []byte {
	if math.IsNaN(v) {
		return b
	}
	bits := math.Float64bits(v)
	for i := range min(n.n, len(n.last)) {
		if l := &n.last[i]; l.bits == bits {
			return append(b, b[l.from:l.to]...)
		}
	}
	l := &n.last[n.n%len(n.last)]
	n.n++
	l.bits, l.from = bits, len(b)
	b = appendNumber(b, v, digits)
	l.to = len(b)
	return b
}

// plain reports whether a text surely needs no quotes in a CSV file.
func plain(s string) bool {
	if s == "" {
		return true
	}
	for i := range len(s) {
		if c := s[i]; c == '"' || c == ',' || c == '\r' || c == '\n' {
			return false
		}
	}
	return s[0] > ' ' && s[0] < utf8.RuneSelf && s[0] != '\\'
}

// object writes a row as a JSON object.
func object(b *bytes.Buffer, names [][]byte, row []any, digits int) (err error) {
	b.WriteString("{")
	for k, v := range row {
		if k > 0 {
			b.WriteString(", ")
		}
		value := []byte("null")
		if p, ok := v.(*float64); ok {
			v = *p
		}
		switch v := v.(type) {
		case float64:
			if !isNull(v) {
				value = []byte(Number(v, digits))
			}
		default:
			if isNull(v) {
				break
			}
			if value, err = json.Marshal(v); err != nil {
				return err
			}
		}
		b.Write(names[k])
		b.WriteString(": ")
		b.Write(value)
	}
	b.WriteString("}")
	return nil
}

// names are the names of the columns as JSON.
func (t *Writer) names() ([][]byte, error) {
	out := make([][]byte, len(t.Columns))
	for i, c := range t.Columns {
		name, err := json.Marshal(c.Name)
		if err != nil {
			return nil, err
		}
		out[i] = name
	}
	return out, nil
}

// objects writes a JSON object for each row, with what stands before and after each, and at the end.
func (t *Writer) objects(w io.Writer, before func(n int) string, after, end string) error {
	names, err := t.names()
	if err != nil {
		return err
	}
	err = t.inOrder(w, func(b *bytes.Buffer, first int, rows iter.Seq[[]any]) error {
		for row := range rows {
			b.WriteString(before(first))
			first++
			if err := object(b, names, row, t.Digits); err != nil {
				return err
			}
			b.WriteString(after)
		}
		return nil
	})
	if err == nil {
		_, err = io.WriteString(w, end)
	}
	return err
}

func (t *Writer) json(w io.Writer) error {
	if _, err := io.WriteString(w, "["); err != nil {
		return err
	}
	return t.objects(w, func(n int) string { return []string{"\n  ", ",\n  "}[min(n, 1)] }, "", "\n]\n")
}

func (t *Writer) jsonLines(w io.Writer) error {
	return t.objects(w, func(int) string { return "" }, "\n", "")
}

// shown is a number for people: with the table's decimals, or four where it would have all.
func (t *Writer) shown(v any) string {
	if f, ok := v.(float64); ok && !isNull(v) && t.Digits < 0 {
		return Number(f, 4)
	}
	return t.text(v)
}

// markdown writes a table of GitHub's Markdown, which most programs read.
func (t *Writer) markdown(w io.Writer) error {
	clean := strings.NewReplacer("\\", "\\\\", "|", "\\|", "\r", "", "\n", " ", "<", "&lt;", "*", "\\*", "_", "\\_", "`", "\\`", "[", "\\[")
	out := bufio.NewWriter(w)
	if t.Title != "" {
		fmt.Fprintf(out, "**%s**\n\n", clean.Replace(t.Title))
	}
	line := func(cells []string) error {
		_, err := out.WriteString("| " + strings.Join(cells, " | ") + " |\n")
		return err
	}
	var head, rule []string
	for _, c := range t.Columns {
		head = append(head, clean.Replace(c.Name))
		if c.Type == model.Text {
			rule = append(rule, "---")
		} else {
			rule = append(rule, "--:")
		}
	}
	_ = line(head) // a first error comes again at the end
	_ = line(rule)
	cells := make([]string, len(t.Columns))
	for row := range t.all() {
		for i, v := range row {
			cells[i] = clean.Replace(t.shown(v))
		}
		if err := line(cells); err != nil {
			return err
		}
	}
	return out.Flush()
}

var pageHead = template.Must(template.New("head").Parse(`<!doctype html>
<html lang="en">
<meta charset="utf-8">
<meta name="viewport" content="width=device-width">
<title>{{.Title}}</title>
<style>
  body { font: 14px/1.4 system-ui, sans-serif; margin: 1.5rem; color: #22302b; background: #fff }
  h1 { font-size: 1.25rem; font-weight: 600 }
  table { border-collapse: collapse }
  th, td { padding: .2rem .55rem; text-align: left; border-bottom: 1px solid #dfe5e1; white-space: nowrap }
  th { position: sticky; top: 0; background: #eef3f0; font-weight: 600 }
  .n { text-align: right; font-variant-numeric: tabular-nums }
  tr:hover td { background: #f7faf8 }
  p { color: #5b6b64 }
</style>
<h1>{{.Title}}</h1>
<table>
<thead><tr>{{range .Columns}}<th{{if .Type}} class="n"{{end}}{{if .About}} title="{{.About}}{{if eq .Unit "area"}}, in the unit of the column unit{{end}}"{{end}}>{{.Name}}</th>{{end}}</tr></thead>
<tbody>
`))

// html writes a page that needs nothing else.
func (t *Writer) html(w io.Writer) error {
	out := bufio.NewWriter(w)
	head := struct {
		Title   string
		Columns []model.Column
	}{t.Title, t.Columns}
	if head.Title == "" {
		head.Title = "Table"
	}
	if err := pageHead.Execute(out, head); err != nil {
		return err
	}
	for row := range t.all() {
		out.WriteString("<tr>")
		for i, v := range row {
			cell := t.shown(v)
			c := &t.Columns[i]
			if c.Grouped() {
				cell = text.Grouped(cell)
			}
			if c.Type == model.Text {
				out.WriteString("<td>" + template.HTMLEscapeString(text.PrintableText(cell)) + "</td>")
			} else {
				out.WriteString(`<td class="n">` + template.HTMLEscapeString(cell) + "</td>")
			}
		}
		if _, err := out.WriteString("</tr>\n"); err != nil {
			return err
		}
	}
	fmt.Fprintf(out, "</tbody>\n</table>\n<p>%s. Hold the pointer over the head of a column to read what it means.</p>\n</html>\n", text.Count(t.written, "row"))
	return out.Flush()
}
