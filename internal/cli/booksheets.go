package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/verdex-land/verdex/core/account"
	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/internal/book"
	"github.com/verdex-land/verdex/internal/table"
)

// Postings as sheets for people: the classes across in their colours, sums and balances as formulas.

const areaFormat = "#,##0.00"

// accountSheets makes the sheets of postings: of extents one each, of change two, the account and the matrix.
func accountSheets(list []*book.Posting, unit account.Unit) (out []*table.Sheet) {
	for _, p := range list {
		name := strings.TrimSpace(p.Account + " " + p.Period())
		if p.Kind == book.OfExtents {
			if name == "" {
				name = "Extents"
			}
			out = append(out, extentsSheet(p, name, unit))
			continue
		}
		out = append(out, changeSheet(p, name, unit), matrixSheet(p, name+" matrix", unit))
	}
	return out
}

// sheetTitle is the line at the top of the sheet of a posting.
func sheetTitle(p *book.Posting, what string, unit account.Unit) table.Cell {
	text := what
	if p.Account != "" {
		text += ", account " + p.Account
	}
	if p.ZoneSet.Name != "" {
		text += ", zones " + p.ZoneSet.Name
	}
	return table.Text(text+", in "+unit.Label+" of true ground", table.Style{Bold: true})
}

// classHeads are the heads of the columns of the classes of a posting.
func classHeads(p *book.Posting, prefix string) (out []table.Cell) {
	for i, c := range p.Legend.Classes {
		color, err := cover.ParseColor(c.Color)
		if err != nil {
			color = cover.Shade(i)
		}
		out = append(out, classHead(prefix+c.Name, color))
	}
	return out
}

// column is the name of a column from 0.
func column(i int) string { return strings.TrimRight(table.At(0, i), "0123456789") }

func area(v float64, style table.Style) table.Cell {
	style.Format = areaFormat
	return table.Cell{Value: v, Style: style}
}

// formula is a cell whose value a spreadsheet computes; v is what it gives.
func formula(v float64, text string, style table.Style) table.Cell {
	if style.Format == "" {
		style.Format = areaFormat
	}
	return table.Cell{Value: v, Formula: text, Style: style}
}

// extentsSheet has a row for each zone of a posting: its classes and the rest, which sum to the zone.
func extentsSheet(p *book.Posting, name string, unit account.Unit) *table.Sheet {
	n := len(p.Legend.Classes)
	order := legendOrder(p)
	at := map[string]int{"nodata": n, "unlisted": n + 1, "outside": n + 2}
	rows := make([]zoneRow, len(p.ZoneSet.Zones))
	for i, z := range p.ZoneSet.Zones {
		rows[i] = zoneRow{id: z.ID, name: z.Name, within: z.WithinID, values: make([]float64, n+3)}
	}
	for _, e := range p.Extents {
		k, ok := at[e.Kind]
		if !ok {
			k = order[e.Code]
		}
		rows[e.Zone].values[k] += e.M2 / unit.M2
	}
	return zoneSheet(name, sheetTitle(p, strings.TrimSpace("Extents "+p.Epoch), unit), classHeads(p, ""), classHeads(p, "% "), []string{"no data", "not in the legend", "outside"}, rows)
}

// changeSheet has the extent account of each zone: opening + additions − reductions = closing.
func changeSheet(p *book.Posting, name string, unit account.Unit) *table.Sheet {
	m, err := account.ReadMoves([]string{name}, readerOf([]*book.Posting{p}))
	if err != nil { // no ground is mapped
		s := &table.Sheet{Name: name}
		s.Add(sheetTitle(p, "Extent account "+p.Period(), unit))
		s.Add(table.Text("There is no account: "+err.Error(), table.Style{}))
		return s
	}
	x := &statement{unit: unit, legend: legendOf(p)}
	if classes, err := account.Arrange(m.Classes, x.legend); err == nil {
		m.Classes = classes
	}
	s := x.extentSheet(m.Statements(nil), m.Classes)
	s.Name, s.Lines[0][0] = name, sheetTitle(p, "Extent account "+p.Period(), unit)
	return s
}

// matrixSheet has for each zone from which class (rows) the ground moved to which (columns).
func matrixSheet(p *book.Posting, name string, unit account.Unit) *table.Sheet {
	n := len(p.Legend.Classes)
	s := &table.Sheet{Name: name, FreezeRows: 3, FreezeCols: 3, Widths: []float64{12, 22, 22}}
	s.Add(sheetTitle(p, "Transitions from "+p.From+" (rows) to "+p.Epoch+" (columns)", unit))
	s.Add(table.Text("Totals are formulas.", table.Style{Dim: true}))
	head := []table.Cell{table.Text("zone_id", table.Style{Head: true}), table.Text("zone_name", table.Style{Head: true}), table.Text("from", table.Style{Head: true})}
	head = append(head, classHeads(p, "")...)
	s.Add(append(head, table.Text("not mapped", table.Style{Head: true, Right: true}), table.Text("total", table.Style{Head: true, Right: true}))...)
	order := legendOrder(p)
	place := func(code string) int {
		if code == "" {
			return n
		}
		return order[code]
	}
	cells := make([]float64, (n+1)*(n+1))
	byZone := map[int][]book.Move{}
	for _, m := range p.Moves {
		byZone[m.Zone] = append(byZone[m.Zone], m)
	}
	for i, z := range p.ZoneSet.Zones {
		clear(cells)
		for _, m := range byZone[i] {
			if m.Kind == "ground" {
				cells[place(m.From)*(n+1)+place(m.To)] += m.M2 / unit.M2
			}
		}
		from := len(s.Lines) + 1
		for f := range n + 1 {
			values := cells[f*(n+1):][:n+1]
			line := []table.Cell{table.Text(z.ID, table.Style{}), table.Text(z.Name, table.Style{}), table.Text("not mapped", table.Style{Dim: true})}
			if f < n {
				line[2] = table.Text(p.Legend.Classes[f].Name, table.Style{})
			} else if !slices.ContainsFunc(values, func(v float64) bool { return v != 0 }) {
				continue
			}
			sum := 0.0
			for t, v := range values {
				line = append(line, area(v, table.Style{Dim: f == t}))
				sum += v
			}
			at := len(s.Lines) + 1
			s.Add(append(line, formula(sum, fmt.Sprintf("SUM(D%d:%s%d)", at, column(3+n), at), table.Style{Bold: true}))...)
		}
		to := len(s.Lines)
		style := table.Style{Bold: true, Top: true}
		line := []table.Cell{table.Text(z.ID, style), table.Text(z.Name, style), table.Text("total "+p.Epoch, style)}
		all := 0.0
		for t := range n + 1 {
			sum := 0.0
			for f := range n + 1 {
				sum += cells[f*(n+1)+t]
			}
			all += sum
			line = append(line, formula(sum, fmt.Sprintf("SUM(%s%d:%s%d)", column(3+t), from, column(3+t), to), style))
		}
		s.Add(append(line, formula(all, fmt.Sprintf("SUM(%s%d:%s%d)", column(4+n), from, column(4+n), to), style))...)
	}
	return s
}
