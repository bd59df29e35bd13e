package tables

import (
	"bytes"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/vector"
	"github.com/verdex-land/verdex/core/vector/geopackage"
	"github.com/verdex-land/verdex/core/vector/parquet"
)

var (
	fields = []vector.Field{{Name: "zone_id"}, {Name: "class_code"}, {Name: "area", Kind: vector.Real}, {Name: "cells", Kind: vector.Integer}}
	list   = [][]any{{"W1", "2", 1.0 / 3, int64(7)}, {"W,2", nil, 1e-7, nil}}
)

// The same rows come from every format, with every digit and the names of columns in lower case.
func TestEveryFormatGivesTheSameRows(t *testing.T) {
	dir := t.TempDir()
	at := func(name string) string { return filepath.Join(dir, name) }
	write := func(name, text string) { require.NoError(t, os.WriteFile(at(name), []byte(text), 0o600)) }
	write("a.csv", "zone_id,class_code,Area,cells\nW1,2,0.3333333333333333,7\n\"W,2\",,0.0000001,\n")
	write("a.json", `[{"zone_id": "W1", "class_code": "2", "Area": 0.3333333333333333, "cells": 7}, {"zone_id": "W,2", "Area": 0.0000001}]`)
	write("a.jsonl", "{\"zone_id\": \"W1\", \"class_code\": 2.0, \"Area\": 0.3333333333333333, \"cells\": 7}\n{\"zone_id\": \"W,2\", \"class_code\": null, \"Area\": 0.0000001, \"cells\": null}\n")
	var b bytes.Buffer
	require.NoError(t, parquet.WriteTable(&b, "rows", fields, slices.Values(list)))
	write("a.parquet", b.String())
	require.NoError(t, geopackage.WriteTable(at("a.gpkg"), "rows", fields, slices.Values(list), time.Now()))
	for _, name := range []string{"a.csv", "a.json", "a.jsonl", "a.parquet", "a.gpkg", "a.gpkg#rows"} {
		got, _, err := Rows(files.Disk, at(name), []string{"zone_id", "area"}, nil)
		require.NoError(t, err, name)
		require.Len(t, got, 2, name)
		assert.Equal(t, map[string]string{"zone_id": "W1", "class_code": "2", "area": "0.3333333333333333", "cells": "7"}, got[0].Cell, name)
		assert.Equal(t, "W,2", got[1].Cell["zone_id"], name)
		assert.Equal(t, "0.0000001", got[1].Cell["area"], name)
		l, err := Layer(files.Disk, at(name), "zone_id")
		require.NoError(t, err, name)
		assert.Equal(t, 1.0/3, l.Features[0].Values[2], name)
		assert.EqualValues(t, 7, l.Features[0].Values[3], name)
		assert.Nil(t, l.Features[1].Values[3], name)
		assert.Equal(t, "zone_id", l.Fields[0].Name, name)
	}
	_, _, err := Rows(files.Disk, at("a.parquet"), []string{"unit"}, nil)
	assert.ErrorContains(t, err, `it has no column "unit" (its columns are zone_id,class_code,area,cells)`)
	_, _, err = Rows(files.Disk, at("a.gpkg#other"), nil, nil)
	assert.ErrorContains(t, err, `it has no table "other" (tables: rows)`)
}

func TestWhatIsNoTableIsNamed(t *testing.T) {
	for text, says := range map[string]string{
		"<!DOCTYPE html><table>":                "it is a page (HTML), not a table that is read: give it as .csv, .tsv, .json, .jsonl, .xlsx, .parquet or .gpkg",
		"<?xml version='1.0'?><a/>":             "it is XML",
		"%PDF-1.7":                              "it is a PDF",
		"\xd0\xcf\x11\xe0\xa1\xb1":              "it is a workbook of the old kind (.xls)",
		"II*\x00\x08\x00\x00\x00":               "it is a raster (TIFF)",
		"\x89PNG\r\n":                           "it is a picture (PNG)",
		"**Extents**\n\n| a |\n":                "it is Markdown",
		"PAR1":                                  "it is not a Parquet file: it is too short",
		"SQLite format 3\x00":                   "it is not an SQLite database",
		"PK\x05\x06" + string(make([]byte, 18)): "it is an archive",
		"[{\"zone_id\": [1]}]":                  `object 1: "zone_id" is neither a text nor a number: give a list of rows, [{"column": value, ...}, ...]; GeoJSON is a file of zones, not a table`,
		"[{\"zone_id\": 1}":                     "it is not a JSON list of rows",
		"[{\"zone_id\": 1}] 2":                  "something follows it",
		"[1]":                                   "1 is not an object",
		"\x00\x01":                              "it is not a text",
	} {
		path := filepath.Join(t.TempDir(), "t.csv")
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		_, _, err := Rows(files.Disk, path, []string{"zone_id"}, nil)
		assert.ErrorContains(t, err, says, "%q", text)
		_, err = Layer(files.Disk, path, "zone_id")
		assert.ErrorContains(t, err, says, "%q", text)
	}
}
