package main

import (
	"bytes"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The reference in docs is what the program says, and nothing is left over in it.
func TestReferenceIsUpToDate(t *testing.T) {
	made := files()
	for name, want := range made {
		got, err := os.ReadFile(filepath.Join("../../../docs", name))
		require.NoError(t, err, "run go generate ./internal/cli")
		assert.True(t, bytes.Equal(want, got), "docs/%s: run go generate ./internal/cli", name)
	}
	for _, dir := range []string{"reference", "man"} {
		entries, err := os.ReadDir(filepath.Join("../../../docs", dir))
		require.NoError(t, err)
		for _, e := range entries {
			assert.Contains(t, made, dir+"/"+e.Name(), "docs/%s/%s is of a command that is gone", dir, e.Name())
		}
	}
	assert.Greater(t, len(made), 80)
}

// A man page has what the help has.
func TestManPageOfMeasure(t *testing.T) {
	page := string(files()["man/verdex-measure.1"])
	for _, want := range []string{".SH NAME", "measure", ".SH SYNOPSIS", ".SH OPTIONS: ZONES", `\-\-zone\-id`} {
		assert.Contains(t, strings.ReplaceAll(page, `\fB--zone-id`, `\-\-zone\-id`), want)
	}
	if man, err := exec.LookPath("man"); err == nil {
		out, err := exec.Command(man, "--warnings", "-l", "../../../docs/man/verdex-measure.1").CombinedOutput()
		assert.NoError(t, err, string(out))
	}
}

// The schema is one, and takes what the commands take and nothing else.
func TestSchemaOfOptions(t *testing.T) {
	text := files()["reference/options.schema.json"]
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
	require.NoError(t, err)
	c := jsonschema.NewCompiler()
	require.NoError(t, c.AddResource("options.json", doc))
	var names map[string]map[string]any
	require.NoError(t, json.Unmarshal([]byte(`{}`), &names))
	for command := range doc.(map[string]any)["$defs"].(map[string]any) {
		_, err := c.Compile("options.json#/$defs/" + strings.ReplaceAll(command, " ", "%20"))
		require.NoError(t, err, command)
	}
	measure, err := c.Compile("options.json#/$defs/measure")
	require.NoError(t, err)
	for options, holds := range map[string]bool{
		`{"covers": ["a.tif"], "zones": "wards.gpkg", "zone-id": "code", "unit": "ha", "nodata": [0]}`: true,
		`{"edges": "centre", "check-all": true}`:                                                       true,
		`{"edges": "middle"}`:                                                                          false,
		`{"zoneid": "code"}`:                                                                           false,
		`{"check-all": "yes"}`:                                                                         false,
		`{"covers": "a.tif"}`:                                                                          false,
		`{"threads": 3}`:                                                                               false,
	} {
		v, err := jsonschema.UnmarshalJSON(strings.NewReader(options))
		require.NoError(t, err)
		assert.Equal(t, holds, measure.Validate(v) == nil, options)
	}
	patches, err := c.Compile("options.json#/$defs/patches")
	require.NoError(t, err)
	for options, holds := range map[string]bool{`{"min-area": 0.5}`: true, `{"min-area": -1}`: false} {
		v, err := jsonschema.UnmarshalJSON(strings.NewReader(options))
		require.NoError(t, err)
		assert.Equal(t, holds, patches.Validate(v) == nil, options)
	}
}
