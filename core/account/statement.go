// Package account makes statements that balance of tables of extents and transitions: extent accounts, compositions, flows and series.
package account

import (
	"cmp"
	"fmt"
	"iter"
	"math"
	"slices"
	"strings"

	"github.com/verdex-land/verdex/core/area"
	"github.com/verdex-land/verdex/core/epoch"
	"github.com/verdex-land/verdex/core/rows"

	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/text"
)

// Flows name processes: which transition belongs to which.
type Flows struct {
	Source string
	Notes  []string // what had to be assumed when the file was read
	lines  []flowLine
}

type flowLine struct {
	from, to []string // codes; nil for any
	Flow
}

// Flow is a process that moves ground between classes, and whether people manage it: "managed", "unmanaged" or "".
type Flow struct{ Name, Managed string }

// ReadFlows reads a CSV with the columns from, to, flow and optionally managed (yes or no) and note. from and to are a code, a list
// such as 3;4, or * for any class; the first line that fits a transition counts.
func ReadFlows(path string) (*Flows, error) {
	list, notes, err := rows.Read(path, []string{"from", "to", "flow"}, []string{"managed", "note"})
	if err != nil {
		return nil, err
	}
	f := &Flows{Source: path, Notes: notes}
	for _, r := range list {
		c := rows.Line{Path: path, Row: r}
		codes := func(name string) ([]string, error) {
			list := c.Text(name)
			if list == "*" {
				return nil, nil
			}
			var out []string
			for _, s := range strings.Split(list, ";") {
				if s = strings.TrimSpace(s); s == "" {
					return nil, c.Wrong("%q is no code, no list of codes such as 3;4, and no * for any class", list)
				}
				code, err := text.Code(s)
				if err != nil {
					return nil, c.Wrong("%v", err)
				}
				out = append(out, code)
			}
			return out, nil
		}
		l := flowLine{Flow: Flow{Name: c.Text("flow")}}
		if l.from, err = codes("from"); err != nil {
			return nil, err
		}
		if l.to, err = codes("to"); err != nil {
			return nil, err
		}
		if l.Name == "" {
			return nil, c.Wrong("the flow has no name")
		}
		switch c.Text("managed") {
		case "yes":
			l.Managed = "managed"
		case "no":
			l.Managed = "unmanaged"
		case "":
		default:
			return nil, c.Wrong("managed is %q: write yes or no, or leave it empty", c.Text("managed"))
		}
		for _, o := range f.lines {
			if o.Name == l.Name && o.Managed != l.Managed {
				return nil, c.Wrong("the flow %q is managed in one line and not in another", l.Name)
			}
		}
		f.lines = append(f.lines, l)
	}
	if len(f.lines) == 0 {
		return nil, fmt.Errorf("%s: it names no flows", path)
	}
	return f, nil
}

// OtherChange is the flow of transitions that no line fits.
const OtherChange = "other change"

// Of is the flow of a transition between two classes.
func (f *Flows) Of(from, to string) Flow {
	for _, l := range f.lines {
		if (l.from == nil || slices.Contains(l.from, from)) && (l.to == nil || slices.Contains(l.to, to)) {
			return l.Flow
		}
	}
	return Flow{Name: OtherChange}
}

// Names are the flows in the order of the table, and at the end what belongs to none.
func (f *Flows) Names() []Flow {
	var out []Flow
	for _, l := range f.lines {
		if !slices.Contains(out, l.Flow) {
			out = append(out, l.Flow)
		}
	}
	return append(out, Flow{Name: OtherChange})
}

// Managed reports whether the table says of any flow whether it is managed.
func (f *Flows) Managed() bool {
	return slices.ContainsFunc(f.lines, func(l flowLine) bool { return l.Managed != "" })
}

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
// flows, additions and reductions are told by managed and unmanaged, where the table says so, or by flow.
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

// FlowRow is how much ground of a zone a flow moved.
type FlowRow struct {
	Zone         cover.Named
	Pair         [2]string
	Flow         Flow
	M2           float64
	PctOfMapped  float64 // of the ground that both epochs map
	PctOfChanged float64 // of what changed its class; NaN for what did not
}

// NoChange is the row of ground that stayed in its class.
const NoChange = "no change"

// Flows gathers what moved into flows, zone by zone, and in all zones together where there are several.
func (m *Moves) Flows(f *Flows) []FlowRow {
	names := append(f.Names(), Flow{Name: NoChange})
	at := map[Flow]int{}
	for i, n := range names {
		at[n] = i
	}
	zones := slices.Clone(m.Zones)
	if len(zones) > 1 {
		zones = append(zones, AllZones)
	}
	var out []FlowRow
	for _, pair := range m.Pairs {
		sums := map[string][]float64{}
		for _, z := range zones {
			sums[z.ID] = make([]float64, len(names))
		}
		for _, v := range m.List {
			if v.Pair != pair || v.From == "" || v.To == "" {
				continue
			}
			i := len(names) - 1
			if v.From != v.To {
				i = at[f.Of(v.From, v.To)]
			}
			sums[v.Zone][i] += v.M2
			if len(m.Zones) > 1 {
				sums[AllZones.ID][i] += v.M2
			}
		}
		for _, z := range zones {
			mapped := 0.0
			for _, v := range sums[z.ID] {
				mapped += v
			}
			changed := mapped - sums[z.ID][len(names)-1]
			for i, n := range names {
				v := sums[z.ID][i]
				if v == 0 && n.Name == OtherChange {
					continue
				}
				r := FlowRow{z, pair, n, v, area.Percent(v, mapped), math.NaN()}
				if n.Name != NoChange {
					r.PctOfChanged = area.Percent(v, changed)
				}
				out = append(out, r)
			}
		}
	}
	return out
}

// CompositionRow is a class in a zone at an epoch.
type CompositionRow struct {
	Epoch           string
	Zone, Class     cover.Named
	M2              float64
	PctOfZone       float64
	PctOfClassified float64
	Rank            int // by area within the zone; 1 is the largest
}

// Composition lists the classes of each zone and epoch in the order of the classes, and all zones together at the end of each epoch where
// there are several. The rows of a zone come together and serve until the next ones.
func (e *Extents) Composition() iter.Seq[[]CompositionRow] {
	return func(yield func([]CompositionRow) bool) {
		rows, areas := make([]CompositionRow, len(e.Classes)), make([]float64, len(e.Classes))
		for _, epoch := range e.Epochs {
			total := make([]float64, len(e.Classes))
			whole, zones := 0.0, 0
			for _, z := range e.Zones {
				if !e.Has(epoch, z.ID) {
					continue
				}
				for i, c := range e.Classes {
					areas[i] = e.Area(epoch, z.ID, c.ID)
				}
				compose(rows, epoch, z, e.Classes, areas, e.Whole(epoch, z.ID))
				if !yield(rows) {
					return
				}
				if e.units[z.ID] {
					continue
				}
				for i, a := range areas {
					total[i] += a
				}
				whole, zones = whole+e.Whole(epoch, z.ID), zones+1
			}
			if zones > 1 {
				if compose(rows, epoch, AllZones, e.Classes, total, whole); !yield(rows) {
					return
				}
			}
		}
	}
}

// compose fills the rows of a zone from the areas of its classes, in m².
func compose(rows []CompositionRow, epoch string, z cover.Named, classes []cover.Named, areas []float64, whole float64) {
	classified := 0.0
	for _, a := range areas {
		classified += a
	}
	for i, c := range classes {
		rows[i] = CompositionRow{epoch, z, c, areas[i], area.Percent(areas[i], whole), area.Percent(areas[i], classified), 1}
		for k, a := range areas {
			if a > areas[i] || a == areas[i] && k < i {
				rows[i].Rank++
			}
		}
	}
}

// RoundRows rounds the percentages of the rows of a zone such that they sum to what they sum to, as [RoundToSum] does.
func RoundRows(rows []CompositionRow, digits int) {
	zone, classified := make([]float64, len(rows)), make([]float64, len(rows))
	for i, r := range rows {
		zone[i], classified[i] = r.PctOfZone, r.PctOfClassified
	}
	zone, classified = RoundToSum(zone, digits), RoundToSum(classified, digits)
	for i := range rows {
		rows[i].PctOfZone, rows[i].PctOfClassified = zone[i], classified[i]
	}
}

// RankRow is a zone among those of an epoch, by the extent of one class.
type RankRow struct {
	CompositionRow
	Place      int     // 1 is the largest
	PctOfClass float64 // of the class in all zones
}

// RankZones ranks the zones of each epoch by the extent of a class, the largest first.
func (e *Extents) RankZones(class cover.Named) (out []RankRow) {
	byEpoch := map[string][]CompositionRow{}
	total := map[string]float64{}
	for rows := range e.Composition() {
		for _, r := range rows {
			if r.Class == class && r.Zone != AllZones {
				byEpoch[r.Epoch] = append(byEpoch[r.Epoch], r)
				total[r.Epoch] += r.M2
			}
		}
	}
	for _, epoch := range e.Epochs {
		of := byEpoch[epoch]
		slices.SortStableFunc(of, func(a, b CompositionRow) int { return cmp.Compare(b.M2, a.M2) })
		for k, r := range of {
			out = append(out, RankRow{r, k + 1, area.Percent(r.M2, total[epoch])})
		}
	}
	return out
}

// RoundToSum rounds numbers to a number of decimals such that the rounded ones sum to their rounded sum: those with the largest
// remainders are rounded up (Hamilton's method).
func RoundToSum(values []float64, digits int) []float64 {
	scale := math.Pow(10, float64(digits))
	sum := 0.0
	out := make([]float64, len(values))
	order := make([]int, len(values))
	left := 0.0
	for i, v := range values {
		sum += v
		out[i] = math.Floor(v*scale + 1e-9)
		left -= out[i]
		order[i] = i
	}
	left += math.Round(sum * scale)
	slices.SortStableFunc(order, func(a, b int) int {
		x, y := values[a]*scale-out[a], values[b]*scale-out[b]
		switch {
		case x > y:
			return -1
		case x < y:
			return 1
		}
		return 0
	})
	for k := 0; k < int(left) && k < len(order); k++ {
		out[order[k]]++
	}
	for i := range out {
		out[i] /= scale
	}
	return out
}

// SeriesRow is the extent of a class in a zone at an epoch, beside earlier ones. Differences are NaN at the first epoch.
type SeriesRow struct {
	Zone, Class                            cover.Named
	Epoch                                  string
	M2                                     float64
	SinceFirst, SincePrevious              float64 // m²
	PctSinceFirst, PctSincePrevious        float64
	PctPerYearSinceFirst, PctPerYearSimple float64 // simple, NaN where labels are no dates
}

// Series lists the extents of each class in each zone over the epochs.
func (e *Extents) Series() iter.Seq[SeriesRow] {
	return func(yield func(SeriesRow) bool) {
		zones := slices.Clone(e.Zones)
		if len(zones)-len(e.units) > 1 {
			zones = append(zones, AllZones)
		}
		for _, z := range zones {
			for _, c := range e.Classes {
				for _, r := range e.seriesOf(z, c) {
					if !yield(r) {
						return
					}
				}
			}
		}
	}
}

// areaOf is the extent of a class in a zone, or in all zones together, and whether there is one.
func (e *Extents) areaOf(epoch string, z, c cover.Named) (float64, bool) {
	if z != AllZones {
		return e.Area(epoch, z.ID, c.ID), e.Has(epoch, z.ID)
	}
	sum := 0.0
	for _, one := range e.Zones {
		if !e.units[one.ID] {
			sum += e.Area(epoch, one.ID, c.ID)
		}
	}
	return sum, true
}

// seriesOf lists the extents of one class in one zone over the epochs.
func (e *Extents) seriesOf(z, c cover.Named) (out []SeriesRow) {
	nan := math.NaN()
	var first, previous SeriesRow
	for _, at := range e.Epochs {
		a, ok := e.areaOf(at, z, c)
		if !ok {
			continue
		}
		r := SeriesRow{z, c, at, a, nan, nan, nan, nan, nan, nan}
		if out == nil {
			first = r
		} else {
			r.SinceFirst, r.SincePrevious = a-first.M2, a-previous.M2
			r.PctSinceFirst, r.PctPerYearSinceFirst, _ = epoch.Rates(first.M2, a, a-first.M2, epoch.Years(first.Epoch, at))
			r.PctSincePrevious, r.PctPerYearSimple, _ = epoch.Rates(previous.M2, a, a-previous.M2, epoch.Years(previous.Epoch, at))
		}
		previous = r
		out = append(out, r)
	}
	return out
}
