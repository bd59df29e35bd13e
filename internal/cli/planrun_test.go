package cli

import (
	"encoding/json"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/goccy/go-yaml"
	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/internal/demo"
	"github.com/verdex-land/verdex/internal/plan"
)

// oneByOne are the commands that make by themselves what the plan of the sample world makes.
var oneByOne = []string{
	"zones merge wards.geojson --zone-id code --keep name --out merged/wards.gpkg",
	"book create orrin.book",
	"measure cover_2004.tif --crosswalk codes_2004.csv --zones merged/wards.gpkg --zone-id code --zone-name name --legend legend.csv --epoch 2004 --control known_totals.csv --ignore control --bound nominal=0.5 --out results/extents_wards_2004.csv",
	"measure cover_2012_?.tif --nodata 0 --zones merged/wards.gpkg --zone-id code --zone-name name --legend legend.csv --epoch 2012 --out results/extents_wards_2012.csv",
	"measure cover_2020.tif --zones merged/wards.gpkg --zone-id code --zone-name name --legend legend.csv --epoch 2020 --out results/extents_wards_2020.csv",
	"measure cover_2004.tif --crosswalk codes_2004.csv --zones catchments.geojson --zone-id id --zone-name name --within wards.geojson --within-id code --within-name name --legend legend.csv --epoch 2004 --out results/extents_catchments_2004.csv",
	"change --epoch 2004=cover_2004.tif --epoch 2012=cover_2012_?.tif --epoch 2020=cover_2020.tif --crosswalk 2004=codes_2004.csv --nodata 2012=0 --zones merged/wards.gpkg --zone-id code --zone-name name --legend legend.csv --out results/change.csv --map results/change.tif",
	"change --epoch 2004=cover_2004.tif --epoch 2012=cover_2012_?.tif --epoch 2020=cover_2020.tif --crosswalk 2004=codes_2004.csv --nodata 2012=0 --zones merged/wards.gpkg --zone-id code --zone-name name --legend legend.csv --table matrix --out results/matrix.csv",
	"change --epoch 2004=cover_2004.tif --epoch 2012=cover_2012_?.tif --epoch 2020=cover_2020.tif --crosswalk 2004=codes_2004.csv --nodata 2012=0 --zones merged/wards.gpkg --zone-id code --zone-name name --legend legend.csv --table histories --out results/histories.csv",
	"account remaining results/histories.csv --legend legend.csv --out results/remaining.csv",
	"draw histories results/histories.csv --legend legend.csv --out results/histories.svg",
	"account flows results/matrix.csv --flows flows.csv --legend legend.csv --out results/flows.csv",
	"account series results/extents_wards_2004.csv results/extents_wards_2012.csv results/extents_wards_2020.csv --legend legend.csv --out results/series.csv",
	"account composition results/extents_wards_2004.csv results/extents_wards_2012.csv results/extents_wards_2020.csv --legend legend.csv --by group --layout wide --round-to-sum --out results/groups.csv",
	"account accuracy samples_2020.csv --cover cover_2020.tif --legend legend.csv --out results/accuracy.csv",
	"derive slope elevation.tif --out slope.tif",
	"derive rules --rules terrain.yaml --layer now=cover_2020.tif --layer slope=slope.tif --grid now --legend terrain_legend.csv --out terrain.tif",
	"measure terrain.tif --zones wards.geojson --zone-id code --zone-name name --where people>1000 --legend terrain_legend.csv --epoch 2020 --out results/terrain.csv",
	"summarise slope.tif --zones merged/wards.gpkg --zone-id code --zone-name name --out results/slopes.csv",
	"attach results/extents_wards_2020.csv --zones merged/wards.gpkg --zone-id code --out results/wards.gpkg",
}

// A plan makes the same bytes as its commands typed one by one.
func TestPlanMakesWhatItsCommandsMake(t *testing.T) {
	t.Chdir(t.TempDir())
	t.Setenv("SOURCE_DATE_EPOCH", "1764331200") // so that GeoPackages are the same, too
	require.NoError(t, demo.Write("planned", true))
	require.NoError(t, demo.Write("typed", true))
	require.NoError(t, os.Mkdir("typed/results", 0o755))
	require.NoError(t, os.Mkdir("typed/merged", 0o755))
	t.Chdir("planned")
	verdex(t, "run", "orrin.yaml")
	t.Chdir("../typed")
	for _, line := range oneByOne {
		verdex(t, strings.Fields(line)...)
	}
	same := 0
	require.NoError(t, filepath.WalkDir("results", func(path string, e os.DirEntry, err error) error {
		if err != nil || e.IsDir() || path == "results/slopes.csv-metadata.json" { // which names the raster: a file here, a layer there
			return err
		}
		want, err := os.ReadFile(path)
		require.NoError(t, err)
		got, err := os.ReadFile(filepath.Join("../planned", path))
		require.NoError(t, err)
		assert.True(t, string(want) == string(got), path)
		same++
		return nil
	}))
	assert.Equal(t, 31, same)
	// The spreadsheet names the files that it was made of, so it is made where the plan made it.
	t.Chdir("../planned")
	want, err := os.ReadFile("results/account.xlsx")
	require.NoError(t, err)
	verdex(t, "account", "extent", "results/matrix.csv", "--legend", "legend.csv", "--flows", "flows.csv", "--control", "known_totals.csv", "--bound", "pace=4", "--ignore", "control", "--out", "results/again.xlsx")
	got, err := os.ReadFile("results/again.xlsx")
	require.NoError(t, err)
	assert.InDelta(t, len(want), len(got), 200)
}

// testPlans are plans that are right, and plans that are wrong whatever the files hold.
var testPlans = []struct {
	text  string
	right bool
}{
	{"epochs: {2020: cover_2020.tif}\n", true},
	{"plan: 1\ntitle: T\ncontact: c\nlicence: l\nlegend: legend.csv\nunit: km2\nby: group\nzones: wards.geojson\nepochs: {2020: cover_2020.tif}\n", true},
	{"zones: {zones: wards.geojson, zone-id: code, edges: centre}\nepochs: {2020: {cover: [cover_2020.tif], nodata: 0}}\ndigits: 3\n", true},
	{"zones: {a: wards.geojson, b: {zones: catchments.geojson, merge: id, keep: [name]}}\nepochs: {2020: [cover_2020.tif]}\n", true},
	{"epochs: {find: \"cover_{date}.tif\", crosswalk: codes_2004.csv}\n", true},
	{"layers: {s: {slope: elevation.tif, in: degrees}, x: {expr: s + 1}, f: elevation.tif}\nepochs: {2020: cover_2020.tif}\n", true},
	{"layers: {r: {rules: terrain.yaml, layer: {now: cover_2020.tif, slope: elevation.tif}, legend: terrain_legend.csv, grid: now}}\nepochs: {2020: r}\n", true},
	{"checks: {control: known_totals.csv, bound: {pace: 4}, ignore: [edges, speckle], check-all: true, strict: true}\nepochs: {2020: cover_2020.tif}\n", true},
	{"book: o.book\ncache: {folder: .c, limit: 5}\nrecord: r.json\nepochs: {2020: cover_2020.tif}\n", true},
	{"epochs: {2004: cover_2004.tif, 2020: cover_2020.tif}\noutputs: {m: {make: change, table: matrix, out: m.csv, epochs: [2004, 2020]}, a: {make: account extent, of: m, out: a.csv}}\n", true},
	{"epochs: {2020: cover_2020.tif}\noutputs: {m: {make: measure, out: m.csv, layout: wide, force: true, account: x, wait: 5s}}\n", true},
	{"plan: 2\nepochs: {2020: cover_2020.tif}\n", false},
	{"legned: legend.csv\nepochs: {2020: cover_2020.tif}\n", false},
	{"unit: hectare\nepochs: {2020: cover_2020.tif}\n", false},
	{"digits: two\nepochs: {2020: cover_2020.tif}\n", false},
	{"digits: 99\nepochs: {2020: cover_2020.tif}\n", false},
	{"measurements: maybe\nepochs: {2020: cover_2020.tif}\n", false},
	{"legend: [a, b]\nepochs: {2020: cover_2020.tif}\n", false},
	{"zones: {a: {zone-id: code}}\nepochs: {2020: cover_2020.tif}\n", false},
	{"zones: {zones: wards.geojson, zoneid: code}\nepochs: {2020: cover_2020.tif}\n", false},
	{"epochs: [a]\n", false},
	{"epochs: {2020: {crosswalk: codes_2004.csv}}\n", false},
	{"epochs: {2020: {cover: a.tif, legend: l.csv}}\n", false},
	{"layers: {s: {in: degrees}}\nepochs: {2020: cover_2020.tif}\n", false},
	{"layers: {s: {slope: e.tif, in: feet}}\nepochs: {2020: cover_2020.tif}\n", false},
	{"checks: {bond: pace=1}\nepochs: {2020: cover_2020.tif}\n", false},
	{"cache: {limit: -1}\nepochs: {2020: cover_2020.tif}\n", false},
	{"epochs: {2020: cover_2020.tif}\noutputs: {a: {out: x.csv}}\n", false},
	{"epochs: {2020: cover_2020.tif}\noutputs: {a: {make: mesure, out: x.csv}}\n", false},
	{"epochs: {2020: cover_2020.tif}\noutputs: {a: {make: measure, save-plan: x.yaml}}\n", false},
	{"epochs: {2020: cover_2020.tif}\noutputs: {a: {make: measure, out: x.csv, layout: tall}}\n", false},
	{"epochs: {2020: cover_2020.tif}\noutputs: {a: {make: measure, out: x.csv, wait: soon}}\n", false},
}

// The JSON Schema accepts and rejects what check does.
func TestSchemaOfPlans(t *testing.T) {
	t.Chdir(t.TempDir())
	require.NoError(t, demo.Write(".", true))
	commands := planCommands(newRoot("test", io.Discard, io.Discard))
	text, err := plan.Schema(commands)
	require.NoError(t, err)
	doc, err := jsonschema.UnmarshalJSON(strings.NewReader(string(text)))
	require.NoError(t, err)
	c := jsonschema.NewCompiler()
	require.NoError(t, c.AddResource("plan.json", doc))
	schema, err := c.Compile("plan.json")
	require.NoError(t, err)
	sample, err := demo.File("orrin.yaml")
	require.NoError(t, err)
	cases := append(testPlans, struct {
		text  string
		right bool
	}{string(sample), true})
	for _, k := range cases {
		b, err := yaml.YAMLToJSON([]byte(k.text))
		require.NoError(t, err)
		value, err := jsonschema.UnmarshalJSON(strings.NewReader(string(b)))
		require.NoError(t, err)
		bySchema := schema.Validate(value)
		_, byCheck := plan.Parse(files.Disk, "p.yaml", []byte(k.text), commands)
		assert.Equal(t, k.right, bySchema == nil, "by the schema: %s%v", k.text, bySchema)
		assert.Equal(t, k.right, byCheck == nil, "by check: %s%v", k.text, byCheck)
	}
}

// A record states what a run read and wrote, with what else is needed to do it again.
func TestRecordOfARun(t *testing.T) {
	t.Chdir(t.TempDir())
	require.NoError(t, demo.Write("orrin", true))
	verdex(t, "run", "orrin/orrin.yaml")
	b, err := os.ReadFile("orrin/results/orrin.record.json")
	require.NoError(t, err)
	var r plan.Record
	require.NoError(t, json.Unmarshal(b, &r))
	assert.Equal(t, "verdex test", r.Program)
	assert.Equal(t, "../orrin.yaml", r.PlanPath)
	assert.Equal(t, "CC-BY-4.0", r.Licence)
	assert.Contains(t, r.Plan, "merge: code")
	assert.Contains(t, string(r.Resolved), `"edges"`)
	require.Len(t, r.Steps, 26)
	for _, s := range r.Steps {
		assert.NotEmpty(t, s.Outputs, s.Name)
		for _, f := range append(s.Inputs, s.Outputs...) {
			digest, size, err := plan.DigestOf(filepath.Join("orrin/results", f.Path))
			require.NoError(t, err)
			assert.Equal(t, digest, f.Digest)
			assert.Equal(t, size, f.Size)
		}
	}
}
