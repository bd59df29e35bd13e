package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/verdex-land/verdex/core/account"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/internal/book"
	"github.com/verdex-land/verdex/internal/table"
)

// Accounts as sheets for people: the classes across in their colours, sums and balances as formulas.

// zoneRow is a zone in a sheet: the areas of the classes, and behind them those of the rest.
type zoneRow struct {
	id, name, within string // within is the larger unit, if any
	values           []float64
}

// zoneSheet has a row for each zone: the classes and the rest, which sum to the zone, and the classes in percent of what is classified.
func zoneSheet(name string, title table.Cell, classes, percent []table.Cell, rest []string, rows []zoneRow) *table.Sheet {
	s := &table.Sheet{Name: name, FreezeRows: 3, FreezeCols: 2, Widths: []float64{12, 22}}
	s.Add(title)
	s.Add(table.Text("The sums and the percentages (of what is classified) are formulas: they follow when a number is changed.", table.Style{Dim: true}))
	head := append([]table.Cell{table.Text("zone_id", table.Style{Head: true}), table.Text("zone_name", table.Style{Head: true})}, classes...)
	for _, text := range append(slices.Clone(rest), "zone") {
		head = append(head, table.Text(text, table.Style{Head: true, Right: true}))
	}
	s.Add(append(head, percent...)...)
	n, all := len(classes), len(classes)+len(rest)
	first, last := column(2), column(2+n-1)
	finish := func(cells []table.Cell, v []float64, style table.Style) {
		whole, classified, line := 0.0, 0.0, len(s.Lines)+1
		for i, x := range v {
			whole += x
			if i < n {
				classified += x
			}
		}
		cells = append(cells, formula(whole, fmt.Sprintf("SUM(%s%d:%s%d)", first, line, column(2+all-1), line), style))
		for i := range n {
			style.Format = "0.00"
			cells = append(cells, formula(account.Percent(v[i], classified), fmt.Sprintf("IF(SUM($%s%d:$%s%d)=0,0,100*%s%d/SUM($%s%d:$%s%d))", first, line, last, line, column(2+i), line, first, line, last, line), style))
		}
		s.Add(cells...)
	}
	units := false
	total := make([]float64, all)
	for _, z := range rows {
		units = units || z.within != ""
		cells := []table.Cell{table.Text(z.id, table.Style{}), table.Text(z.name, table.Style{})}
		for k, v := range z.values {
			cells = append(cells, area(v, table.Style{}))
			total[k] += v
		}
		finish(cells, z.values, table.Style{})
	}
	if from, to := 4, len(s.Lines); to > from && !units { // larger units would count twice
		style := table.Style{Bold: true, Top: true}
		cells := []table.Cell{table.Text("", style), table.Text("all zones", style)}
		for k, v := range total {
			cells = append(cells, formula(v, fmt.Sprintf("SUM(%s%d:%s%d)", column(2+k), from, column(2+k), to), style))
		}
		finish(cells, total, style)
	}
	return s
}

// classHead is the head of the column of a class, in its colour.
func classHead(text string, color raster.Color) table.Cell {
	return table.Text(text, table.Style{Head: true, Right: true, Fill: &color})
}

// classHeads are the heads of the columns of classes.
func (x *statement) classHeads(classes []account.Named, prefix string) (out []table.Cell) {
	for i, k := range classes {
		out = append(out, classHead(prefix+k.Label(), x.colorOf(i, k)))
	}
	return out
}

// compositionSheets has a sheet for each epoch of extents that were read from tables.
func (x *statement) compositionSheets(e *account.Extents) (out []*table.Sheet) {
	for _, epoch := range e.Epochs {
		var rows []zoneRow
		for _, z := range e.Zones {
			if !e.Has(epoch, z.ID) {
				continue
			}
			row := zoneRow{id: z.ID, name: z.Name}
			rest := e.Whole(epoch, z.ID)
			for _, k := range e.Classes {
				a := e.Area(epoch, z.ID, k.ID)
				row.values, rest = append(row.values, x.area(a)), rest-a
			}
			if rest < 1e-9*e.Whole(epoch, z.ID) { // of rounding
				rest = 0
			}
			row.values = append(row.values, x.area(rest))
			if e.IsUnit(z.ID) {
				row.within = z.ID // it holds others
			}
			rows = append(rows, row)
		}
		title := table.Text(strings.TrimSpace("Composition "+epoch)+" in "+x.unit.Label+" of true ground", table.Style{Bold: true})
		out = append(out, zoneSheet(strings.TrimSpace("Composition "+epoch), title, x.classHeads(e.Classes, ""), x.classHeads(e.Classes, "% "), []string{"in no class"}, rows))
	}
	return out
}

// matrixSheets has a sheet for each pair of epochs of transitions that were read from tables.
func (x *statement) matrixSheets(m *account.Moves) (out []*table.Sheet) {
	moves := m.Grouped()
	for _, pair := range m.Pairs {
		p := &book.Posting{Kind: book.OfChange, From: pair[0], Epoch: pair[1]}
		at := map[string]int{}
		for i, z := range m.Zones {
			at[z.ID] = i
			p.ZoneSet.Zones = append(p.ZoneSet.Zones, book.Zone{ID: z.ID, Name: z.Name})
		}
		for i, k := range m.Classes {
			p.Legend.Classes = append(p.Legend.Classes, book.Class{Code: k.ID, Name: k.Label(), Color: x.colorOf(i, k).String()})
		}
		for _, v := range moves {
			if v.Pair == pair && !v.Outside {
				p.Moves = append(p.Moves, book.Move{Zone: at[v.Zone], Kind: "ground", From: v.From, To: v.To, M2: v.M2})
			}
		}
		out = append(out, matrixSheet(p, p.Period()+" matrix", x.unit))
	}
	return out
}

// extentSheet has the extent accounts of a pair of epochs. Additions and reductions sum their kinds where they are told; net change, closing
// extent, totals and the balance are formulas, and "as mapped" is what the balance is held against.
func (x *statement) extentSheet(list []account.Statement, classes []account.Named) *table.Sheet {
	n, pair := len(classes), list[0].Pair
	s := &table.Sheet{Name: pair[0] + "–" + pair[1], FreezeRows: 3, FreezeCols: 1, Widths: []float64{38}}
	s.Add(table.Text(fmt.Sprintf("Extent account %s–%s in %s of true ground", pair[0], pair[1], x.unit.Label), table.Style{Bold: true}))
	s.Add(table.Text("On the ground that both epochs map. Net change, closing extent, totals and the balance are formulas.", table.Style{Dim: true}))
	head := append([]table.Cell{table.Text("zone and entry", table.Style{Head: true})}, x.classHeads(classes, "")...)
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
