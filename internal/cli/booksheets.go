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

// classHeads are the heads of the columns of classes, in their colours.
func classHeads(p *book.Posting, prefix string) (out []table.Cell) {
	for i, c := range p.Legend.Classes {
		color, ok := colorOf(c.Color)
		if !ok {
			color = cover.Shade(i)
		}
		out = append(out, table.Text(prefix+c.Name, table.Style{Head: true, Right: true, Fill: &color}))
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

// extentsSheet has a row for each zone: its classes and the rest, which sum to the zone, and the classes in percent of what is classified.
func extentsSheet(p *book.Posting, name string, unit account.Unit) *table.Sheet {
	s := &table.Sheet{Name: name, FreezeRows: 3, FreezeCols: 2, Widths: []float64{12, 22}}
	s.Add(sheetTitle(p, strings.TrimSpace("Extents "+p.Epoch), unit))
	s.Add(table.Text("The sums and the percentages are formulas: they follow when a number is changed.", table.Style{Dim: true}))
	head := []table.Cell{table.Text("zone_id", table.Style{Head: true}), table.Text("zone_name", table.Style{Head: true})}
	head = append(head, classHeads(p, "")...)
	n := len(p.Legend.Classes)
	for _, text := range []string{"no data", "not in the legend", "outside", "zone"} {
		head = append(head, table.Text(text, table.Style{Head: true, Right: true}))
	}
	head = append(head, classHeads(p, "% ")...)
	s.Add(head...)
	order := legendOrder(p)
	at := map[string]int{"nodata": n, "unlisted": n + 1, "outside": n + 2}
	values := make([][]float64, len(p.ZoneSet.Zones))
	for i := range values {
		values[i] = make([]float64, n+3)
	}
	for _, e := range p.Extents {
		k, ok := at[e.Kind]
		if !ok {
			k = order[e.Code]
		}
		values[e.Zone][k] += e.M2 / unit.M2
	}
	first, last := column(2), column(2+n-1)
	row := func(cells []table.Cell, v []float64, line int, style table.Style) []table.Cell {
		whole, classified := 0.0, 0.0
		for i, x := range v {
			whole += x
			if i < n {
				classified += x
			}
		}
		cells = append(cells, formula(whole, fmt.Sprintf("SUM(%s%d:%s%d)", first, line, column(2+n+2), line), style))
		for i := range n {
			style.Format = "0.00"
			cells = append(cells, formula(share(v[i], classified), fmt.Sprintf("IF(SUM($%s%d:$%s%d)=0,0,100*%s%d/SUM($%s%d:$%s%d))", first, line, last, line, column(2+i), line, first, line, last, line), style))
		}
		return cells
	}
	within := map[string]bool{}
	total := make([]float64, n+3)
	for i, z := range p.ZoneSet.Zones {
		within[z.WithinID] = true
		cells := []table.Cell{table.Text(z.ID, table.Style{}), table.Text(z.Name, table.Style{})}
		for k, v := range values[i] {
			cells = append(cells, area(v, table.Style{}))
			total[k] += v
		}
		s.Add(row(cells, values[i], len(s.Lines)+1, table.Style{})...)
	}
	delete(within, "")
	if from, to := 4, len(s.Lines); to > from && len(within) == 0 { // larger units would count twice
		style := table.Style{Bold: true, Top: true}
		cells := []table.Cell{table.Text("", style), table.Text("all zones", style)}
		for k, v := range total {
			cells = append(cells, formula(v, fmt.Sprintf("SUM(%s%d:%s%d)", column(2+k), from, column(2+k), to), style))
		}
		s.Add(row(cells, total, len(s.Lines)+1, style)...)
	}
	return s
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

// extentSheet has the extent accounts of a pair of epochs. Additions and reductions sum their kinds where they are told; net change, closing
// extent, totals and the balance are formulas, and "as mapped" is what the balance is held against.
func (x *statement) extentSheet(list []account.Statement, classes []account.Named) *table.Sheet {
	n, pair := len(classes), list[0].Pair
	s := &table.Sheet{Name: pair[0] + "–" + pair[1], FreezeRows: 3, FreezeCols: 1, Widths: []float64{38}}
	s.Add(table.Text(fmt.Sprintf("Extent account %s–%s in %s of true ground", pair[0], pair[1], x.unit.Label), table.Style{Bold: true}))
	s.Add(table.Text("On the ground that both epochs map. Net change, closing extent, totals and the balance are formulas.", table.Style{Dim: true}))
	head := []table.Cell{table.Text("zone and entry", table.Style{Head: true})}
	for i, k := range classes {
		color := x.colorOf(i, k)
		head = append(head, table.Text(k.Label(), table.Style{Head: true, Right: true, Fill: &color}))
	}
	s.Add(append(head, table.Text("total", table.Style{Head: true, Right: true}))...)
	for _, zone := range list {
		s.Add(table.Text(title(zone.Zone.ID, zone.Zone.Name), table.Style{Bold: true}))
		at := map[account.EntryKind]int{} // numbers of lines from 1
		kinds := map[account.EntryKind][2]int{}
		entry := func(name string, values []float64, style table.Style, text func(k int, col string) string) int {
			line, number, sum := []table.Cell{table.Text(name, style)}, len(s.Lines)+1, 0.0
			for k := range n {
				c := area(values[k], style)
				c.Formula = text(k, column(1+k))
				line, sum = append(line, c), sum+values[k]
			}
			s.Add(append(line, formula(sum, fmt.Sprintf("SUM(B%d:%s%d)", number, column(n), number), style))...)
			return number
		}
		plain := func(int, string) string { return "" }
		var closing []float64
		for _, e := range zone.Entries {
			values := make([]float64, n)
			for k, v := range e.Values {
				values[k] = x.area(v)
			}
			style, text := table.Style{}, plain
			switch e.Kind {
			case account.Opening:
				style.Bold = true
			case account.Addition, account.Reduction:
				style.Dim = true
			case account.Additions, account.Reductions:
				if of, told := kinds[e.Kind-1]; told {
					text = func(_ int, col string) string { return fmt.Sprintf("SUM(%s%d:%s%d)", col, of[0], col, of[1]) }
				}
			case account.NetChange:
				text = func(_ int, col string) string {
					return fmt.Sprintf("%s%d-%s%d", col, at[account.Additions], col, at[account.Reductions])
				}
			case account.Closing:
				style.Bold, style.Top, closing = true, true, values
				text = func(_ int, col string) string {
					return fmt.Sprintf("%s%d+%s%d", col, at[account.Opening], col, at[account.NetChange])
				}
			}
			at[e.Kind] = entry(e.Name, values, style, text)
			if of, told := kinds[e.Kind]; told {
				kinds[e.Kind] = [2]int{of[0], at[e.Kind]}
			} else {
				kinds[e.Kind] = [2]int{at[e.Kind], at[e.Kind]}
			}
		}
		mapped := entry("as mapped", closing, table.Style{Dim: true}, plain)
		entry("balance", make([]float64, n), table.Style{Dim: true}, func(_ int, col string) string {
			return fmt.Sprintf("ROUND(%s%d-%s%d,6)", col, at[account.Closing], col, mapped)
		})
		for _, rest := range notInAccount(zone) {
			line := make([]table.Cell, n+2)
			line[0], line[n+1] = table.Text(rest.what, table.Style{Dim: true}), area(x.area(rest.m2), table.Style{Dim: true})
			s.Add(line...)
		}
		s.Add()
	}
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
