package job

import (
	"context"
	"iter"
	"slices"
	"strings"

	"github.com/verdex-land/verdex/core/vector/tables"

	"github.com/verdex-land/verdex/core/area"
	"github.com/verdex-land/verdex/core/check"
	"github.com/verdex-land/verdex/core/rows"

	"github.com/verdex-land/verdex/core/account"
	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/fault"
	"github.com/verdex-land/verdex/core/text"
)

// StatementOptions are those of all statements that are made of tables.
type StatementOptions struct {
	Tables       []string `arg:"TABLE..." in:"table"`
	ClassOptions `group:"classes"`
	CheckOptions `group:"checks"`
}

// FlowsOption names the processes that transitions belong to.
type FlowsOption struct {
	Flows string `opt:"flows" in:"flows" help:"CSV <FILE> that names what transitions are: from,to,flow,managed"`
}

// Terms are those in which a statement is made.
type Terms struct {
	Unit   area.Unit
	Legend *cover.Legend // of what is shown: the groups, when classes are gathered; nil for none
	Checks []check.Check
	*Report
}

// statement is a statement while it is made.
type statement struct {
	*work
	terms
	checks *checking
	tables []string
	out    *Terms
}

// beginStatement begins a statement.
func beginStatement(ctx context.Context, env Env, options any, o *StatementOptions) (*statement, error) {
	w, report, err := begin(ctx, env, options, false)
	if err != nil {
		return nil, err
	}
	if len(o.Tables) == 0 {
		return nil, fault.Misusef("", "", "no table is named")
	}
	s := &statement{work: w, tables: o.Tables}
	if s.checks, err = w.readChecking(o.CheckOptions); err != nil {
		return nil, err
	}
	if s.terms, err = w.readTerms(o.ClassOptions); err != nil {
		return nil, err
	}
	s.out = &Terms{Unit: s.unit, Legend: s.shown(), Report: report}
	return s, nil
}

// reader reads tables: files, or those that the environment knows. Their legend is used where none is given.
func (s *statement) reader() account.Reader {
	return func(name string, needed, optional []string, each func(rows.Row) error) ([]string, error) {
		if s.env.Tables == nil {
			s.reads("table", name)
			return tables.Each(s.env.files(), name, needed, optional, each)
		}
		legend, notes, err := s.env.Tables(s.ctx, name, needed, optional, each)
		if s.out.Legend == nil {
			s.out.Legend = legend
		}
		return notes, err
	}
}

// moves reads tables of transitions, and checks them.
func (s *statement) moves() (*account.Moves, error) {
	if err := s.checks.makes("rows", "balance", "mapped", "extents", "pace", "vanish"); err != nil {
		return nil, err
	}
	m, err := account.ReadMoves(s.tables, s.reader())
	if err != nil {
		return nil, err
	}
	s.note(m.Notes...)
	if s.groups != nil {
		if err := m.Group(s.groups); err != nil {
			return nil, err
		}
	}
	if m.Classes, err = account.Arrange(m.Classes, s.out.Legend); err != nil {
		return nil, err
	}
	list := m.Statements(nil)
	s.out.Checks = s.checks.all(append([]check.Check{m.Check()}, account.CheckStatements(list, m.Classes, s.checks.bounds)...),
		func() []check.Mapped { return account.StatementExtents(list, m.Classes) }, s.unit)
	return m, nil
}

// extents reads tables of extents, and checks them.
func (s *statement) extents() (*account.Extents, error) {
	e, err := account.ReadExtents(s.tables, s.reader())
	if err != nil {
		return nil, err
	}
	made := []string{"rows", "nodata", "ground"}
	if len(e.Epochs) > 1 {
		made = append(made, "extents", "pace", "vanish")
	}
	if err := s.checks.makes(made...); err != nil {
		return nil, err
	}
	s.note(e.Notes...)
	if s.groups != nil {
		if err := e.Group(s.groups); err != nil {
			return nil, err
		}
	}
	if e.Classes, err = account.Arrange(e.Classes, s.out.Legend); err != nil {
		return nil, err
	}
	s.out.Checks = s.checks.all(e.Check(s.checks.bounds), e.Mapped, s.unit)
	return e, nil
}

// flows reads flows, nil for "".
func (s *statement) flows(path string) (*account.Flows, error) {
	if path == "" {
		return nil, nil
	}
	s.reads("flows", path)
	f, err := account.ReadFlows(s.env.files(), path)
	if err == nil {
		s.note(f.Notes...)
	}
	return f, err
}

// ExtentAccountOptions are those of [ExtentAccount].
type ExtentAccountOptions struct {
	FlowsOption
	StatementOptions
}

// ExtentAccounts are the extent accounts of zones and pairs of epochs; those of a pair lie together.
type ExtentAccounts struct {
	List    []account.Statement
	Classes []cover.Named
	*Terms
}

// ExtentAccount makes extent accounts of tables of transitions: opening extent, additions, reductions, closing extent.
func ExtentAccount(ctx context.Context, env Env, o ExtentAccountOptions) (*ExtentAccounts, error) {
	s, err := beginStatement(ctx, env, &o, &o.StatementOptions)
	if err != nil {
		return nil, err
	}
	flows, err := s.flows(o.Flows)
	if err != nil {
		return nil, err
	}
	m, err := s.moves()
	if err != nil {
		return nil, err
	}
	if err := m.Matches(flows); err != nil {
		return nil, err
	}
	if len(m.Zones) > 1 {
		s.note("the account of all zones adds them up, which is right where they do not overlap")
	}
	return &ExtentAccounts{m.Statements(flows), m.Classes, s.out}, nil
}

// Pairs returns the statements of each pair of epochs.
func (a *ExtentAccounts) Pairs() iter.Seq[[]account.Statement] {
	return chunks(a.List, func(x, y account.Statement) bool { return x.Pair == y.Pair })
}

// chunks divides a list where neighbours do not belong together.
func chunks[T any](list []T, together func(a, b T) bool) iter.Seq[[]T] {
	return func(yield func([]T) bool) {
		for from := 0; from < len(list); {
			to := from + 1
			for to < len(list) && together(list[from], list[to]) {
				to++
			}
			if !yield(list[from:to]) {
				return
			}
			from = to
		}
	}
}

// CompositionOptions are those of [Composition].
type CompositionOptions struct {
	Rank string `opt:"rank" help:"rank zones by the extent of a <CLASS>, by name or code"`
	StatementOptions
}

// Compositions are the compositions of zones at epochs.
type Compositions struct {
	*account.Extents
	Rank  cover.Named       // the class that zones are ranked by
	Ranks []account.RankRow // nil when they are not
	*Terms
}

// Composition lists area, percent and rank of each class in each zone, of long tables of extents; or ranks the zones by a class.
func Composition(ctx context.Context, env Env, o CompositionOptions) (*Compositions, error) {
	s, err := beginStatement(ctx, env, &o, &o.StatementOptions)
	if err != nil {
		return nil, err
	}
	e, err := s.extents()
	if err != nil {
		return nil, err
	}
	out := &Compositions{Extents: e, Terms: s.out}
	if o.Rank == "" {
		return out, nil
	}
	at := slices.IndexFunc(e.Classes, func(n cover.Named) bool { return n.ID == o.Rank || n.Name == o.Rank })
	if at < 0 {
		var names []string
		for _, n := range e.Classes {
			names = append(names, n.ID+" "+n.Name)
		}
		return nil, fault.Misusef("rank", o.Rank, "is not a class of the tables").Do("choose one of %s", text.List(names, 20))
	}
	out.Rank = e.Classes[at]
	out.Ranks = e.RankZones(out.Rank)
	return out, nil
}

// MatrixOptions are those of [Matrix].
type MatrixOptions struct{ StatementOptions }

// Matrices are the transitions of zones between epochs.
type Matrices struct {
	*account.Moves
	*Terms
}

// Matrix reads the transitions of tables of change.
func Matrix(ctx context.Context, env Env, o MatrixOptions) (*Matrices, error) {
	s, err := beginStatement(ctx, env, &o, &o.StatementOptions)
	if err != nil {
		return nil, err
	}
	m, err := s.moves()
	if err != nil {
		return nil, err
	}
	return &Matrices{m, s.out}, nil
}

// FlowOptions are those of [FlowAccount].
type FlowOptions struct {
	FlowsOption
	StatementOptions
}

// FlowAccounts say how much ground each process moved; the rows of a zone and pair of epochs lie together.
type FlowAccounts struct {
	Rows []account.FlowRow
	*Terms
}

// Zones returns the rows of each zone and pair of epochs.
func (a *FlowAccounts) Zones() iter.Seq[[]account.FlowRow] {
	return chunks(a.Rows, func(x, y account.FlowRow) bool { return x.Zone == y.Zone && x.Pair == y.Pair })
}

// FlowAccount gathers the transitions of tables of change into named processes.
func FlowAccount(ctx context.Context, env Env, o FlowOptions) (*FlowAccounts, error) {
	s, err := beginStatement(ctx, env, &o, &o.StatementOptions)
	if err != nil {
		return nil, err
	}
	if o.Flows == "" {
		return nil, fault.Misusef("", "", "nothing says which transitions are which process").By("name a table of flows (from,to,flow)", "flows", "FILE")
	}
	flows, err := s.flows(o.Flows)
	if err != nil {
		return nil, err
	}
	m, err := s.moves()
	if err != nil {
		return nil, err
	}
	if err := m.Matches(flows); err != nil {
		return nil, err
	}
	return &FlowAccounts{m.Flows(flows), s.out}, nil
}

// SeriesOptions are those of [Series].
type SeriesOptions struct{ StatementOptions }

// ExtentSeries are the extents of zones over epochs.
type ExtentSeries struct {
	*account.Extents
	*Terms
}

// Series lists the extents of each class in each zone over the epochs of long tables of extents.
func Series(ctx context.Context, env Env, o SeriesOptions) (*ExtentSeries, error) {
	s, err := beginStatement(ctx, env, &o, &o.StatementOptions)
	if err != nil {
		return nil, err
	}
	e, err := s.extents()
	if err != nil {
		return nil, err
	}
	if len(e.Epochs) < 2 {
		return nil, fault.Errorf("%s: there is one epoch only (%q), and a series takes several", strings.Join(o.Tables, ", "), e.Epochs[0]).
			By("name tables of several epochs; a measure labels each", "epoch", "LABEL")
	}
	return &ExtentSeries{e, s.out}, nil
}
