package cli

import (
	"context"
	"fmt"
	"math"
	"slices"

	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/core/account"
	"github.com/verdex-land/verdex/internal/table"
)

func accountMatrix(ctx context.Context, c *cli.Command) error {
	s, err := readStatement(c)
	if err != nil {
		return err
	}
	m, err := s.moves(ctx, c)
	if err != nil {
		return err
	}
	cv := newCanvas(s.out.stdout)
	t := s.matrix(cv, m)
	s.out.sheets = func() []*table.Sheet { return s.matrixSheets(m) }
	if err := s.show(ctx, func() *table.Table { return t }, func(*canvas) error { return cv.flush() }); err != nil {
		return err
	}
	return s.tell(ctx)
}

// paintMoves draws the transitions of all zones.
func (s *statement) paintMoves(c *canvas, m *account.Moves) error {
	s.matrix(c, m)
	return c.flush()
}

// matrix lays transitions out as squares: as rows of a table, and drawn.
func (s *statement) matrix(cv *canvas, m *account.Moves) *table.Table {
	t := &table.Table{Name: "matrix", Title: "Transitions in " + s.unit.Label, Columns: []string{"zone_id", "zone_name", "from_epoch", "to_epoch", "from_code", "from_name"}}
	for _, n := range m.Classes {
		t.Columns = append(t.Columns, n.Label())
	}
	t.Columns = append(t.Columns, "not mapped", "total", "unit")
	classes := append(slices.Clone(m.Classes), account.Named{Name: "not mapped"})
	n := len(classes)
	at := map[string]int{}
	for i, k := range classes {
		at[k.ID] = i
	}
	moves := m.Grouped()
	for k, pair := range m.Pairs {
		if k > 0 {
			cv.line()
		}
		cv.line(cv.bold(fmt.Sprintf("Transitions %s (rows) to %s (columns) in %s of true ground", pair[0], pair[1], s.unit.Label)))
		for _, z := range m.Zones {
			cells := make([]float64, n*n)
			most := 0.0
			for _, v := range moves {
				if v.Pair == pair && v.Zone == z.ID && !v.Outside {
					cells[at[v.From]*n+at[v.To]] += s.area(v.M2)
					most = math.Max(most, s.area(v.M2))
				}
			}
			decimals := decimalsFor(most)
			shown := make([]bool, n)
			for i := range n {
				for j := range n {
					if cells[i*n+j] > 0 {
						shown[i], shown[j] = true, true
					}
				}
			}
			g := &grid{c: cv, name: title(z.ID, z.Name)}
			marks := s.swatches(cv, m.Classes)
			for i, k := range classes {
				if shown[i] {
					g.head = append(g.head, k.Label())
					if i < len(marks) {
						g.keys = append(g.keys, marks[i])
					}
				}
			}
			g.head = append(g.head, pair[0])
			sums := make([]float64, n+1)
			for i, from := range classes {
				row := []any{z.ID, z.Name, pair[0], pair[1], from.ID, from.Label()}
				var texts []string
				total := 0.0
				for j := range classes {
					v := cells[i*n+j]
					row = append(row, v)
					total += v
					sums[j] += v
					if shown[j] {
						text := group(v, decimals)
						if v == 0 {
							text = "·"
						}
						texts = append(texts, text)
					}
				}
				sums[n] += total
				t.Rows = append(t.Rows, append(row, total, s.unit.Name))
				if shown[i] {
					g.add(from.Label(), append(texts, group(total, decimals)), false, false)
				}
			}
			row, texts := []any{z.ID, z.Name, pair[0], pair[1], "", "total"}, []string{}
			for j, v := range sums {
				row = append(row, v)
				if j == n || shown[j] {
					texts = append(texts, group(v, decimals))
				}
			}
			t.Rows = append(t.Rows, append(row, s.unit.Name))
			g.add(pair[1], texts, true, false)
			cv.line()
			g.paint()
		}
	}
	return t
}

func accountFlows(ctx context.Context, c *cli.Command) error {
	s, err := readStatement(c)
	if err != nil {
		return err
	}
	flows, err := s.flows(c)
	if err != nil {
		return err
	}
	if flows == nil {
		return usage("account flows needs --flows, the table that names what transitions are (from,to,flow)")
	}
	m, err := s.moves(ctx, c)
	if err != nil {
		return err
	}
	if err := m.Matches(flows); err != nil {
		return err
	}
	rows := m.Flows(flows)
	t := &table.Table{Name: "flows", Title: "Flows in " + s.unit.Label, Columns: []string{"zone_id", "zone_name", "from_epoch", "to_epoch", "flow", "managed", "area", "unit", "pct_of_mapped", "pct_of_changed"}}
	cv := newCanvas(s.out.stdout)
	most := 0.0
	for _, r := range rows {
		most = math.Max(most, s.area(r.M2))
	}
	decimals := decimalsFor(most)
	for from := 0; from < len(rows); {
		g := &grid{c: cv, name: title(rows[from].Zone.ID, rows[from].Zone.Name), head: []string{s.unit.Name, "% of mapped", "% of changed"}}
		if from == 0 || rows[from].Pair != rows[from-1].Pair {
			if from > 0 {
				cv.line()
			}
			cv.line(cv.bold(fmt.Sprintf("Flows %s to %s in %s of true ground", rows[from].Pair[0], rows[from].Pair[1], s.unit.Label)))
		}
		to := from
		for ; to < len(rows) && rows[to].Zone == rows[from].Zone && rows[to].Pair == rows[from].Pair; to++ {
			r := rows[to]
			t.Rows = append(t.Rows, []any{r.Zone.ID, r.Zone.Name, r.Pair[0], r.Pair[1], r.Flow.Name, r.Flow.Managed, s.area(r.M2), s.unit.Name, r.PctOfMapped, r.PctOfChanged})
			name := r.Flow.Name
			if r.Flow.Managed != "" {
				name += " (" + r.Flow.Managed + ")"
			}
			g.add(name, []string{group(s.area(r.M2), decimals), group(r.PctOfMapped, 2), group(r.PctOfChanged, 1)}, false, r.Flow.Name == account.NoChange)
		}
		cv.line()
		g.paint()
		from = to
	}
	if err := s.show(ctx, func() *table.Table { return t }, func(*canvas) error { return cv.flush() }); err != nil {
		return err
	}
	return s.tell(ctx)
}
