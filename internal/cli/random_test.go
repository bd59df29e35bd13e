package cli

import (
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/core/option"
)

// randomWorld puts small files of all kinds, sound and unsound, into the working folder.
func randomWorld(t *testing.T) (files []string) {
	t.Chdir(t.TempDir())
	put := func(name, text string) {
		require.NoError(t, os.WriteFile(name, []byte(text), 0o644))
		files = append(files, name)
	}
	put("a.asc", asciiGrid(13, 9))
	put("b.asc", strings.Replace(asciiGrid(13, 9), "500000", "500017", 1))
	put("one.asc", asciiGrid(1, 1))
	put("real.asc", "ncols 3\nnrows 3\nxllcorner 500000\nyllcorner 6500000\ncellsize 30\nNODATA_value -9999\n0.5 nan 1e30\n-9999 2 3\n-1 0 7.25\n")
	put("utm.prj", "EPSG:32633")
	put("legend.csv", "code,name,color,group\n1,Open water,#3b6ea8,wet\n2,Wood,#2f7d5b,dry\n3,Field,,dry\n4,Town,,\n5,Heath,,\n")
	put("keep.csv", "from,to,note\nelse,keep,\n")
	put("steps.csv", "from,to,note\n\"(-inf,2)\",1,\n\"[2,inf)\",2,\nnodata,nodata,\n")
	put("rules.yaml", "rules:\n  - class: 1\n    when: a > 2\nelse: 2\n")
	put("flows.csv", "from,to,flow\n1,2,growth\n*,*,rest\n")
	put("points.csv", "name,longitude,latitude,reference,n\na,15.001,58.64,1,2\nb,15.002,58.641,2,\n")
	put("control.csv", "zone_id,class_code,epoch,area,unit,tolerance\n,1,,5,ha,50\n")
	put("empty", "")
	put("broken.csv", "a;b\n1;\"2\n")
	put("noise.bin", "II*\x00\x08\x00\x00\x00\xff\xff\x00\x01 \x80\x81")
	put("list.txt", "a.asc\nreal.asc\n")
	put("z.geojson", `{"type":"FeatureCollection","features":[{"type":"Feature","properties":{"id":"a","n":3},"geometry":{"type":"Polygon","coordinates":[[[15,58.63],[15.01,58.63],[15.01,58.65],[15,58.65],[15,58.63]]]}},{"type":"Feature","properties":{"id":"b","n":null},"geometry":null},{"type":"Feature","properties":{"id":"ü \" '","n":1e300},"geometry":{"type":"MultiPolygon","coordinates":[[[[15,58.64],[15.002,58.64],[15.002,58.641],[15,58.64]]]]}}]}`)
	put("odd.geojson", `{"type":"FeatureCollection","features":[{"type":"Feature","properties":{"id":9007199254740993},"geometry":{"type":"Polygon","coordinates":[[[15,58.63],[15.01,58.65],[15.01,58.63],[15,58.65],[15,58.63]]]}},{"type":"Feature","properties":{"id":1.5},"geometry":{"type":"Point","coordinates":[15,58.64]}}]}`)
	verdex(t, "reclassify", "a.asc", "--crs", "EPSG:32633", "--crosswalk", "keep.csv", "--out", "c.tif")
	verdex(t, "zones", "grid", "--grid", "c.tif", "--cells", "4", "--out", "g.gpkg")
	verdex(t, "zones", "pick", "g.gpkg", "--out", "g.shp")
	verdex(t, "zones", "pick", "g.gpkg", "--out", "g.parquet")
	verdex(t, "book", "create", "b.book")
	verdex(t, "measure", "c.tif", "--zones", "g.gpkg", "--zone-id", "zone_id", "--epoch", "2004", "--post", "b.book", "--account", "x", "--out", "t.csv")
	verdex(t, "change", "--epoch", "2004=c.tif", "--epoch", "2012=c.tif", "--table", "matrix", "--out", "m.csv", "--post", "b.book", "--account", "x")
	return append(files, "c.tif", "g.gpkg", "g.shp", "g.parquet", "b.book", "t.csv", "m.csv", "b.book#x", "g.gpkg#g", "c.tif#1", "c.tif#9", "none.tif", ".", "*.asc", "2004=c.tif", "2012=a.asc", "x=real.asc", "a=c.tif", "-")
}

// words are what options that name no file may get.
var words = []string{"", "0", "1", "-1", "2", "4", "8", "nan", "inf", "1e300", "0.5", "a", "b", "id", "zone_id", "n", "1,2", "3;4", "ha", "m2", "furlong", "csv", "json", "table", "xlsx", "md", "EPSG:32633", "EPSG:4326", "EPSG:3857", "utm.prj",
	"split", "centre", "long", "wide", "summary", "matrix", "parts", "intensity", "extents", "last", "first", "majority", "mean", "nearest", "bilinear", "class", "group", "n > 2", "id = 'a'", "from = 1 AND to = 2", "a", "a > 1 AND (", "NOT", "EPSG:32633",
	"bbox:15,58.63,15.01,58.65", "bbox:nan,0,1,1", "geo:58.64,15.001;u=100", "POLYGON((15 58.63,15.01 58.63,15.01 58.65,15 58.63))", "15.001,58.64", "58.64,15.001", "100m", "1km", "pace=2", "name=x", "2004", "2012", "30s", "-5s", "deflate", "zstd", "none",
	"uint8", "int16", "percent", "degrees", "median,p10", "count", "x", "a'b", "a\"b\x1b[31m", "=1+1", "Open water", "balance", "1970-01-01"}

var outputs = []string{"o.csv", "o.json", "o.jsonl", "o.md", "o.html", "o.xlsx", "o.parquet", "o.gpkg", "o.gpkg#l", "o.tif", "o.png", "o.geojson", "o.shp", "o", "sub/o.csv", "c.tif", "b.book", "t.csv"}

// likely are values that an option may have got. Options without a line get any word.
var likely = map[string]string{
	"unit": "ha m2 km2 acre mi2", "edges": "split centre", "layout": "long wide", "by": "class group nearest majority bilinear id n", "format": "csv json jsonl md html table", "crs": "EPSG:32633 EPSG:32633 utm.prj EPSG:4326",
	"zones-crs": "EPSG:4326 EPSG:32633", "zone-id": "id zone_id n", "zone-name": "id zone_id", "class-field": "id n zone_id", "nodata": "0 1 -9999 nan a=1 2004=1", "overlap": "last first majority mean min max", "resample": "nearest bilinear",
	"table": "summary matrix parts intensity extents transitions", "epoch": "2004 2012", "account": "x y", "stats": "mean,p10 count,area median,sum variety,majority", "of": "majority min max mean median count", "in": "percent degrees",
	"compress": "deflate zstd none", "type": "uint8 int16 uint16 int32", "min-patch": "0 0.1 5", "min-area": "0 0.1", "neighbours": "4 8", "digits": "0 2 -1 9", "threads": "1 2 0", "cells": "1 3 5", "size": "100m 1km 640x400 320x240", "dpi": "48 96 1e9", "breaks": "equal quantiles natural", "limits": "0,1,5 5,1", "show": "area percent", "column": "area pct_of_zone zone_id", "radius": "100m 1km",
	"sum": "n", "keep": "id", "key": "zone_id id", "values": "id zone_id", "rank": "1 Wood", "reference": "reference n", "strata": "n name", "class": "1 2,3 Wood", "bound": "pace=2 nodata=5", "ignore": "pace balance,rows", "where": "n:>:2 id:=:'a' zone_id:IS:NOT:NULL",
	"at": "15.001,58.64 58.64,15.001", "to": "z.geojson bbox:15,58.63,15.01,58.65 c.tif", "layer": "a=c.tif b=a.asc a=real.asc", "grid": "c.tif a.asc a b", "set": "name=x", "only": "from:=:1", "ties": "latest 1,2", "wait": "1s",
}

// randomCommand makes up a command line. Most of its options are such as the command has, with values of the kind that they want.
func randomCommand(r *rand.Rand, root *cli.Command, files []string) []string {
	pick := func(list []string) string { return list[r.IntN(len(list))] }
	c := root.Commands[r.IntN(len(root.Commands))]
	args := []string{c.Name}
	for len(c.Commands) > 0 && r.IntN(20) > 0 {
		c = c.Commands[r.IntN(len(c.Commands))]
		args = append(args, c.Name)
	}
	if c.Name == "demo" || c.Name == "serve" || c.Name == "help" {
		return []string{"look", pick(files)}
	}
	switch { // most commands need an output, and rasters a CRS
	case r.IntN(5) == 0:
	case hasFlag(c, "format"):
	case hasFlag(c, "dpi"):
		args = append(args, "--out", pick([]string{"o.png", "o.svg", "o.pdf"}))
	case hasFlag(c, "compress"):
		args = append(args, "--out", "o.tif")
	case c.Name == "patches":
		args = append(args, "--out", "o.geojson")
	case hasFlag(c, "out"):
		args = append(args, "--out", pick([]string{"o.gpkg", "o.shp", "o.geojson", "o.parquet"}))
	}
	if hasFlag(c, "crs") && r.IntN(2) == 0 {
		args = append(args, "--crs", "EPSG:32633")
	}
	for range r.IntN(3) + r.IntN(2) {
		if r.IntN(8) == 0 {
			args = append(args, pick(words))
		} else {
			args = append(args, pick(files))
		}
	}
	for range r.IntN(9) {
		if len(c.Flags) == 0 {
			break
		}
		f := c.Flags[r.IntN(len(c.Flags))]
		name := f.Names()[0]
		if name == "watch" { // which waits
			continue
		}
		if _, isBool := f.(*cli.BoolFlag); isBool {
			args = append(args, "--"+name)
			continue
		}
		value := pick(words)
		if some := strings.Fields(likely[name]); len(some) > 0 && r.IntN(8) > 0 {
			value = strings.ReplaceAll(pick(some), ":", " ")
			if strings.Contains(value, "bbox") || name == "grid" || strings.HasPrefix(value, "EPSG") {
				value = strings.Replace(value, " ", ":", 1)
			}
		}
		switch {
		case names(c, name, func(o option.Option) bool { return o.Output != "" }):
			value = pick(outputs)
		case names(c, name, func(o option.Option) bool { return o.Input != "" }) && likely[name] == "" && r.IntN(6) > 0, name == "epoch" && c.Name == "change":
			value = pick(files)
		}
		args = append(args, "--"+name, value)
	}
	return args
}

// names reports whether an option of a command is one for which a function holds.
func names(c *cli.Command, name string, hold func(option.Option) bool) bool {
	return slices.ContainsFunc(optionsOf(c), func(o option.Option) bool { return o.Name == name && hold(o) })
}

func hasFlag(c *cli.Command, name string) bool { return slices.Contains(flagNames(c), name) }

// Commands at random, with small files and options at random: each ends soon, with an exit status that it may have, without a fault
// and without a file that is left behind. VERDEX_RANDOM=1h takes an hour.
func TestRandomCommands(t *testing.T) {
	files := randomWorld(t)
	limit, seed := 5*time.Second, uint64(1)
	if text := os.Getenv("VERDEX_RANDOM"); text != "" {
		var err error
		limit, err = time.ParseDuration(text)
		require.NoError(t, err)
		seed = uint64(time.Now().UnixNano())
	}
	t.Logf("seed %d", seed)
	r := rand.New(rand.NewPCG(seed, 4))
	good := map[string][]byte{}
	for _, f := range must(os.ReadDir(".")) {
		good[f.Name()] = must(os.ReadFile(f.Name()))
	}
	done, fine := 0, 0
	for begin := time.Now(); time.Since(begin) < limit; done++ {
		args := randomCommand(r, newRoot("test", nil, nil), files)
		var out, errs strings.Builder
		ended := make(chan int, 1)
		go func() { ended <- Main(append([]string{"verdex"}, args...), "test", &out, &errs) }()
		select {
		case code := <-ended:
			if code == exitDone {
				fine++
			}
			if !assert.NotContains(t, errs.String(), "unforeseen fault", "%q", args) || !assert.Contains(t, []int{0, 1, 2, 3}, code, "%q", args) {
				return
			}
		case <-time.After(2 * time.Minute):
			t.Fatalf("%q does not end", args)
		}
		for _, e := range must(os.ReadDir(".")) {
			name := e.Name()
			if !assert.False(t, strings.HasPrefix(name, ".verdex-"), "%q leaves %s", args, name) {
				return
			}
			want, known := good[name]
			switch {
			case !known:
				require.NoError(t, os.RemoveAll(name))
			case strings.HasSuffix(name, ".book"):
				require.NoError(t, os.WriteFile(name, want, 0o644))
			default:
				if got, err := os.ReadFile(name); err != nil || string(got) != string(want) {
					if !slices.Contains(args, "--force") || !slices.Contains(outputs, name) {
						t.Fatalf("%q changes %s", args, name)
					}
					require.NoError(t, os.WriteFile(name, want, 0o644))
				}
			}
		}
	}
	t.Logf("%d commands, %d of which did their work", done, fine)
	assert.Greater(t, fine, done/200, "commands are not only mistakes")
}
