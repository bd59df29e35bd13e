package plan

import (
	"path/filepath"
	"slices"
	"strings"

	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/cql"
	"github.com/verdex-land/verdex/core/epoch"
	"github.com/verdex-land/verdex/core/job"
	"github.com/verdex-land/verdex/core/option"
	vectors "github.com/verdex-land/verdex/core/vector/open"
	"github.com/verdex-land/verdex/core/zone"
)

// badName says why a text cannot be the name of something in a plan, "" when it can.
func badName(name string) string {
	switch {
	case name == "":
		return "is empty"
	case strings.ContainsAny(name, "=#{}/\\*?,\n"):
		return "has a character that names of files and options have a meaning for: use letters, digits, spaces, - and _"
	}
	return ""
}

// readZones reads the sets of zones: one, by a file or by its options, or several by name.
func (p *Plan) readZones(n *node) {
	if n == nil || n.kind == empty || n.malformed {
		return
	}
	add := func(name string, n *node) {
		if n.malformed {
			return
		}
		z := &ZoneSet{Name: name, at: n, set: p.sectionOrOne(n, "zones", new(ZoneSetOptions))}
		if z.set["zones"] == nil {
			p.wrong(n, "the set of zones %s names no zones: add zones: FILE", name)
			return
		}
		if why := badName(name); why != "" {
			p.wrongKey(n, "the name of a set of zones %s", why)
			return
		}
		for _, o := range []string{"sum", "keep"} {
			if z.set[o] != nil && z.set["merge"] == nil {
				p.wrongKey(z.set[o], "%s is about zones that are united: add merge: FIELD", o)
			}
		}
		p.Zones = append(p.Zones, z)
	}
	if n.kind == mapping && n.get("zones") == nil {
		for _, item := range n.items {
			add(item.key, item)
		}
		return
	}
	first := n
	if n.kind == mapping {
		first = n.get("zones")
	}
	text := first.text
	name := "zones"
	if path, layer := vectors.Split(text); layer != "" {
		name = layer
	} else if !zone.IsText(text) && text != "" {
		name = strings.TrimSuffix(filepath.Base(path), filepath.Ext(path))
	}
	if badName(name) != "" {
		name = "zones"
	}
	add(name, n)
}

// readEpochs reads the epochs: those that are listed, or those that a pattern finds.
func (p *Plan) readEpochs(n *node) {
	if n == nil || n.kind == empty || n.malformed {
		return
	}
	if n.kind != mapping {
		p.wrong(n, "epochs takes a mapping from labels to covers, such as \"2020: cover.tif\", and this is %v", n.kind)
		return
	}
	if n.get("find") != nil {
		p.findEpochs(n)
		return
	}
	for _, item := range n.items {
		e := &Epoch{Label: item.key, Date: item.key, at: item, set: p.sectionOrOne(item, "cover", new(EpochOptions))}
		if why := badName(item.key); why != "" {
			p.wrongKey(item, "the label of an epoch %s", why)
			continue
		}
		if c := e.set["cover"]; c == nil || c.kind == empty {
			if !item.malformed {
				p.wrong(item, "the epoch %s has no cover: name a raster", item.key)
			}
			continue
		}
		e.Cover = p.covers(e.set["cover"], e)
		p.Epochs = append(p.Epochs, e)
	}
	p.inOrder(n)
}

// covers are the rasters of an epoch.
func (p *Plan) covers(n *node, e *Epoch) (out []string) {
	o := find(new(EpochOptions), "cover")
	texts, _ := n.scalars()
	for _, text := range texts {
		text = strings.ReplaceAll(text, "{epoch}", e.Date)
		switch file := p.alias(text, e); {
		case file != "":
			text = file
		case p.perEpoch[text]:
			text = layerName(text, e)
		case p.templates[text] != nil: // a layer of the plan
		default:
			text = p.resolve(*o, text)
		}
		out = append(out, text)
	}
	return out
}

// alias is the file that a layer is, "" for a layer that is made of others. The epoch is nil where there is none.
func (p *Plan) alias(name string, e *Epoch) string {
	for range len(p.templates) {
		n := p.templates[name]
		if n == nil || n.kind != scalar {
			return ""
		}
		text := n.text
		if e != nil {
			text = strings.ReplaceAll(text, "{epoch}", e.Date)
		}
		if p.templates[text] == nil {
			return p.input(text)
		}
		name = text
	}
	return ""
}

// findEpochs makes an epoch of the files of each date that a pattern finds.
func (p *Plan) findEpochs(n *node) {
	set := p.section(n, new(FindOptions))
	pattern := set["find"]
	if pattern == nil || pattern.kind != scalar {
		return
	}
	scenes, err := job.Dated(p.input(pattern.text))
	if err != nil {
		p.wrong(pattern, "%s", Message(err))
		return
	}
	for _, s := range scenes {
		e := &Epoch{Label: labelOf(s.Date), Date: s.Date, at: n, set: section{"crosswalk": set["crosswalk"], "nodata": set["nodata"]}, Cover: s.Paths}
		if c := set["cover"]; c != nil {
			e.Cover = p.covers(c, e)
		}
		if k := slices.IndexFunc(p.Epochs, func(other *Epoch) bool { return other.Label == e.Label }); k >= 0 {
			p.wrong(pattern, "the dates %s and %s are one epoch, %s: write dates in one way", p.Epochs[k].Date, e.Date, e.Label)
			continue
		}
		p.Epochs = append(p.Epochs, e)
	}
	slices.SortFunc(p.Epochs, func(a, b *Epoch) int { return strings.Compare(a.Label, b.Label) })
	p.inOrder(pattern)
}

// labelOf is the label of a date as it stands in the names of files: 20120612 becomes 2012-06-12.
func labelOf(date string) string {
	if _, _, ok := epoch.When(date); ok {
		return date
	}
	if len(date) == 8 {
		label := date[:4] + "-" + date[4:6] + "-" + date[6:]
		if _, _, ok := epoch.When(label); ok {
			return label
		}
	}
	return date
}

func (p *Plan) inOrder(n *node) {
	var labels []string
	for _, e := range p.Epochs {
		labels = append(labels, e.Label)
	}
	if err := epoch.InOrder(labels); err != nil {
		p.wrong(n, "%v", err)
	}
}

// findPerEpoch finds the layers that are stated once for all epochs: those whose files have {epoch} in their names, and those made of them.
func (p *Plan) findPerEpoch(n *node) {
	p.templates = map[string]*node{}
	if n == nil || n.kind != mapping {
		return
	}
	for _, item := range n.items {
		p.templates[item.key] = item
		p.perEpoch[item.key] = item.contains("{epoch}")
	}
	for range n.items { // until no more are found
		for _, item := range n.items {
			for _, used := range p.usedBy(item) {
				p.perEpoch[item.key] = p.perEpoch[item.key] || p.perEpoch[used]
			}
		}
	}
}

// usedBy are the layers that the definition of a layer uses.
func (p *Plan) usedBy(n *node) (out []string) {
	add := func(name string) {
		if p.templates[name] != nil && !slices.Contains(out, name) {
			out = append(out, name)
		}
	}
	if n.kind == scalar || n.kind == list {
		texts, _ := n.scalars()
		for _, text := range texts {
			add(text)
		}
		return out
	}
	if l := n.get("layer"); l != nil {
		texts, _ := l.scalars()
		for _, text := range texts {
			_, file, _ := strings.Cut(text, "=")
			add(file)
		}
	} else {
		for _, name := range p.namesIn(n) {
			add(name)
		}
	}
	for _, key := range []string{"slope", "composite", "grid"} {
		if v := n.get(key); v != nil {
			texts, _ := v.scalars()
			for _, text := range texts {
				add(text)
			}
		}
	}
	return out
}

// namesIn are the names in the expression or the rules of a layer.
func (p *Plan) namesIn(n *node) []string {
	if x := n.get("expr"); x != nil {
		e, err := cql.ParseNumber(x.text)
		if err != nil {
			return nil // reported when the layer is made
		}
		return e.Names()
	}
	if r := n.get("rules"); r != nil && r.kind == scalar {
		var legend *cover.Legend
		path := p.text(n.get("legend"), p.defaults["legend"])
		if path != "" {
			legend, _ = cover.ReadLegend(p.From, path)
		}
		rules, err := cover.ReadRules(p.From, p.input(r.text), legend)
		if err != nil {
			return nil
		}
		var out []string
		for _, rule := range rules.List {
			out = append(out, rule.When.Names()...)
		}
		return out
	}
	return nil
}

// text is the file that the first of some nodes names, "" for none.
func (p *Plan) text(nodes ...*node) string {
	for _, n := range nodes {
		if n != nil && n.kind == scalar {
			return p.input(n.text)
		}
	}
	return ""
}

// layerName is the name of a layer that there is one of for each epoch.
func layerName(name string, e *Epoch) string { return name + " " + e.Label }

// readLayers reads the layers, each once or once for each epoch.
func (p *Plan) readLayers(n *node) {
	if n == nil || n.kind == empty || n.malformed {
		return
	}
	if n.kind != mapping {
		p.wrong(n, "layers takes a mapping from names to rasters, such as \"slope: slope.tif\", and this is %v", n.kind)
		return
	}
	for _, item := range n.items {
		if why := badName(item.key); why != "" {
			p.wrongKey(item, "the name of a layer %s", why)
			continue
		}
		if item.malformed {
			continue
		}
		if z := p.zoneSet(item.key); z != nil {
			p.wrongKey(item, "%s is the name of a set of zones, too: choose another one", item.key)
			continue
		}
		if !p.perEpoch[item.key] {
			p.addLayer(item, nil)
			continue
		}
		if len(p.Epochs) == 0 {
			p.wrong(item, "the layer %s is one for each epoch, and there are no epochs", item.key)
		}
		before := len(p.problems)
		for _, e := range p.Epochs {
			if p.addLayer(item, e); len(p.problems) > before { // once is enough
				break
			}
		}
	}
	p.acyclic(n)
}

// addLayer adds a layer, of an epoch unless that is nil.
func (p *Plan) addLayer(n *node, e *Epoch) {
	l := &Layer{Name: n.key, at: n}
	if e != nil {
		l.Name = layerName(n.key, e)
	}
	if n.kind == scalar {
		l.File = p.layerFile(n.text, e)
	} else if !p.layerKind(n, l) {
		return
	} else if set, ok := p.layerSection(n, l); ok {
		p.fillLayer(l, set, e)
	} else {
		return
	}
	p.Layers = append(p.Layers, l)
}

// layerFile is the raster that a layer names: a file, or another layer by its name.
func (p *Plan) layerFile(text string, e *Epoch) string {
	if e != nil {
		text = strings.ReplaceAll(text, "{epoch}", e.Date)
	}
	if is := p.alias(text, e); is != "" {
		return is
	}
	if p.perEpoch[text] && e != nil {
		return layerName(text, e)
	}
	if p.templates[text] != nil {
		return text
	}
	return p.input(text)
}

// layerKind finds out how a layer is made.
func (p *Plan) layerKind(n *node, l *Layer) bool {
	var kinds []string
	for _, k := range layerKinds {
		if kinds = append(kinds, k.key); n.get(k.key) == nil {
			continue
		}
		if l.Kind != "" {
			p.wrong(n, "the layer %s is made in two ways, %s and %s: choose one", n.key, l.Kind, k.key)
			return false
		}
		l.Kind = k.key
		l.make = k.new()
		option.Fill(l.make)
	}
	if n.kind != mapping || l.Kind == "" {
		p.wrong(n, "the layer %s is neither a raster nor made of some: write a FILE, or one of the keys %s", n.key, strings.Join(kinds, ", "))
		return false
	}
	return true
}

// layerSection reads the options of a derived layer. The key that says how it is made stands for the argument of the job.
func (p *Plan) layerSection(n *node, l *Layer) (section, bool) {
	argument := ""
	for _, o := range option.Of(l.make) {
		if o.Argument != "" {
			argument = keyOf(l.make, o)
		}
	}
	copied := *n
	copied.items = nil
	for _, item := range n.items {
		one := *item
		switch {
		case argument != "" && item.key == argument:
			p.wrongKey(item, "%s is not an option here: write %s", argument, l.Kind)
			return nil, false
		case argument != "" && item.key == l.Kind:
			one.key = argument
		}
		copied.items = append(copied.items, &one)
	}
	before := len(p.problems)
	set := p.section(&copied, l.make)
	for i := before; i < len(p.problems) && argument != ""; i++ {
		p.problems[i].Text = strings.ReplaceAll(p.problems[i].Text, argument, l.Kind)
	}
	return set, len(p.problems) == before
}

// fillLayer gives a derived layer its options. Layers that its expression or its rules name need not be listed.
func (p *Plan) fillLayer(l *Layer, set section, e *Epoch) {
	for _, o := range option.Of(l.make) {
		v := set[keyOf(l.make, o)]
		if v == nil && o.Name == "legend" && (set["crosswalk"] != nil || l.Kind == "rules") {
			v = p.defaults["legend"]
		}
		if v == nil {
			continue
		}
		texts, _ := v.scalars()
		for i, text := range texts {
			switch label, rest, ok := strings.Cut(text, "="); {
			case o.Name == "layer" && ok:
				texts[i] = label + "=" + p.layerFile(rest, e)
			case o.Input != "" && !strings.HasPrefix(o.Input, "CRS"):
				texts[i] = p.layerFile(text, e)
			case e != nil:
				texts[i] = strings.ReplaceAll(text, "{epoch}", e.Date)
			}
		}
		p.set(l.make, o, v, texts)
	}
	if o := find(l.make, "layer"); o != nil && set["layer"] == nil {
		var layers []string
		for _, used := range p.usedBy(l.at) {
			if used != p.grid(l.at) || slices.Contains(p.namesIn(l.at), used) {
				layers = append(layers, used+"="+p.layerFile(used, e))
			}
		}
		o.Set(l.make, layers)
	}
}

// grid is what the definition of a layer names as its grid.
func (p *Plan) grid(n *node) string {
	if g := n.get("grid"); g != nil {
		return g.text
	}
	return ""
}

// acyclic refuses layers that are made of themselves.
func (p *Plan) acyclic(n *node) {
	state := map[string]int{} // 1 while it is looked at, 2 when it is done
	var visit func(name string, path []string) []string
	visit = func(name string, path []string) []string {
		path = append(path, name)
		switch state[name] {
		case 1:
			return path[slices.Index(path, name):]
		case 2:
			return nil
		}
		state[name] = 1
		for _, used := range p.usedBy(p.templates[name]) {
			if cycle := visit(used, path); cycle != nil {
				return cycle
			}
		}
		state[name] = 2
		return nil
	}
	for _, item := range n.items {
		if cycle := visit(item.key, nil); cycle != nil {
			p.wrongKey(p.templates[cycle[0]], "the layer %s is made of itself: %s", cycle[0], strings.Join(cycle, " ← "))
			return
		}
	}
}
