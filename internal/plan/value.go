package plan

import (
	"os"
	"reflect"
	"strconv"
	"strings"
	"time"

	"github.com/verdex-land/verdex/core/decimal"
	"github.com/verdex-land/verdex/core/fault"
	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/option"
	"github.com/verdex-land/verdex/core/zone"
)

// set gives an option the texts of a value, and reports where they are not what it takes.
func (p *Plan) set(options any, o option.Option, n *node, texts []string) {
	if n.malformed {
		return
	}
	before := len(p.problems)
	one := func() string {
		if len(texts) != 1 || n.kind == list && len(n.items) == 1 {
			if len(texts) != 1 {
				p.wrong(n, "%s takes one value, and this has %d", nameOf(options, o), len(texts))
				return ""
			}
		}
		return texts[0]
	}
	var value any
	var err error
	switch o.Type {
	case reflect.TypeFor[string]():
		value = one()
	case reflect.TypeFor[[]string]():
		value = texts
	case reflect.TypeFor[bool]():
		switch text := one(); {
		case text == "true" && !n.quoted:
			value = true
		case text == "false" && !n.quoted:
			value = false
		case len(p.problems) == before:
			p.wrong(n, "%s is true or false, not %q", nameOf(options, o), text)
		}
	case reflect.TypeFor[int]():
		if value, err = strconv.Atoi(one()); (err != nil || n.quoted) && len(p.problems) == before {
			p.wrong(n, "%s takes a whole number, not %q", nameOf(options, o), n.text)
		}
	case reflect.TypeFor[float64]():
		if value, err = decimal.Parse(one()); (err != nil || n.quoted) && len(p.problems) == before {
			p.wrong(n, "%s takes a number, not %q", nameOf(options, o), n.text)
		}
	case reflect.TypeFor[time.Duration]():
		if value, err = time.ParseDuration(one()); err != nil && len(p.problems) == before {
			p.wrong(n, "%s takes a time such as 30s, not %q", nameOf(options, o), n.text)
		}
	}
	if len(p.problems) > before || value == nil {
		return
	}
	o.Set(options, value)
	if err := o.Check(options); err != nil {
		p.wrong(n, "%s", Message(err))
	}
}

// nameOf is the name of an option in messages about a plan.
func nameOf(options any, o option.Option) string { return keyOf(options, o) }

// Message is the text of an error with options as they stand in a plan.
func Message(err error) string {
	return fault.Text(err, func(name, value string) string {
		switch {
		case name == "":
			return "verdex " + value
		case value == "":
			return name
		}
		return name + ": " + value
	})
}

// fill gives options the values of sections, of which the first that has an option counts. Files are named relative to the plan.
// where, when it is not nil, takes the node of each option.
func (p *Plan) fill(options any, from section, where map[string]*node) {
	for _, o := range option.Of(options) {
		key := keyOf(options, o)
		n := from[key]
		if n == nil || key == "" {
			continue
		}
		texts, _ := n.scalars()
		for i, text := range texts {
			texts[i] = p.resolve(o, text)
		}
		p.set(options, o, n, texts)
		if where != nil {
			where[o.Name] = n
		}
	}
}

// resolve makes the path of a file in the value of an option one from the folder of the program.
func (p *Plan) resolve(o option.Option, text string) string {
	switch {
	case o.Output != "":
		return p.file(text)
	case o.Input == "" || text == "" || p.defines(text):
		return text
	case strings.HasPrefix(o.Input, "CRS"):
		if strings.HasSuffix(strings.ToLower(text), ".prj") {
			return p.input(text)
		}
		return text
	case strings.Contains(o.Input, "zones") && zone.IsText(text):
		return text
	}
	if files.IsURL(text) {
		return text
	}
	if label, rest, ok := strings.Cut(text, "="); ok && o.Type.Kind() == reflect.Slice {
		if _, err := os.Stat(p.input(text)); err != nil {
			return label + "=" + p.resolve(o, rest)
		}
	}
	if l := p.layer(text); l != nil && l.File != "" {
		return l.File
	}
	return p.input(text)
}

// defines reports whether a text is the name of a raster or of zones that the plan makes.
func (p *Plan) defines(text string) bool {
	if l := p.layer(text); l != nil {
		return l.File == ""
	}
	z := p.zoneSet(text)
	return z != nil && z.set["merge"] != nil
}

func (p *Plan) layer(name string) *Layer {
	for _, l := range p.Layers {
		if l.Name == name {
			return l
		}
	}
	return nil
}

func (p *Plan) zoneSet(name string) *ZoneSet {
	for _, z := range p.Zones {
		if z.Name == name {
			return z
		}
	}
	return nil
}

// zoneText reports whether a text is a zone by itself.
func zoneText(text string) bool { return zone.IsText(text) }
