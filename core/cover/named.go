package cover

import (
	"fmt"
	"strconv"

	"github.com/verdex-land/verdex/core/fault"
	"github.com/verdex-land/verdex/core/text"
)

// Named is a zone or class, by id or code.
type Named struct{ ID, Name string }

// Label is the name, or the id of one without.
func (n Named) Label() string {
	if n.Name == "" {
		return n.ID
	}
	return n.Name
}

// FindZone finds the zone that somebody asks for by its id, or by its name if it is the only one of that name; source is what has the zones, for the error.
func FindZone(zones []Named, asked, source string) (int, error) {
	found := -1
	var ids, all []string
	for i, z := range zones {
		if z.ID == asked {
			return i, nil
		}
		if z.Name == asked && asked != "" {
			found, ids = i, append(ids, z.ID)
		}
		label := z.ID
		if z.Name != "" && z.Name != z.ID {
			label += " " + z.Name
		}
		all = append(all, label)
	}
	switch {
	case len(ids) > 1:
		return -1, fault.Misusef("zone", asked, "is the name of %s of %s: choose one by its id, %s", text.Count(len(ids), "zone"), source, text.List(ids, 20))
	case found < 0:
		return -1, fault.Misusef("zone", asked, "is none of the zones of %s (%s)", source, text.List(all, 20))
	}
	return found, nil
}

// NamedClasses are the classes of a legend.
func NamedClasses(l *Legend) (out []Named) {
	for _, class := range l.Classes {
		out = append(out, Named{class.ID(), class.Name})
	}
	return out
}

// GroupsOf are the names of groups by the codes of classes.
func GroupsOf(classes []Named, g *Groups) (map[string]string, error) {
	to := map[string]string{}
	for _, c := range classes {
		code, err := strconv.Atoi(c.ID)
		group, ok := Class{}, false
		if err == nil {
			group, ok = g.Of(code)
		}
		if !ok {
			return nil, fmt.Errorf("class %s %s of the tables is not in the legend %s", c.ID, c.Name, g.Legend.Source)
		}
		to[c.ID] = group.ID()
	}
	return to, nil
}
