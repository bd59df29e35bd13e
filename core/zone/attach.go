package zone

import (
	"fmt"
	"slices"
	"strings"

	"github.com/verdex-land/verdex/core/fault"
	"github.com/verdex-land/verdex/core/text"
	"github.com/verdex-land/verdex/core/vector"
)

// Match is how the rows of a table and the zones of a file go together.
type Match struct {
	Zones, Rows int
	Matched     int      // zones that have a row
	WithoutRow  []string // ids of zones
	WithoutZone []string // keys of rows
	Twice       []string // keys that several rows have
}

// Partial reports whether something is left over.
func (m *Match) Partial() bool { return len(m.WithoutRow)+len(m.WithoutZone) > 0 }

// Gather makes one feature of all features of a layer that share an id, with all their pieces; a field is kept where
// they agree, and is empty where they do not. ids are those of the features.
func Gather(l *vector.Layer, sel Selection) (out *vector.Layer, ids []string, err error) {
	s := &Set{}
	k, err := s.chooseFields(l, sel)
	if err != nil {
		return nil, nil, err
	}
	picked, err := Pick(l, sel.Condition)
	if err != nil {
		return nil, nil, err
	}
	copied := *l
	out = &copied
	out.Features, out.Notes = nil, append(slices.Clone(l.Notes), s.Notes...)
	at := map[string]int{}
	for _, i := range picked {
		f := l.Features[i]
		id, err := k.id(l, i)
		if err != nil {
			return nil, nil, err
		}
		n, known := at[id]
		if !known {
			at[id] = len(ids)
			ids = append(ids, id)
			f.Values = slices.Clone(f.Values)
			f.Geometry.Polygons = slices.Clone(f.Geometry.Polygons)
			out.Features = append(out.Features, f)
			continue
		}
		to := &out.Features[n]
		to.Geometry.Polygons = append(to.Geometry.Polygons, f.Geometry.Polygons...)
		to.Geometry.Points = append(to.Geometry.Points, f.Geometry.Points...)
		to.Geometry.Type = "MultiPolygon"
		for c, v := range f.Values {
			if to.Values[c] != v {
				to.Values[c] = nil
			}
		}
	}
	return out, ids, nil
}

// Attach puts the columns of a table onto zones, whose ids are those of its column key. Columns whose names the zones
// have already get a number behind theirs. The outcome is reported also when the two do not match completely; rows
// with the same key are an error.
func Attach(l *vector.Layer, ids []string, table *vector.Layer, key string) (*vector.Layer, *Match, error) {
	k, err := Need(table, key, "key")
	if err != nil {
		return nil, nil, err
	}
	m := &Match{Zones: len(ids), Rows: len(table.Features)}
	rows := map[string]int{}
	for i := range table.Features {
		id, err := table.ID(i, k)
		if err != nil {
			return nil, nil, fmt.Errorf("%s: row %d, column %s: %w", table.Source, i+1, key, err)
		}
		if _, twice := rows[id]; twice && !slices.Contains(m.Twice, id) {
			m.Twice = append(m.Twice, id)
		}
		rows[id] = i
	}
	if len(m.Twice) > 0 {
		return nil, m, fault.Errorf("%s: several rows have the same %s (%s), so it is not clear which belongs to a zone", table.Source, key, few(m.Twice)).Do("keep one row for each")
	}
	copied := *l
	out := &copied
	out.Fields, out.Features = slices.Clone(l.Fields), slices.Clone(l.Features)
	for i, f := range table.Fields {
		if i != k {
			f.Name = freeName(out, f.Name)
			out.Fields = append(out.Fields, f)
		}
	}
	used := map[string]bool{}
	for i, id := range ids {
		f := &out.Features[i]
		f.Values = slices.Clone(f.Values)
		row, ok := rows[id]
		if ok {
			m.Matched++
			used[id] = true
		} else {
			m.WithoutRow = append(m.WithoutRow, id)
		}
		for c := range table.Fields {
			if c == k {
				continue
			}
			var v any
			if ok {
				v = table.Features[row].Values[c]
			}
			f.Values = append(f.Values, v)
		}
	}
	for i := range table.Features {
		if id, _ := table.ID(i, k); !used[id] {
			m.WithoutZone = append(m.WithoutZone, id)
		}
	}
	return out, m, nil
}

func freeName(l *vector.Layer, name string) string {
	free := name
	for n := 2; slices.ContainsFunc(l.Fields, func(f vector.Field) bool { return strings.EqualFold(f.Name, free) }); n++ {
		free = fmt.Sprintf("%s_%d", name, n)
	}
	return free
}

func few(list []string) string {
	return text.List(list, 5)
}
