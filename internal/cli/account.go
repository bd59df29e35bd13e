package cli

import (
	"context"
	"fmt"
	"math"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/core/account"
	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/internal/table"
)

// statementFlags are those of every account.
var statementFlags = []cli.Flag{
	&cli.StringFlag{Name: "legend", Usage: "CSV `FILE` of the classes: their order, names and colours"},
	&cli.StringFlag{Name: "by", Value: "class", Usage: "tell by `class`, or by group of the legend"},
	&cli.StringFlag{Name: "unit", Value: "ha", Usage: "`ha`, m2, km2, acre or mi2"},
}

func accountCommand() *cli.Command {
	flows := &cli.StringFlag{Name: "flows", Usage: "CSV `FILE` that names what transitions are: from,to,flow,managed"}
	one := func(name, what, description string, action cli.ActionFunc, flags ...cli.Flag) *cli.Command {
		return &cli.Command{Name: name, Usage: what, ArgsUsage: "TABLE...", Description: description,
			Flags: slices.Concat(flags, statementFlags, checkFlags, outputFlags), Action: action}
	}
	return &cli.Command{
		Name:  "account",
		Usage: "accounts from tallies and change tables: extent, composition, matrix, flows, series, accuracy",
		Description: `Makes statements that balance of the tables that measure and change write, without reading a raster
again.

  verdex account extent matrix.csv --legend legend.csv --flows flows.csv
  verdex account composition extents_*.csv --legend legend.csv --by group
  verdex account composition extents.csv --rank "Built-up"
  verdex account flows matrix.csv --flows flows.csv
  verdex account series extents_2004.csv extents_2012.csv extents_2020.csv
  verdex account accuracy samples.csv --cover cover.tif --legend legend.csv`,
		Commands: []*cli.Command{
			one("extent", "opening extent, additions, reductions, closing extent", `Makes the extent account of each zone from tables of change --table matrix: opening extent, additions and
reductions (by managed and unmanaged, or by flow, where --flows assigns them), net change and closing extent, with
the classes across. Ground that one epoch only maps takes no part and is told beneath.

  verdex account extent matrix.csv --legend legend.csv
  verdex account extent matrix.csv --flows flows.csv --layout zones --out extent.csv`, accountExtent, flows,
				&cli.StringFlag{Name: "layout", Value: "account", Usage: "`account` (one for each zone) or zones (a block for each entry, zones down)"}),
			one("composition", "area, percent and rank of each class in each zone", `Lists the classes of each zone from tables of measure, with percent of the zone, percent of what is
classified and rank; or ranks the zones by a class.

  verdex account composition extents.csv --legend legend.csv --by group --layout wide
  verdex account composition extents.csv --rank "Built-up"`, accountComposition,
				&cli.StringFlag{Name: "layout", Value: "long", Usage: "`long` (a row for each class) or wide (a row for each zone)"},
				&cli.StringFlag{Name: "rank", Usage: "rank zones by a `CLASS`, by name or code"},
				&cli.BoolFlag{Name: "round-to-sum", Usage: "round percent such that it sums to 100 (largest remainder); --digits says to how many decimals, 1 unless it is given"}),
			one("matrix", "from which class to which, with totals", `Lays transitions out as a square from tables of change --table matrix, with the extents of both epochs at its borders.

  verdex account matrix matrix.csv --legend legend.csv --by group`, accountMatrix),
			one("flows", "transitions gathered into named processes", `Gathers transitions into flows such as urban growth, clearing or regrowth. The flows table is CSV:
from,to,flow,managed,note; from and to are a code, a list such as 3;4, or * for any class, and the first line that fits counts.

  verdex account flows matrix.csv --flows flows.csv`, accountFlows, flows),
			one("series", "extents over all epochs", `Lists the extents of each class in each zone over the epochs of tables of measure, with the change since the
first and since the previous one.

  verdex account series extents_2004.csv extents_2012.csv extents_2020.csv --legend legend.csv`, accountSeries),
			accuracyCommand(),
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.Args().Len() > 0 {
				return usage("there is no account %q: choose extent, composition, matrix, flows, series or accuracy", c.Args().First())
			}
			return cli.ShowSubcommandHelp(c)
		},
	}
}

// statement is what all accounts read.
type statement struct {
	r      *reporter
	out    *output
	checks *checking
	unit   account.Unit
	legend *cover.Legend // of what is shown: the groups, with --by group
	groups *cover.Groups
}

func readStatement(c *cli.Command) (*statement, error) {
	if c.Args().Len() == 0 {
		return nil, usage("account %s needs a table (verdex account %s --help shows examples)", c.Name, c.Name)
	}
	s := &statement{r: newReporter(c)}
	var err error
	if s.out, err = chooseOutput(c); err != nil {
		return nil, err
	}
	if s.checks, err = readChecking(c); err != nil {
		return nil, err
	}
	t, err := readTerms(c)
	s.unit, s.legend, s.groups = t.unit, t.legend, t.groups
	return s, err
}

func (s *statement) moves(c *cli.Command) (*account.Moves, error) {
	m, err := account.ReadMoves(c.Args().Slice())
	if err != nil {
		return nil, err
	}
	if s.groups != nil {
		if err := m.Group(s.groups); err != nil {
			return nil, err
		}
		s.legend = s.groups.Legend
	}
	m.Classes, err = account.Arrange(m.Classes, s.legend)
	return m, err
}

func (s *statement) extents(c *cli.Command) (*account.Extents, error) {
	e, err := account.ReadExtents(c.Args().Slice())
	if err != nil {
		return nil, err
	}
	if s.groups != nil {
		if err := e.Group(s.groups); err != nil {
			return nil, err
		}
		s.legend = s.groups.Legend
	}
	e.Classes, err = account.Arrange(e.Classes, s.legend)
	return e, err
}

func (s *statement) flows(c *cli.Command) (*account.Flows, error) {
	if path := c.String("flows"); path != "" {
		return account.ReadFlows(path)
	}
	return nil, nil
}

func (s *statement) area(m2 float64) float64 { return m2 / s.unit.M2 }

// swatches are the marks of classes, in colour where a legend gives them.
func (s *statement) swatches(c *canvas, classes []account.Named) []string {
	var names []string
	for _, n := range classes {
		names = append(names, n.Label())
	}
	marks := letters(names)
	out := make([]string, len(classes))
	for i, n := range classes {
		color := cover.Shade(i)
		if s.legend != nil {
			for _, class := range s.legend.Classes {
				if fmt.Sprint(class.Code) == n.ID {
					color = class.Color
				}
			}
		}
		out[i] = c.swatch(color, marks[i])
	}
	return out
}

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
	m, err := s.moves(c)
	if err != nil {
		return err
	}
	list := m.Statements(flows)
	if s.out.format == "table" {
		err = s.paintExtent(newCanvas(s.out.stdout), list, m.Classes, layout)
	} else {
		err = s.out.write(s.extentTable(list, m.Classes, layout))
	}
	if err != nil {
		return err
	}
	if len(m.Zones) > 1 {
		s.r.note("the account of all zones adds them up, which is right where they do not overlap")
	}
	return s.checks.tell(s.r, account.CheckStatements(list, m.Classes, s.checks.bounds), account.StatementExtents(list, m.Classes), s.unit)
}

func (s *statement) extentTable(list []account.Statement, classes []account.Named, layout string) *table.Table {
	t := &table.Table{Columns: []string{"zone_id", "zone_name", "from_epoch", "to_epoch", "entry"}}
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

func accountComposition(ctx context.Context, c *cli.Command) error {
	s, err := readStatement(c)
	if err != nil {
		return err
	}
	layout := c.String("layout")
	if layout != "long" && layout != "wide" {
		return usage("--layout %s is not known: choose long or wide", layout)
	}
	e, err := s.extents(c)
	if err != nil {
		return err
	}
	rows := e.Composition()
	if c.Bool("round-to-sum") {
		digits := max(1, s.out.digits)
		if s.out.digits == 0 {
			digits = 0
		}
		roundPercent(rows, digits)
	}
	if rank := c.String("rank"); rank != "" {
		if err := s.rank(rows, e, rank); err != nil {
			return err
		}
	} else if s.out.format == "table" {
		if err := s.paintClasses(newCanvas(s.out.stdout), rows, e); err != nil {
			return err
		}
	} else if err := s.out.write(s.compositionTable(rows, e, layout)); err != nil {
		return err
	}
	return s.checks.tell(s.r, e.Check(s.checks.bounds), e.Mapped(), s.unit)
}

// eachZone hands over the rows of each zone and epoch, which lie together.
func eachZone(rows []account.CompositionRow, f func([]account.CompositionRow)) {
	for from := 0; from < len(rows); {
		to := from
		for to < len(rows) && rows[to].Zone == rows[from].Zone && rows[to].Epoch == rows[from].Epoch {
			to++
		}
		f(rows[from:to])
		from = to
	}
}

func roundPercent(rows []account.CompositionRow, digits int) {
	eachZone(rows, func(of []account.CompositionRow) {
		zone, classified := make([]float64, len(of)), make([]float64, len(of))
		for i, r := range of {
			zone[i], classified[i] = r.PctOfZone, r.PctOfClassified
		}
		zone, classified = account.RoundToSum(zone, digits), account.RoundToSum(classified, digits)
		for i := range of {
			of[i].PctOfZone, of[i].PctOfClassified = zone[i], classified[i]
		}
	})
}

func (s *statement) compositionTable(rows []account.CompositionRow, e *account.Extents, layout string) *table.Table {
	if layout == "long" {
		t := &table.Table{Columns: []string{"epoch", "zone_id", "zone_name", "class_code", "class_name", "area", "unit", "pct_of_zone", "pct_of_classified", "rank"}}
		for _, r := range rows {
			t.Rows = append(t.Rows, []any{r.Epoch, r.Zone.ID, r.Zone.Name, r.Class.ID, r.Class.Name, s.area(r.M2), s.unit.Name, r.PctOfZone, r.PctOfClassified, r.Rank})
		}
		return t
	}
	t := &table.Table{Columns: []string{"epoch", "zone_id", "zone_name", "unit"}}
	for _, n := range e.Classes {
		t.Columns = append(t.Columns, n.Label())
	}
	for _, n := range e.Classes {
		t.Columns = append(t.Columns, "pct "+n.Label())
	}
	eachZone(rows, func(of []account.CompositionRow) {
		row := []any{of[0].Epoch, of[0].Zone.ID, of[0].Zone.Name, s.unit.Name}
		for _, r := range of {
			row = append(row, s.area(r.M2))
		}
		for _, r := range of {
			row = append(row, r.PctOfZone)
		}
		t.Rows = append(t.Rows, row)
	})
	return t
}

func (s *statement) paintClasses(c *canvas, rows []account.CompositionRow, e *account.Extents) error {
	most := 0.0
	for _, r := range rows {
		most = math.Max(most, s.area(r.M2))
	}
	decimals := decimalsFor(most)
	for i, epoch := range e.Epochs {
		if i > 0 {
			c.line()
		}
		c.line(c.bold(strings.TrimSpace("Composition "+epoch) + " in " + s.unit.Label + " of true ground, percent of the zone beneath"))
		c.line()
		g := s.classGrid(c, e.Classes, "zone")
		g.head = g.head[:len(e.Classes)]
		eachZone(rows, func(of []account.CompositionRow) {
			if of[0].Epoch != epoch {
				return
			}
			var areas, shares []string
			for _, r := range of {
				areas = append(areas, group(s.area(r.M2), decimals))
				shares = append(shares, fmt.Sprintf("%s %% #%d", group(r.PctOfZone, 1), r.Rank))
			}
			g.add(title(of[0].Zone.ID, of[0].Zone.Name), areas, of[0].Zone == account.AllZones, false)
			g.add("", shares, false, true)
		})
		g.paint()
	}
	c.line()
	c.line(c.dim("# is the rank of a class in its zone, by area."))
	return c.flush()
}

// rank ranks zones by a class.
func (s *statement) rank(rows []account.CompositionRow, e *account.Extents, class string) error {
	at := slices.IndexFunc(e.Classes, func(n account.Named) bool { return n.ID == class || n.Name == class })
	if at < 0 {
		var names []string
		for _, n := range e.Classes {
			names = append(names, n.ID+" "+n.Name)
		}
		return usage("--rank %s is no class of the tables: choose one of %s", class, firstOf(names, 20))
	}
	t := &table.Table{Columns: []string{"epoch", "rank", "zone_id", "zone_name", "class_code", "class_name", "area", "unit", "pct_of_zone", "pct_of_class"}}
	c := newCanvas(s.out.stdout)
	for i, epoch := range e.Epochs {
		var of []account.CompositionRow
		total := 0.0
		for _, r := range rows {
			if r.Epoch == epoch && r.Class == e.Classes[at] && r.Zone != account.AllZones {
				of = append(of, r)
				total += r.M2
			}
		}
		slices.SortStableFunc(of, func(a, b account.CompositionRow) int {
			switch {
			case a.M2 > b.M2:
				return -1
			case a.M2 < b.M2:
				return 1
			}
			return 0
		})
		if i > 0 {
			c.line()
		}
		c.line(c.bold(strings.TrimSpace(e.Classes[at].Label()+" "+epoch) + " by zone, in " + s.unit.Label))
		g := &grid{c: c, name: "zone", head: []string{s.unit.Name, "% of the zone", "% of the class"}}
		for k, r := range of {
			share := 0.0
			if total > 0 {
				share = r.M2 / total * 100
			}
			t.Rows = append(t.Rows, []any{epoch, k + 1, r.Zone.ID, r.Zone.Name, r.Class.ID, r.Class.Name, s.area(r.M2), s.unit.Name, r.PctOfZone, share})
			g.add(fmt.Sprintf("%d. %s", k+1, title(r.Zone.ID, r.Zone.Name)), []string{group(s.area(r.M2), decimalsFor(s.area(of[0].M2))), group(r.PctOfZone, 1), group(share, 1)}, false, false)
		}
		g.paint()
	}
	if s.out.format != "table" {
		return s.out.write(t)
	}
	return c.flush()
}

func accountMatrix(ctx context.Context, c *cli.Command) error {
	s, err := readStatement(c)
	if err != nil {
		return err
	}
	m, err := s.moves(c)
	if err != nil {
		return err
	}
	t := &table.Table{Columns: []string{"zone_id", "zone_name", "from_epoch", "to_epoch", "from_code", "from_name"}}
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
	cv := newCanvas(s.out.stdout)
	for k, pair := range m.Pairs {
		if k > 0 {
			cv.line()
		}
		cv.line(cv.bold(fmt.Sprintf("Transitions %s (rows) to %s (columns) in %s of true ground", pair[0], pair[1], s.unit.Label)))
		for _, z := range m.Zones {
			cells := make([]float64, n*n)
			most := 0.0
			for _, v := range m.List {
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
	if s.out.format == "table" {
		err = cv.flush()
	} else {
		err = s.out.write(t)
	}
	if err != nil {
		return err
	}
	list := m.Statements(nil)
	return s.checks.tell(s.r, account.CheckStatements(list, m.Classes, s.checks.bounds), account.StatementExtents(list, m.Classes), s.unit)
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
	m, err := s.moves(c)
	if err != nil {
		return err
	}
	rows := m.Flows(flows)
	t := &table.Table{Columns: []string{"zone_id", "zone_name", "from_epoch", "to_epoch", "flow", "managed", "area", "unit", "pct_of_mapped", "pct_of_changed"}}
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
	if s.out.format == "table" {
		err = cv.flush()
	} else {
		err = s.out.write(t)
	}
	if err != nil {
		return err
	}
	list := m.Statements(nil)
	return s.checks.tell(s.r, account.CheckStatements(list, m.Classes, s.checks.bounds), account.StatementExtents(list, m.Classes), s.unit)
}

func accountSeries(ctx context.Context, c *cli.Command) error {
	s, err := readStatement(c)
	if err != nil {
		return err
	}
	e, err := s.extents(c)
	if err != nil {
		return err
	}
	if len(e.Epochs) < 2 {
		return fmt.Errorf("%s: there is one epoch only (%q): a series takes tables of several, measured with --epoch LABEL", strings.Join(c.Args().Slice(), ", "), e.Epochs[0])
	}
	rows := e.Series()
	t := &table.Table{Columns: []string{"zone_id", "zone_name", "class_code", "class_name", "epoch", "area", "unit", "since_first", "since_previous",
		"pct_since_first", "pct_since_previous", "pct_per_year_since_first", "pct_per_year_since_previous"}}
	for _, r := range rows {
		t.Rows = append(t.Rows, []any{r.Zone.ID, r.Zone.Name, r.Class.ID, r.Class.Name, r.Epoch, s.area(r.M2), s.unit.Name, s.area(r.SinceFirst), s.area(r.SincePrevious),
			r.PctSinceFirst, r.PctSincePrevious, r.PctPerYearSinceFirst, r.PctPerYearSimple})
	}
	if s.out.format == "table" {
		err = s.paintSeries(newCanvas(s.out.stdout), rows, e)
	} else {
		err = s.out.write(t)
	}
	if err != nil {
		return err
	}
	return s.checks.tell(s.r, e.Check(s.checks.bounds), e.Mapped(), s.unit)
}

func (s *statement) paintSeries(c *canvas, rows []account.SeriesRow, e *account.Extents) error {
	most := 0.0
	for _, r := range rows {
		most = math.Max(most, s.area(r.M2))
	}
	decimals := decimalsFor(most)
	c.line(c.bold(fmt.Sprintf("Extents %s to %s in %s of true ground", e.Epochs[0], e.Epochs[len(e.Epochs)-1], s.unit.Label)))
	marks := s.swatches(c, e.Classes)
	for from := 0; from < len(rows); {
		z := rows[from].Zone
		g := &grid{c: c, name: title(z.ID, z.Name)}
		for i, epoch := range e.Epochs {
			g.head = append(g.head, epoch)
			if i > 0 {
				g.head = append(g.head, "since "+e.Epochs[i-1])
			}
		}
		g.head = append(g.head, "% since "+e.Epochs[0], "% a year")
		class := 0
		for from < len(rows) && rows[from].Zone == z {
			k := rows[from].Class
			cells := make([]string, len(g.head))
			for ; from < len(rows) && rows[from].Zone == z && rows[from].Class == k; from++ {
				r := rows[from]
				i := slices.Index(e.Epochs, r.Epoch)
				cells[max(0, 2*i-1)] = group(s.area(r.M2), decimals)
				if i > 0 {
					cells[2*i] = signed(s.area(r.SincePrevious), decimals)
				}
				cells[len(cells)-2], cells[len(cells)-1] = signed(r.PctSinceFirst, 1), signed(r.PctPerYearSinceFirst, 2)
			}
			g.add(marks[class]+" "+k.Label(), cells, false, false)
			class++
		}
		c.line()
		g.paint()
	}
	return c.flush()
}
