// Package sheets lays accounts out as spreadsheets for people: the classes across in their colours, sums and balances as formulas.
package sheets

import (
	"fmt"
	"iter"
	"slices"
	"strings"

	"github.com/verdex-land/verdex/core/area"
	"github.com/verdex-land/verdex/core/extent"

	"github.com/verdex-land/verdex/core/account"
	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/job"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/internal/book"
	"github.com/verdex-land/verdex/internal/model"
	"github.com/verdex-land/verdex/internal/table"
)

const areaFormat = "#,##0.00"

// column is the name of a column from 0.
func column(i int) string { return strings.TrimRight(table.At(0, i), "0123456789") }

func areaCell(v float64, style table.Style) table.Cell {
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

func head(text string) table.Cell { return table.Text(text, table.Style{Head: true}) }

// classHead is the head of the column of a class, in its colour.
func classHead(text string, color raster.Color) table.Cell {
	return table.Text(text, table.Style{Head: true, Right: true, Fill: &color})
}

// classHeads are the heads of the columns of classes, in the colours of a legend where there is one.
func classHeads(classes []cover.Named, legend *cover.Legend, prefix string) (out []table.Cell) {
	for i, k := range classes {
		out = append(out, classHead(prefix+k.Label(), ColorOf(legend, i, k)))
	}
	return out
}

// ColorOf is the colour of a class, the i-th: that of a legend where there is one.
func ColorOf(legend *cover.Legend, i int, n cover.Named) raster.Color {
	if legend != nil {
		for _, class := range legend.Classes {
			if class.ID() == n.ID {
				return class.Color
			}
		}
	}
	return cover.Shade(i)
}

// zoneRow is a zone in a sheet: the areas of the classes, and behind them those of the rest.
type zoneRow struct {
	id, name string
	values   []float64
}

// zoneTable is what a sheet says of zones: the classes and the rest, which sum to the zone, and the classes in percent of what is
// classified. The rows are made as they are asked for.
type zoneTable struct {
	name             string
	title            table.Cell
	classes, percent []table.Cell // heads
	rest             []string
	count            int
	rows             iter.Seq[zoneRow]
	units            bool // some zones are larger units, so that there is no sum of all: it would count them twice
}

// sheet has a row for each zone, and one for all.
func (z *zoneTable) sheet() *table.Sheet {
	s := &table.Sheet{Name: z.name, FreezeRows: 3, FreezeCols: 2, Widths: []float64{12, 22}, Count: z.count}
	s.Add(z.title)
	s.Add(table.Text("The sums and the percentages (of what is classified) are formulas: they update when a number is changed.", table.Style{Dim: true}))
	heads := append([]table.Cell{head("zone_id"), head("zone_name")}, z.classes...)
	for _, text := range append(slices.Clone(z.rest), "zone") {
		heads = append(heads, table.Text(text, table.Style{Head: true, Right: true}))
	}
	s.Add(append(heads, z.percent...)...)
	all := len(z.classes) + len(z.rest)
	if z.count > 0 && !z.units {
		s.Count++
	}
	s.More = func(yield func([]table.Cell) bool) {
		number := len(s.Lines)
		total := make([]float64, all)
		var cells []table.Cell
		for r := range z.rows {
			number++
			cells = append(cells[:0], table.Text(r.id, table.Style{}), table.Text(r.name, table.Style{}))
			for k, v := range r.values {
				cells = append(cells, areaCell(v, table.Style{}))
				total[k] += v
			}
			if !yield(z.finish(cells, r.values, number, table.Style{})) {
				return
			}
		}
		if from := len(s.Lines) + 1; number >= from && !z.units {
			style := table.Style{Bold: true, Top: true}
			cells = append(cells[:0], table.Text("", style), table.Text("all zones", style))
			for k, v := range total {
				cells = append(cells, formula(v, fmt.Sprintf("SUM(%s%d:%s%d)", column(2+k), from, column(2+k), number), style))
			}
			yield(z.finish(cells, total, number+1, style))
		}
	}
	return s
}

// finish adds the sum and the percentages of its values to a line.
func (z *zoneTable) finish(cells []table.Cell, v []float64, line int, style table.Style) []table.Cell {
	n, all := len(z.classes), len(v)
	first, last := column(2), column(2+n-1)
	whole, classified := 0.0, 0.0
	for i, x := range v {
		whole += x
		if i < n {
			classified += x
		}
	}
	cells = append(cells, formula(whole, fmt.Sprintf("SUM(%s%d:%s%d)", first, line, column(2+all-1), line), style))
	style.Format = "0.00"
	for i := range n {
		cells = append(cells, formula(area.Percent(v[i], classified),
			fmt.Sprintf("IF(SUM($%s%d:$%s%d)=0,0,100*%s%d/SUM($%s%d:$%s%d))", first, line, last, line, column(2+i), line, first, line, last, line), style))
	}
	return cells
}

// Compositions has a sheet for each epoch.
func Compositions(c *job.Compositions) (out []*table.Sheet) {
	e := c.Extents
	for _, epoch := range e.Epochs {
		name := strings.TrimSpace("Composition " + epoch)
		z := &zoneTable{name: name, title: table.Text(name+" in "+c.Unit.Label+" of true ground", table.Style{Bold: true}),
			classes: classHeads(e.Classes, c.Legend, ""), percent: classHeads(e.Classes, c.Legend, "% "), rest: []string{"in no class"}}
		for _, n := range e.Zones {
			if e.Has(epoch, n.ID) {
				z.count++
				z.units = z.units || e.IsUnit(n.ID)
			}
		}
		z.rows = func(yield func(zoneRow) bool) {
			row := zoneRow{values: make([]float64, len(e.Classes)+1)}
			for _, n := range e.Zones {
				if !e.Has(epoch, n.ID) {
					continue
				}
				row.id, row.name = n.ID, n.Name
				whole := e.Whole(epoch, n.ID)
				rest := whole
				for k, class := range e.Classes {
					a := e.Area(epoch, n.ID, class.ID)
					row.values[k], rest = a/c.Unit.M2, rest-a
				}
				if rest < 1e-9*whole { // of rounding
					rest = 0
				}
				row.values[len(e.Classes)] = rest / c.Unit.M2
				if !yield(row) {
					return
				}
			}
		}
		out = append(out, z.sheet())
	}
	return out
}

// Matrices has a sheet for each pair of epochs.
func Matrices(m *job.Matrices) (out []*table.Sheet) {
	var of []*model.Square
	flush := func() {
		if len(of) > 0 {
			pair := of[0].Pair
			title := table.Text("Transitions from "+pair[0]+" (rows) to "+pair[1]+" (columns), in "+m.Unit.Label+" of true ground", table.Style{Bold: true})
			out = append(out, matrixSheet(pair[0]+"–"+pair[1]+" matrix", title, classHeads(m.Classes, m.Legend, ""), of))
		}
		of = nil
	}
	for s := range model.SquaresOfMoves(m.Moves, m.Unit) {
		if len(of) > 0 && of[0].Pair != s.Pair {
			flush()
		}
		of = append(of, s)
	}
	flush()
	return out
}

// matrixSheet has for each zone from which class (rows) the ground moved to which (columns).
func matrixSheet(name string, title table.Cell, classes []table.Cell, squares []*model.Square) *table.Sheet {
	s := &table.Sheet{Name: name, FreezeRows: 3, FreezeCols: 3, Widths: []float64{12, 22, 22}}
	s.Add(title)
	s.Add(table.Text("Totals are formulas.", table.Style{Dim: true}))
	heads := append([]table.Cell{head("zone_id"), head("zone_name"), head("from")}, classes...)
	s.Add(append(heads, table.Text(model.NotMapped, table.Style{Head: true, Right: true}), table.Text("total", table.Style{Head: true, Right: true}))...)
	n := len(classes)
	for _, q := range squares {
		from := len(s.Lines) + 1
		for f := range n + 1 {
			sum := q.Row(f)
			if f == n && sum == 0 {
				continue
			}
			line := []table.Cell{table.Text(q.Zone.ID, table.Style{}), table.Text(q.Zone.Name, table.Style{}), table.Text(q.Label(f), table.Style{Dim: f == n})}
			for t := range n + 1 {
				line = append(line, areaCell(q.At(f, t), table.Style{Dim: f == t}))
			}
			at := len(s.Lines) + 1
			s.Add(append(line, formula(sum, fmt.Sprintf("SUM(D%d:%s%d)", at, column(3+n), at), table.Style{Bold: true}))...)
		}
		to := len(s.Lines)
		style := table.Style{Bold: true, Top: true}
		line := []table.Cell{table.Text(q.Zone.ID, style), table.Text(q.Zone.Name, style), table.Text("total "+q.Pair[1], style)}
		for t := range n + 1 {
			line = append(line, formula(q.Column(t), fmt.Sprintf("SUM(%s%d:%s%d)", column(3+t), from, column(3+t), to), style))
		}
		s.Add(append(line, formula(q.Total(), fmt.Sprintf("SUM(%s%d:%s%d)", column(4+n), from, column(4+n), to), style))...)
	}
	return s
}

// ExtentAccounts has a sheet for each pair of epochs.
func ExtentAccounts(a *job.ExtentAccounts) (out []*table.Sheet) {
	for of := range a.Pairs() {
		out = append(out, extentSheet(of, a.Classes, a.Unit, a.Legend))
	}
	return out
}

// Title is a zone's id with its name.
func Title(n cover.Named) string {
	switch {
	case n.Name == "" || n.Name == n.ID:
		return n.ID
	case n.ID == "":
		return n.Name
	}
	return n.ID + " " + n.Name
}

// extentSheet has the extent accounts of a pair of epochs. Additions and reductions sum their kinds where they are given; net change, closing
// extent, totals and the balance are formulas, and "as mapped" is what the balance is held against.
func extentSheet(list []account.Statement, classes []cover.Named, unit area.Unit, legend *cover.Legend) *table.Sheet {
	pair := list[0].Pair
	s := &accountSheet{&table.Sheet{Name: pair[0] + "–" + pair[1], FreezeRows: 3, FreezeCols: 1, Widths: []float64{38}}, len(classes), unit}
	s.Add(table.Text(fmt.Sprintf("Extent account %s–%s in %s of true ground", pair[0], pair[1], unit.Label), table.Style{Bold: true}))
	s.Add(table.Text("On the ground that both epochs map. Net change, closing extent, totals and the balance are formulas.", table.Style{Dim: true}))
	heads := append([]table.Cell{head("zone and entry")}, classHeads(classes, legend, "")...)
	s.Add(append(heads, table.Text("total", table.Style{Head: true, Right: true}))...)
	for i := range list {
		s.account(&list[i])
	}
	return s.Sheet
}

// accountSheet is a sheet of extent accounts of n classes.
type accountSheet struct {
	*table.Sheet
	n    int
	unit area.Unit
}

// entry adds a line of an account and returns its number. Formulas are "" for numbers as they are.
func (s *accountSheet) entry(name string, values []float64, style table.Style, text func(col string) string) int {
	line, number, sum := []table.Cell{table.Text(name, style)}, len(s.Lines)+1, 0.0
	for k := range s.n {
		c := areaCell(values[k], style)
		c.Formula = text(column(1 + k))
		line, sum = append(line, c), sum+values[k]
	}
	s.Add(append(line, formula(sum, fmt.Sprintf("SUM(B%d:%s%d)", number, column(s.n), number), style))...)
	return number
}

// account adds the account of a zone.
func (s *accountSheet) account(x *account.Statement) {
	s.Add(table.Text(Title(x.Zone), table.Style{Bold: true}))
	at := map[account.EntryKind]int{}       // numbers of lines from 1
	kinds := map[account.EntryKind][2]int{} // first and last line
	plain := func(string) string { return "" }
	var closing []float64
	for _, e := range x.Entries {
		values := make([]float64, s.n)
		for k, v := range e.Values {
			values[k] = v / s.unit.M2
		}
		style, text := table.Style{}, plain
		switch e.Kind {
		case account.Opening:
			style.Bold = true
		case account.Addition, account.Reduction:
			style.Dim = true
		case account.Additions, account.Reductions:
			if of, given := kinds[e.Kind-1]; given {
				text = func(col string) string { return fmt.Sprintf("SUM(%s%d:%s%d)", col, of[0], col, of[1]) }
			}
		case account.NetChange:
			text = func(col string) string {
				return fmt.Sprintf("%s%d-%s%d", col, at[account.Additions], col, at[account.Reductions])
			}
		case account.Closing:
			style.Bold, style.Top, closing = true, true, values
			text = func(col string) string {
				return fmt.Sprintf("%s%d+%s%d", col, at[account.Opening], col, at[account.NetChange])
			}
		}
		at[e.Kind] = s.entry(e.Name, values, style, text)
		of, given := kinds[e.Kind]
		if !given {
			of[0] = at[e.Kind]
		}
		kinds[e.Kind] = [2]int{of[0], at[e.Kind]}
	}
	mapped := s.entry("as mapped", closing, table.Style{Dim: true}, plain)
	s.entry("balance", make([]float64, s.n), table.Style{Dim: true}, func(col string) string {
		return fmt.Sprintf("ROUND(%s%d-%s%d,6)", col, at[account.Closing], col, mapped)
	})
	for _, rest := range model.Rest(x) {
		line := make([]table.Cell, s.n+2)
		line[0], line[s.n+1] = table.Text(rest.What, table.Style{Dim: true}), areaCell(rest.M2/s.unit.M2, table.Style{Dim: true})
		s.Add(line...)
	}
	s.Add()
}

// Accounts has the sheets of postings: of extents one each, of change two, the account and the matrix. With release, the extents of a
// posting are given up when its sheet is written.
func Accounts(list book.List, unit area.Unit, release bool) (out []*table.Sheet) {
	for _, p := range list {
		name := strings.TrimSpace(p.Account + " " + p.Period())
		if p.Kind == book.OfExtents {
			if name == "" {
				name = "Extents"
			}
			s := extentsOf(p, name, unit)
			if release {
				s.Done = func() { p.Extents = nil }
			}
			out = append(out, s)
			continue
		}
		out = append(out, changeOf(p, name, unit), matrixOf(p, name+" matrix", unit))
	}
	return out
}

// titleOf is the line at the top of the sheet of a posting.
func titleOf(p *book.Posting, what string, unit area.Unit) table.Cell {
	text := what
	if p.Account != "" {
		text += ", account " + p.Account
	}
	if p.ZoneSet.Name != "" {
		text += ", zones " + p.ZoneSet.Name
	}
	return table.Text(text+", in "+unit.Label+" of true ground", table.Style{Bold: true})
}

// headsOf are the heads of the columns of the classes of a posting.
func headsOf(p *book.Posting, prefix string) (out []table.Cell) {
	for i, c := range p.Legend.Classes {
		color, err := cover.ParseColor(c.Color)
		if err != nil {
			color = cover.Shade(i)
		}
		out = append(out, classHead(prefix+c.Name, color))
	}
	return out
}

// extentTable is the table of the zones of a posting, without its rows.
func extentTable(p *book.Posting, name string, unit area.Unit) *zoneTable {
	return &zoneTable{name: name, title: titleOf(p, strings.TrimSpace("Extents "+p.Epoch), unit), classes: headsOf(p, ""), percent: headsOf(p, "% "),
		rest: []string{"no data", "not in the legend", "outside"}}
}

// extentsOf has a row for each zone of a posting: its classes and the rest, which sum to the zone.
func extentsOf(p *book.Posting, name string, unit area.Unit) *table.Sheet {
	n := len(p.Legend.Classes)
	at := map[string]int{"nodata": n, "unlisted": n + 1, "outside": n + 2}
	order := map[string]int{}
	for i, c := range p.Legend.Classes {
		order[c.Code] = i
	}
	z := extentTable(p, name, unit)
	z.count = len(p.ZoneSet.Zones)
	z.units = slices.ContainsFunc(p.ZoneSet.Zones, func(z book.Zone) bool { return z.WithinID != "" })
	z.rows = func(yield func(zoneRow) bool) {
		row := zoneRow{values: make([]float64, n+3)}
		from := 0 // rows lie together by zone
		for i, zone := range p.ZoneSet.Zones {
			clear(row.values)
			row.id, row.name = zone.ID, zone.Name
			for ; from < len(p.Extents) && p.Extents[from].Zone == i; from++ {
				e := &p.Extents[from]
				k, ok := at[e.Kind]
				if !ok {
					k = order[e.Code]
				}
				row.values[k] += e.M2 / unit.M2
			}
			if !yield(row) {
				return
			}
		}
	}
	return z.sheet()
}

// Composition has a row for each zone of a composition, as the sheet of its posting would be.
func Composition(c *extent.Composition, accountName, zoneSet string) []*table.Sheet {
	p := &book.Posting{Kind: book.OfExtents, Account: accountName, Epoch: c.Epoch, Legend: book.LegendOf("", c.Legend)}
	p.ZoneSet.Name = zoneSet
	name := strings.TrimSpace(accountName + " " + p.Period())
	if name == "" {
		name = "Extents"
	}
	areas := model.NewClassAreas(c.Legend)
	z := extentTable(p, name, c.Unit)
	z.count, z.units = len(c.Zones), c.HasLarger
	z.rows = func(yield func(zoneRow) bool) {
		for i := range c.Zones {
			if s := &c.Zones[i]; !yield(zoneRow{s.ID, s.Name, areas.Of(s)}) {
				return
			}
		}
	}
	return []*table.Sheet{z.sheet()}
}

// changeOf has the extent account of each zone of a posting: opening + additions − reductions = closing.
func changeOf(p *book.Posting, name string, unit area.Unit) *table.Sheet {
	one := book.List{p}
	legend := one.Legend()
	title := titleOf(p, "Extent account "+p.Period(), unit)
	m, err := one.ReadMoves(legend)
	if err != nil { // no ground is mapped
		s := &table.Sheet{Name: name}
		s.Add(title)
		s.Add(table.Text("There is no account: "+err.Error(), table.Style{}))
		return s
	}
	s := extentSheet(m.Statements(nil), m.Classes, unit, legend)
	s.Name, s.Lines[0][0] = name, title
	return s
}

// matrixOf has the transitions of a posting.
func matrixOf(p *book.Posting, name string, unit area.Unit) *table.Sheet {
	n := len(p.Legend.Classes)
	classes := make([]cover.Named, n)
	at := map[string]int{"": n}
	for i, c := range p.Legend.Classes {
		classes[i] = cover.Named{ID: c.Code, Name: c.Name}
		at[c.Code] = i
	}
	squares := make([]*model.Square, len(p.ZoneSet.Zones))
	for i, z := range p.ZoneSet.Zones {
		squares[i] = &model.Square{Zone: cover.Named{ID: z.ID, Name: z.Name}, Pair: [2]string{p.From, p.Epoch}, Classes: classes, Cells: make([]float64, (n+1)*(n+1))}
	}
	for _, m := range p.Moves {
		if m.Kind == "ground" {
			squares[m.Zone].Cells[at[m.From]*(n+1)+at[m.To]] += m.M2 / unit.M2
		}
	}
	return matrixSheet(name, titleOf(p, "Transitions from "+p.From+" (rows) to "+p.Epoch+" (columns)", unit), headsOf(p, ""), squares)
}

// Postings lists postings with their inputs. commandLine words the command of a posting.
func Postings(list book.List, commandLine func(parameters string) string) *table.Sheet {
	s := &table.Sheet{Name: "Postings", FreezeRows: 1, Filter: true}
	var heads []table.Cell
	for _, h := range []string{"posting", "account", "kind", "epoch", "zone set", "legend", "author", "posted (UTC)", "note", "input", "size", "last changed (UTC)", "SHA-256", "command"} {
		heads = append(heads, head(h))
	}
	s.Add(heads...)
	for _, p := range list {
		inputs := p.Inputs
		if len(inputs) == 0 {
			inputs = []book.Input{{}}
		}
		for _, in := range inputs {
			line := []table.Cell{{Value: int(p.ID)}}
			for _, text := range []string{p.Account, p.Kind, p.Period(), p.ZoneSet.Label(), p.Legend.Label(), p.Author, p.At, p.Note, strings.TrimSpace(in.Role + " " + in.Path)} {
				line = append(line, table.Text(text, table.Style{}))
			}
			line = append(line, table.Cell{Value: int(in.Size)}, table.Text(in.Modified, table.Style{}), table.Text(in.SHA256, table.Style{}), table.Text(commandLine(p.Command), table.Style{}))
			s.Add(line...)
		}
	}
	return s
}
