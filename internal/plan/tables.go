package plan

import (
	"path/filepath"
	"slices"
	"strings"

	"github.com/verdex-land/verdex/core/option"
)

// tables names the tables that a step reads: those of other outputs by their names.
func (p *Plan) tables(s *Step, n *node, z *ZoneSet, e *Epoch) {
	of := n.get("of")
	if of == nil {
		return
	}
	o := TablesOf(s.Options)
	if o == nil {
		p.wrongKey(of, "%s takes no tables of other outputs", s.Command)
		return
	}
	tables := o.Texts(s.Options)
	for _, name := range of.texts(p) {
		found := false
		for _, other := range p.Steps {
			if other.Output != name {
				continue
			}
			found = true
			if z != nil && other.Zones != "" && other.Zones != z.Name || e != nil && other.Epoch != "" && other.Epoch != e.Label {
				continue
			}
			if path := given[string](other.Options, "out"); path != "" {
				tables = append(tables, path)
			} else {
				p.wrong(of, "the output %s writes no table: add out: to it", name)
				return
			}
		}
		if !found {
			var names []string
			for _, other := range p.Steps {
				if !slices.Contains(names, other.Output) {
					names = append(names, other.Output)
				}
			}
			if len(names) == 0 {
				p.wrong(of, "%s is not an output above this one", name)
			} else {
				p.wrong(of, "%s is not an output above this one: %s", name, instead(name, names))
			}
			return
		}
	}
	s.where[o.Name] = of
	o.Set(s.Options, tables)
}

// TablesOf is the argument of options that takes tables, nil for none.
func TablesOf(options any) *option.Option {
	for _, o := range option.Of(options) {
		if o.Argument != "" && strings.Contains(o.Input, "table") {
			return &o
		}
	}
	return nil
}

// addTables adds steps that make the tables which statements need and no output has: in the cache folder, at full precision.
func (p *Plan) addTables() {
	var hidden []*Step
	for _, s := range slices.Clone(p.Steps) {
		source := ofTables[s.Command]
		command := source.command
		if command == "" || len(find(s.Options, "tables").Texts(s.Options)) > 0 {
			continue
		}
		z := p.zoneSet(s.Zones)
		epochs := []*Epoch{nil}
		if command == "measure" {
			epochs = p.Epochs
		}
		if len(p.Epochs) == 0 || command == "change" && len(p.Epochs) < 2 {
			p.wrong(s.at, "%s is made of tables, and there are none: name them with of or tables", s.Command)
			continue
		}
		var tables []string
		for _, e := range epochs {
			name := "tables " + command
			if source == histories {
				name += " " + source.table
			}
			if z != nil {
				name += " " + z.Name
			}
			if e != nil {
				name += " " + e.Label
			}
			k := slices.IndexFunc(hidden, func(h *Step) bool { return h.Name == name })
			if k < 0 {
				out := &node{kind: scalar, key: "out", text: filepath.Join(".", strings.ReplaceAll(name, " ", "_")+".csv"), at: s.at.at}
				n := &node{kind: mapping, key: name, at: s.at.at, keyAt: s.at.keyAt, items: []*node{out}}
				own := section{"out": out}
				if source.table != "" {
					table := &node{kind: scalar, key: "table", text: source.table, at: s.at.at}
					n.items, own["table"] = append(n.items, table), table
				}
				digits := &node{kind: scalar, key: "digits", text: "-1", at: s.at.at}
				own["digits"] = digits
				h := p.step(n, p.command(command), own, z, e)
				h.Output, h.Hidden, h.Name = "", true, name
				find(h.Options, "out").Set(h.Options, filepath.Join(p.CacheDir, "tables", strings.ReplaceAll(name, " ", "_")+".csv"))
				if o := find(h.Options, "by"); o != nil {
					o.Set(h.Options, "class")
				}
				k = len(hidden)
				hidden = append(hidden, h)
			}
			tables = append(tables, given[string](hidden[k].Options, "out"))
		}
		find(s.Options, "tables").Set(s.Options, tables)
	}
	p.Steps = append(hidden, p.Steps...)
}
