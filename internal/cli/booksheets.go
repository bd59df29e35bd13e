package cli

import (
	"fmt"
	"math"
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
	n := len(p.Legend.Classes)
	s := &table.Sheet{Name: name, FreezeRows: 3, FreezeCols: 1, Widths: []float64{38}}
	s.Add(sheetTitle(p, "Extent account "+p.Period(), unit))
	s.Add(table.Text("On the ground that both epochs map. Net change, closing extent, totals and the balance are formulas.", table.Style{Dim: true}))
	head := append([]table.Cell{table.Text("zone and entry", table.Style{Head: true})}, classHeads(p, "")...)
	s.Add(append(head, table.Text("total", table.Style{Head: true, Right: true}))...)
	order := legendOrder(p)
	byZone := map[int][]book.Move{}
	for _, m := range p.Moves {
		byZone[m.Zone] = append(byZone[m.Zone], m)
	}
	for i, z := range p.ZoneSet.Zones {
		opening, additions, reductions, closing := make([]float64, n), make([]float64, n), make([]float64, n), make([]float64, n)
		rest := map[string]float64{}
		for _, m := range byZone[i] {
			a := m.M2 / unit.M2
			switch {
			case m.Kind == "outside":
				rest["outside"] += a
			case m.From == "" && m.To == "":
				rest["mapped in neither"] += a
			case m.To == "":
				rest["mapped in "+p.From+" only"] += a
			case m.From == "":
				rest["mapped in "+p.Epoch+" only"] += a
			default:
				f, t := order[m.From], order[m.To]
				opening[f] += a
				closing[t] += a
				if f != t {
					reductions[f] += a
					additions[t] += a
				}
			}
		}
		s.Add(table.Text(title(z.ID, z.Name), table.Style{Bold: true}))
		top := len(s.Lines) // number of the line above the opening extent
		entry := func(name string, style table.Style, cell func(k int, col string) table.Cell) {
			line := []table.Cell{table.Text(name, style)}
			sum := 0.0
			for k := range n {
				c := cell(k, column(1+k))
				c.Style.Format = areaFormat
				c.Style.Bold, c.Style.Dim, c.Style.Top = style.Bold, style.Dim, style.Top
				line = append(line, c)
				sum += c.Value.(float64)
			}
			at := len(s.Lines) + 1
			line = append(line, formula(sum, fmt.Sprintf("SUM(B%d:%s%d)", at, column(n), at), style))
			s.Add(line...)
		}
		bold := table.Style{Bold: true}
		entry("Opening extent "+p.From, bold, func(k int, _ string) table.Cell { return area(opening[k], bold) })
		entry("Additions to extent", table.Style{}, func(k int, _ string) table.Cell { return area(additions[k], table.Style{}) })
		entry("Reductions in extent", table.Style{}, func(k int, _ string) table.Cell { return area(reductions[k], table.Style{}) })
		entry("Net change in extent", table.Style{}, func(k int, col string) table.Cell {
			return formula(additions[k]-reductions[k], fmt.Sprintf("%s%d-%s%d", col, top+2, col, top+3), table.Style{})
		})
		entry("Closing extent "+p.Epoch, table.Style{Bold: true, Top: true}, func(k int, col string) table.Cell {
			return formula(opening[k]+additions[k]-reductions[k], fmt.Sprintf("%s%d+%s%d", col, top+1, col, top+4), bold)
		})
		entry("as mapped", table.Style{Dim: true}, func(k int, _ string) table.Cell { return area(closing[k], table.Style{}) })
		entry("balance", table.Style{Dim: true}, func(k int, col string) table.Cell {
			return formula(round6(opening[k]+additions[k]-reductions[k]-closing[k]), fmt.Sprintf("ROUND(%s%d-%s%d,6)", col, top+5, col, top+6), table.Style{})
		})
		for _, what := range []string{"mapped in " + p.From + " only", "mapped in " + p.Epoch + " only", "mapped in neither", "outside"} {
			if rest[what] > 0 {
				line := make([]table.Cell, n+2)
				line[0], line[n+1] = table.Text("not in the account: "+what, table.Style{Dim: true}), area(rest[what], table.Style{Dim: true})
				s.Add(line...)
			}
		}
		s.Add()
	}
	return s
}

func round6(v float64) float64 { return math.Round(v*1e6) / 1e6 }

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
