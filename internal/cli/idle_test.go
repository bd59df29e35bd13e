package cli

import (
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"path/filepath"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/urfave/cli/v3"
)

// idleCommands are commands in the world of [idleWorld]; each option that they have is added to them.
var idleCommands = []string{
	"measure c.tif --zones z.geojson --zone-id id --legend legend.csv --out o.csv",
	"measure c.tif --out o.csv",
	"measure c.tif d.tif --out o.csv",
	"measure z.geojson --class-field name --zones y.geojson --zone-id id --out o.csv",
	"measure --rules rules.yaml --layer a=c.tif --layer b=e.tif --legend legend.csv --out o.csv",
	"change --epoch 2004=c.tif --epoch 2012=e.tif --zones z.geojson --zone-id id --legend legend.csv --out o.csv",
	"change --epoch 2004=c.tif --epoch 2012=e.tif --epoch 2020=c.tif --table histories --out o.csv",
	"summarise v.tif --zones z.geojson --zone-id id --out o.csv",
	"reclassify c.tif --crosswalk cross.csv --legend legend.csv --out o.tif",
	"mosaic c.tif d.tif --out o.tif",
	"clip c.tif --to z.geojson --out o.tif",
	"align c.tif --grid coarse.tif --out o.tif",
	"derive expr a+b --layer a=v.tif --layer b=v.tif --out o.tif",
	"derive slope v.tif --out o.tif",
	"derive rules --rules rules.yaml --layer a=c.tif --layer b=e.tif --legend legend.csv --out o.tif",
	"derive composite c.tif e.tif --out o.tif",
	"patches c.tif --class 1,2 --out o.geojson",
	"look c.tif",
	"look z.geojson",
	"zones pick z.geojson --out o.geojson",
	"zones merge z.geojson --zone-id name --out o.geojson",
	"zones buffer points.csv --radius 50m --out o.geojson",
	"zones circle --at 15.002,58.64 --radius 50m --out o.geojson",
	"zones grid z.geojson --size 100m --squares-crs EPSG:32633 --out o.geojson",
	"zones grid --grid c.tif --cells 4 --out o.geojson",
	"attach t2012.csv --zones z.geojson --zone-id id --out o.geojson",
	"account extent m.csv --out o.csv",
	"account composition t2012.csv --out o.csv",
	"account matrix m.csv --out o.csv",
	"account flows m.csv --flows flows.csv --out o.csv",
	"account series t2004.csv t2012.csv --out o.csv",
	"account accuracy samples.csv --cover c.tif --skip-outside --out o.csv",
	"draw map c.tif --zones z.geojson --zone-id id --show percent --out o.svg",
	"draw difference --epoch 2004=c.tif --epoch 2012=e.tif --zones z.geojson --zone-id id --out o.svg",
	"draw shade t2012.csv --class 1 --zones z.geojson --zone-id id --out o.svg",
	"draw bars t2012.csv --out o.svg",
	"draw trend t2004.csv t2012.csv --out o.svg",
	"draw matrix m.csv --out o.svg",
	"draw flows m.csv --out o.svg",
	"draw ranks t2012.csv --rank 1 --out o.svg",
}

// idleValues are values of options that change something in a command that has them; others are in [likely].
var idleValues = map[string]string{
	"approximate": "1", "areas": "t2012.csv", "min-area": "0.5", "author": "Ines", "control": "control.csv", "crosswalk": "cross.csv", "from-list": "more.txt", "legend": "legend.csv", "note": "x", "part": "1/2", "post": "b.book", "rules": "rules.yaml",
	"within": "y.geojson", "within-id": "id", "within-name": "name", "zone-names": "names.csv", "zone-set": "x", "zones": "y.geojson", "accuracy": "errors.csv", "per-class": "e.tif", "flows": "flows.csv", "sort": "1", "title": "x", "zone": "a", "since": "2012", "steps": "2", "group-rare": "30", "steady": "2", "top": "2", "squares-crs": "EPSG:32634",
}

func idleWorld(t *testing.T) {
	randomWorld(t)
	cells := func(name, crs, corner, size string, cell func(c, r int) int) {
		var b strings.Builder
		fmt.Fprintf(&b, "ncols 13\nnrows 9\nxllcorner %s\nyllcorner 6500000\ncellsize %s\nNODATA_value 0\n", corner, size)
		for r := range 9 {
			for c := range 13 {
				fmt.Fprintf(&b, "%d ", cell(c, r))
			}
			b.WriteString("\n")
		}
		require.NoError(t, os.WriteFile("x.asc", []byte(b.String()), 0o644))
		verdex(t, "reclassify", "x.asc", "--crs", crs, "--crosswalk", "keep.csv", "--force", "--out", name)
	}
	cells("c.tif", "EPSG:32633", "500000", "30", func(c, r int) int { return (c*c + r) % 5 })
	cells("e.tif", "EPSG:32633", "500000", "30", func(c, r int) int { return (c + r*c) % 5 })
	cells("d.tif", "EPSG:32633", "500180", "30", func(c, r int) int { return (c*3 + r) % 4 })
	cells("v.tif", "EPSG:32633", "500000", "30", func(c, r int) int { return c*c + r*5 + c*r%3 })
	cells("coarse.tif", "EPSG:32633", "499990", "50", func(c, r int) int { return 1 + c%2 })
	square := func(id string, n int, name string, x, y, w float64) string {
		return fmt.Sprintf(`{"type":"Feature","properties":{"id":%q,"n":%d,"name":%q},"geometry":{"type":"Polygon","coordinates":[[[%g,%g],[%g,%g],[%g,%g],[%g,%g],[%g,%g]]]}}`, id, n, name, x, y, x+w, y, x+w, y+w/2, x, y+w/2, x, y)
	}
	put := func(name string, features ...string) {
		require.NoError(t, os.WriteFile(name, []byte(`{"type":"FeatureCollection","features":[`+strings.Join(features, ",")+`]}`), 0o644))
	}
	put("z.geojson", square("a", 3, "north", 15.0003, 58.6395, 0.003), square("b", 5, "south", 15.0034, 58.6395, 0.002), square("c", 7, "north", 15.0003, 58.6411, 0.001))
	put("y.geojson", square("p", 1, "west", 15, 58.639, 0.0025), square("q", 2, "east", 15.0025, 58.639, 0.0045))
	var samples strings.Builder
	for i := range 60 {
		fmt.Fprintf(&samples, "%d,%g,%g,%d,%s\n", i, 15.0003+float64(i%12)*0.0005, 58.6391+float64(i/12)*0.0004, 1+i%4, []string{"north", "south"}[i%2])
	}
	for name, text := range map[string]string{
		"cross.csv": "from,to,note\n1;2,1,\n3,3,\n4,5,\nnodata,nodata,\n", "rules.yaml": "rules:\n  - class: 1\n    when: a > 2\n  - class: 3\n    when: b = 1\nelse: 2\n",
		"samples.csv": "name,lon,lat,reference,n\n" + samples.String(),
		"names.csv":   "code,name\n1,One\n", "errors.csv": "map_code,map_name,Water,Wood,total,samples\n1,Water,0.4,0.1,0.5,9\n3,Wood,0,0.5,0.5,9\n", "more.txt": "e.tif\n",
	} {
		require.NoError(t, os.WriteFile(name, []byte(text), 0o644))
	}
	for epoch, cover := range map[string]string{"2004": "c.tif", "2012": "e.tif"} {
		verdex(t, "measure", cover, "--zones", "z.geojson", "--zone-id", "id", "--zone-name", "name", "--epoch", epoch, "--out", "t"+epoch+".csv")
	}
	verdex(t, "change", "--epoch", "2004=c.tif", "--epoch", "2012=e.tif", "--table", "matrix", "--zones", "z.geojson", "--zone-id", "id", "--force", "--out", "m.csv")
	require.NoError(t, os.Mkdir("w", 0o755))
}

// permissions are options that allow or ask for what need not occur in the data, of some commands alone behind these.
var permissions = []string{"force", "strict", "check-all", "no-overviews", "allow-partial", "codes-as-numbers", "whole", "skip-outside", "summarise measurements", "measure --rules resample",
	"mosaic measurements", "clip measurements", "align measurements", "derive composite measurements"}

// deciding are options that choose data of which another option may say nothing, or that put their own words in the place of others; with a part, the others take effect when
// it is gathered.
var deciding = []string{"where", "zones", "nodata", "from-list", "edges", "bound", "top", "title", "part"}

var timing = regexp.MustCompile(`\d+(\.\d+)? m?s\b|\d{4}-\d\d-\d\dT[\d:.]+Z?|"[0-9a-f]{64}"`)

// effect is all that a command says and writes; refused is what it says when it does not end well.
func effect(args []string) (all, refused string) {
	var out, errs strings.Builder
	code := Main(append([]string{"verdex", "--threads", "1"}, args...), "test", &out, &errs)
	var b strings.Builder
	fmt.Fprintln(&b, code, out.String(), errs.String())
	_ = filepath.WalkDir(".", func(path string, d os.DirEntry, err error) error {
		if err == nil && !d.IsDir() && path[0] == 'o' && path != "odd.geojson" {
			data, _ := os.ReadFile(path)
			fmt.Fprintf(&b, "%s %s\n", path, data)
		}
		return err
	})
	made, _ := filepath.Glob("o[.a-c]*")
	for _, name := range made {
		os.RemoveAll(name)
	}
	if code != exitDone {
		return "", errs.String()
	}
	return timing.ReplaceAllString(b.String(), "T"), ""
}

// Where several rasters may become one, how they do is not refused, however they are named.
func TestWhatJoinsIsNotIdle(t *testing.T) {
	idleWorld(t)
	require.NoError(t, os.WriteFile("plan.yaml", []byte("plan: 1\nepochs: {2004: c.tif}\nzones: {z: {zones: z.geojson, zone-id: id}}\noutputs: {m: {make: measure, out: p.csv}}\n"), 0o644))
	for _, line := range []string{
		"measure c.tif d.tif --out o.csv", "measure [cd].tif --out o.csv", "measure c.tif --from-list more.txt --out o.csv", "change --epoch 2004=[cd].tif --epoch 2012=e.tif --resample nearest --out o.csv",
		"change --epoch 2004=c.tif --epoch 2012=e.tif --from-list 2020=more.txt --out o.csv", "mosaic c.tif d.tif --out o.tif", "clip [cd].tif --to z.geojson --out o.tif", "align c.tif d.tif --grid coarse.tif --out o.tif",
		"account accuracy samples.csv --cover [cd].tif --skip-outside --out o.csv", "summarise v.tif --per-class [cd].tif --resample nearest --zones z.geojson --zone-id id --out o.csv", "patches [cd].tif --class 1 --out o.geojson",
		"draw map [cd].tif --zones z.geojson --zone-id id --out o.svg", "draw map plan.yaml --out o.svg", "derive composite {date}.tif --out o.tif",
	} {
		_, refused := effect(append(strings.Fields(line), "--overlap", "first"))
		assert.NotContains(t, refused, "leave it out", line)
	}
}

// What the environment gives holds for every command and need not have an effect on each.
func TestTheEnvironmentMayBeIdle(t *testing.T) {
	idleWorld(t)
	for name, value := range map[string]string{"VERDEX_UNIT": "km2", "VERDEX_WAIT": "1m", "VERDEX_DIGITS": "3", "VERDEX_DPI": "96", "VERDEX_COMPRESS": "zstd", "VERDEX_AUTHOR": "Ines"} {
		t.Setenv(name, value)
	}
	for _, line := range idleCommands {
		_, refused := effect(strings.Fields(line))
		assert.Empty(t, refused, line)
	}
	for _, line := range []string{"summarise v.tif --zones z.geojson --stats mean --out o.csv", "account accuracy samples.csv --cover c.tif --skip-outside --table matrix --out o.csv"} {
		_, refused := effect(strings.Fields(line))
		assert.Empty(t, refused, line)
	}
}

// No option and no two options of a command are taken that change nothing: such are refused, with the reason. VERDEX_PAIRS=all tries all pairs.
func TestNoOptionIsIdle(t *testing.T) {
	idleWorld(t)
	root := newRoot("test", nil, nil)
	pairs := 200
	if os.Getenv("VERDEX_PAIRS") != "" {
		pairs = math.MaxInt
	}
	type one struct {
		name string
		args []string
		all  string
	}
	type two struct {
		line string
		a, b one
	}
	var all []two
	for _, line := range idleCommands {
		base := strings.Fields(line)
		plain, refused := effect(base)
		require.Empty(t, refused, line)
		c := root
		for k := 0; len(c.Commands) > 0; k++ {
			c = c.Commands[slices.IndexFunc(c.Commands, func(s *cli.Command) bool { return s.Name == base[k] })]
		}
		var telling []one
		for _, o := range optionsOf(c) {
			if o.Argument != "" || o.Output != "" || slices.Contains(base, "--"+o.Name) || slices.Contains(permissions, o.Name) || slices.ContainsFunc(permissions, func(p string) bool {
				of, ok := strings.CutSuffix(p, " "+o.Name)
				return ok && strings.HasPrefix(line, of)
			}) {
				continue
			}
			values := strings.Fields(idleValues[o.Name])
			if len(values) == 0 {
				values = strings.Fields(likely[o.Name])
			}
			if o.Type.Kind() == reflect.Bool {
				values = []string{"true"}
			}
			require.NotEmpty(t, values, "%s: a value of --%s that tells", line, o.Name)
			idle := true
			for _, v := range values {
				args := []string{"--" + o.Name + "=" + strings.ReplaceAll(v, ":", " ")}
				got, refused := effect(append(slices.Clone(base), args...))
				if refused != "" || got != plain {
					idle = false
				}
				if refused == "" && got != plain {
					telling = append(telling, one{o.Name, args, got})
					break
				}
			}
			assert.False(t, idle, "%s: --%s changes nothing", line, o.Name)
		}
		for i, a := range telling {
			for _, b := range telling[:i] {
				if !slices.Contains(deciding, a.name) && !slices.Contains(deciding, b.name) {
					all = append(all, two{line, a, b})
				}
			}
		}
	}
	r := rand.New(rand.NewPCG(1, 1))
	r.Shuffle(len(all), func(i, k int) { all[i], all[k] = all[k], all[i] })
	for _, p := range all[:min(pairs, len(all))] {
		got, refused := effect(slices.Concat(strings.Fields(p.line), p.a.args, p.b.args))
		if refused == "" && (got == p.a.all || got == p.b.all) {
			idle, with := p.b, p.a
			if got == p.b.all {
				idle, with = p.a, p.b
			}
			assert.Fail(t, "idle", "%s: %v changes nothing with %v", p.line, idle.args, with.args)
		}
	}
	t.Logf("%d pairs of %d", min(pairs, len(all)), len(all))
}
