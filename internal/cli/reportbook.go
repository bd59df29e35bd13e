package cli

import (
	"math"
	"slices"

	"github.com/verdex-land/verdex/core/account"
	"github.com/verdex-land/verdex/core/check"
	"github.com/verdex-land/verdex/core/fault"
	"github.com/verdex-land/verdex/core/job"
	"github.com/verdex-land/verdex/core/text"
	vectors "github.com/verdex-land/verdex/core/vector/open"
	"github.com/verdex-land/verdex/internal/book"
	"github.com/verdex-land/verdex/internal/sheets"
)

// book fills the report from an account of a book.
func (b *reportBuilder) book() error {
	where, account := vectors.Split(b.o.From[0])
	a, err := job.Composition(b.ctx, b.env(), job.CompositionOptions{StatementOptions: job.StatementOptions{Tables: []string{b.o.From[0]}}})
	if err != nil {
		return err
	}
	if err := b.fits(len(a.Zones), len(a.Classes)); err != nil {
		return err
	}
	if b.out.Title == "" {
		b.out.Title = account
	}
	b.out.Source, b.out.Unit, b.out.UnitLabel, b.out.Epochs = "the account "+account+" of "+book.NameOf(where), a.Unit.Name, a.Unit.Label, a.Epochs
	for i, c := range a.Classes {
		b.classAt(c, sheets.ColorOf(a.Legend, i, c))
	}
	for _, z := range a.Zones {
		if a.IsUnit(z.ID) {
			continue
		}
		zone := b.zoneAt(z.ID, z.Name, math.NaN())
		for n, e := range a.Epochs {
			row := make([]float64, len(a.Classes))
			for k, c := range a.Classes {
				if row[k] = math.NaN(); a.Has(e, z.ID) {
					row[k] = a.Area(e, z.ID, c.ID) / a.Unit.M2
					zone.Area = a.Whole(e, z.ID) / a.Unit.M2
				}
			}
			b.setExtents(zone, n, row)
		}
	}
	for _, c := range a.Check(check.Bounds{}) {
		b.took("", []check.Check{c}, &job.Report{Notes: a.Notes})
	}
	if b.o.Change != "" {
		if err := b.bookChange(where, a.Unit.M2); err != nil {
			return err
		}
	}
	b.out.Method = []string{"The numbers are those of the postings that count in the book. verdex book show says who posted them, when and from which files; verdex book verify, whether they are as they were posted."}
	return nil
}

// bookChange takes in the transitions of an account of the book.
func (b *reportBuilder) bookChange(where string, unit float64) error {
	name := where + "#" + b.o.Change
	a, err := job.Matrix(b.ctx, b.env(), job.MatrixOptions{StatementOptions: job.StatementOptions{Tables: []string{name}}})
	if err != nil {
		return err
	}
	first, last := b.out.Epochs[0], b.out.Epochs[len(b.out.Epochs)-1]
	for _, z := range a.Zones {
		if _, known := b.zones[z.ID]; !known {
			return fault.Errorf("%s: it has the zone %s, which %s does not have: name accounts of the same zones", name, z.ID, b.o.From[0])
		}
	}
	if len(a.Zones) != len(b.zones) {
		return fault.Errorf("%s: it has %s, and %s has %d: name accounts of the same zones", name, text.Count(len(a.Zones), "zone"), b.o.From[0], len(b.zones))
	}
	at := map[string]int{}
	for i, c := range a.Classes {
		at[c.ID] = b.classAt(c, sheets.ColorOf(a.Legend, i, c))
	}
	for _, pair := range a.Pairs {
		if !slices.Contains(b.out.Epochs, pair[0]) || !slices.Contains(b.out.Epochs, pair[1]) {
			return fault.Errorf("%s: it compares %s with %s, of which %s has no extents: name accounts of the same epochs", name, pair[0], pair[1], b.o.From[0])
		}
		m := moved{from: pair[0], to: pair[1], whole: pair == [2]string{first, last}, cells: make([][]float64, len(b.classes))}
		for k := range m.cells {
			m.cells[k] = make([]float64, len(b.classes))
		}
		both := map[string][]account.Move{}
		for _, v := range a.Grouped() {
			if v.Pair != pair || v.Outside || v.From == "" || v.To == "" {
				continue
			}
			m.cells[at[v.From]][at[v.To]] += v.M2 / unit
			both[v.Zone] = append(both[v.Zone], v)
		}
		for _, z := range a.Zones {
			if m.whole {
				b.onBoth(z.ID, func(add func(from, to int, area float64)) {
					for _, v := range both[z.ID] {
						add(at[v.From], at[v.To], v.M2/unit)
					}
				})
			}
		}
		b.moves = append(b.moves, m)
	}
	b.took("", nil, a.Report)
	return nil
}
