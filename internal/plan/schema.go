package plan

import (
	"encoding/json"

	"github.com/verdex-land/verdex/core/option"
)

// Schema is the JSON Schema (draft 2020-12) of plans, as text. It knows each key and what its values may be; what files hold it does not know.
func Schema(commands []Command) ([]byte, error) {
	scalar := map[string]any{"type": []string{"string", "number", "boolean"}}
	one := func(options any, key string) map[string]any {
		return map[string]any{"anyOf": []any{map[string]any{"type": []string{"string", "number"}}, map[string]any{"type": "array", "items": scalar}, object(options, nil, key)}}
	}
	properties := map[string]any{
		"plan":    map[string]any{"const": Version, "description": "the version of the format"},
		"title":   described(scalar, "what the job is about"),
		"contact": described(scalar, "who answers questions about it"),
		"licence": described(scalar, "the terms under which the outputs may be used"),
		"record":  map[string]any{"type": "string", "description": "the FILE for the record of a run"},
		"zones": map[string]any{"description": "the zones to report on: one set, or several by name", "anyOf": []any{
			map[string]any{"type": []string{"string", "null"}}, object(new(ZoneSetOptions), nil, "zones"),
			map[string]any{"type": "object", "not": map[string]any{"required": []string{"zones"}}, "additionalProperties": map[string]any{"anyOf": []any{map[string]any{"type": "string"}, object(new(ZoneSetOptions), nil, "zones")}}}}},
		"epochs": map[string]any{"description": "the covers by their labels, or a pattern that finds them", "anyOf": []any{
			map[string]any{"type": "null"}, object(new(FindOptions), nil, "find"),
			map[string]any{"type": "object", "not": map[string]any{"required": []string{"find"}}, "additionalProperties": one(new(EpochOptions), "cover")}}},
		"layers": map[string]any{"description": "rasters by name: files, or what is derived of others", "anyOf": []any{
			map[string]any{"type": "null"}, map[string]any{"type": "object", "additionalProperties": layerSchema()}}},
		"checks": map[string]any{"anyOf": []any{map[string]any{"type": "null"}, object(new(CheckSection), nil)}},
		"book":   map[string]any{"anyOf": []any{map[string]any{"type": "string"}, object(new(BookSection), nil, "book")}},
		"cache":  map[string]any{"anyOf": []any{map[string]any{"type": "string"}, object(new(CacheSection), nil)}},
		"outputs": map[string]any{"description": "what the plan makes, by name", "anyOf": []any{
			map[string]any{"type": "null"}, map[string]any{"type": "object", "additionalProperties": outputSchema(commands)}}},
	}
	for key, p := range object(new(Defaults), nil)["properties"].(map[string]any) {
		properties[key] = p
	}
	b, err := json.MarshalIndent(map[string]any{
		"$schema":              "https://json-schema.org/draft/2020-12/schema",
		"title":                "A plan of Verdex",
		"type":                 "object",
		"properties":           properties,
		"additionalProperties": false,
	}, "", " ")
	return append(b, '\n'), err
}

func described(p map[string]any, text string) map[string]any {
	out := map[string]any{"description": text}
	for k, v := range p {
		out[k] = v
	}
	return out
}

// object is the schema of a mapping of options, with more keys, of which some have to be there.
func object(options any, more map[string]any, required ...string) map[string]any {
	properties := map[string]any{}
	made := option.Schema(options)["properties"].(map[string]any)
	for _, o := range option.Of(options) {
		key := keyOf(options, o)
		if key == "" || o.Name == SaveOption || o.Name == PartOption {
			continue
		}
		p, _ := made[key].(map[string]any)
		properties[key] = loose(p)
	}
	for k, v := range more {
		properties[k] = v
	}
	out := map[string]any{"type": "object", "properties": properties, "additionalProperties": false}
	if len(required) > 0 {
		out["required"] = required
	}
	return out
}

// loose lets a text be a number too, and a list one value or a mapping, as YAML has them.
func loose(p map[string]any) map[string]any {
	out := map[string]any{}
	for k, v := range p {
		out[k] = v
	}
	scalar := map[string]any{"type": []string{"string", "number", "boolean"}}
	switch {
	case p["type"] == "string" && p["enum"] == nil && p["pattern"] == nil:
		out["type"] = []string{"string", "number", "boolean"}
	case p["type"] == "array":
		delete(out, "type")
		delete(out, "items")
		list := map[string]any{"type": "array", "items": scalar}
		out["anyOf"] = []any{scalar, list, map[string]any{"type": "object", "additionalProperties": map[string]any{"anyOf": []any{scalar, list}}}}
	}
	return out
}

// layerSchema is the schema of a layer.
func layerSchema() map[string]any {
	all := []any{map[string]any{"type": "string"}}
	for _, k := range layerKinds {
		options := k.new()
		argument := ""
		for _, o := range option.Of(options) {
			if o.Argument != "" {
				argument = keyOf(options, o)
			}
		}
		p := object(options, nil, k.key)
		properties := p["properties"].(map[string]any)
		if argument != "" {
			properties[k.key] = properties[argument]
			delete(properties, argument)
		}
		all = append(all, p)
	}
	return map[string]any{"anyOf": all}
}

// outputSchema is the schema of an output.
func outputSchema(commands []Command) map[string]any {
	scalar := map[string]any{"type": []string{"string", "number"}}
	names := map[string]any{"anyOf": []any{scalar, map[string]any{"type": "array", "items": scalar}}}
	var all []any
	for _, c := range commands {
		all = append(all, object(c.New(), map[string]any{
			"make":   map[string]any{"const": c.Name},
			"of":     described(names, "the outputs whose tables it is made of"),
			"zones":  described(names, "the sets of zones of the plan, or a file"),
			"epochs": described(names, "the epochs of the plan that it is about"),
		}, "make"))
	}
	return map[string]any{"type": "object", "required": []string{"make"}, "oneOf": all}
}
