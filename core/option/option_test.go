package option

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

type inner struct {
	Zones string `opt:"zones" in:"zones" help:"<FILE> of zones"`
}

type sample struct {
	Covers  []string      `arg:"COVER..." in:"cover"`
	Edges   string        `opt:"edges" choose:"split,centre" help:"<how> cut cells count"`
	Type    string        `opt:"type" choose:",uint8,int8" help:"cell <TYPE>"`
	Least   float64       `opt:"least" default:"0.5" least:"0" help:"smallest <AREA>"`
	Cells   int           `opt:"cells" least:"1" most:"9" default:"3" help:"<N> cells"`
	Deep    bool          `opt:"deep" help:"look into it"`
	Bounds  []string      `opt:"bound" help:"a <LIMIT>"`
	Wait    time.Duration `opt:"wait" default:"30s" help:"<TIME> to wait"`
	inner   `group:"zones"`
	private string
}

// The exported name of an embedded struct is not needed: its fields are options of the outer one.
type outer struct {
	Outer
}

// Outer is embedded.
type Outer struct {
	A string `opt:"a" help:"an <A>"`
}

func TestOptionsOfAStruct(t *testing.T) {
	list := Of(sample{})
	var names []string
	by := map[string]Option{}
	for _, o := range list {
		names = append(names, o.Name)
		by[o.Name] = o
	}
	assert.Equal(t, []string{"", "edges", "type", "least", "cells", "deep", "bound", "wait", "zones"}, names)
	assert.Equal(t, "COVER...", list[0].Argument)
	assert.Equal(t, "cover", list[0].Input)
	assert.Equal(t, "split", by["edges"].Default, "the first choice is the default")
	assert.Equal(t, []string{"uint8", "int8"}, by["type"].Choices)
	assert.Empty(t, by["type"].Default, "an empty first choice may be left out")
	assert.Equal(t, "zones", by["zones"].Group)
	assert.Equal(t, "AREA", by["least"].Word())
	assert.Empty(t, by["deep"].Word())
	assert.Len(t, Of(&outer{}), 1)
	assert.Panics(t, func() {
		Of(struct {
			A string `opt:"a"`
		}{})
	}, "an option without help is a mistake of the program")
	assert.Panics(t, func() {
		Of(struct {
			A string `opt:"a" help:"x"`
			B string `opt:"a" help:"x"`
		}{})
	}, "and so is a name that comes twice")
}

// Values that an option cannot have are errors that name it; empty ones become the defaults.
func TestCheckAndFill(t *testing.T) {
	o := sample{Cells: 3}
	Fill(&o)
	assert.Equal(t, "split", o.Edges)
	assert.Equal(t, 0.5, o.Least)
	assert.Equal(t, 30*time.Second, o.Wait)
	require.NoError(t, Check(&o))
	for want, change := range map[string]func(*sample){
		"edges":        func(o *sample) { o.Edges = "middle" },
		"type":         func(o *sample) { o.Type = "float32" },
		"not negative": func(o *sample) { o.Least = -1 },
		"from 1 to 9":  func(o *sample) { o.Cells = 12 },
	} {
		bad := o
		change(&bad)
		assert.ErrorContains(t, Check(&bad), want)
	}
}

func TestGivenGetAndSet(t *testing.T) {
	var o sample
	Fill(&o)
	for _, opt := range Of(&o) {
		assert.False(t, opt.Given(&o), opt.Name)
	}
	for name, v := range map[string]any{"edges": "centre", "least": 2.0, "cells": 4, "deep": true, "bound": []string{"a", "b"}, "wait": time.Minute, "zones": "w.gpkg"} {
		for _, opt := range Of(&o) {
			if opt.Name == name {
				opt.Set(&o, v)
				assert.Equal(t, v, opt.Get(&o))
				assert.True(t, opt.Given(&o), name)
			}
		}
	}
	assert.Equal(t, "w.gpkg", o.Zones)
	for _, opt := range Of(&o) {
		switch opt.Name {
		case "bound":
			assert.Equal(t, []string{"a", "b"}, opt.Texts(&o))
		case "zones":
			assert.Equal(t, []string{"w.gpkg"}, opt.Texts(&o))
		case "cells", "type":
			assert.Empty(t, opt.Texts(&o))
		}
	}
	_ = o.private
}

func TestSchemaOfAStruct(t *testing.T) {
	s := Schema(&sample{})
	p := s["properties"].(map[string]any)
	assert.Equal(t, false, s["additionalProperties"])
	assert.Equal(t, map[string]any{"type": "string", "description": "how cut cells count", "enum": []string{"split", "centre"}, "default": "split"}, p["edges"])
	assert.Equal(t, map[string]any{"type": "integer", "description": "N cells", "minimum": 1.0, "maximum": 9.0, "default": 3.0}, p["cells"])
	assert.Equal(t, "array", p["covers"].(map[string]any)["type"])
	assert.Equal(t, []string{"uint8", "int8"}, p["type"].(map[string]any)["enum"])
	assert.Len(t, p, 9)
}
