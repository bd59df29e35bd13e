package cover

import (
	"fmt"
	"strconv"
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
