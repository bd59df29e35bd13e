package option

import (
	"fmt"
	"reflect"
	"strconv"
	"strings"
	"time"
)

// Schema is the JSON Schema (draft 2020-12) of a struct of options as an object with a key for each: its type, what it means, its default,
// and the values that it may have. Keys that are no option are refused. The arguments of a command stand under the name of their
// field in lower case, as a list.
func Schema(options any) map[string]any {
	properties := map[string]any{}
	for _, o := range Of(options) {
		name, p := o.Name, o.schema()
		if o.Argument != "" {
			name = o.Field(options)
		}
		properties[name] = p
	}
	return map[string]any{"type": "object", "properties": properties, "additionalProperties": false}
}

func (o Option) schema() map[string]any {
	p := map[string]any{}
	if o.Help != "" {
		p["description"] = strings.NewReplacer("<", "", ">", "").Replace(o.Help)
	}
	switch o.Type {
	case reflect.TypeFor[bool]():
		p["type"] = "boolean"
	case reflect.TypeFor[int]():
		p["type"] = "integer"
	case reflect.TypeFor[float64]():
		p["type"] = "number"
	case reflect.TypeFor[[]string]():
		p["type"], p["items"] = "array", map[string]any{"type": []string{"string", "number"}}
	case reflect.TypeFor[time.Duration]():
		p["type"], p["pattern"] = "string", `^([0-9.]+(ns|us|µs|ms|s|m|h))+$`
	case reflect.TypeFor[string]():
		p["type"] = "string"
	default:
		panic(fmt.Sprintf("the option %s has a type without a schema", o.Name))
	}
	if len(o.Choices) > 0 {
		var values []string
		for _, c := range o.Choices {
			if c != "" {
				values = append(values, c)
			}
		}
		p["enum"] = values
	}
	for key, text := range map[string]string{"minimum": o.least, "maximum": o.most} {
		if text != "" {
			v, err := strconv.ParseFloat(text, 64)
			must(err)
			p[key] = v
		}
	}
	if o.Default != "" {
		p["default"] = o.Default
		if o.Type.Kind() == reflect.Int || o.Type.Kind() == reflect.Float64 {
			v, err := strconv.ParseFloat(o.Default, 64)
			must(err)
			p["default"] = v
		}
	}
	return p
}
