// Package account makes statements that balance of tables of extents and transitions: extent accounts, compositions, flows and series.
package account

import (
	"slices"

	"github.com/verdex-land/verdex/core/cover"
)

// OtherChange is the flow of transitions that no line fits.
const OtherChange = "other change"

// Statement is the extent account of a zone between two epochs, on the ground that both map.
type Statement struct {
	Zone    cover.Named
	Pair    [2]string
	Entries []Entry
	// Ground that takes no part, in m².
	OnlyFirst, OnlySecond, Neither, Outside float64
}

// Entry is a line of an account, in m² by class and in all.
type Entry struct {
	Name   string
	Kind   EntryKind
	Values []float64
	Total  float64
}

// EntryKind is what a line of an account is.
type EntryKind int

// The lines of an extent account, as in the ecosystem extent account of the System of Environmental-Economic Accounting
// (United Nations and others 2021, table 4.1): opening + additions − reductions = closing.
const (
	Opening  EntryKind = iota
	Addition           // a kind of addition
	Additions
	Reduction // a kind of reduction
	Reductions
	NetChange
	Closing
)

// AllZones is the zone of totals.
var AllZones = cover.Named{ID: "", Name: "all zones"}

// NotAssigned ends the names of entries for what no line of flows says is managed or not.
const NotAssigned = "not assigned"

// Statements makes the extent accounts of all zones and pairs of epochs, and of all zones together where there are several. With
// flows, additions and reductions are divided into managed and unmanaged, where the table says so, or by flow.
func (m *Moves) Statements(f *Flows) []Statement {
	var kinds []string
	kindOf := func(from, to string) int { return -1 }
	if f != nil {
		managed := f.Managed()
		label := func(x Flow) string {
			switch {
			case !managed:
				return x.Name
			case x.Managed == "":
				return NotAssigned
			}
			return x.Managed
		}
		for _, x := range f.Names() {
			if l := label(x); !slices.Contains(kinds, l) {
				kinds = append(kinds, l)
			}
		}
		kindOf = func(from, to string) int { return slices.Index(kinds, label(f.Of(from, to))) }
	}
	at := map[string]int{}
	for i, c := range m.Classes {
		at[c.ID] = i
	}
	zoneAt := map[string]int{}
	zones := slices.Clone(m.Zones)
	for i, z := range zones {
		zoneAt[z.ID] = i
	}
	if len(zones) > 1 {
		zones = append(zones, AllZones)
	}
	var out []Statement
	for _, pair := range m.Pairs {
		first := len(out)
		n, k := len(m.Classes), len(kinds)
		add := func(name string, kind EntryKind) Entry {
			return Entry{Name: name, Kind: kind, Values: make([]float64, n)}
		}
		for _, z := range zones {
			s := Statement{Zone: z, Pair: pair, Entries: []Entry{add("Opening extent "+pair[0], Opening)}}
			for _, name := range kinds {
				s.Entries = append(s.Entries, add("Additions, "+name, Addition))
			}
			s.Entries = append(s.Entries, add("Additions to extent", Additions))
			for _, name := range kinds {
				s.Entries = append(s.Entries, add("Reductions, "+name, Reduction))
			}
			s.Entries = append(s.Entries, add("Reductions in extent", Reductions), add("Net change", NetChange), add("Closing extent "+pair[1], Closing))
			out = append(out, s)
		}
		post := func(s *Statement, v Move) {
			first, second := m.ends(v)
			from, mapped := at[first]
			to, both := at[second]
			switch {
			case v.Outside:
				s.Outside += v.M2
			case mapped && both:
				s.Entries[0].Values[from] += v.M2
				s.Entries[2*k+4].Values[to] += v.M2
				if from == to {
					return
				}
				if i := kindOf(v.From, v.To); i >= 0 {
					s.Entries[1+i].Values[to] += v.M2
					s.Entries[2+k+i].Values[from] += v.M2
				}
				s.Entries[1+k].Values[to] += v.M2
				s.Entries[2*k+2].Values[from] += v.M2
			case mapped:
				s.OnlyFirst += v.M2
			case both:
				s.OnlySecond += v.M2
			default:
				s.Neither += v.M2
			}
		}
		for _, v := range m.List {
			if v.Pair == pair {
				post(&out[first+zoneAt[v.Zone]], v)
				if len(zones) > len(m.Zones) {
					post(&out[len(out)-1], v)
				}
			}
		}
		for i := first; i < len(out); i++ {
			e := out[i].Entries
			for c := range n {
				e[2*k+3].Values[c] = e[2*k+4].Values[c] - e[0].Values[c]
			}
			for j := range e {
				for _, v := range e[j].Values {
					e[j].Total += v
				}
			}
			e[2*k+3].Total = e[2*k+4].Total - e[0].Total
		}
	}
	return out
}

// NoChange is the row of ground that stayed in its class.
const NoChange = "no change"
