package model

import (
	"fmt"
	"path/filepath"
	"slices"

	"github.com/verdex-land/verdex/core/summary"

	"github.com/verdex-land/verdex/core/account"
	"github.com/verdex-land/verdex/core/job"
)

// ExtentAccounts is the table of extent accounts. By zones, each entry has a row for each zone; otherwise each account has its entries.
func ExtentAccounts(a *job.ExtentAccounts, byZones bool) *Table {
	t := &Table{Name: "extent_account", Title: "Extent account in " + a.Unit.Label, Columns: slices.Clone(extentAccountKind.Columns[:5]), Count: -1}
	t.Columns = append(append(t.Columns, classColumns(a.Classes)...), extentAccountKind.Columns[5:]...)
	line := func(x *account.Statement, name string, values []float64, total float64) []any {
		cells := []any{x.Zone.ID, x.Zone.Name, x.Pair[0], x.Pair[1], name}
		for i := range a.Classes {
			if values == nil {
				cells = append(cells, nil)
				continue
			}
			cells = append(cells, values[i]/a.Unit.M2)
		}
		return append(cells, total/a.Unit.M2, a.Unit.Name)
	}
	t.Rows = func(yield func([]any) bool) {
		rest := func(x *account.Statement) bool {
			for _, r := range Rest(x) {
				if !yield(line(x, r.What, nil, r.M2)) {
					return false
				}
			}
			return true
		}
		for of := range a.Pairs() {
			if !byZones {
				for i := range of {
					for _, e := range of[i].Entries {
						if !yield(line(&of[i], e.Name, e.Values, e.Total)) {
							return
						}
					}
					if !rest(&of[i]) {
						return
					}
				}
				continue
			}
			for k := range of[0].Entries {
				for i := range of {
					if e := of[i].Entries[k]; !yield(line(&of[i], e.Name, e.Values, e.Total)) {
						return
					}
				}
			}
			for i := range of {
				if !rest(&of[i]) {
					return
				}
			}
		}
	}
	return t
}

// RestRow is ground of a zone that is not in its account, in m².
type RestRow struct {
	What string
	M2   float64
}

// Rest is the ground of a zone that is not in its account.
func Rest(x *account.Statement) (out []RestRow) {
	for _, a := range []RestRow{{"not in the account: mapped in " + x.Pair[0] + " only", x.OnlyFirst}, {"not in the account: mapped in " + x.Pair[1] + " only", x.OnlySecond},
		{"not in the account: mapped in neither", x.Neither}, {"not in the account: outside", x.Outside}} {
		if a.M2 > 0 {
			out = append(out, a)
		}
	}
	return out
}

// Compositions is the table of compositions, long or wide. Percentages are rounded to digits such that they sum to 100, unless that is negative.
func Compositions(c *job.Compositions, wide bool, digits int) *Table {
	t := &Table{Name: "composition", Title: "Composition of zones", Count: -1}
	if wide {
		t.Columns = append(slices.Clone(wideCompositionKind.Columns), classColumns(c.Classes)...)
		for _, n := range c.Classes {
			t.Columns = append(t.Columns, pctColumn(n.Label()))
		}
	} else {
		t.Columns = compositionKind.Columns
	}
	t.Rows = func(yield func([]any) bool) {
		for of := range c.Composition() {
			if digits >= 0 {
				account.RoundRows(of, digits)
			}
			if wide {
				row := []any{of[0].Epoch, of[0].Zone.ID, of[0].Zone.Name, c.Unit.Name}
				for _, r := range of {
					row = append(row, r.M2/c.Unit.M2)
				}
				for _, r := range of {
					row = append(row, r.PctOfZone)
				}
				if !yield(row) {
					return
				}
				continue
			}
			for _, r := range of {
				if !yield([]any{r.Epoch, r.Zone.ID, r.Zone.Name, r.Class.ID, r.Class.Name, r.M2 / c.Unit.M2, c.Unit.Name, r.PctOfZone, r.PctOfClassified, r.Rank}) {
					return
				}
			}
		}
	}
	return t
}

// Ranks is the table of zones by the extent of a class.
func Ranks(c *job.Compositions) *Table {
	var rows [][]any
	for _, r := range c.Ranks {
		rows = append(rows, []any{r.Epoch, r.Place, r.Zone.ID, r.Zone.Name, r.Class.ID, r.Class.Name, r.M2 / c.Unit.M2, c.Unit.Name, r.PctOfZone, r.PctOfClass})
	}
	return Of("rank", "Zones by extent of a class", rankKind.Columns, rows)
}

// Series is the table of extents over epochs.
func Series(s *job.ExtentSeries) *Table {
	t := &Table{Name: "series", Title: "Extents over the epochs", Count: -1,
		Columns: seriesKind.Columns}
	m2 := s.Unit.M2
	t.Rows = func(yield func([]any) bool) {
		row := make([]any, 0, len(t.Columns))
		for r := range s.Series() {
			row = append(row[:0], r.Zone.ID, r.Zone.Name, r.Class.ID, r.Class.Name, r.Epoch, r.M2/m2, s.Unit.Name, r.SinceFirst/m2, r.SincePrevious/m2,
				r.PctSinceFirst, r.PctSincePrevious, r.PctPerYearSinceFirst, r.PctPerYearSimple)
			if !yield(row) {
				return
			}
		}
	}
	return t
}

// Flows is the table of flows.
func Flows(a *job.FlowAccounts) *Table {
	var rows [][]any
	for _, r := range a.Rows {
		rows = append(rows, []any{r.Zone.ID, r.Zone.Name, r.Pair[0], r.Pair[1], r.Flow.Name, r.Flow.Managed, r.M2 / a.Unit.M2, a.Unit.Name, r.PctOfMapped, r.PctOfChanged})
	}
	return Of("flows", "Flows in "+a.Unit.Label, flowsKind.Columns, rows)
}

// Remaining is the account of land remaining in categories and converted to them.
func Remaining(a *job.RemainingAccount) *Table {
	t := &Table{Name: remainingKind.Name, Title: fmt.Sprintf("Land remaining and converted within %g years, in %s", a.Years, a.Unit.Label), Columns: remainingKind.Columns, Count: len(a.Rows)}
	t.Rows = func(yield func([]any) bool) {
		row := make([]any, 0, len(t.Columns))
		for _, r := range a.Rows {
			row = append(row[:0], r.Zone.ID, r.Zone.Name, r.Year, r.Category, r.Opening/a.Unit.M2)
			if r.From == nil {
				row = append(row, nil, nil, r.Closing/a.Unit.M2, nil, nil, nil, nil, nil, nil, nil, nil)
			} else {
				for _, v := range append([]float64{r.Additions, r.Reductions, r.Closing, r.Remaining, r.Converted}, r.From...) {
					row = append(row, v/a.Unit.M2)
				}
			}
			if !yield(append(row, a.Unit.Name)) {
				return
			}
		}
	}
	return t
}

// Accuracy is the table of accuracies and adjusted extents.
func Accuracy(a *job.Assessed) *Table {
	var rows [][]any
	n, m2 := 0, a.Unit.M2
	for i, k := range a.Classes {
		n += a.Samples[i]
		rows = append(rows, []any{k.ID, k.Name, a.Samples[i], a.Users[i].Value, a.Users[i].Half, a.Producers[i].Value, a.Producers[i].Half,
			a.Mapped[i] / m2, a.Adjusted[i].Value / m2, a.Adjusted[i].Half / m2, a.Unit.Name})
	}
	rows = append(rows, []any{"", "overall", n, a.Overall.Value, a.Overall.Half, nil, nil, nil, nil, nil, a.Unit.Name})
	return Of("accuracy", "Accuracy and adjusted extents",
		accuraciesKind.Columns, rows)
}

// ErrorMatrix is the error matrix in proportions of the area.
func ErrorMatrix(a *job.Assessed) *Table {
	columns := slices.Clone(errorMatrixKind.Columns[:2])
	for _, n := range a.Classes {
		columns = append(columns, Column{n.Label(), Number, "share", "share of the area that is " + n.Label() + " on the ground"})
	}
	columns = append(columns, Column{"total", Number, "share", "share of the area that is mapped as the class"}, errorMatrixKind.Columns[2])
	var rows [][]any
	for i, n := range a.Classes {
		row, total := []any{n.ID, n.Name}, 0.0
		for _, p := range a.Proportions[i] {
			row, total = append(row, p), total+p
		}
		rows = append(rows, append(row, total, a.Samples[i]))
	}
	return Of("error_matrix", "Error matrix in proportions of area", columns, rows)
}

// Summary is the table of statistics.
func Summary(s *job.Summarised) *Table {
	t := &Table{Name: "summary", Title: "Statistics of " + filepath.Base(s.Name), Columns: slices.Clone(summariesKind.Columns), Count: len(s.Rows)}
	if s.Classes {
		t.Columns = append(t.Columns, pick("class_code,class_name")...)
	}
	for _, stat := range s.Stats {
		unit := map[summary.Kind]string{summary.Cells: "cells", summary.Area: "area"}[stat.Kind]
		if t.Columns = append(t.Columns, Column{stat.Name, Number, unit, stat.Meaning}); stat.Kind == summary.Area {
			t.Columns = append(t.Columns, pick("unit")...)
		}
	}
	t.Rows = func(yield func([]any) bool) {
		for _, r := range s.Rows {
			z := s.Zones.Zones[r.Zone]
			cells := []any{z.ID, z.Name}
			if s.Classes {
				cells = append(cells, fmt.Sprint(r.Class), SummaryClass(s, r.Class))
			}
			for i := range r.Values {
				if cells = append(cells, Statistic(s, r, i)); s.Stats[i].Kind == summary.Area {
					cells = append(cells, s.Unit.Name)
				}
			}
			if !yield(cells) {
				return
			}
		}
	}
	return t
}

// Statistic is the i-th statistic of a row, areas in the unit.
func Statistic(s *job.Summarised, r summary.Row, i int) float64 {
	if s.Stats[i].Kind == summary.Area {
		return r.Values[i] / s.Unit.M2
	}
	return r.Values[i]
}

// SummaryClass is the name of a class of a summary, "" for none.
func SummaryClass(s *job.Summarised, code float64) string {
	if class, ok := s.Legend.Find(int(code)); ok {
		return class.Name
	}
	return ""
}
