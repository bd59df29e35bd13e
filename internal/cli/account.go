package cli

import (
	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/core/check"

	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/job"
	"github.com/verdex-land/verdex/internal/model"
	"github.com/verdex-land/verdex/internal/sheets"
	"github.com/verdex-land/verdex/internal/table"
)

// statementOutput says where a statement goes, and its checks.
type statementOutput struct {
	checkOutput    `group:"checks"`
	tableOptions   `group:"output"`
	savePlanOption `group:"output"`
}

func accountCommand() *cli.Command {
	return &cli.Command{
		Name:  "account",
		Usage: "accounts from tallies and change tables: extent, composition, matrix, flows, series, remaining, accuracy",
		Description: `Makes statements that balance from the tables that measure and change write, without reading a raster
again.

  verdex account extent matrix.csv --legend legend.csv --flows flows.csv
  verdex account composition extents_*.csv --legend legend.csv --by group
  verdex account composition extents.csv --rank "Built-up"
  verdex account flows matrix.csv --flows flows.csv
  verdex account series extents_2004.csv extents_2012.csv extents_2020.csv
  verdex account remaining histories.csv --legend legend.csv
  verdex account extent orrin.book#wards                   an account of a book
  verdex account accuracy samples.csv --cover cover.tif --legend legend.csv`,
		Commands: []*cli.Command{extentAccountCommand(), compositionCommand(), matrixCommand(), flowsCommand(), seriesCommand(), remainingCommand(), accuracyCommand()},
	}
}

// show hands a statement over: as a table or its sheets, or drawn. Its checks are reported.
func (s *session) show(o *statementOutput, checks []check.Check, m func(digits int) *model.Table, pages func() []*table.Sheet, paint func(*canvas) error) error {
	out, err := o.destination()
	if err != nil {
		return err
	}
	out.checks, out.sheets = checks, pages
	if out.format != "table" {
		err = s.write(out, m(out.digits))
	}
	if err == nil {
		err = s.writeChecks(o.checkOutput, checks)
	}
	if err != nil {
		return err
	}
	if out.format == "table" {
		if err := paint(s.canvas()); err != nil {
			return err
		}
	}
	return s.reportChecks(o.checkOutput, checks)
}

type extentAccountOptions struct {
	Layout string `opt:"layout" group:"output" choose:"account,zones" help:"<account> (one for each zone) or zones (a block for each entry, zones down)"`
	job.ExtentAccountOptions
	statementOutput
}

func extentAccountCommand() *cli.Command {
	return command(cli.Command{
		Name: "extent", Usage: "opening extent, additions, reductions, closing extent",
		Description: `Makes the extent account of each zone from tables of change --table matrix: opening extent, additions and
reductions (by managed and unmanaged, or by flow, where --flows assigns them), net change and closing extent, with
the classes across. Ground that only one epoch maps is not in the account and is shown beneath.

  verdex account extent matrix.csv --legend legend.csv
  verdex account extent matrix.csv --flows flows.csv --layout zones --out extent.csv`,
	}, func(s *session, o *extentAccountOptions) error {
		a, err := job.ExtentAccount(s.ctx, s.env(), o.ExtentAccountOptions)
		if err != nil {
			return err
		}
		byZones := o.Layout == "zones"
		return s.show(&o.statementOutput, a.Checks, func(int) *model.Table { return model.ExtentAccounts(a, byZones) },
			func() []*table.Sheet { return sheets.ExtentAccounts(a) }, func(c *canvas) error { return paintExtent(c, a, byZones) })
	})
}

type compositionOptions struct {
	Layout     string `opt:"layout" group:"output" choose:"long,wide" help:"<long> (a row for each class) or wide (a row for each zone)"`
	RoundToSum bool   `opt:"round-to-sum" help:"round percent such that it sums to 100 (largest remainder); --digits says to how many decimals, 1 unless it is given"`
	job.CompositionOptions
	statementOutput
}

func compositionCommand() *cli.Command {
	return command(cli.Command{
		Name: "composition", Usage: "area, percent and rank of each class in each zone",
		Description: `Lists the classes of each zone from tables of measure, with percent of the zone, percent of what is
classified and rank; or ranks the zones by a class.

  verdex account composition extents.csv --legend legend.csv --by group --layout wide
  verdex account composition extents.csv --rank "Built-up"`,
	}, func(s *session, o *compositionOptions) error {
		a, err := job.Composition(s.ctx, s.env(), o.CompositionOptions)
		if err != nil {
			return err
		}
		round := -1
		if o.RoundToSum {
			round = 1
			if o.Digits >= 0 {
				round = o.Digits
			}
		}
		if o.Rank != "" {
			return s.show(&o.statementOutput, a.Checks, func(int) *model.Table { return model.Ranks(a) }, nil, func(c *canvas) error { return paintRanks(c, a) })
		}
		return s.show(&o.statementOutput, a.Checks, func(int) *model.Table { return model.Compositions(a, o.Layout == "wide", round) },
			func() []*table.Sheet { return sheets.Compositions(a) }, func(c *canvas) error { return paintClasses(c, a.Extents, a.Terms, round) })
	})
}

type matrixOptions struct {
	job.MatrixOptions
	statementOutput
}

func matrixCommand() *cli.Command {
	return command(cli.Command{
		Name: "matrix", Usage: "from which class to which, with totals",
		Description: `Lays transitions out as a square from tables of change --table matrix, with the extents of both epochs at its borders.

  verdex account matrix matrix.csv --legend legend.csv --by group`,
	}, func(s *session, o *matrixOptions) error {
		a, err := job.Matrix(s.ctx, s.env(), o.MatrixOptions)
		if err != nil {
			return err
		}
		squares := model.SquaresOfMoves(a.Moves, a.Unit)
		return s.show(&o.statementOutput, a.Checks, func(int) *model.Table { return model.Matrix(a.Classes, a.Unit, squares) },
			func() []*table.Sheet { return sheets.Matrices(a) }, func(c *canvas) error { return paintSquares(c, squares, a.Terms, nil) })
	})
}

type flowOptions struct {
	job.FlowOptions
	statementOutput
}

func flowsCommand() *cli.Command {
	return command(cli.Command{
		Name: "flows", Usage: "transitions gathered into named processes",
		Description: `Gathers transitions into flows such as urban growth, clearing or regrowth. The flows table is CSV:
from,to,flow,managed,note; from and to are a code, a list such as 3;4, or * for any class, and the first line that fits counts.

  verdex account flows matrix.csv --flows flows.csv`,
	}, func(s *session, o *flowOptions) error {
		a, err := job.FlowAccount(s.ctx, s.env(), o.FlowOptions)
		if err != nil {
			return err
		}
		return s.show(&o.statementOutput, a.Checks, func(int) *model.Table { return model.Flows(a) }, nil, func(c *canvas) error { return paintFlows(c, a) })
	})
}

type seriesOptions struct {
	job.SeriesOptions
	statementOutput
}

func seriesCommand() *cli.Command {
	return command(cli.Command{
		Name: "series", Usage: "extents over all epochs",
		Description: `Lists the extents of each class in each zone over the epochs of tables of measure, with the change since the
first and since the previous one.

  verdex account series extents_2004.csv extents_2012.csv extents_2020.csv --legend legend.csv`,
	}, func(s *session, o *seriesOptions) error {
		a, err := job.Series(s.ctx, s.env(), o.SeriesOptions)
		if err != nil {
			return err
		}
		return s.show(&o.statementOutput, a.Checks, func(int) *model.Table { return model.Series(a) }, nil, func(c *canvas) error { return paintSeries(c, a.Extents, a.Terms) })
	})
}

type remainingOptions struct {
	job.RemainingOptions
	statementOutput
}

func remainingCommand() *cli.Command {
	return command(cli.Command{
		Name: "remaining", Usage: "land remaining in a category of land use, and land converted to it",
		Description: `Makes of tables of change --table histories what inventories of greenhouse gases ask for: in every year, land that
remains in a category, and land that was converted to it within the last --years, by the category that it comes from. The column
category of the legend says which class belongs to forest land, cropland, grassland, wetlands, settlements or other land.

  verdex change --epoch 2004=a.tif --epoch 2012=b.tif --epoch 2020=c.tif --table histories --out histories.csv
  verdex account remaining histories.csv --legend legend.csv
  verdex account remaining histories.csv --legend legend.csv --years 10 --out remaining.csv`,
	}, func(s *session, o *remainingOptions) error {
		a, err := job.Remaining(s.ctx, s.env(), o.RemainingOptions)
		if err != nil {
			return err
		}
		return s.show(&o.statementOutput, a.Checks, func(int) *model.Table { return model.Remaining(a) }, nil, func(c *canvas) error { return paintRemaining(c, a) })
	})
}

type accuracyOptions struct {
	Table string `opt:"table" choose:"extents,matrix" help:"which <table>: extents (accuracy, mapped and adjusted extent of each class) or matrix (proportions of the area)"`
	job.AccuracyOptions
	strictOption   `group:"checks"`
	tableOptions   `group:"output"`
	savePlanOption `group:"output"`
}

func accuracyCommand() *cli.Command {
	return command(cli.Command{
		Name: "accuracy", Usage: "error matrix, accuracy, and extents adjusted for the errors of the map",
		Description: `Estimates from reference samples, drawn at random within each class of the map, how accurate the map is and what extents the
classes have on the ground, with 95 % intervals (stratified estimation, Olofsson and others 2014). SAMPLES are points with the
true class in the column reference, at which --cover is read; or counts with the columns map, reference and count. A map of
change is assessed in the same way: its transitions are its classes.

  verdex account accuracy points.csv --cover cover.tif --legend legend.csv
  verdex account accuracy counts.csv --areas extents.csv --legend legend.csv
  verdex account accuracy points.gpkg --reference seen --cover moved.tif --legend moved.legend.csv --table matrix`,
	}, func(s *session, o *accuracyOptions) error {
		a, err := job.Accuracy(s.ctx, s.env(), o.AccuracyOptions)
		if err != nil {
			return err
		}
		m, paint := model.Accuracy, paintAccuracy
		if o.Table == "matrix" {
			m, paint = model.ErrorMatrix, paintErrorMatrix
		}
		out := statementOutput{checkOutput: checkOutput{strictOption: o.strictOption}, tableOptions: o.tableOptions}
		return s.show(&out, nil, func(int) *model.Table { return m(a) }, nil, func(c *canvas) error { return paint(c, a) })
	})
}

// swatches are the marks of classes, in the colours of a legend where there is one.
func (c *canvas) swatches(classes []cover.Named, legend *cover.Legend) []string {
	var names []string
	for _, n := range classes {
		names = append(names, n.Label())
	}
	marks := letters(names)
	out := make([]string, len(classes))
	for i, n := range classes {
		out[i] = c.swatch(sheets.ColorOf(legend, i, n), marks[i])
	}
	return out
}

// classGrid is a grid with classes across and a total.
func (c *canvas) classGrid(classes []cover.Named, legend *cover.Legend, name string) *grid {
	g := &grid{c: c, name: name, keys: c.swatches(classes, legend)}
	for _, n := range classes {
		g.head = append(g.head, n.Label())
	}
	g.head = append(g.head, "total")
	return g
}
