package plan

import (
	"reflect"
	"time"

	"github.com/goccy/go-yaml"

	"github.com/verdex-land/verdex/core/option"
)

// Resolved is the plan with all that it leaves out filled in: what it says of itself, and each step with its command and its options.
func (p *Plan) Resolved() yaml.MapSlice {
	out := yaml.MapSlice{{Key: "plan", Value: Version}}
	add := func(key string, value any) {
		if v := reflect.ValueOf(value); !v.IsZero() {
			out = append(out, yaml.MapItem{Key: key, Value: value})
		}
	}
	add("title", p.Title)
	add("contact", p.Contact)
	add("licence", p.Licence)
	var epochs yaml.MapSlice
	for _, e := range p.Epochs {
		epochs = append(epochs, yaml.MapItem{Key: e.Label, Value: e.Cover})
	}
	add("epochs", epochs)
	var layers yaml.MapSlice
	for _, l := range p.Layers {
		if l.File != "" {
			layers = append(layers, yaml.MapItem{Key: l.Name, Value: l.File})
		} else {
			layers = append(layers, yaml.MapItem{Key: l.Name, Value: append(yaml.MapSlice{{Key: "make", Value: "derive " + l.Kind}}, ordered(l.make)...)})
		}
	}
	add("layers", layers)
	var steps yaml.MapSlice
	for _, s := range p.Steps {
		steps = append(steps, yaml.MapItem{Key: s.Name, Value: append(yaml.MapSlice{{Key: "make", Value: s.Command}}, ordered(s.Options)...)})
	}
	add("outputs", steps)
	add("book", p.Book)
	add("record", p.Record)
	return append(out, yaml.MapItem{Key: "cache", Value: yaml.MapSlice{{Key: "folder", Value: p.CacheDir}, {Key: "limit", Value: p.CacheLimit >> 20}}})
}

// ordered are options with their values in the order of their fields; what is empty is left out.
func ordered(options any) (out yaml.MapSlice) {
	for _, o := range option.Of(options) {
		key := keyOf(options, o)
		v := o.Get(options)
		if d, ok := v.(time.Duration); ok {
			v = d.String()
		}
		if r := reflect.ValueOf(v); key == "" || r.Kind() == reflect.Slice && r.Len() == 0 || r.Kind() == reflect.String && r.Len() == 0 {
			continue
		}
		out = append(out, yaml.MapItem{Key: key, Value: v})
	}
	return out
}

// YAML is the plan with all that it leaves out filled in, as text.
func (p *Plan) YAML() ([]byte, error) { return yaml.Marshal(p.Resolved()) }
