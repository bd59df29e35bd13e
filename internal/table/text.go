package table

import (
	"bufio"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"html/template"
	"io"
	"strings"

	"github.com/verdex-land/verdex/core/text"
)

func (t *Table) csv(w io.Writer) error {
	out := csv.NewWriter(w)
	record := make([]string, len(t.Columns))
	for i, name := range t.Columns {
		record[i] = text.Guard(name)
	}
	if err := out.Write(record); err != nil {
		return err
	}
	for row := range t.all() {
		for i, v := range row {
			if s, ok := v.(string); ok {
				record[i] = text.Guard(s)
			} else {
				record[i] = t.text(v)
			}
		}
		if err := out.Write(record); err != nil {
			return err
		}
	}
	out.Flush()
	return out.Error()
}

// object writes a row as a JSON object.
func object(b *strings.Builder, names [][]byte, row []any, digits int) (err error) {
	b.WriteString("{")
	for k, v := range row {
		if k > 0 {
			b.WriteString(", ")
		}
		value := []byte("null")
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
func (t *Table) names() ([][]byte, error) {
	out := make([][]byte, len(t.Columns))
	for i, name := range t.Columns {
		text, err := json.Marshal(name)
		if err != nil {
			return nil, err
		}
		out[i] = text
	}
	return out, nil
}

func (t *Table) json(w io.Writer) error {
	out := bufio.NewWriter(w)
	out.WriteString("[")
	names, err := t.names()
	if err != nil {
		return err
	}
	var b strings.Builder
	separator := "\n  "
	for row := range t.all() {
		b.Reset()
		if err := object(&b, names, row, t.Digits); err != nil {
			return err
		}
		out.WriteString(separator)
		out.WriteString(b.String())
		separator = ",\n  "
	}
	out.WriteString("\n]\n")
	return out.Flush()
}

func (t *Table) jsonLines(w io.Writer) error {
	names, err := t.names()
	if err != nil {
		return err
	}
	out := bufio.NewWriter(w)
	var b strings.Builder
	for row := range t.all() {
		b.Reset()
		if err := object(&b, names, row, t.Digits); err != nil {
			return err
		}
		b.WriteString("\n")
		out.WriteString(b.String())
	}
	return out.Flush()
}

// shown is a number for people: with the table's decimals, or four where it would have all.
func (t *Table) shown(v any) string {
	if f, ok := v.(float64); ok && !isNull(v) && t.Digits < 0 {
		return Number(f, 4)
	}
	return t.text(v)
}

// numeric says which columns hold numbers.
func (t *Table) numeric() []bool {
	out := make([]bool, len(t.Columns))
	for i, kind := range t.kinds() {
		out[i] = kind > 0 && describe(t.Columns[i]).number
	}
	return out
}

// markdown writes a table of GitHub's Markdown, which most programs read.
func (t *Table) markdown(w io.Writer) error {
	clean := strings.NewReplacer("\\", "\\\\", "|", "\\|", "\r", "", "\n", " ", "<", "&lt;", "*", "\\*", "_", "\\_", "`", "\\`", "[", "\\[")
	var b strings.Builder
	if t.Title != "" {
		fmt.Fprintf(&b, "**%s**\n\n", clean.Replace(t.Title))
	}
	line := func(cells []string) { b.WriteString("| " + strings.Join(cells, " | ") + " |\n") }
	var head, rule []string
	for i, number := range t.numeric() {
		head = append(head, clean.Replace(t.Columns[i]))
		rule = append(rule, "---")
		if number {
			rule[i] = "--:"
		}
	}
	line(head)
	line(rule)
	for row := range t.all() {
		var cells []string
		for _, v := range row {
			cells = append(cells, clean.Replace(t.shown(v)))
		}
		line(cells)
	}
	_, err := io.WriteString(w, b.String())
	return err
}

var page = template.Must(template.New("page").Parse(`<!doctype html>
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
<thead><tr>{{range .Head}}<th{{if .Number}} class="n"{{end}}{{if .About}} title="{{.About}}"{{end}}>{{.Name}}</th>{{end}}</tr></thead>
<tbody>
{{range .Rows}}<tr>{{range .}}<td{{if .Number}} class="n"{{end}}>{{.Text}}</td>{{end}}</tr>
{{end}}</tbody>
</table>
<p>{{.Count}} rows. Hold the pointer over the head of a column to read what it means.</p>
</html>
`))

// Grouped puts commas between the thousands of a number.
func Grouped(text string) string {
	whole, rest, _ := strings.Cut(text, ".")
	for i := len(whole) - 3; i > 0 && whole[i-1] != '-'; i -= 3 {
		whole = whole[:i] + "," + whole[i:]
	}
	if rest == "" {
		return whole
	}
	return whole + "." + rest
}

// html writes a page that needs nothing else.
func (t *Table) html(w io.Writer) error {
	type head struct {
		Name, About string
		Number      bool
	}
	type cell struct {
		Text   string
		Number bool
	}
	numeric := t.numeric()
	data := struct {
		Title string
		Head  []head
		Rows  [][]cell
		Count int
	}{Title: t.Title, Count: t.count()}
	if data.Title == "" {
		data.Title = "Table"
	}
	for i, name := range t.Columns {
		data.Head = append(data.Head, head{name, describe(name).about, numeric[i]})
	}
	for row := range t.all() {
		var cells []cell
		for i, v := range row {
			text := t.shown(v)
			if numeric[i] && describe(t.Columns[i]).grouped() {
				text = Grouped(text)
			}
			cells = append(cells, cell{text, numeric[i]})
		}
		data.Rows = append(data.Rows, cells)
	}
	return page.Execute(w, data)
}
