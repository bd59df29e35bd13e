package cli

import (
	"cmp"
	"context"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/core/account"
	"github.com/verdex-land/verdex/core/cover"
	vectors "github.com/verdex-land/verdex/core/vector/open"
	"github.com/verdex-land/verdex/internal/book"
	"github.com/verdex-land/verdex/internal/table"
)

// The rows of postings as the tables that measure and change write.

// legendOrder gives the place of each class of a posting's legend.
func legendOrder(p *book.Posting) map[string]int {
	out := map[string]int{}
	for i, c := range p.Legend.Classes {
		out[c.Code] = i
	}
	return out
}

func className(p *book.Posting, order map[string]int, code string) string {
	if i, ok := order[code]; ok {
		return p.Legend.Classes[i].Name
	}
	return ""
}

// kindNames are the names of ground of no class, in the order of rows.
var kindNames = map[string]string{"nodata": "no data", "unlisted": "not in the legend", "outside": "outside the raster"}

var kindOrder = []string{"class", "nodata", "unlisted", "outside"}

// extentsOf are the extents of a posting in the order of tables.
func extentsOf(p *book.Posting) []book.Extent {
	order := legendOrder(p)
	rows := slices.Clone(p.Extents)
	slices.SortStableFunc(rows, func(a, b book.Extent) int {
		return cmp.Or(cmp.Compare(a.Zone, b.Zone), cmp.Compare(slices.Index(kindOrder, a.Kind), slices.Index(kindOrder, b.Kind)), cmp.Compare(order[a.Code], order[b.Code]))
	})
	return rows
}

// extentsTable is the long table of postings of extents.
func extentsTable(list []*book.Posting, unit account.Unit) *table.Table {
	t := &table.Table{Name: "extents", Title: "Extents in " + unit.Label, Columns: longColumns, Digits: -1}
	units := slices.ContainsFunc(list, func(p *book.Posting) bool {
		return slices.ContainsFunc(p.ZoneSet.Zones, func(z book.Zone) bool { return z.WithinID != "" })
	})
	if units {
		t.Columns = slices.Concat(longColumns, unitColumns)
	}
	for _, p := range list {
		order := legendOrder(p)
		whole, classified := make([]float64, len(p.ZoneSet.Zones)), make([]float64, len(p.ZoneSet.Zones))
		for _, e := range p.Extents {
			whole[e.Zone] += e.M2
			if e.Kind == "class" {
				classified[e.Zone] += e.M2
			}
		}
		for _, e := range extentsOf(p) {
			z := p.ZoneSet.Zones[e.Zone]
			name, pct := kindNames[e.Kind], any(nil)
			if e.Kind == "class" {
				name, pct = className(p, order, e.Code), account.Percent(e.M2, classified[e.Zone])
			}
			row := []any{p.Epoch, z.ID, z.Name, e.Kind, e.Code, name, e.M2 / unit.M2, unit.Name, account.Percent(e.M2, whole[e.Zone]), pct, e.Cells, e.Nominal / unit.M2}
			if units {
				row = append(row, z.WithinID, z.WithinName)
			}
			t.Rows = append(t.Rows, row)
		}
	}
	return t
}

// transitionsTable is the matrix table of postings of change.
func transitionsTable(list []*book.Posting, unit account.Unit) *table.Table {
	t := &table.Table{Name: "transitions", Title: "Transitions in " + unit.Label, Columns: matrixColumns, Digits: -1}
	for _, p := range list {
		order := legendOrder(p)
		place := func(code string) int {
			if i, ok := order[code]; ok {
				return i
			}
			return len(order)
		}
		rows := slices.Clone(p.Moves)
		slices.SortStableFunc(rows, func(a, b book.Move) int {
			return cmp.Or(cmp.Compare(a.Zone, b.Zone), cmp.Compare(a.Kind, b.Kind), cmp.Compare(place(a.From), place(b.From)), cmp.Compare(place(a.To), place(b.To)))
		})
		type key struct {
			zone int
			code string
		}
		whole, opening := make([]float64, len(p.ZoneSet.Zones)), map[key]float64{}
		for _, m := range p.Moves {
			whole[m.Zone] += m.M2
			if m.From != "" && m.To != "" {
				opening[key{m.Zone, m.From}] += m.M2
			}
		}
		name := func(code, kind string) string {
			switch {
			case code != "":
				return className(p, order, code)
			case kind == "outside":
				return "outside"
			}
			return "not mapped"
		}
		for _, m := range rows {
			z, pct := p.ZoneSet.Zones[m.Zone], any(nil)
			if m.From != "" && m.To != "" {
				pct = account.Percent(m.M2, opening[key{m.Zone, m.From}])
			}
			t.Rows = append(t.Rows, []any{z.ID, z.Name, p.From, p.Epoch, m.From, name(m.From, m.Kind), m.To, name(m.To, m.Kind), m.M2 / unit.M2, unit.Name, account.Percent(m.M2, whole[m.Zone]), pct})
		}
	}
	return t
}

// ofKind, ofAccount and onSet are the postings of a kind, of an account and on a zone set.
func ofKind(list []*book.Posting, kind string) []*book.Posting {
	return those(list, func(p *book.Posting) bool { return p.Kind == kind })
}

func ofAccount(list []*book.Posting, name string) []*book.Posting {
	return those(list, func(p *book.Posting) bool { return p.Account == name })
}

func onSet(list []*book.Posting, name string) []*book.Posting {
	return those(list, func(p *book.Posting) bool { return p.ZoneSet.Name == name })
}

func those(list []*book.Posting, hold func(*book.Posting) bool) (out []*book.Posting) {
	for _, p := range list {
		if hold(p) {
			out = append(out, p)
		}
	}
	return out
}

// rowsOf are the rows of a table as they are read from a file, with some of its columns.
func rowsOf(t *table.Table, columns []string) []cover.Row {
	var at []int
	for k, name := range t.Columns {
		if slices.Contains(columns, name) {
			at = append(at, k)
		}
	}
	out := make([]cover.Row, len(t.Rows))
	for i, row := range t.Rows {
		r := cover.Row{Line: i + 1, Cell: make(map[string]string, len(at))}
		for _, k := range at {
			switch v := row[k].(type) {
			case string:
				r.Cell[t.Columns[k]] = v
			case float64:
				if !math.IsNaN(v) {
					r.Cell[t.Columns[k]] = table.Number(v, -1)
				}
			}
		}
		out[i] = r
	}
	return out
}

// readerOf reads the tables of postings instead of files. Zones and classes that were renamed from one posting to another have the name that they
// have at the last epoch.
func readerOf(list []*book.Posting) account.Reader {
	m2 := account.Units[1]
	zones, classes := map[string]string{}, map[string]string{}
	for _, p := range byEpoch(list) {
		for _, z := range p.ZoneSet.Zones {
			zones[z.ID] = z.Name
		}
		for _, c := range p.Legend.Classes {
			classes[c.Code] = c.Name
		}
	}
	return func(name string, needed, optional []string) ([]cover.Row, []string, error) {
		kind, tableOf := book.OfExtents, extentsTable
		if slices.Contains(needed, "from_code") {
			kind, tableOf = book.OfChange, transitionsTable
		}
		of := ofKind(list, kind)
		if len(of) == 0 {
			return nil, nil, fmt.Errorf("%s: the account has no %s", name, kind)
		}
		rows := rowsOf(tableOf(of, m2), slices.Concat(needed, optional, unitColumns))
		for _, r := range rows {
			r.Cell["zone_name"] = zones[r.Cell["zone_id"]]
			for _, end := range []string{"class", "from", "to"} {
				if name, known := classes[r.Cell[end+"_code"]]; known && (end != "class" || r.Cell["kind"] == "class") {
					r.Cell[end+"_name"] = name
				}
			}
		}
		return rows, nil, nil
	}
}

// byEpoch are postings in the order of their last epochs, and of posting where these are the same.
func byEpoch(list []*book.Posting) []*book.Posting {
	out := slices.Clone(list)
	slices.SortStableFunc(out, func(a, b *book.Posting) int { return strings.Compare(a.Epoch, b.Epoch) })
	return out
}

// legendOf is the legend of postings as commands use it: that of the last epoch, and behind it classes that only earlier ones have; nil when
// codes are no numbers.
func legendOf(list ...*book.Posting) *cover.Legend {
	var classes []cover.Class
	seen := map[string]bool{}
	list = byEpoch(list)
	for k := len(list) - 1; k >= 0; k-- {
		for _, c := range list[k].Legend.Classes {
			code, err := strconv.Atoi(c.Code)
			named := err != nil
			if named && c.Code != c.Name { // neither a code nor the name of a class without one
				return nil
			}
			if named {
				code = len(classes) + 1
			}
			if seen[c.Code] {
				continue
			}
			seen[c.Code] = true
			class := cover.Class{Code: code, Name: c.Name, Group: c.Group, Color: cover.Shade(len(classes)), NoCode: named}
			if color, err := cover.ParseColor(c.Color); err == nil {
				class.Color = color
			}
			classes = append(classes, class)
		}
	}
	legend, err := cover.NewLegend(list[len(list)-1].Legend.Name, classes)
	if err != nil {
		return nil
	}
	return legend
}

// reader reads the tables that an account is made of: files, or BOOK#ACCOUNT.
func (s *statement) reader(ctx context.Context, c *cli.Command) account.Reader {
	return func(name string, needed, optional []string) ([]cover.Row, []string, error) {
		where, of := vectors.Split(name)
		if !book.IsBook(where) {
			return cover.ReadRows(name, needed, optional)
		}
		b, err := openBook(ctx, c, where, false, s.r)
		if err != nil {
			return nil, nil, err
		}
		defer b.Close()
		if of == "" {
			return nil, nil, fmt.Errorf("%s: it is a book: name an account of it, as %s#ACCOUNT (verdex book list shows them)", b.Name, b.Name)
		}
		list, err := b.Current(ctx, of)
		if err != nil {
			return nil, nil, err
		}
		if s.legend == nil && s.groups == nil {
			s.legend = legendOf(list...)
		}
		return readerOf(list)(b.Name+"#"+of, needed, optional)
	}
}
