package plan

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/job"
	"github.com/verdex-land/verdex/core/option"
	"github.com/verdex-land/verdex/internal/demo"
)

type outOptions struct {
	Out      string `opt:"out" out:"table" help:"<FILE>"`
	Digits   int    `opt:"digits" default:"-1" help:"<N>"`
	Force    bool   `opt:"force" help:"replace"`
	SavePlan string `opt:"save-plan" out:"plan" help:"<FILE>"`
}

type postOptions struct {
	Post    string `opt:"post" in:"-" help:"<BOOK>"`
	Account string `opt:"account" help:"<NAME>"`
	Author  string `opt:"author" help:"<WHO>"`
}

type measureOptions struct {
	job.MeasureOptions
	outOptions
	postOptions
}

type changeOptions struct {
	Rest []string `arg:"-"`
	job.ChangeOptions
	Table string `opt:"table" choose:"summary,matrix" help:"<table>"`
	Map   string `opt:"map" out:"map" help:"<FILE>"`
	outOptions
	postOptions
}

type extentOptions struct {
	job.ExtentAccountOptions
	outOptions
}

type seriesOptions struct {
	job.SeriesOptions
	outOptions
}

type accuracyOptions struct {
	job.AccuracyOptions
	outOptions
}

type attachOptions struct {
	job.AttachOptions
	outOptions
}

func made[T any]() any {
	o := new(T)
	option.Fill(o)
	return o
}

// commands are a few of those of the command line.
var commands = []Command{{"measure", made[measureOptions]}, {"change", made[changeOptions]}, {"account extent", made[extentOptions]},
	{"account series", made[seriesOptions]}, {"account accuracy", made[accuracyOptions]}, {"attach", made[attachOptions]}}

// inWorld unpacks the sample world into the working folder.
func inWorld(t *testing.T) {
	t.Chdir(t.TempDir())
	require.NoError(t, demo.Write(".", true))
}

// head is the beginning of the plans of the tests; the epochs begin on line 3.
const head = "legend: legend.csv\nzones: {zones: wards.geojson, zone-id: code}\n"

func parsed(t *testing.T, text string) *Plan {
	t.Helper()
	p, err := Parse(files.Disk, "p.yaml", []byte(text), commands)
	require.NoError(t, err)
	return p
}

func names(p *Plan) (out []string) {
	for _, s := range p.Steps {
		out = append(out, s.Name)
	}
	return out
}

func TestShortPlan(t *testing.T) {
	inWorld(t)
	p := parsed(t, head+"epochs:\n  2004: {cover: cover_2004.tif, crosswalk: codes_2004.csv}\n  2020: cover_2020.tif\n")
	assert.Equal(t, []string{"extents 2004", "extents 2020", "change", "matrix", "account"}, names(p))
	m := p.Steps[0].Options.(*measureOptions)
	assert.Equal(t, []string{"cover_2004.tif"}, m.Covers)
	assert.Equal(t, "codes_2004.csv", m.Crosswalk)
	assert.Equal(t, "2004", m.Epoch)
	assert.Equal(t, "code", m.ZoneID)
	assert.Equal(t, "results/extents_2004.csv", m.Out)
	assert.Equal(t, -1, m.Digits)
	assert.Empty(t, p.Steps[1].Options.(*measureOptions).Crosswalk)
	c := p.Steps[3].Options.(*changeOptions)
	assert.Equal(t, []string{"2004=cover_2004.tif", "2020=cover_2020.tif"}, c.Epochs)
	assert.Equal(t, []string{"2004=codes_2004.csv"}, c.Crosswalk)
	assert.Equal(t, "matrix", c.Table)
	assert.Equal(t, []string{"results/matrix.csv"}, p.Steps[4].Options.(*extentOptions).Tables)
	assert.Equal(t, []int{3}, p.Steps[4].Needs)
	assert.Equal(t, "results/p.record.json", p.Record)
}

// Files are named relative to the plan, wherever the program is run.
func TestFilesAreRelativeToThePlan(t *testing.T) {
	inWorld(t)
	dir, err := os.Getwd()
	require.NoError(t, err)
	t.Chdir(filepath.Dir(dir))
	here := filepath.Base(dir)
	_, err = Parse(files.Disk, filepath.Join(here, "p.yaml"), []byte(head+"epochs: {2012: \"cover_2012_?.tif\", 2020: cover_2020.tif}\ncrs: EPSG:32633\nbook: o.book\noutputs:\n"+
		"  a: {make: measure, out: a_{epoch}.csv, account: x}\n"), commands)

	require.Error(t, err) // {epoch} needs quotes in a flow mapping
	p, err := Parse(files.Disk, filepath.Join(here, "p.yaml"), []byte(head+"epochs: {2012: \"cover_2012_?.tif\", 2020: cover_2020.tif}\ncrs: EPSG:32633\nbook: o.book\noutputs:\n"+
		"  a: {make: measure, out: \"a_{epoch}.csv\", account: x}\n"), commands)

	require.NoError(t, err)
	m := p.Steps[0].Options.(*measureOptions)
	assert.Equal(t, []string{here + "/cover_2012_?.tif"}, m.Covers)
	assert.Equal(t, here+"/wards.geojson", m.Zones)
	assert.Equal(t, "EPSG:32633", m.CRS)
	assert.Equal(t, here+"/a_2012.csv", m.Out)
	assert.Equal(t, here+"/o.book", m.Post)
	assert.Equal(t, here+"/.verdex", p.CacheDir)
}

func TestEpochsByPattern(t *testing.T) {
	inWorld(t)
	for from, to := range map[string]string{"cover_2004.tif": "s/x_20040612_a.tif", "cover_2012_a.tif": "s/x_20120612_a.tif", "cover_2012_b.tif": "s/x_20120612_b.tif"} {
		require.NoError(t, os.MkdirAll("s", 0o755))
		require.NoError(t, os.Rename(from, to))
	}
	p := parsed(t, "epochs: {find: \"s/x_{date}_{tile}.tif\", nodata: 0}\n")
	require.Len(t, p.Epochs, 2)
	assert.Equal(t, "2004-06-12", p.Epochs[0].Label)
	assert.Equal(t, []string{"s/x_20120612_a.tif", "s/x_20120612_b.tif"}, p.Epochs[1].Cover)
	m := p.Steps[1].Options.(*measureOptions)
	assert.Equal(t, p.Epochs[1].Cover, m.Covers)
	assert.Equal(t, []string{"0"}, m.NoData)
	assert.Equal(t, "results/extents_2012-06-12.csv", m.Out)
	require.NoError(t, os.WriteFile("s/x_2012-06-12_a.tif", nil, 0o644))
	_, err := Parse(files.Disk, "p.yaml", []byte("epochs: {find: \"s/x_{date}_{tile}.tif\"}\n"), commands)
	assert.ErrorContains(t, err, "are one epoch, 2012-06-12")
}

// A layer whose file has {epoch} in its name is one for each epoch, and so are those that are made of it.
func TestLayersForEachEpoch(t *testing.T) {
	inWorld(t)
	p := parsed(t, "legend: legend.csv\nlayers:\n  red: cover_{epoch}.tif\n  index: {expr: (red - 1) / (red + 1)}\n  steep: {slope: elevation.tif}\n"+
		"epochs: {2004: index, 2020: index}\ncrosswalk: codes_2004.csv\n")
	assert.Equal(t, []string{"index 2004"}, p.Epochs[0].Cover)
	var list []string
	for _, l := range p.Layers {
		list = append(list, l.Name+" "+l.File)
	}
	assert.Equal(t, []string{"red 2004 cover_2004.tif", "red 2020 cover_2020.tif", "index 2004 ", "index 2020 ", "steep "}, list)
	x := p.layer("index 2020").make.(*job.ExpressionOptions)
	assert.Equal(t, []string{"red=cover_2020.tif"}, x.Layers)
	assert.Equal(t, []string{"(red - 1) / (red + 1)"}, x.Expression)
	assert.True(t, p.defines("index 2004"))
	assert.False(t, p.defines("red 2004"))
}

func TestStatementsGetTables(t *testing.T) {
	inWorld(t)
	p := parsed(t, head+"digits: 2\nunit: km2\nby: group\nepochs: {2012: \"cover_2012_?.tif\", 2020: cover_2020.tif}\noutputs:\n"+
		"  s: {make: account series, out: s.csv}\n  e: {make: account extent, out: e.csv}\n")
	assert.Equal(t, []string{"tables measure wards 2012", "tables measure wards 2020", "tables change wards", "s", "e"}, names(p))
	assert.Equal(t, []int{0, 1}, p.Steps[3].Needs)
	h := p.Steps[2].Options.(*changeOptions)
	assert.True(t, p.Steps[2].Hidden)
	assert.Equal(t, -1, h.Digits, "statements are made of numbers in full precision")
	assert.Equal(t, "class", h.By)
	assert.Equal(t, "matrix", h.Table)
	assert.Equal(t, []string{".verdex/tables/tables_change_wards.csv"}, p.Steps[4].Options.(*extentOptions).Tables)
	assert.Equal(t, "group", p.Steps[4].Options.(*extentOptions).By)
}

func TestZonesOfAPlan(t *testing.T) {
	inWorld(t)
	p := parsed(t, "zones:\n  w: {zones: wards.geojson, merge: code, where: people > 5}\n  c: {zones: catchments.geojson, zone-id: id, within: wards.geojson, within-id: code}\n"+
		"epochs: {2020: cover_2020.tif}\noutputs:\n  a: {make: measure, out: \"{zones}.csv\"}\n  b: {make: attach, of: a, zones: c, out: c.gpkg}\n")
	assert.Equal(t, []string{"a w", "a c", "b c"}, names(p))
	w := p.Steps[0].Options.(*measureOptions)
	assert.Equal(t, []string{"w", "code", ""}, []string{w.Zones, w.ZoneID, w.Where}, "the condition is that of merging")
	assert.True(t, p.defines("w"))
	c := p.Steps[1].Options.(*measureOptions)
	assert.Equal(t, []string{"catchments.geojson", "wards.geojson"}, []string{c.Zones, c.Within})
	b := p.Steps[2].Options.(*attachOptions)
	assert.Equal(t, []string{"c.csv"}, b.Table)
	assert.Equal(t, "catchments.geojson", b.Zones)
}

func TestWrongPlans(t *testing.T) {
	inWorld(t)
	epochs := "epochs: {2020: cover_2020.tif}\n"
	for text, want := range map[string]string{
		"":                                    "p.yaml: it is empty",
		"hello":                               "p.yaml:1:1: a plan is a mapping",
		"a: [1\n":                             "it is not valid YAML here",
		"a: 1\n---\nb: 2\n":                   "a second document begins here",
		"\xff":                                "it is not UTF-8",
		"plan: 2\nepoch: 1\n":                 "p.yaml:1:7: the plan is written for version 2",
		"plan: one\n":                         `"one" is not a version`,
		"legned: legend.csv\n" + epochs:       "p.yaml:1:1: legned is not a key of a plan: did you mean legend?",
		"unit: hectare\n" + epochs:            "p.yaml:1:7: unit: hectare is not valid: choose ha",
		"digits: \"2\"\n" + epochs:            "digits takes a whole number",
		"digits: 99\n" + epochs:               "is out of range",
		"measurements: yes\n" + epochs:        "measurements is true or false",
		"legend: [a, b]\n" + epochs:           "legend takes one value, and this has 2",
		"legend: {a: {b: c}}\n" + epochs:      "this is deeper",
		head:                                  "p.yaml:1:1: there are no epochs",
		"epochs: [a]\n":                       "epochs takes a mapping",
		"epochs: {2020: }\n":                  "the epoch 2020 has no cover",
		"epochs:\n  2020: a\n  2020: b\n":     "p.yaml:3:3: 2020 stands here for the second time, after line 2",
		"epochs: {2020: a, 2004: b}\n":        "are not in the order of time",
		"epochs: {\"a=b\": c}\n":              "the label of an epoch has a character",
		"epochs: {find: \"no_{date}.tif\"}\n": "no file matches the pattern",
		"epochs: {find: \"no.tif\"}\n":        "groups files by {date}",
		"layers: {a: {expr: b}, b: {expr: a}}\n" + epochs:                                                                   "p.yaml:1:10: the layer a is made of itself: a ← b ← a",
		"layers: {a: {expr: a}}\n" + epochs:                                                                                 "a ← a",
		"layers: {a: {expr: 1, slope: e.tif}}\n" + epochs:                                                                   "is made in two ways, expr and slope",
		"layers: {a: {of: mean}}\n" + epochs:                                                                                "is neither a raster nor made of some",
		"layers: {a: {slope: e.tif, in: feet}}\n" + epochs:                                                                  "in: feet is not valid",
		"layers: {a: {slope: e.tif, elevation: f.tif}}\n" + epochs:                                                          "elevation is not an option here: write slope",
		"zones: {w: {zone-id: code}}\n" + epochs:                                                                            "the set of zones w names no zones",
		"zones: {a/b: w.gpkg}\n" + epochs:                                                                                   "the name of a set of zones has a character",
		"zones: {zones: w.gpkg, keep: name}\n" + epochs:                                                                     "keep is about zones that are united: add merge: FIELD",
		"book: {author: x}\n" + epochs:                                                                                      "it names no book",
		"checks: {bond: pace=1}\n" + epochs:                                                                                 "did you mean bound?",
		epochs + "outputs: [a]\n":                                                                                           "outputs takes a mapping",
		epochs + "outputs: {a: b}\n":                                                                                        "the output a does not say what it is",
		epochs + "outputs: {a: {make: mesure}}\n":                                                                           "mesure is not a command that makes an output: did you mean measure?",
		epochs + "outputs: {a: {make: measure, outt: x.csv}}\n":                                                             "outt is not an option here: did you mean out?",
		epochs + "outputs: {a: {make: measure, save-plan: x.yaml}}\n":                                                       "save-plan is not an option here",
		epochs + "outputs: {a: {make: measure, epochs: 2021}}\n":                                                            "2021 is not an epoch of the plan: did you mean 2020?",
		epochs + "outputs: {a: {make: account extent, of: b}}\n":                                                            "b is not an output above this one",
		epochs + "outputs: {a: {make: account extent}}\n":                                                                   "account extent is made of tables, and there are none",
		epochs + "outputs: {a: {make: measure, of: b}}\n":                                                                   "measure takes no tables of other outputs",
		epochs + "outputs: {a: {make: change, out: \"x{epoch}.csv\"}}\n":                                                    "{epoch} has no value here",
		epochs + "record: x.csv\noutputs: {a: {make: measure, out: x.csv}}\n":                                               "x.csv is also what the output a writes",
		epochs + "record: x.csv-metadata.json\noutputs: {a: {make: measure, out: x.csv}}\n":                                 "is also what the output a writes",
		epochs + "book: a.book\nrecord: a.book\noutputs: {a: {make: measure, out: x.csv}}\n":                                "a.book is also the book",
		epochs + "outputs: {a: {make: measure, out: .verdex/x.csv}}\n":                                                      "lies in the cache folder",
		"zones: {a: w.gpkg, b: v.gpkg}\n" + epochs + "outputs: {x: {make: measure, out: o.csv}}\n":                          "put {zones} into the name",
		"epochs: {2004: a, 2020: b}\noutputs: {x: {make: measure, out: o.csv}}\n":                                           "put {epoch} into the name",
		epochs + "outputs:\n  x: {make: measure, out: o.csv}\n  y: {make: change, out: ./o.csv}\n":                          "would be written by two steps, x and y: choose two names",
		epochs + "outputs: {x: {make: attach, table: x.csv, out: x.csv}}\n":                                                 "",
		epochs + "outputs:\n  x: {make: attach, table: y.csv, out: x.csv}\n  y: {make: attach, table: x.csv, out: y.csv}\n": "reads what is made of it",
		"a: &x [1]\n":                          "p.yaml:1:4: anchors and aliases have no place in a plan",
		"a: !t b\n":                            "tags have no place in a plan",
		strings.Repeat("[", 1<<17):             "nested more deeply than any plan is",
		strings.Repeat("- ", 1<<16):            "nested more deeply than any plan is",
		"a: " + strings.Repeat("&b ", 1<<16):   "nested more deeply than any plan is",
		strings.Repeat("a: {", 1<<16):          "nested more deeply than any plan is",
		strings.Repeat("x", 1<<19):             "larger than 256 KiB",
		"a:\n" + strings.Repeat(" ", 50) + "b": "is not a key of a plan",
	} {
		_, err := Parse(files.Disk, "p.yaml", []byte(text), commands)
		if want == "" {
			assert.NoError(t, err, text)
			continue
		}
		var problems Problems
		if assert.True(t, errors.As(err, &problems), "%.80q: %v", text, err) {
			assert.ErrorContains(t, err, want, "%.80q", text)
		}
	}
}

// All problems are reported at once, each once, in the order of the file.
func TestAllProblemsAtOnce(t *testing.T) {
	_, err := Parse(files.Disk, "p.yaml", []byte("legned: a\nunit: x\nepochs: {2020: a}\nlayers: {b: {}}\n"), commands)
	var problems Problems
	require.ErrorAs(t, err, &problems)
	require.Len(t, problems, 3)
	for i, line := range []int{1, 2, 4} {
		assert.Equal(t, line, problems[i].Line)
	}
	assert.Equal(t, 3, strings.Count(err.Error(), "p.yaml:"))
	line, column := Problem{Line: 1, Column: 90}.Excerpt([]byte(strings.Repeat("a", 85)+"HERE"+strings.Repeat("b", 90)), 20)
	assert.Equal(t, 20, len(line))
	assert.Equal(t, byte('E'), line[column-2])
}

func TestMissingFiles(t *testing.T) {
	inWorld(t)
	p := parsed(t, "legend: legnd.csv\nzones: {zones: wards.geojson, zone-id: code}\nlayers: {s: {slope: elevaton.tif}}\nepochs:\n  2004: cover_2005.tif\n  2012: \"none_?.tif\"\n"+
		"outputs:\n  a: {make: measure, out: \"{epoch}.csv\", crs: my.prj}\n  b: {make: account series, of: a, out: s.csv}\n")
	var got []string
	for _, m := range p.Missing().Add() {
		got = append(got, m.String())
	}
	assert.Equal(t, []string{"p.yaml:1:9: legnd.csv: there is no such file: did you mean legend.csv?",
		"p.yaml:3:21: elevaton.tif: there is no such file: did you mean elevation.tif?",
		"p.yaml:5:9: cover_2005.tif: there is no such file: did you mean cover_2004.tif?",
		"p.yaml:8:47: my.prj: there is no such file: check the path"}, got)
}

func TestSelect(t *testing.T) {
	inWorld(t)
	text := head + "epochs: {2012: \"cover_2012_?.tif\", 2020: cover_2020.tif}\n"
	p := parsed(t, text)
	require.NoError(t, p.Select("account", ""))
	assert.Equal(t, []string{"matrix", "account"}, names(p))
	assert.Equal(t, []int{0}, p.Steps[1].Needs)
	p = parsed(t, text)
	require.NoError(t, p.Select("extents", "2020"))
	assert.Equal(t, []string{"extents 2020"}, names(p))
	assert.ErrorContains(t, parsed(t, text).Select("acount", ""), "did you mean account?")
	assert.ErrorContains(t, parsed(t, text).Select("", "2021"), "is not an epoch")
}

// A plan of a command does what the command does.
func TestSave(t *testing.T) {
	inWorld(t)
	m := made[measureOptions]().(*measureOptions)
	m.Covers, m.Zones, m.ZoneID, m.Legend, m.Epoch, m.Bound, m.Unit = []string{"cover_2012_?.tif"}, "wards.geojson", "code", "legend.csv", "2012", []string{"pace=2"}, "km2"
	m.NoData, m.Edges, m.SavePlan = []string{"0"}, "centre", "q/p.yaml"
	require.NoError(t, option.Check(m))
	text, err := Save("q/p.yaml", "measure", m)
	require.NoError(t, err)
	p, err := Parse(files.Disk, "q/p.yaml", text, commands)
	require.NoError(t, err, string(text))
	require.Len(t, p.Steps, 1)
	got := p.Steps[0].Options.(*measureOptions)
	assert.Equal(t, "q/extents.csv", got.Out)
	want := *m
	want.Out, want.SavePlan, want.Others = got.Out, "", true
	assert.Equal(t, &want, got)

	c := made[changeOptions]().(*changeOptions)
	c.Epochs, c.Crosswalk, c.NoData = []string{"2004=cover_2004.tif", "2012=cover_2012_a.tif", "2012=cover_2012_b.tif"}, []string{"2004=codes_2004.csv"}, []string{"2012=0"}
	c.Table, c.Out = "matrix", "m.csv"
	require.NoError(t, option.Check(c))
	text, err = Save("p.yaml", "change", c)
	require.NoError(t, err)
	p, err = Parse(files.Disk, "p.yaml", text, commands)
	require.NoError(t, err, string(text))
	again := p.Steps[0].Options.(*changeOptions)
	again.Others = false
	assert.Equal(t, c, again)
}

func TestShow(t *testing.T) {
	inWorld(t)
	p := parsed(t, head+"title: T\nepochs: {2012: \"cover_2012_?.tif\", 2020: cover_2020.tif}\n")
	b, err := p.YAML()
	require.NoError(t, err)
	for _, want := range []string{"title: T", "extents 2012:", "make: measure", "edges: split", "unit: ha", "limit: 1024"} {
		assert.Contains(t, string(b), want)
	}
}

func FuzzParse(f *testing.F) {
	f.Add(head + "epochs: {2020: cover_2020.tif}\n")
	f.Add("zones:\n  a: {zones: x, merge: y}\nlayers: {s: {slope: e}}\noutputs: {a: {make: change, of: [b], out: \"{zones}\"}}\n")
	f.Fuzz(func(t *testing.T, text string) {
		p, err := Parse(files.Disk, "p.yaml", []byte(text), commands)
		if err == nil {
			_, err = p.YAML()
			require.NoError(t, err)
		}
	})
}
