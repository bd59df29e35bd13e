package cli

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/option"
	"github.com/verdex-land/verdex/internal/demo"
)

// writingCommands are commands with all that they read (<FILE) and all that they write (>FILE). An = before < joins it to a label. What
// stands behind ; is done before.
var writingCommands = []string{
	"measure <cover_2020.tif --zones <wards.geojson --zone-id code --legend <legend.csv --crosswalk <same.csv --within <catchments.geojson --within-id id --control <control.csv " +
		"--epoch 2020 --crs <utm.prj --override-crs --zones-crs <degrees.prj --post <orrin.book --account within --out >o.csv --attach >a.gpkg --checks >c.csv --save-plan >p.yaml",
	"measure --from-list <list.txt --legend <legend.csv --out >o.xlsx",
	"measure <cover_2020.tif --zones <wards.geojson --zone-id code --part 1/2 --out >p1",
	"gather <part --out >o.csv",
	"run <orrin.yaml --part 1/2 --out >p1",
	"measure --rules <rules.yaml --layer c=<cover_2020.tif --layer e=<elevation.tif --grid c --legend <legend.csv --out >o.parquet",
	"measure <cover_2020.tif --zones <ids.tif --zone-names <names.csv --out >o.csv",
	"change --epoch 2004=<cover_2004.tif --epoch 2020=<cover_2020.tif --crosswalk 2004=<codes_2004.csv --zones <wards.geojson --zone-id code --legend <legend.csv --control <control.csv --ignore control " +
		"--table matrix --crs <utm.prj --override-crs --zones-crs <degrees.prj --post <orrin.book --account w --out >o.csv --map >m.tif --checks >c.json --save-plan >p.yaml",
	"change --epoch 2004=<cover_2004.tif --from-list 2020=<list.txt --epoch 2012=cover_2012_a.tif --resample nearest --crosswalk 2004=<codes_2004.csv --zones <ids.tif --zone-names <names.csv --map-since >since.tif --map-kind >kind.tif --map-count >count.tif --accuracy <errors.csv --out >o.csv",
	"summarise <elevation.tif --resample nearest --per-class <cover_2020.tif --legend <legend.csv --zones <wards.geojson --zone-id code --crs <utm.prj --override-crs --zones-crs <degrees.prj --out >o.csv --save-plan >p.yaml",
	"summarise --from-list <heights.txt --zones <ids.tif --zone-names <names.csv --out >o.csv",
	"reclassify <cover_2004.tif --crosswalk <codes_2004.csv --legend <legend.csv --crs <utm.prj --override-crs --out >r.tif --save-plan >p.yaml",
	"reclassify --from-list <list.txt --crosswalk <same.csv --legend <legend.csv --out >r.tif",
	"mosaic <cover_2020.tif --from-list <list.txt --crs <utm.prj --override-crs --out >r.tif --save-plan >p.yaml",
	"clip <cover_2020.tif --to <wards.geojson --from-list <list.txt --crs <utm.prj --override-crs --zones-crs <degrees.prj --out >r.tif --save-plan >p.yaml",
	"align <cover_2020.tif --grid <elevation.tif --from-list <list.txt --crs <utm.prj --override-crs --out >r.tif --save-plan >p.yaml",
	"derive expr e+1 --layer e=<elevation.tif --grid <elevation.tif --crosswalk <steps.csv --legend <legend.csv --crs <utm.prj --override-crs --out >r.tif --save-plan >p.yaml",
	"derive slope <elevation.tif --crosswalk <steps.csv --legend <legend.csv --crs <utm.prj --override-crs --out >r.tif --save-plan >p.yaml",
	"derive rules --rules <rules.yaml --layer c=<cover_2020.tif --layer e=<elevation.tif --grid c --legend <legend.csv --crs <utm.prj --override-crs --out >r.tif --save-plan >p.yaml",
	"derive composite <cover_2020.tif --from-list <list.txt --crs <utm.prj --override-crs --out >r.tif --save-plan >p.yaml",
	"patches <cover_2020.tif --from-list <list.txt --legend <legend.csv --class 1 --crs <utm.prj --override-crs --out >p.geojson --save-plan >p.yaml",
	"look <cover_2020.tif --legend <legend.csv --crs <utm.prj --override-crs --legend-out >l.csv",
	"look <wards.geojson --zones-crs <degrees.prj",
	"zones pick <wards.geojson --zones-crs <degrees.prj --out >z.shp --save-plan >p.yaml",
	"zones pick <two.gpkg#wards --out >z.gpkg",
	"zones merge <wards.geojson --zone-id code --zones-crs <degrees.prj --out >z.parquet --save-plan >p.yaml",
	"zones buffer <wells.csv --radius 1km --zones-crs <degrees.prj --out >z.geojson --save-plan >p.yaml",
	"zones circle --at 12.52,58.31 --radius 1km --out >z.geojsonl --save-plan >p.yaml",
	"zones grid <wards.geojson --size 5km --squares-crs <utm.prj --zones-crs <degrees.prj --out >z.gpkg --save-plan >p.yaml",
	"zones grid --grid <cover_2020.tif --cells 100 --out >z.gpkg",
	"attach <e2020.csv --zones <wards.geojson --zone-id code --zones-crs <degrees.prj --out >z.gpkg --save-plan >p.yaml",
	"account extent <matrix.csv --legend <legend.csv --flows <flows.csv --control <control.csv --ignore control --out >o.csv --checks >c.md --save-plan >p.yaml",
	"account extent <orrin.book#w --legend <legend.csv --out >o.csv",
	"account composition <e2020.csv --legend <legend.csv --control <control.csv --out >o.html --checks >c.csv --save-plan >p.yaml",
	"account matrix <matrix.csv --legend <legend.csv --control <control.csv --ignore control --out >o.xlsx --checks >c.csv --save-plan >p.yaml",
	"account flows <matrix.csv --flows <flows.csv --legend <legend.csv --control <control.csv --ignore control --out >o.csv --checks >c.csv --save-plan >p.yaml",
	"account series <e2004.csv <e2020.csv --legend <legend.csv --control <control.csv --out >o.jsonl --checks >c.csv --save-plan >p.yaml",
	"account remaining <histories.csv --legend <legend.csv --out >o.csv --checks >c.csv --save-plan >p.yaml",
	"account accuracy <samples_2020.csv --cover <cover_2020.tif --crosswalk <same.csv --legend <legend.csv --crs <utm.prj --override-crs --out >o.csv --save-plan >p.yaml",
	"account accuracy <counts.csv --areas <e2020.csv --legend <legend.csv --out >o.csv",
	"draw map <cover_2020.tif --from-list <list.txt --zones <wards.geojson --zone-id code --legend <legend.csv --crosswalk <same.csv --crs <utm.prj --override-crs --zones-crs <degrees.prj --out >f.png --save-plan >p.yaml",
	"draw map <cover_2020.tif --zones <ids.tif --zone-names <names.csv --out >f.svg",
	"draw pair --epoch 2004=<cover_2004.tif --from-list 2020=<list.txt --crosswalk 2004=<codes_2004.csv --zones <wards.geojson --zone-id code --legend <legend.csv --control <control.csv --crs <utm.prj --override-crs --zones-crs <degrees.prj --out >f.png --save-plan >p.yaml",
	"draw pair --epoch 2004=<cover_2004.tif --epoch 2020=<cover_2020.tif --zones <ids.tif --zone-names <names.csv --out >f.pdf",
	"draw difference --epoch 2004=<cover_2004.tif --from-list 2020=<list.txt --crosswalk 2004=<codes_2004.csv --zones <wards.geojson --zone-id code --legend <legend.csv --control <control.csv --flows <flows.csv --crs <utm.prj --override-crs --zones-crs <degrees.prj --out >f.png --save-plan >p.yaml",
	"draw difference --epoch 2004=<cover_2004.tif --epoch 2020=<cover_2020.tif --zones <ids.tif --zone-names <names.csv --out >f.pdf",
	"draw shade <e2020.csv --class 1 --zones <wards.geojson --zone-id code --zones-crs <degrees.prj --out >f.png --save-plan >p.yaml",
	"draw shade <ids.csv --column v --key id --zones <ids.tif --zone-names <names.csv --out >f.svg",
	"draw bars <e2020.csv --legend <legend.csv --control <control.csv --out >f.png --save-plan >p.yaml",
	"draw trend <e2004.csv <e2020.csv --legend <legend.csv --control <control.csv --accuracy <acc.csv --out >f.png --save-plan >p.yaml",
	"draw matrix <matrix.csv --legend <legend.csv --control <control.csv --ignore control --out >f.png --save-plan >p.yaml",
	"draw flows <matrix.csv --legend <legend.csv --control <control.csv --ignore control --out >f.png --save-plan >p.yaml",
	"draw ranks <e2020.csv --rank 1 --legend <legend.csv --control <control.csv --out >f.png --save-plan >p.yaml",
	"draw histories <histories.csv --legend <legend.csv --out >f.png --save-plan >p.yaml",
	"draw since <histories.csv --legend <legend.csv --out >f.png --save-plan >p.yaml",
	"draw check <checks.csv --out >f.png --save-plan >p.yaml",
	"report <orrin.yaml --out >r.html",
	"book list <orrin.book --out >o.csv",
	"book show <orrin.book w --table extents --out >o.gpkg",
	"book history <orrin.book --out >o.csv",
	"book diff <orrin.book 1 1 --out >o.csv",
	"book export <orrin.book --out >o.xlsx --save-plan >p.yaml",
	"book export <orrin.book w --table extents --zones <wards.geojson --zone-id code --zones-crs <degrees.prj --out >z.gpkg",
	"book export <orrin.book w --zones <wards.geojson --zone-id code --zones-crs <degrees.prj --package >folder",
}

// world unpacks the sample data and what else the commands read into the working folder of the test.
func workInWorld(t *testing.T) {
	t.Chdir(t.TempDir())
	require.NoError(t, demo.Write(".", true))
	for name, text := range map[string]string{
		"same.csv": "from,to,note\nelse,keep,\n", "list.txt": "cover_2020.tif\n", "heights.txt": "elevation.tif\n",
		"rules.yaml": "rules:\n  - class: 1\n    when: c = 1 AND e > 0\nelse: 2\n", "steps.csv": "from,to,note\n\"(-inf,inf)\",1,\nnodata,nodata,\n",
		"control.csv": "zone_id,class_code,epoch,area,unit,tolerance\nW1,1,2020,1,ha,1e9\n", "names.csv": "code,name\n1,One\n",
		"ids.csv": "id,v\n1,5\n2,7\n", "errors.csv": "map_code,map_name,Water,Wood,total,samples\n1,Water,0.4,0.1,0.5,9\n3,Wood,0,0.5,0.5,9\n", "checks.csv": "check,outcome,value\npace,falls short,7\n", "acc.csv": "class_code,adjusted,adjusted_ci95,unit\n1,5,2,ha\n", "wells.csv": "name,longitude,latitude\na,12.5,58.3\n", "counts.csv": "map,reference,count\n1,1,40\n1,2,3\n2,2,50\n2,1,2\n3,3,40\n4,4,40\n5,5,40\n6,6,40\n7,7,40\n",
	} {
		require.NoError(t, os.WriteFile(name, []byte(text), 0o644))
	}
	for name, code := range map[string]int{"utm.prj": 32633, "degrees.prj": 4326} {
		crs, err := earth.Lookup(code)
		require.NoError(t, err)
		text, _ := crs.WKT1()
		require.NoError(t, os.WriteFile(name, []byte(text), 0o644))
	}
	verdex(t, "reclassify", "cover_2020.tif", "--crosswalk", "same.csv", "--out", "ids.tif")
	verdex(t, "zones", "pick", "wards.geojson", "--out", "two.gpkg#wards")
	verdex(t, "zones", "pick", "catchments.geojson", "--out", "two.gpkg#catchments")
	verdex(t, "measure", "cover_2020.tif", "--part", "1/1", "--out", "part")
	verdex(t, "book", "create", "orrin.book")
	verdex(t, "measure", "cover_2004.tif", "--crosswalk", "codes_2004.csv", "--zones", "wards.geojson", "--zone-id", "code", "--legend", "legend.csv", "--epoch", "2004", "--out", "e2004.csv")
	verdex(t, "measure", "cover_2020.tif", "--zones", "wards.geojson", "--zone-id", "code", "--legend", "legend.csv", "--epoch", "2020", "--out", "e2020.csv", "--post", "orrin.book", "--account", "w")
	verdex(t, "change", "--epoch", "2004=cover_2004.tif", "--epoch", "2020=cover_2020.tif", "--crosswalk", "2004=codes_2004.csv", "--zones", "wards.geojson", "--zone-id", "code", "--legend", "legend.csv",
		"--table", "matrix", "--out", "matrix.csv", "--post", "orrin.book", "--account", "w")
	verdex(t, "change", "--epoch", "2004=cover_2004.tif", "--epoch", "2020=cover_2020.tif", "--crosswalk", "2004=codes_2004.csv", "--zones", "wards.geojson", "--zone-id", "code", "--legend", "legend.csv",
		"--table", "histories", "--out", "histories.csv")
}

// written is one of the writing commands.
type written struct {
	args         []string
	inputs, outs []string
	outA         []int // where the outputs stand
}

func parseWriting(line string) (w written) {
	for i, a := range strings.Fields(line) {
		if k := strings.IndexAny(a, "<>"); k >= 0 && (k == 0 || a[k-1] == '=') {
			file := a[k+1:]
			if a[k] == '<' {
				path, _, _ := strings.Cut(file, "#")
				w.inputs = append(w.inputs, path)
			} else {
				w.outs, w.outA = append(w.outs, file), append(w.outA, i)
			}
			a = a[:k] + file
		}
		w.args = append(w.args, a)
	}
	return w
}

// to are the arguments with the k-th output elsewhere.
func (w *written) to(k int, path string) []string {
	args := slices.Clone(w.args)
	args[w.outA[k]] = path
	return args
}

// state is what lies in the working folder.
func state(t *testing.T) string {
	var out strings.Builder
	require.NoError(t, filepath.WalkDir(".", func(path string, d os.DirEntry, err error) error {
		if err != nil {
			return err
		}
		info, err := d.Info()
		if err != nil {
			return err
		}
		if d.IsDir() {
			fmt.Fprintf(&out, "%s/\n", path)
			return nil
		}
		fmt.Fprintf(&out, "%s %v %d %v\n", path, info.Mode(), info.Size(), info.ModTime().UnixNano())
		return nil
	}))
	return out.String()
}

func refused(t *testing.T, want string, args []string) {
	t.Helper()
	before := state(t)
	var out, errs strings.Builder
	code := Main(append([]string{"verdex"}, args...), "test", &out, &errs)
	assert.NotEqual(t, exitDone, code, "%v", args)
	assert.Regexp(t, want, errs.String(), "%v", args)
	assert.Empty(t, out.String(), "%v shows a result", args)
	assert.Equal(t, before, state(t), "%v changes files", args)
}

// Every output of every command, aimed at each of its inputs by name, by a hard link and by a symbolic link, with and without
// --force; and every two outputs aimed at one file.
func TestNoOutputReplacesAnInputOrAnotherOutput(t *testing.T) {
	workInWorld(t)
	tries := 0
	for _, line := range writingCommands {
		w := parseWriting(line)
		for k, out := range w.outs {
			for n, in := range w.inputs {
				ending := filepath.Ext(out)
				aims := []string{in}
				for kind, link := range map[string]func(string, string) error{"hard": os.Link, "symbolic": os.Symlink} {
					alias := fmt.Sprintf("%s-%d-%d%s", kind, k, n, ending)
					require.NoError(t, link(in, alias))
					defer os.Remove(alias)
					aims = append(aims, alias)
				}
				for _, aim := range aims {
					args := append(w.to(k, aim), "--force")
					want := "never replaced"
					if filepath.Ext(aim) != ending || out == "folder" {
						want = "never replaced|are written as|ending|name a folder"
					}
					refused(t, want, args)
					tries++
				}
				refused(t, "never replaced|are written as|ending|name a folder", w.to(k, in))
				for _, aim := range aims[1:] {
					require.NoError(t, os.Remove(aim))
				}
			}
			for other := range k {
				if filepath.Ext(w.outs[other]) != filepath.Ext(out) { // formats differ: the ending of one serves both where it can
					if !strings.HasSuffix(w.args[w.outA[k]-1], "checks") && !strings.HasSuffix(w.args[w.outA[other]-1], "out") {
						continue
					}
				}
				args := w.to(k, "./"+w.outs[other])
				refused(t, "one file|are written as|ending", args)
				tries++
			}
		}
	}
	assert.Greater(t, tries, 500)
}

// The commands above do their work as they stand; they are all that write, with all options that read and write.
func TestWritingCommandsAreComplete(t *testing.T) {
	workInWorld(t)
	named := map[string]string{}
	for i, line := range writingCommands {
		w := parseWriting(line)
		var out, errs strings.Builder
		args := append([]string{"verdex"}, w.args...)
		for k, o := range w.outs {
			args[1+w.outA[k]] = fmt.Sprintf("%d-%s", i, o)
		}
		if !assert.Equal(t, exitDone, Main(args, "test", &out, &errs), "%s: %s", line, errs.String()) {
			continue
		}
		for k, o := range w.outs {
			_, err := os.Stat(args[1+w.outA[k]])
			assert.NoError(t, err, o)
		}
		fields := strings.Fields(line)
		name := fields[0]
		if slices.Contains([]string{"derive", "zones", "account", "book", "draw"}, name) {
			name += " " + fields[1]
		}
		named[name] += " " + line
	}
	var walk func(c *cli.Command, above string)
	walk = func(c *cli.Command, above string) {
		name := strings.TrimSpace(above + " " + c.Name)
		for _, sub := range c.Commands {
			walk(sub, name)
		}
		options := optionsOf(c)
		writes := slices.ContainsFunc(options, func(o option.Option) bool { return o.Output != "" })
		for _, o := range options {
			known := o.Input != "" || o.Output != ""
			if o.Argument != "" {
				takes := o.Argument != "-" && name != "demo" && name != "derive expr" && name != "book create" && name != "plan new"
				assert.True(t, known || !takes, "the arguments of %s: do they name files?", name)
				continue
			}
			isFile := slices.Contains([]string{"FILE", "LABEL=FILE", "RASTER", "FOLDER", "BOOK", "COVER", "LABEL=COVER", "NAME=RASTER", "ZONES", "CRS"}, o.Word())
			assert.True(t, !isFile || known, "%s --%s names a file: is it read or written?", name, o.Name)
			if writes && known && o.Name != "out-dir" && !strings.HasPrefix(name, "book migrate") {
				assert.Contains(t, named[name], "--"+o.Name+" ", "the commands above leave out %s --%s", name, o.Name)
			}
		}
	}
	for _, c := range newRoot("test", nil, nil).Commands {
		walk(c, "")
	}
}
