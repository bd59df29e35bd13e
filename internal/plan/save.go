package plan

import (
	"path/filepath"
	"reflect"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"

	"github.com/verdex-land/verdex/core/option"
)

// SaveOption is the option of commands that names the plan to write; a plan has no such key.
const SaveOption = "save-plan"

// PartOption is the option of commands that does one part of a job; a plan has no such key either.
const PartOption = "part"

// Save is the plan of a command that was typed, for a file at path: the legend, the zones and the epochs have their sections, so that more can be added.
func Save(path, command string, options any) ([]byte, error) {
	s := &saver{dir: filepath.Dir(path), options: options, used: map[string]bool{SaveOption: true, PartOption: true, "force": true}}
	out := yaml.MapSlice{{Key: "plan", Value: Version}}
	for _, name := range []string{"legend", "by", "unit", "crs", "override-crs", "overlap", "resample", "measurements", "edges"} {
		if v, ok := s.take(name); ok {
			out = append(out, yaml.MapItem{Key: name, Value: v})
		}
	}
	if command == "measure" || command == "change" || command == "summarise" {
		if zones := s.section("zones", new(ZoneSetOptions)); zones != nil && s.hasKey(zones, "zones") {
			out = append(out, yaml.MapItem{Key: "zones", Value: zones})
		}
	}
	switch command {
	case "measure":
		if label := given[string](options, "epoch"); label != "" && len(given[[]string](options, "layer")) == 0 && given[string](options, "class-field") == "" {
			s.used["epoch"] = true
			cover, _ := s.takeArgument()
			e := yaml.MapSlice{{Key: "cover", Value: cover}}
			for _, name := range []string{"crosswalk", "nodata"} {
				if v, ok := s.take(name); ok {
					e = append(e, yaml.MapItem{Key: name, Value: v})
				}
			}
			out = append(out, yaml.MapItem{Key: "epochs", Value: yaml.MapSlice{{Key: label, Value: e}}})
		}
	case "change":
		out = append(out, yaml.MapItem{Key: "epochs", Value: s.epochs()})
	}
	if checks := s.section("checks", new(CheckSection)); checks != nil {
		out = append(out, yaml.MapItem{Key: "checks", Value: checks})
	}
	step := yaml.MapSlice{{Key: "make", Value: command}}
	wrote := false
	for _, o := range option.Of(options) {
		key := keyOf(options, o)
		if key == "" || s.used[o.Name] || !o.Given(options) && o.Argument == "" {
			continue
		}
		if v, ok := s.value(o); ok {
			wrote = wrote || o.Output != "" || o.Name == "post"
			step = append(step, yaml.MapItem{Key: key, Value: v})
		}
	}
	name := command[strings.LastIndex(command, " ")+1:]
	if command == "measure" {
		name = "extents"
	}
	if !wrote {
		if o := find(options, "out"); o != nil {
			ending := map[string]string{"table": ".csv", "map": ".tif", "raster": ".tif", "features": ".gpkg"}[o.Output]
			step = append(step, yaml.MapItem{Key: "out", Value: name + ending})
			step = slices.DeleteFunc(step, func(i yaml.MapItem) bool { return i.Key == "format" })
		}
	}
	out = append(out, yaml.MapItem{Key: "outputs", Value: yaml.MapSlice{{Key: name, Value: step}}})
	b, err := yaml.Marshal(out)
	return append([]byte("# The plan of a command that was typed. verdex check tests it, verdex run does it.\n"), b...), err
}

type saver struct {
	dir     string
	options any
	used    map[string]bool
}

// take returns the value of an option that was given, which then stands nowhere else.
func (s *saver) take(name string) (any, bool) {
	for _, o := range option.Of(s.options) {
		if o.Name == name && name != "" && o.Given(s.options) && !s.used[name] {
			s.used[name] = true
			return s.value(o)
		}
	}
	return nil, false
}

func (s *saver) takeArgument() (any, bool) {
	for _, o := range option.Of(s.options) {
		if o.Argument != "" {
			s.used[o.Name] = true
			return s.value(o)
		}
	}
	return nil, false
}

// section takes the options that a section of a plan has.
func (s *saver) section(_ string, options any) (out yaml.MapSlice) {
	for _, o := range option.Of(options) {
		if v, ok := s.take(o.Name); ok {
			out = append(out, yaml.MapItem{Key: o.Name, Value: v})
		}
	}
	return out
}

func (s *saver) hasKey(m yaml.MapSlice, key string) bool {
	return slices.ContainsFunc(m, func(i yaml.MapItem) bool { return i.Key == key })
}

// value is the value of an option as a plan has it, with files named from the folder of the plan.
func (s *saver) value(o option.Option) (any, bool) {
	v := o.Get(s.options)
	switch v := v.(type) {
	case string:
		return s.file(o, v), v != ""
	case []string:
		var out []string
		for _, text := range v {
			out = append(out, s.file(o, text))
		}
		if len(out) == 1 {
			return out[0], true
		}
		return out, len(out) > 0
	}
	if r := reflect.ValueOf(v); r.Kind() == reflect.Int64 { // a time
		return strings.TrimSpace(r.MethodByName("String").Call(nil)[0].String()), true
	}
	return v, true
}

// file makes a path one from the folder of the plan.
func (s *saver) file(o option.Option, text string) string {
	if o.Input == "" && o.Output == "" || s.dir == "." || filepath.IsAbs(text) || strings.Contains(text, "://") || isText(o, text) {
		return text
	}
	if label, rest, ok := strings.Cut(text, "="); ok && o.Type.Kind() == reflect.Slice {
		return label + "=" + s.file(o, rest)
	}
	rel, err := filepath.Rel(s.dir, text)
	if err != nil {
		return text
	}
	return filepath.ToSlash(rel)
}

// epochs are the epochs of a comparison, each with its crosswalk and nodata value.
func (s *saver) epochs() (out yaml.MapSlice) {
	covers := map[string][]string{}
	var labels []string
	o := find(s.options, "epoch")
	for _, text := range o.Texts(s.options) {
		label, cover, _ := strings.Cut(text, "=")
		if covers[label] == nil {
			labels = append(labels, label)
		}
		covers[label] = append(covers[label], s.file(*o, cover))
	}
	s.used["epoch"], s.used["crosswalk"], s.used["nodata"] = true, true, true
	for _, label := range labels {
		e := yaml.MapSlice{{Key: "cover", Value: covers[label]}}
		if len(covers[label]) == 1 {
			e[0].Value = covers[label][0]
		}
		for _, name := range []string{"crosswalk", "nodata"} {
			o := find(s.options, name)
			for _, text := range o.Texts(s.options) {
				value, all := text, true
				for _, other := range labels {
					if rest, ok := strings.CutPrefix(text, other+"="); ok {
						value, all = rest, other == label
					}
				}
				if all {
					e = append(e, yaml.MapItem{Key: name, Value: s.file(*o, value)})
				}
			}
		}
		if len(e) == 1 && len(covers[label]) == 1 {
			out = append(out, yaml.MapItem{Key: label, Value: covers[label][0]})
		} else {
			out = append(out, yaml.MapItem{Key: label, Value: e})
		}
	}
	return out
}
