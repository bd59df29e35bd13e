package account

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"github.com/verdex-land/verdex/core/area"
	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/rows"
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
func ReadFlows(from files.System, path string) (*Flows, error) {
	list, notes, err := rows.Read(from, path, []string{"from", "to", "flow"}, []string{"managed", "note"})
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
					return nil, c.Wrong("%q is not a code, a list of codes such as 3;4, or * for any class", list)
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

// FlowRow is how much ground of a zone a flow moved.
type FlowRow struct {
	Zone         cover.Named
	Pair         [2]string
	Flow         Flow
	M2           float64
	PctOfMapped  float64 // of the ground that both epochs map
	PctOfChanged float64 // of what changed its class; NaN for what did not
}

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
			if from, to := m.ends(v); from != to { // within a group nothing changes
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
