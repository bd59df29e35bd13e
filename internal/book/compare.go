package book

import (
	"fmt"
	"math"
	"strings"

	"github.com/verdex-land/verdex/core/text"
)

// Moved is a number that differs between two postings, in m²; NaN where a posting has no such row.
type Moved struct {
	Zone          Zone
	Kind          string
	From, To      string // codes; of extents From is "" and To the class
	Name          string
	Before, After float64
}

// Compare lists what differs from one posting to another: rows that one of them has alone, and rows whose areas differ by
// more than rounding. Rows are told apart by the ids of zones and the codes of classes.
func Compare(a, b *Posting) []Moved {
	whole := map[string]float64{}
	type key struct{ zone, kind, from, to string }
	var order []key
	values := map[key][2]float64{}
	names, zones := map[string]string{}, map[string]Zone{}
	add := func(side int, p *Posting, zone int, kind, from, to string, m2 float64) {
		z := p.ZoneSet.Zones[zone]
		k := key{z.ID, kind, from, to}
		v, ok := values[k]
		if !ok {
			order = append(order, k)
			v = [2]float64{math.NaN(), math.NaN()}
		}
		v[side] = m2
		values[k] = v
		zones[z.ID] = z
		whole[z.ID] += math.Abs(m2)
	}
	for side, p := range []*Posting{a, b} {
		for _, c := range p.Legend.Classes {
			names[c.Code] = c.Name
		}
		for _, e := range p.Extents {
			add(side, p, e.Zone, e.Kind, "", e.Code, e.M2)
		}
		for _, m := range p.Moves {
			add(side, p, m.Zone, m.Kind, m.From, m.To, m.M2)
		}
	}
	name := func(code string) string {
		if code == "" {
			return "not mapped"
		}
		if n := names[code]; n != "" {
			return n
		}
		return code
	}
	var out []Moved
	for _, k := range order {
		v := values[k]
		if math.Abs(v[0]-v[1]) <= rounding*whole[k.zone] {
			continue
		}
		m := Moved{Zone: zones[k.zone], Kind: k.kind, From: k.from, To: k.to, Before: v[0], After: v[1]}
		switch {
		case k.kind == "class":
			m.Name = name(k.to)
		case k.kind == "ground":
			m.Name = name(k.from) + " → " + name(k.to)
		default:
			m.Name = strings.TrimSpace(k.kind + " " + k.to)
		}
		if !(v[0] == 0 && math.IsNaN(v[1]) || v[1] == 0 && math.IsNaN(v[0])) { // a row of nothing says nothing
			out = append(out, m)
		}
	}
	return out
}

// Summary says in half a sentence how much differs.
func Summary(moved []Moved) string {
	if len(moved) == 0 {
		return " with the same areas, but other names or marks"
	}
	zones, most := map[string]bool{}, moved[0]
	size := func(m Moved) float64 {
		d := math.Abs(m.After - m.Before)
		if math.IsNaN(d) {
			return math.Max(zeroNaN(m.Before), zeroNaN(m.After))
		}
		return d
	}
	for _, m := range moved {
		zones[m.Zone.ID] = true
		if size(m) > size(most) {
			most = m
		}
	}
	differ := "differ"
	if len(moved) == 1 {
		differ = "differs"
	}
	return fmt.Sprintf(", and %s in %s %s, the most %s in %s by %.6g ha", text.Count(len(moved), "number"), text.Count(len(zones), "zone"), differ, most.Name, most.Zone.ID, size(most)/1e4)
}

func zeroNaN(v float64) float64 {
	if math.IsNaN(v) {
		return 0
	}
	return math.Abs(v)
}
