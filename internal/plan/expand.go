package plan

import (
	"path/filepath"
	"reflect"
	"slices"
	"strings"

	"github.com/verdex-land/verdex/core/option"
	"github.com/verdex-land/verdex/core/text"
)

// Step is a command with all of its options.
type Step struct {
	Name    string // of the output, and behind it the zones and the epoch where there are several
	Output  string // the key under outputs; "" for a step that others need
	Zones   string // the set of zones, "" for none in particular
	Epoch   string // the label of the epoch, "" for none in particular
	Command string
	Options any   // a pointer to the command's options
	Needs   []int // the steps whose outputs it reads
	Hidden  bool  // it makes what others need and is no output of the plan

	at    *node
	where map[string]*node // by option: the value in the plan
	plan  *Plan
}

// Place is where an option of the step stands in the plan, or else the step.
func (s *Step) Place(name string) (line, column int) {
	if n := s.where[name]; n != nil {
		return n.at.line, n.at.column
	}
	return s.at.keyAt.line, s.at.keyAt.column
}

// dimensions are for which commands there is a step for each set of zones, and for each epoch.
var dimensions = map[string]struct{ zones, epochs bool }{
	"measure": {true, true}, "change": {zones: true}, "summarise": {zones: true}, "attach": {zones: true},
	"account extent": {zones: true}, "account matrix": {zones: true}, "account flows": {zones: true},
	"account composition": {zones: true}, "account series": {zones: true}, "account remaining": {zones: true},
	"account accuracy": {epochs: true},
	"draw map":         {true, true}, "draw pair": {zones: true}, "draw difference": {zones: true}, "draw shade": {zones: true},
	"draw bars": {zones: true}, "draw trend": {zones: true}, "draw ranks": {zones: true}, "draw matrix": {zones: true}, "draw flows": {zones: true},
	"draw histories": {zones: true}, "draw since": {zones: true},
}

// ofTables are the commands that make statements of tables, and what makes those that they take where none is named.
var ofTables = map[string]tableSource{
	"account extent": matrices, "account matrix": matrices, "account flows": matrices, "account composition": extents, "account series": extents, "account remaining": histories,
	"draw bars": extents, "draw trend": extents, "draw ranks": extents, "draw matrix": matrices, "draw flows": matrices, "draw histories": histories, "draw since": histories,
}

// tableSource is a command and the table that it is to make.
type tableSource struct{ command, table string }

var extents, matrices, histories = tableSource{"measure", ""}, tableSource{"change", "matrix"}, tableSource{"change", "histories"}

// stepKeys are the keys of an output besides the options of its command.
var stepKeys = []string{"make", "of", "zones", "epochs"}

// expand makes the steps of the outputs.
func (p *Plan) expand() {
	outputs := p.root.get("outputs")
	if outputs == nil || outputs.kind == empty {
		if len(p.Epochs) == 0 {
			p.wrongAt(place{1, 1}, "there are no epochs: add epochs: with a cover for each label, such as 2020: cover.tif")
			return
		}
		outputs = p.usualOutputs()
	}
	if outputs.kind != mapping {
		p.wrong(outputs, "outputs takes a mapping from names to outputs, and this is %v", outputs.kind)
		return
	}
	for _, n := range outputs.items {
		p.addOutput(n)
	}
	if len(p.problems) > 0 {
		return
	}
	p.addTables()
	p.link()
	p.distinct()
	p.order()
	if p.Record == "" {
		dir := p.Dir
		for _, s := range p.Steps {
			if paths := s.Writes(); len(paths) > 0 && !s.Hidden {
				dir = filepath.Dir(paths[0])
				break
			}
		}
		p.Record = filepath.Join(dir, strings.TrimSuffix(filepath.Base(p.Path), filepath.Ext(p.Path))+".record.json")
	} else {
		p.Record = p.file(p.Record)
	}
	p.recordApart()
	p.stayHere()
}

// usualOutputs are those of a plan that names none: the extents of each epoch, and with several epochs what changed, as tables, and the extent
// account as a spreadsheet.
func (p *Plan) usualOutputs() *node {
	pair := func(key, text string) *node { return &node{kind: scalar, key: key, text: text} }
	zones := ""
	if len(p.Zones) > 1 {
		zones = "_{zones}"
	}
	out := &node{kind: mapping}
	add := func(name string, items ...*node) {
		out.items = append(out.items, &node{kind: mapping, key: name, items: items})
	}
	add("extents", pair("make", "measure"), pair("out", "results/extents"+zones+"_{epoch}.csv"))
	if len(p.Epochs) > 1 {
		add("change", pair("make", "change"), pair("out", "results/change"+zones+".csv"))
		add("matrix", pair("make", "change"), pair("table", "matrix"), pair("out", "results/matrix"+zones+".csv"))
		add("account", pair("make", "account extent"), pair("of", "matrix"), pair("out", "results/account"+zones+".xlsx"))
	}
	return out
}

// command is the command of a name.
func (p *Plan) command(name string) *Command {
	for i := range p.commands {
		if p.commands[i].Name == name {
			return &p.commands[i]
		}
	}
	return nil
}

// addOutput makes the steps of an output.
func (p *Plan) addOutput(n *node) {
	if n.malformed {
		return
	}
	make := n.get("make")
	if n.kind != mapping || make == nil || make.kind != scalar {
		p.wrong(n, "the output %s does not say what it is: add make: measure, or another command", n.key)
		return
	}
	if why := badName(n.key); why != "" {
		p.wrongKey(n, "the name of an output %s", why)
		return
	}
	c := p.command(make.text)
	if c == nil {
		var names []string
		for _, c := range p.commands {
			names = append(names, c.Name)
		}
		p.wrong(make, "%s is not a command that makes an output: %s", make.text, instead(make.text, names))
		return
	}
	before := len(p.problems)
	own := p.section(n, c.New(), stepKeys...)
	zones, epochs := p.picked(n, c.Name)
	if len(p.problems) > before {
		return
	}
	for _, z := range zones {
		for _, e := range epochs {
			if s := p.step(n, c, own, z, e); s != nil {
				if z != nil && len(p.Zones) > 1 {
					s.Name += " " + z.Name
				}
				if e != nil && len(p.Epochs) > 1 {
					s.Name += " " + e.Label
				}
				p.Steps = append(p.Steps, s)
			}
			if len(p.problems) > before { // the others are wrong likewise
				return
			}
		}
	}
}

// picked are the sets of zones and the epochs for which an output has a step; nil stands for none in particular.
func (p *Plan) picked(n *node, command string) (zones []*ZoneSet, epochs []*Epoch) {
	d := dimensions[command]
	zones, epochs = p.Zones, p.Epochs
	if v := n.get("zones"); v != nil {
		texts := v.texts(p)
		if zones = nil; !slices.ContainsFunc(texts, func(t string) bool { return p.zoneSet(t) == nil }) {
			for _, t := range texts {
				zones = append(zones, p.zoneSet(t))
			}
		} else if len(texts) > 1 || len(p.Zones) > 0 && find(p.command(command).New(), "zones") != nil && text.Nearest(texts[0], p.zoneNames()) != "" {
			p.wrong(v, "%s is not a set of zones of the plan: %s", texts[0], instead(texts[0], p.zoneNames()))
		} // otherwise it is a file
	}
	if v := n.get("epochs"); v != nil {
		epochs = nil
		for _, t := range v.texts(p) {
			k := slices.IndexFunc(p.Epochs, func(e *Epoch) bool { return e.Label == t })
			if k < 0 {
				p.wrong(v, "%s is not an epoch of the plan: %s", t, instead(t, p.labels()))
				continue
			}
			epochs = append(epochs, p.Epochs[k])
		}
	}
	if of := n.get("of"); of != nil { // for what there are tables
		texts, _ := of.scalars()
		var sets []*ZoneSet
		for _, s := range p.Steps {
			if !slices.Contains(texts, s.Output) {
				continue
			}
			d.epochs = d.epochs || command == "attach" && s.Epoch != ""
			if z := p.zoneSet(s.Zones); z != nil && slices.Contains(zones, z) && !slices.Contains(sets, z) {
				sets = append(sets, z)
			}
		}
		if len(sets) > 0 {
			zones = sets
		}
	}
	if n.get("epochs") == nil && (command == "account accuracy" && (n.get("cover") != nil || n.get("areas") != nil) || command == "draw map" && n.get("covers") != nil) {
		d.epochs = false
	}
	if command == "account accuracy" && d.epochs && len(epochs) > 1 {
		p.wrong(n, "the samples are of one date, and there are several epochs: add epochs: with the label")
	}
	if !d.zones || len(zones) == 0 {
		zones = []*ZoneSet{nil}
	}
	if !d.epochs || len(epochs) == 0 {
		epochs = []*Epoch{nil}
	}
	return zones, epochs
}

func (p *Plan) zoneNames() (out []string) {
	for _, z := range p.Zones {
		out = append(out, z.Name)
	}
	return out
}

func (p *Plan) labels() (out []string) {
	for _, e := range p.Epochs {
		out = append(out, e.Label)
	}
	return out
}

// step makes a step: a command with the options of the output, of the zones and the epoch, of the checks, and those that hold for all.
func (p *Plan) step(n *node, c *Command, own section, z *ZoneSet, e *Epoch) *Step {
	s := &Step{Name: n.key, Output: n.key, Command: c.Name, Options: c.New(), at: n, where: map[string]*node{}, plan: p}
	from := section{}
	take := func(of section, names ...string) {
		for name, v := range of {
			if from[name] == nil && v != nil && (len(names) == 0 || slices.Contains(names, name)) {
				from[name] = v
			}
		}
	}
	for name, v := range own {
		if name != "of" && name != "make" && name != "epochs" && !(name == "zones" && p.isPick(v)) {
			from[name] = v
		}
	}
	set := section{}
	if z != nil && (from["zones"] == nil) {
		s.Zones = z.Name
		for name, v := range z.set {
			set[name] = v
		}
		if set["merge"] != nil { // zones that the plan makes
			for _, name := range []string{"where", "zones-crs", "zone-id", "merge", "sum", "keep", "zone-names"} {
				delete(set, name)
			}
			named := *z.set["zones"]
			named.kind, named.text, named.items = scalar, z.Name, nil
			id := *z.set["merge"]
			id.key = "zone-id"
			set["zones"], set["zone-id"] = &named, &id
		}
		if c.Name != "account accuracy" {
			take(set)
		}
	}
	if e != nil {
		s.Epoch = e.Label
		take(section{"crosswalk": e.set["crosswalk"], "nodata": e.set["nodata"]})
	}
	take(p.checks)
	if find(s.Options, "post") != nil && from["account"] != nil && from["post"] == nil && p.Book != "" {
		take(section{"post": p.book["book"]})
		take(p.book, "author", "note", "supersede")
	}
	if strings.HasPrefix(c.Name, "book ") {
		take(section{"book": p.book["book"], "title": p.root.get("title"), "licence": p.root.get("licence")})
	}
	if from["rules"] == nil {
		take(p.defaults, "crosswalk")
	}
	rest := section{}
	for name, v := range p.defaults {
		if name != "crosswalk" {
			rest[name] = v
		}
	}
	take(rest)
	p.omit(c.Name, own, from)
	p.fill(s.Options, from, s.where)
	if f := reflect.ValueOf(s.Options).Elem().FieldByName("Others"); f.IsValid() && f.Kind() == reflect.Bool {
		f.SetBool(true)
	}
	p.coversOf(s, own, e)
	p.tables(s, n, z, e)
	p.placeholders(s, z, e)
	return s
}

// isPick reports whether a value picks sets of zones of the plan.
func (p *Plan) isPick(v *node) bool {
	if v == nil {
		return false
	}
	texts, ok := v.scalars()
	return ok && len(texts) > 0 && !slices.ContainsFunc(texts, func(t string) bool { return p.zoneSet(t) == nil })
}

// omit takes options away that hold for the plan but would be wrong or mean something else in a command.
func (p *Plan) omit(command string, own, from section) {
	drop := func(names ...string) {
		for _, name := range names {
			if own[name] == nil {
				delete(from, name)
			}
		}
	}
	switch command {
	case "change", "draw pair", "draw difference":
		drop("crosswalk", "nodata") // for each epoch, below
	case "summarise":
		drop("crosswalk", "nodata", "flows")
		if own["per-class"] == nil {
			drop("legend")
		}
	case "attach":
		drop("edges", "within", "within-id", "within-name")
	case "account extent", "account flows", "account matrix", "account composition", "account series", "account remaining", "draw bars", "draw trend", "draw ranks", "draw matrix", "draw flows", "draw histories", "draw since":
		drop("zones", "zone-id", "zone-name")
		if p.isPick(own["zones"]) { // whose tables are named
			delete(from, "zones")
		}
	case "draw shade":
		drop("edges")
	case "measure", "account accuracy", "draw map":
	default:
		drop("crosswalk", "nodata", "flows", "crs", "by", "overlap", "resample", "measurements")
		if strings.HasPrefix(command, "zones ") {
			drop("where", "zones-crs")
		}
	}
	if command == "account extent" && own["flows"] == nil && from["by"] != nil && from["by"].text == "group" {
		drop("flows") // flows name classes
	}
}

// coversOf names the rasters of the epochs in a step.
func (p *Plan) coversOf(s *Step, own section, e *Epoch) {
	set := func(name string, values []string) {
		if o := find(s.Options, name); o != nil && own[name] == nil && values != nil {
			if o.Argument == "" && o.Type.Kind().String() == "string" {
				o.Set(s.Options, values[0])
			} else {
				o.Set(s.Options, values)
			}
		}
	}
	switch s.Command {
	case "measure", "draw map":
		if e != nil {
			if own["rules"] == nil {
				set("covers", e.Cover)
			}
			set("epoch", []string{e.Label})
		}
	case "account accuracy":
		if e != nil && own["areas"] == nil {
			if len(e.Cover) == 1 {
				set("cover", e.Cover)
			} else if own["cover"] == nil {
				p.wrong(s.at, "accuracy is that of one raster, and the epoch %s has %d: name one that is made of them", e.Label, len(e.Cover))
			}
		}
	case "change", "draw pair", "draw difference":
		epochs := p.Epochs
		if v := s.at.get("epochs"); v != nil {
			texts, _ := v.scalars()
			epochs = slices.DeleteFunc(slices.Clone(epochs), func(e *Epoch) bool { return !slices.Contains(texts, e.Label) })
		}
		var covers, walks, nodata []string
		for _, e := range epochs {
			for _, c := range e.Cover {
				covers = append(covers, e.Label+"="+c)
			}
			own := func(name string, to *[]string) {
				v, o := e.set[name], find(new(EpochOptions), name)
				if v == nil {
					v = p.defaults[name]
				}
				if v == nil {
					return
				}
				s.where[name] = v
				texts, _ := v.scalars()
				for _, text := range texts {
					*to = append(*to, e.Label+"="+p.resolve(*o, text))
				}
			}
			own("crosswalk", &walks)
			own("nodata", &nodata)
		}
		set("epoch", covers)
		set("crosswalk", walks)
		set("nodata", nodata)
	}
}

// placeholders puts the zones and the epoch in the places of {zones} and {epoch} in the names of outputs, and of accounts.
func (p *Plan) placeholders(s *Step, z *ZoneSet, e *Epoch) {
	for _, o := range option.Of(s.Options) {
		if o.Output == "" && o.Name != "account" && o.Name != "zone-set" && o.Name != "note" {
			continue
		}
		texts := slices.Clone(o.Texts(s.Options))
		for i, text := range texts {
			for _, ph := range []struct {
				name  string
				is    bool
				value func() string
				what  string
			}{
				{"{zones}", z != nil, func() string { return z.Name }, "sets of zones"},
				{"{epoch}", e != nil, func() string { return e.Label }, "epochs"},
			} {
				if !strings.Contains(text, ph.name) {
					continue
				}
				if !ph.is {
					p.wrong(s.where[o.Name], "%s has no value here, because %s is made once for all %s: leave it out", ph.name, s.Output, ph.what)
					continue
				}
				text = strings.ReplaceAll(text, ph.name, ph.value())
			}
			texts[i] = text
		}
		if len(texts) == 1 && o.Type.Kind().String() == "string" {
			o.Set(s.Options, texts[0])
		} else if len(texts) > 0 {
			o.Set(s.Options, texts)
		}
	}
}

// given is the value of an option, the zero value for none.
func given[T any](options any, name string) (value T) {
	for _, o := range option.Of(options) {
		if o.Name == name {
			value, _ = o.Get(options).(T)
		}
	}
	return value
}
