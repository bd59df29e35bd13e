package model

import (
	"iter"
	"math"
	"slices"

	"github.com/verdex-land/verdex/core/area"
	"github.com/verdex-land/verdex/core/change"

	"github.com/verdex-land/verdex/core/account"
	"github.com/verdex-land/verdex/core/cover"
)

// MoveZone is what the table of transitions says of a zone between two epochs. Areas are in the unit of the table.
type MoveZone struct {
	ID, Name, From, To string
	Moves              []Move
}

// Move is ground that went from one class to another. Codes are "" for ground that the epoch does not map.
type Move struct {
	From, FromName, To, ToName string
	Area                       float64
}

// Transitions is the table of transitions: a row for each pair of classes between which ground of a zone went. A move is shown when show holds,
// nil for all; percentages are of all moves of the zone.
func Transitions(title string, unit area.Unit, zones iter.Seq[*MoveZone], show func(*Move) bool) *Table {
	t := &Table{Name: "transitions", Title: title, Columns: transitionsKind.Columns, Count: -1}
	t.Rows = func(yield func([]any) bool) {
		row := make([]any, 0, len(t.Columns))
		for z := range zones {
			whole, opening := 0.0, map[string]float64{}
			for i := range z.Moves {
				m := &z.Moves[i]
				whole += m.Area
				if m.From != "" && m.To != "" {
					opening[m.From] += m.Area
				}
			}
			for i := range z.Moves {
				m := &z.Moves[i]
				if show != nil && !show(m) {
					continue
				}
				pct := math.NaN()
				if m.From != "" && m.To != "" {
					pct = area.Percent(m.Area, opening[m.From])
				}
				row = append(row[:0], z.ID, z.Name, z.From, z.To, m.From, m.FromName, m.To, m.ToName, m.Area, unit.Name, area.Percent(m.Area, whole), pct)
				if !yield(row) {
					return
				}
			}
		}
	}
	return t
}

// TransitionsOf is the table of transitions of changes, of those that are wanted.
func TransitionsOf(ch *change.Changes, keep func(change.Transition) bool) *Table {
	shown := map[*Move]bool{}
	return Transitions("Transitions between epochs", ch.Unit, func(yield func(*MoveZone) bool) {
		for _, c := range ch.Pairs {
			nowhere := int32(len(c.Legend.Classes))
			for i := range c.Zones {
				z := &c.Zones[i]
				out := MoveZone{ID: z.ID, Name: z.Name, From: c.Epochs[0], To: c.Epochs[1], Moves: make([]Move, 0, len(z.Transitions)+1)}
				clear(shown)
				add := func(x change.Transition, m Move) {
					out.Moves = append(out.Moves, m)
					if keep(x) {
						shown[&out.Moves[len(out.Moves)-1]] = true
					}
				}
				for _, x := range z.Transitions {
					from, mapped := c.Class(x.From)
					to, both := c.Class(x.To)
					add(x, Move{codeOf(from, mapped), from.Name, codeOf(to, both), to.Name, c.Area(x.Extent)})
				}
				if z.Outside > 0 {
					add(change.Transition{From: nowhere, To: nowhere}, Move{"", "outside", "", "outside", z.Outside})
				}
				if !yield(&out) {
					return
				}
			}
		}
	}, func(m *Move) bool { return shown[m] })
}

// codeOf is the code of a class as it stands in a table, "" for ground that is not mapped.
func codeOf(class cover.Class, mapped bool) string {
	if !mapped {
		return ""
	}
	return class.ID()
}

// eachZone makes a table of the zones of each pair of epochs.
func eachZone(k *Kind, title string, ch *change.Changes, rows func(c *change.Change, zone int, row func(cells ...any))) *Table {
	t := &Table{Name: k.Name, Title: title, Columns: k.Columns, Count: -1}
	t.Rows = func(yield func([]any) bool) {
		for _, c := range ch.Pairs {
			for i := range c.Zones {
				z, more := &c.Zones[i], true
				rows(c, i, func(cells ...any) {
					more = more && yield(append([]any{z.ID, z.Name, c.Epochs[0], c.Epochs[1]}, cells...))
				})
				if !more {
					return
				}
			}
		}
	}
	return t
}

// ChangeOf is the summary of changes: the account of each class in each zone.
func ChangeOf(ch *change.Changes) *Table {
	return eachZone(changesKind, "Change between epochs", ch,
		func(c *change.Change, zone int, row func(...any)) {
			z := &c.Zones[zone]
			for _, b := range c.Balances(z) {
				row(b.Class.ID(), b.Class.Name, b.OpeningArea, b.AdditionsArea, b.ReductionsArea, b.NetArea, b.ClosingArea, c.Unit.Name, b.PctChange, b.PctPerYear, b.PctYearly)
			}
			for _, a := range Apart(c, z) {
				row("", a.What, a.Opening, nil, nil, nil, a.Closing, c.Unit.Name, nil, nil, nil)
			}
		})
}

// ApartRow is ground that takes no part in a change. An area is NaN where the epoch does not map the ground.
type ApartRow struct {
	What             string
	Opening, Closing float64
}

// Apart is the ground of a zone that takes no part in a change.
func Apart(c *change.Change, z *change.ZoneChange) []ApartRow {
	nan := math.NaN()
	return []ApartRow{
		{"mapped in " + c.Epochs[0] + " only", z.OnlyFirst, nan},
		{"mapped in " + c.Epochs[1] + " only", nan, z.OnlySecond},
		{"mapped in neither", z.Neither, z.Neither},
		{"outside", z.Outside, z.Outside},
	}
}

// PartsOf is the table of the parts of change: quantity, exchange and shift of each class in each zone.
func PartsOf(ch *change.Changes) *Table {
	return eachZone(partsKind, "Parts of change", ch, func(c *change.Change, zone int, row func(...any)) {
		classes, whole := c.Parts(&c.Zones[zone])
		add := func(code, name string, p change.Parts) {
			row(code, name, p.GainArea, p.LossArea, p.NetArea, p.QuantityArea, p.ExchangeArea, p.ShiftArea, c.Unit.Name)
		}
		for _, p := range classes {
			add(p.Class.ID(), p.Class.Name, p)
		}
		add("", "all change", whole)
	})
}

// IntensityOf is the table of the intensity of change.
func IntensityOf(ch *change.Changes) *Table {
	return eachZone(intensityKind, "Intensity of change", ch,
		func(c *change.Change, zone int, row func(...any)) {
			for _, x := range c.Intensities(&c.Zones[zone], change.UniformRate(ch.Pairs, zone)) {
				var names [4]string
				for k, at := range []int32{x.From, x.To} {
					if at >= 0 {
						class, _ := c.Class(at)
						names[2*k], names[2*k+1] = class.ID(), class.Name
					}
				}
				per := "year"
				if x.PerPeriod {
					per = "period"
				}
				row(x.Level, names[0], names[1], names[2], names[3], x.Yearly, c.Unit.Name, x.Percent, x.Uniform, x.Stands, per)
			}
		})
}

// Square is the ground of a zone between two epochs by class at the first (rows) and at the second (columns); the last row and the last
// column are ground that the epoch does not map. Areas are in the unit of the statement.
type Square struct {
	Zone    cover.Named
	Pair    [2]string
	Classes []cover.Named // without the last
	Cells   []float64     // row by row
}

// NotMapped names ground that an epoch does not map.
const NotMapped = "not mapped"

// At is the ground that went from the i-th class to the j-th.
func (s *Square) At(i, j int) float64 { return s.Cells[i*(len(s.Classes)+1)+j] }

// Label names the i-th row or column.
func (s *Square) Label(i int) string {
	if i == len(s.Classes) {
		return NotMapped
	}
	return s.Classes[i].Label()
}

// Row is the sum of the i-th row: the extent at the first epoch.
func (s *Square) Row(i int) (sum float64) {
	for j := range len(s.Classes) + 1 {
		sum += s.At(i, j)
	}
	return sum
}

// Column is the sum of the j-th column: the extent at the second epoch.
func (s *Square) Column(j int) (sum float64) {
	for i := range len(s.Classes) + 1 {
		sum += s.At(i, j)
	}
	return sum
}

// Total is the sum of all.
func (s *Square) Total() (sum float64) {
	for _, v := range s.Cells {
		sum += v
	}
	return sum
}

// Shown are the rows and columns with ground.
func (s *Square) Shown() (out []int) {
	for i := range len(s.Classes) + 1 {
		if s.Row(i)+s.Column(i) > 0 {
			out = append(out, i)
		}
	}
	return out
}

// SquaresOf are the squares of changes, of the transitions that are wanted.
func SquaresOf(ch *change.Changes, keep func(change.Transition) bool) iter.Seq[*Square] {
	return func(yield func(*Square) bool) {
		for _, c := range ch.Pairs {
			classes := cover.NamedClasses(c.Legend)
			n := len(classes)
			for i := range c.Zones {
				z := &c.Zones[i]
				s := &Square{cover.Named{ID: z.ID, Name: z.Name}, c.Epochs, classes, make([]float64, (n+1)*(n+1))}
				for _, t := range z.Transitions {
					if keep(t) {
						s.Cells[int(t.From)*(n+1)+int(t.To)] += c.Area(t.Extent)
					}
				}
				if !yield(s) {
					return
				}
			}
		}
	}
}

// SquaresOfMoves are the squares of transitions from tables.
func SquaresOfMoves(m *account.Moves, unit area.Unit) iter.Seq[*Square] {
	n := len(m.Classes)
	at := map[string]int{"": n}
	for i, k := range m.Classes {
		at[k.ID] = i
	}
	type key struct {
		pair [2]string
		zone string
	}
	of := map[key][]account.Move{}
	for _, v := range m.Grouped() {
		if !v.Outside {
			of[key{v.Pair, v.Zone}] = append(of[key{v.Pair, v.Zone}], v)
		}
	}
	return func(yield func(*Square) bool) {
		for _, pair := range m.Pairs {
			for _, z := range m.Zones {
				s := &Square{z, pair, m.Classes, make([]float64, (n+1)*(n+1))}
				for _, v := range of[key{pair, z.ID}] {
					s.Cells[at[v.From]*(n+1)+at[v.To]] += v.M2 / unit.M2
				}
				if !yield(s) {
					return
				}
			}
		}
	}
}

// Matrix lays squares out as rows of a table, with totals.
func Matrix(classes []cover.Named, unit area.Unit, squares iter.Seq[*Square]) *Table {
	t := &Table{Name: "matrix", Title: "Transitions in " + unit.Label, Columns: slices.Clone(matrixKind.Columns[:6]), Count: -1}
	t.Columns = append(append(t.Columns, classColumns(classes)...), matrixKind.Columns[6:]...)
	t.Rows = func(yield func([]any) bool) {
		for s := range squares {
			n := len(s.Classes)
			for i := range n + 1 {
				code := ""
				if i < n {
					code = s.Classes[i].ID
				}
				row := []any{s.Zone.ID, s.Zone.Name, s.Pair[0], s.Pair[1], code, s.Label(i)}
				for j := range n + 1 {
					row = append(row, s.At(i, j))
				}
				if !yield(append(row, s.Row(i), unit.Name)) {
					return
				}
			}
			row := []any{s.Zone.ID, s.Zone.Name, s.Pair[0], s.Pair[1], "", "total"}
			for j := range n + 1 {
				row = append(row, s.Column(j))
			}
			if !yield(append(row, s.Total(), unit.Name)) {
				return
			}
		}
	}
	return t
}
