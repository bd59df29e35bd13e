package cli

import (
	"context"
	"slices"

	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/core/account"
	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/internal/table"
)

// statementFlags are those of every account.
func statementFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "legend", Usage: "CSV `FILE` of the classes: their order, names and colours"},
		&cli.StringFlag{Name: "by", Value: "class", Usage: "tell by `class`, or by group of the legend"},
		&cli.StringFlag{Name: "unit", Value: "ha", Usage: "`ha`, m2, km2, acre or mi2"},
	}
}

func accountCommand() *cli.Command {
	flows := &cli.StringFlag{Name: "flows", Usage: "CSV `FILE` that names what transitions are: from,to,flow,managed"}
	one := func(name, what, description string, action cli.ActionFunc, flags ...cli.Flag) *cli.Command {
		return &cli.Command{Name: name, Usage: what, ArgsUsage: "TABLE...", Description: description,
			Flags: slices.Concat(flags, statementFlags(), checkFlags(), outputFlags()), Action: action}
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
  verdex account extent orrin.book#wards                   an account of a book
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
	}
}

// statement is what all accounts read.
type statement struct {
	r      *reporter
	out    *destination
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

// moves reads tables of transitions, and checks them.
func (s *statement) moves(ctx context.Context, c *cli.Command) (*account.Moves, error) {
	m, err := account.ReadMoves(c.Args().Slice(), s.reader(ctx, c))
	if err != nil {
		return nil, err
	}
	s.r.notes(m.Notes)
	if s.groups != nil {
		if err := m.Group(s.groups); err != nil {
			return nil, err
		}
		s.legend = s.groups.Legend
	}
	if m.Classes, err = account.Arrange(m.Classes, s.legend); err != nil {
		return nil, err
	}
	list := m.Statements(nil)
	s.out.checks = s.checks.all(append([]account.Check{m.Check()}, account.CheckStatements(list, m.Classes, s.checks.bounds)...), func() []account.Mapped { return account.StatementExtents(list, m.Classes) }, s.unit)
	return m, nil
}

// extents reads tables of extents, and checks them.
func (s *statement) extents(ctx context.Context, c *cli.Command) (*account.Extents, error) {
	e, err := account.ReadExtents(c.Args().Slice(), s.reader(ctx, c))
	if err != nil {
		return nil, err
	}
	s.r.notes(e.Notes)
	if s.groups != nil {
		if err := e.Group(s.groups); err != nil {
			return nil, err
		}
		s.legend = s.groups.Legend
	}
	if e.Classes, err = account.Arrange(e.Classes, s.legend); err != nil {
		return nil, err
	}
	s.out.checks = s.checks.all(e.Check(s.checks.bounds), e.Mapped, s.unit)
	return e, nil
}

func (s *statement) flows(c *cli.Command) (*account.Flows, error) {
	if path := c.String("flows"); path != "" {
		f, err := account.ReadFlows(path)
		if err == nil {
			s.r.notes(f.Notes)
		}
		return f, err
	}
	return nil, nil
}

// show hands the outcome over: as a table, or drawn.
func (s *statement) show(ctx context.Context, t func() *table.Table, paint func(*canvas) error) error {
	if s.out.format == "table" {
		return paint(newCanvas(s.out.stdout))
	}
	return s.out.write(ctx, t())
}

// tell tells what the checks of what was read have found.
func (s *statement) tell(ctx context.Context) error {
	if err := s.checks.stage(ctx, s.out.checks); err != nil {
		return err
	}
	return s.checks.tell(s.r, s.out.checks)
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
		out[i] = c.swatch(s.colorOf(i, n), marks[i])
	}
	return out
}

// colorOf is the colour of a class, the i-th: that of the legend where there is one.
func (s *statement) colorOf(i int, n account.Named) raster.Color {
	if s.legend != nil {
		for _, class := range s.legend.Classes {
			if class.ID() == n.ID {
				return class.Color
			}
		}
	}
	return cover.Shade(i)
}
