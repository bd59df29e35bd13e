package cli

import (
	"context"
	"fmt"
	"math"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/core/account"
	"github.com/verdex-land/verdex/internal/table"
)

func accountExtent(ctx context.Context, c *cli.Command) error {
	s, err := readStatement(c)
	if err != nil {
		return err
	}
	layout := c.String("layout")
	if layout != "account" && layout != "zones" {
		return usage("--layout %s is not known: choose account or zones", layout)
	}
	flows, err := s.flows(c)
	if err != nil {
		return err
	}
	m, err := s.moves(ctx, c)
	if err != nil {
		return err
	}
	if err := m.Matches(flows); err != nil {
		return err
	}
	list := m.Statements(flows)
	s.out.sheets = func() (sheets []*table.Sheet) {
		byPair(list, func(of []account.Statement) { sheets = append(sheets, s.extentSheet(of, m.Classes)) })
		return sheets
	}
	err = s.show(ctx, func() *table.Table { return s.extentTable(list, m.Classes, layout) },
		func(c *canvas) error { return s.paintExtent(c, list, m.Classes, layout) })
	if err != nil {
		return err
	}
	if len(m.Zones) > 1 {
		s.r.note("the account of all zones adds them up, which is right where they do not overlap")
	}
	return s.tell(ctx)
}

func (s *statement) extentTable(list []account.Statement, classes []account.Named, layout string) *table.Table {
	t := &table.Table{Name: "extent_account", Title: "Extent account in " + s.unit.Label, Columns: []string{"zone_id", "zone_name", "from_epoch", "to_epoch", "entry"}}
	for _, n := range classes {
		t.Columns = append(t.Columns, n.Label())
	}
	t.Columns = append(t.Columns, "total", "unit")
	row := func(x account.Statement, e account.Entry) {
		cells := []any{x.Zone.ID, x.Zone.Name, x.Pair[0], x.Pair[1], e.Name}
		for _, v := range e.Values {
			cells = append(cells, s.area(v))
		}
		t.Rows = append(t.Rows, append(cells, s.area(e.Total), s.unit.Name))
	}
	rest := func(x account.Statement) {
		for _, a := range notInAccount(x) {
			cells := []any{x.Zone.ID, x.Zone.Name, x.Pair[0], x.Pair[1], a.what}
			for range classes {
				cells = append(cells, nil)
			}
			t.Rows = append(t.Rows, append(cells, s.area(a.m2), s.unit.Name))
		}
	}
	if layout == "account" {
		for _, x := range list {
			for _, e := range x.Entries {
				row(x, e)
			}
			rest(x)
		}
		return t
	}
	byPair(list, func(of []account.Statement) {
		for i := range of[0].Entries {
			for _, x := range of {
				row(x, x.Entries[i])
			}
		}
		for _, x := range of {
			rest(x)
		}
	})
	return t
}

// byPair hands over the statements of each pair of epochs, which lie together.
func byPair(list []account.Statement, f func([]account.Statement)) {
	for from := 0; from < len(list); {
		to := from
		for to < len(list) && list[to].Pair == list[from].Pair {
			to++
		}
		f(list[from:to])
		from = to
	}
}

type restRow struct {
	what string
	m2   float64
}

// notInAccount is the ground of a zone that takes no part in the account.
func notInAccount(x account.Statement) (out []restRow) {
	for _, a := range []restRow{{"not in the account: mapped in " + x.Pair[0] + " only", x.OnlyFirst}, {"not in the account: mapped in " + x.Pair[1] + " only", x.OnlySecond},
		{"not in the account: mapped in neither", x.Neither}, {"not in the account: outside", x.Outside}} {
		if a.m2 > 0 {
			out = append(out, a)
		}
	}
	return out
}

func (s *statement) paintExtent(c *canvas, list []account.Statement, classes []account.Named, layout string) error {
	most := 0.0
	for _, x := range list {
		most = math.Max(most, s.area(x.Entries[0].Total))
	}
	decimals := decimalsFor(most)
	first := true
	byPair(list, func(of []account.Statement) {
		if !first {
			c.line()
		}
		first = false
		c.line(c.bold(fmt.Sprintf("Extent account %s to %s in %s of true ground", of[0].Pair[0], of[0].Pair[1], s.unit.Label)))
		c.line()
		var grids []*grid
		if layout == "account" {
			for _, x := range of {
				g := s.classGrid(c, classes, title(x.Zone.ID, x.Zone.Name))
				for _, e := range x.Entries {
					if e.Total == 0 && strings.HasSuffix(e.Name, account.NotAssigned) {
						continue
					}
					g.add(e.Name, s.entryCells(e, decimals), e.Kind == account.Opening || e.Kind == account.Closing, e.Kind == account.Addition || e.Kind == account.Reduction)
				}
				for _, a := range notInAccount(x) {
					cells := make([]string, len(classes)+1)
					cells[len(classes)] = group(s.area(a.m2), decimals)
					g.add(a.what, cells, false, true)
				}
				grids = append(grids, g)
			}
			paintGrids(grids...)
			return
		}
		for i, e := range of[0].Entries {
			g := s.classGrid(c, classes, e.Name)
			for _, x := range of {
				g.add(title(x.Zone.ID, x.Zone.Name), s.entryCells(x.Entries[i], decimals), x.Zone == account.AllZones, false)
			}
			grids = append(grids, g)
		}
		paintGrids(grids...)
	})
	return c.flush()
}

// entryCells are the numbers of an entry, with signs where they are changes.
func (s *statement) entryCells(e account.Entry, decimals int) []string {
	var out []string
	for _, v := range append(slices.Clone(e.Values), e.Total) {
		switch v = s.area(v); {
		case e.Kind == account.Opening || e.Kind == account.Closing:
			out = append(out, group(v, decimals))
		case strings.Trim(group(v, decimals), "0.−") == "": // also what rounding leaves of a total that is nothing
			out = append(out, "·")
		case e.Kind == account.Reduction || e.Kind == account.Reductions:
			out = append(out, signed(-v, decimals))
		default:
			out = append(out, signed(v, decimals))
		}
	}
	return out
}

// classGrid is a grid with the classes across and a total.
func (s *statement) classGrid(c *canvas, classes []account.Named, name string) *grid {
	g := &grid{c: c, name: name, keys: s.swatches(c, classes)}
	for _, n := range classes {
		g.head = append(g.head, n.Label())
	}
	g.head = append(g.head, "total")
	return g
}
