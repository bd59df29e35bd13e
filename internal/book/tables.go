package book

import (
	"cmp"
	"fmt"
	"iter"
	"slices"
	"strconv"
	"strings"

	"github.com/verdex-land/verdex/core/area"
	"github.com/verdex-land/verdex/core/check"
	"github.com/verdex-land/verdex/core/rows"

	"github.com/verdex-land/verdex/core/account"
	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/internal/model"
)

// The rows of postings as the tables that measure and change write, and the accounts that are made of them.

// List is a list of postings with their rows.
type List []*Posting

// Those are the postings for which a function holds.
func (l List) Those(hold func(*Posting) bool) (out List) {
	for _, p := range l {
		if hold(p) {
			out = append(out, p)
		}
	}
	return out
}

// OfKind are the postings of a kind.
func (l List) OfKind(kind string) List {
	return l.Those(func(p *Posting) bool { return p.Kind == kind })
}

// OfAccount are the postings of an account.
func (l List) OfAccount(name string) List {
	return l.Those(func(p *Posting) bool { return p.Account == name })
}

// OnSet are the postings on a zone set.
func (l List) OnSet(name string) List {
	return l.Those(func(p *Posting) bool { return p.ZoneSet.Name == name })
}

// Accounts are the names of the accounts.
func (l List) Accounts() []string { return l.names(func(p *Posting) string { return p.Account }) }

// ZoneSets are the names of the zone sets.
func (l List) ZoneSets() []string { return l.names(func(p *Posting) string { return p.ZoneSet.Name }) }

func (l List) names(of func(*Posting) string) (out []string) {
	for _, p := range l {
		if n := of(p); !slices.Contains(out, n) {
			out = append(out, n)
		}
	}
	return out
}

// ByEpoch are the postings in the order of their last epochs, and of posting where these are the same.
func (l List) ByEpoch() List {
	out := slices.Clone(l)
	slices.SortStableFunc(out, func(a, b *Posting) int { return strings.Compare(a.Epoch, b.Epoch) })
	return out
}

// HasClasses reports whether the postings of a kind have ground in some class, of which accounts are made.
func (l List) HasClasses(kind string) bool {
	for _, p := range l.OfKind(kind) {
		if slices.ContainsFunc(p.Extents, func(e Extent) bool { return e.Kind == "class" }) ||
			slices.ContainsFunc(p.Moves, func(m Move) bool { return m.From != "" || m.To != "" }) {
			return true
		}
	}
	return false
}

// Legend is the legend of the postings as jobs use it: that of the last epoch, and behind it classes that only earlier ones have; nil
// when codes are not numbers.
func (l List) Legend() *cover.Legend {
	var classes []cover.Class
	seen := map[string]bool{}
	l = l.ByEpoch()
	for k := len(l) - 1; k >= 0; k-- {
		for _, c := range l[k].Legend.Classes {
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
	legend, err := cover.NewLegend(l[len(l)-1].Legend.Name, classes)
	if err != nil {
		return nil
	}
	return legend
}

// legendOrder gives the place of each class of a posting's legend.
func (p *Posting) legendOrder() map[string]int {
	out := make(map[string]int, len(p.Legend.Classes))
	for i, c := range p.Legend.Classes {
		out[c.Code] = i
	}
	return out
}

// KindNames are the names of ground of no class, and kindOrder the order of rows.
var (
	KindNames = map[string]string{"nodata": "no data", "unlisted": "not in the legend", "outside": "outside the raster"}
	kindOrder = map[string]int{"class": 0, "nodata": 1, "unlisted": 2, "outside": 3}
)

// Zones are the zones of a posting of extents, with their parts in the order of tables and in a unit. A zone serves until the next one.
func (p *Posting) Zones(unit area.Unit) iter.Seq[*model.Zone] {
	return func(yield func(*model.Zone) bool) {
		order := p.legendOrder()
		var out model.Zone
		out.Epoch = p.Epoch
		for from := 0; from < len(p.Extents); {
			zone := p.Extents[from].Zone
			z := &p.ZoneSet.Zones[zone]
			out.ID, out.Name, out.WithinID, out.WithinName, out.Parts = z.ID, z.Name, z.WithinID, z.WithinName, out.Parts[:0]
			for ; from < len(p.Extents) && p.Extents[from].Zone == zone; from++ {
				e := &p.Extents[from]
				name := KindNames[e.Kind]
				if i, ok := order[e.Code]; ok && e.Kind == "class" {
					name = p.Legend.Classes[i].Name
				}
				out.Parts = append(out.Parts, model.Part{Kind: e.Kind, Code: e.Code, Name: name, Area: e.M2 / unit.M2, Cells: e.Cells, Nominal: e.Nominal / unit.M2})
			}
			slices.SortStableFunc(out.Parts, func(a, b model.Part) int {
				return cmp.Or(cmp.Compare(kindOrder[a.Kind], kindOrder[b.Kind]), cmp.Compare(order[a.Code], order[b.Code]))
			})
			if !yield(&out) {
				return
			}
		}
	}
}

// within reports whether some zone of a posting lies in a larger unit.
func (p *Posting) within() bool {
	return slices.ContainsFunc(p.ZoneSet.Zones, func(z Zone) bool { return z.WithinID != "" })
}

// Extents is the long table of the postings of extents.
func (l List) Extents(unit area.Unit) *model.Table {
	count := 0
	for _, p := range l {
		count += len(p.Extents)
	}
	return model.Extents(unit, slices.ContainsFunc(l, (*Posting).within), count, func(yield func(*model.Zone) bool) {
		for _, p := range l {
			for z := range p.Zones(unit) {
				if !yield(z) {
					return
				}
			}
		}
	})
}

// MoveZones are the zones of a posting of change, with their moves in the order of tables and in a unit. A zone serves until the next one.
func (p *Posting) MoveZones(unit area.Unit) iter.Seq[*model.MoveZone] {
	return func(yield func(*model.MoveZone) bool) {
		order := p.legendOrder()
		place := func(code string) int {
			if i, ok := order[code]; ok {
				return i
			}
			return len(order)
		}
		name := func(code, kind string) string {
			if i, ok := order[code]; ok && code != "" {
				return p.Legend.Classes[i].Name
			}
			switch {
			case code != "":
				return ""
			case kind == "outside":
				return "outside"
			}
			return model.NotMapped
		}
		out := model.MoveZone{From: p.From, To: p.Epoch}
		for from := 0; from < len(p.Moves); {
			zone := p.Moves[from].Zone
			to := from
			for to < len(p.Moves) && p.Moves[to].Zone == zone {
				to++
			}
			rows := slices.Clone(p.Moves[from:to])
			from = to
			slices.SortStableFunc(rows, func(a, b Move) int {
				return cmp.Or(cmp.Compare(a.Kind, b.Kind), cmp.Compare(place(a.From), place(b.From)), cmp.Compare(place(a.To), place(b.To)))
			})
			out.ID, out.Name, out.Moves = p.ZoneSet.Zones[zone].ID, p.ZoneSet.Zones[zone].Name, out.Moves[:0]
			for _, m := range rows {
				out.Moves = append(out.Moves, model.Move{From: m.From, FromName: name(m.From, m.Kind), To: m.To, ToName: name(m.To, m.Kind), Area: m.M2 / unit.M2})
			}
			if !yield(&out) {
				return
			}
		}
	}
}

// Transitions is the table of transitions of the postings of change.
func (l List) Transitions(unit area.Unit) *model.Table {
	return model.Transitions("Transitions in "+unit.Label, unit, func(yield func(*model.MoveZone) bool) {
		for _, p := range l {
			for z := range p.MoveZones(unit) {
				if !yield(z) {
					return
				}
			}
		}
	}, nil)
}

// Reader reads the tables of the postings instead of files. Zones and classes that were renamed from one posting to another have the
// name that they have at the last epoch.
func (l List) Reader() account.Reader {
	zones, classes := map[string]string{}, map[string]string{}
	for _, p := range l.ByEpoch() {
		for _, z := range p.ZoneSet.Zones {
			zones[z.ID] = z.Name
		}
		for _, c := range p.Legend.Classes {
			classes[c.Code] = c.Name
		}
	}
	m2 := area.Units[1]
	return func(name string, needed, optional []string, each func(rows.Row) error) ([]string, error) {
		kind := OfExtents
		if slices.Contains(needed, "from_code") {
			kind = OfChange
		}
		of := l.OfKind(kind)
		if len(of) == 0 {
			return nil, fmt.Errorf("%s: the account has no %s", name, kind)
		}
		row := rows.Row{Cell: map[string]string{"unit": m2.Name}}
		set := func(v float64, texts ...string) error {
			row.Line++
			row.Cell["area"] = strconv.FormatFloat(v, 'f', -1, 64)
			for i := 0; i < len(texts); i += 2 {
				row.Cell[texts[i]] = texts[i+1]
			}
			return each(row)
		}
		named := func(code, name string) string {
			if n, ok := classes[code]; ok && code != "" {
				return n
			}
			return name
		}
		for _, p := range of {
			for z := range p.Zones(m2) {
				for i := range z.Parts {
					part := &z.Parts[i]
					class := part.Name
					if part.Kind == "class" {
						class = named(part.Code, class)
					}
					if err := set(part.Area, "epoch", z.Epoch, "zone_id", z.ID, "zone_name", zones[z.ID], "kind", part.Kind, "class_code", part.Code, "class_name", class, "within_id", z.WithinID); err != nil {
						return nil, err
					}
				}
			}
			for z := range p.MoveZones(m2) {
				for i := range z.Moves {
					m := &z.Moves[i]
					err := set(m.Area, "from_epoch", z.From, "to_epoch", z.To, "zone_id", z.ID, "zone_name", zones[z.ID],
						"from_code", m.From, "from_name", named(m.From, m.FromName), "to_code", m.To, "to_name", named(m.To, m.ToName))
					if err != nil {
						return nil, err
					}
				}
			}
		}
		return nil, nil
	}
}

// ReadExtents are the extents of the postings over their epochs.
func (l List) ReadExtents(legend *cover.Legend) (*account.Extents, error) {
	e, err := account.ReadExtents(l.Accounts(), l.Reader())
	if err == nil {
		e.Classes, err = account.Arrange(e.Classes, legend)
	}
	return e, err
}

// ReadMoves are the transitions of the postings.
func (l List) ReadMoves(legend *cover.Legend) (*account.Moves, error) {
	m, err := account.ReadMoves(l.Accounts(), l.Reader())
	if err == nil {
		m.Classes, err = account.Arrange(m.Classes, legend)
	}
	return m, err
}

// Check makes the checks of accounts of the postings, with the usual limits.
func (l List) Check() (out []check.Check, err error) {
	for _, name := range l.Accounts() {
		its := l.OfAccount(name)
		for _, set := range its.ZoneSets() {
			of := its.OnSet(set)
			if of.HasClasses(OfExtents) {
				e, err := of.ReadExtents(nil)
				if err != nil {
					return nil, err
				}
				out = append(out, e.Check(check.Defaults)...)
			}
			if of.HasClasses(OfChange) {
				m, err := of.ReadMoves(nil)
				if err != nil {
					return nil, err
				}
				out = append(out, account.CheckStatements(m.Statements(nil), m.Classes, check.Defaults)...)
			}
		}
	}
	return out, nil
}

// Account is what a book holds of an account, kind and zone set.
type Account struct {
	Account, Kind, ZoneSet string
	Epochs                 []string // of the postings that count
	Postings               int
	Rows                   int      // of those that count
	Last                   *Posting // that counts, or the last of all
}

// Summarise gathers postings by account, kind and zone set.
func Summarise(all List) (out []*Account) {
	type key struct{ account, kind, set string }
	at := map[key]*Account{}
	for _, p := range all {
		k := key{p.Account, p.Kind, p.ZoneSet.Name}
		a := at[k]
		if a == nil {
			a = &Account{Account: p.Account, Kind: p.Kind, ZoneSet: p.ZoneSet.Name}
			at[k] = a
			out = append(out, a)
		}
		a.Postings++
		switch {
		case p.Current():
			a.Epochs, a.Rows, a.Last = append(a.Epochs, p.Period()), a.Rows+p.RowCount, p
		case a.Rows == 0:
			a.Last = p
		}
	}
	for _, a := range out {
		slices.Sort(a.Epochs)
	}
	slices.SortStableFunc(out, func(a, b *Account) int { return strings.Compare(a.Account, b.Account) })
	return out
}

// AccountTable is the table of the accounts of a book.
func AccountTable(name string, accounts []*Account) *model.Table {
	var rows [][]any
	for _, a := range accounts {
		rows = append(rows, []any{a.Account, a.Kind, a.ZoneSet, strings.Join(a.Epochs, ", "), a.Last.Legend.Label(), a.Postings, a.Rows, a.Last.Author, a.Last.At})
	}
	return model.BookAccounts("Accounts of "+name, rows)
}

// State is whether a posting counts, and why not.
func (p *Posting) State() (state, why string) {
	switch {
	case p.Void != "":
		return "void", p.Void
	case p.Successor != 0:
		return "superseded", fmt.Sprintf("by %d", p.Successor)
	}
	return "current", ""
}

// HistoryTable is the table of the postings of a book.
func HistoryTable(name string, all List) *model.Table {
	var rows [][]any
	for _, p := range all {
		state, why := p.State()
		rows = append(rows, []any{int(p.ID), p.Account, p.Kind, p.From, p.Epoch, p.ZoneSet.Name, p.Legend.Name, p.RowCount, p.Author, p.At, state, why, p.Note, p.Program, p.Command, p.Content})
	}
	return model.BookHistory("Postings of "+name, rows)
}

// DiffTable is the table of the numbers that differ between two postings.
func DiffTable(two [2]*Posting, moved []Moved, unit area.Unit) *model.Table {
	var rows [][]any
	for _, m := range moved {
		rows = append(rows, []any{m.Zone.ID, m.Zone.Name, m.Kind, m.From, m.To, m.Name, m.Before / unit.M2, m.After / unit.M2, (m.After - m.Before) / unit.M2, unit.Name})
	}
	return model.BookDiff(fmt.Sprintf("From posting %d to %d", two[0].ID, two[1].ID), rows)
}
