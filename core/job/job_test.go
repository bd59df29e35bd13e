package job_test

import (
	"context"
	"fmt"
	"hash/fnv"
	"math"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"sort"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/account"
	"github.com/verdex-land/verdex/core/change"
	"github.com/verdex-land/verdex/core/extent"
	"github.com/verdex-land/verdex/core/job"
	"github.com/verdex-land/verdex/core/patch"
	"github.com/verdex-land/verdex/core/raster"
)

// files writes a small world into a folder: two covers, elevations, wards, points, and tables.
func files(t *testing.T) (at func(string) string) {
	t.Helper()
	dir := t.TempDir()
	at = func(name string) string { return filepath.Join(dir, name) }
	put := func(name, text string) { require.NoError(t, os.WriteFile(at(name), []byte(text), 0o644)) }
	const w, h = 24, 16
	grid := func(value func(c, r int) string) string {
		var b strings.Builder
		fmt.Fprintf(&b, "ncols %d\nnrows %d\nxllcorner 500000\nyllcorner 6480000\ncellsize 100\nnodata_value -9\n", w, h)
		for r := range h {
			for c := range w {
				b.WriteString(value(c, r) + " ")
			}
			b.WriteString("\n")
		}
		return b.String()
	}
	code := func(c, r, shift int) string {
		if c == 3 && r == 3 {
			return "-9"
		}
		return fmt.Sprint(1 + (c/5+(r+shift)/4)%3)
	}
	put("a.asc", grid(func(c, r int) string { return code(c, r, 0) }))
	put("b.asc", grid(func(c, r int) string { return code(c, r, 2) }))
	put("height.asc", grid(func(c, r int) string { return fmt.Sprintf("%.1f", float64(c*c)/3+float64(r)*2.5) }))
	put("utm.prj", `PROJCS["u",GEOGCS["WGS 84",DATUM["WGS_1984",SPHEROID["WGS 84",6378137,298.257223563]],PRIMEM["Greenwich",0],UNIT["degree",0.0174532925199433]],PROJECTION["Transverse_Mercator"],PARAMETER["latitude_of_origin",0],PARAMETER["central_meridian",15],PARAMETER["scale_factor",0.9996],PARAMETER["false_easting",500000],PARAMETER["false_northing",0],UNIT["metre",1],AUTHORITY["EPSG","32633"]]`)
	for _, name := range []string{"a", "b", "height"} {
		b, err := os.ReadFile(at("utm.prj"))
		require.NoError(t, err)
		put(name+".prj", string(b))
	}
	put("legend.csv", "code,name,color,group\n1,Water,#4a7fb0,Wet\n2,Wood,#3f7350,Green\n3,Fields,#d0c060,Green\n")
	put("walk.csv", "from,to\n1,1\n2;3,2\n")
	put("slopes.csv", "from,to\n\"[0,5)\",1\n\"[5,inf)\",2\n")
	put("rules.yaml", "rules:\n  - class: 2\n    when: cover = 2 AND height > 20\nelse: 1\n")
	put("wards.csv", "code,name,people,wkt\nW1,North,10,\"POLYGON((500050 6480800, 501200 6480800, 501200 6481550, 500050 6481550, 500050 6480800))\"\n"+
		"W2,South,5,\"POLYGON((500050 6480033, 502333 6480033, 502333 6480800, 500050 6480800, 500050 6480033))\"\n"+
		"W2,South,7,\"POLYGON((501200 6480800, 501900 6480800, 501900 6481100, 501200 6480800))\"\n")
	put("points.csv", "id,lon,lat\np1,15.01,58.463\np2,15.02,58.466\n")
	put("samples.csv", "id,lon,lat,reference\n"+strings.Repeat("s,15.004286,58.473694,1\ns,15.012859,58.473694,2\ns,15.021431,58.473693,3\n", 5)+"s,15.012859,58.473694,1\n")
	put("flows.csv", "from,to,flow,managed\n1,2,regrowth,no\n")
	put("people.csv", "zone_id,count\nW1,12\nW2,9\n")
	put("extents.csv", "epoch,zone_id,zone_name,kind,class_code,class_name,area,unit\n2010,W1,North,class,1,Water,30,ha\n2010,W1,North,class,2,Wood,50,ha\n2010,W1,North,nodata,,,1,ha\n"+
		"2020,W1,North,class,1,Water,25,ha\n2020,W1,North,class,2,Wood,55,ha\n2020,W1,North,nodata,,,1,ha\n")
	put("moves.csv", "zone_id,zone_name,from_epoch,to_epoch,from_code,from_name,to_code,to_name,area,unit\nW1,North,2010,2020,1,Water,1,Water,20,ha\nW1,North,2010,2020,1,Water,2,Wood,10,ha\nW1,North,2010,2020,2,Wood,2,Wood,45,ha\nW1,North,2010,2020,2,Wood,1,Water,5,ha\n")
	return at
}

// all are jobs of every kind, as functions that return a digest of all that the job found.
func all(at func(string) string) map[string]func(job.Env) (string, error) {
	ctx := context.Background()
	zones := job.ZoneOptions{Zones: at("wards.csv")}
	zones.ZoneID, zones.ZoneName, zones.ZonesCRS = "code", "name", "EPSG:32633"
	features := job.FeatureFile{File: []string{at("wards.csv")}}
	features.ZonesCRS = "EPSG:32633"
	legend := job.LegendOption{Legend: at("legend.csv")}
	classes := job.ClassOptions{LegendOption: legend}
	a, b, height := at("a.asc"), at("b.asc"), at("height.asc")
	layers := job.LayerOptions{Layers: []string{"cover=" + a, "height=" + height}}
	made := func(r *job.Raster, err error) (string, error) {
		if err != nil {
			return "", err
		}
		defer r.Close()
		text := digest(r.Source)
		r.Done()
		return text + digest(r.Report), nil
	}
	return map[string]func(job.Env) (string, error){
		"measure": func(env job.Env) (string, error) {
			return did(job.Measure(ctx, env, job.MeasureOptions{Covers: []string{a}, ZoneOptions: zones, ClassOptions: classes}))
		},
		"measure by centres in acres": func(env job.Env) (string, error) {
			z, c := zones, classes
			z.Edges, c.Unit, c.By = "centre", "acre", "group"
			return did(job.Measure(ctx, env, job.MeasureOptions{Covers: []string{b}, ZoneOptions: z, ClassOptions: c, Epoch: "2020"}))
		},
		"measure a circle": func(env job.Env) (string, error) {
			return did(job.Measure(ctx, env, job.MeasureOptions{Covers: []string{a}, ZoneOptions: job.ZoneOptions{Zones: "geo:58.465,15.02;u=400"}, Crosswalk: at("walk.csv"), ClassOptions: classes}))
		},
		"change": func(env job.Env) (string, error) {
			c, err := job.Change(ctx, env, job.ChangeOptions{Epochs: []string{"2010=" + a, "2020=" + b}, ZoneOptions: zones, ClassOptions: classes})
			if err != nil {
				return "", err
			}
			defer c.Close()
			text := digest(c.Changes) + digest(c.Checks) + digest(c.Report)
			m := c.Map("change")
			return text + digest(m.Source) + digest(m.Classes()), nil
		},
		"map": func(env job.Env) (string, error) {
			m, err := job.ReadMap(ctx, env, job.MapOptions{Covers: []string{a}, ZoneOptions: zones, ClassOptions: classes})
			if err != nil {
				return "", err
			}
			defer m.Close()
			return digest(m.Extents) + digest(m.Legend) + digest(m.Zones) + digest(m.Report), nil
		},
		"summarise": func(env job.Env) (string, error) {
			return did(job.Summarise(ctx, env, job.SummariseOptions{Values: []string{height}, Stats: "count,mean,p90,majority", ZoneOptions: zones, PerClass: a, LegendOption: legend}))
		},
		"expression": func(env job.Env) (string, error) {
			d, err := job.DeriveExpression(ctx, env, job.ExpressionOptions{Expression: []string{"height * 2 - cover"}, LayerOptions: layers})
			if err != nil {
				return "", err
			}
			return made(d.Raster, nil)
		},
		"rules": func(env job.Env) (string, error) {
			r, err := job.DeriveRules(ctx, env, job.RulesOptions{Rules: at("rules.yaml"), LayerOptions: layers, LegendOption: legend, ExplainRules: true})
			if err != nil {
				return "", err
			}
			text := digest(r.Explained)
			more, err := made(r.Raster, nil)
			return text + more, err
		},
		"slope": func(env job.Env) (string, error) {
			d, err := job.DeriveSlope(ctx, env, job.SlopeOptions{Elevation: []string{height}, IntervalOptions: job.IntervalOptions{Crosswalk: at("slopes.csv")}})
			if err != nil {
				return "", err
			}
			return made(d.Raster, nil)
		},
		"composite": func(env job.Env) (string, error) {
			return made(job.DeriveComposite(ctx, env, job.CompositeOptions{Stack: []string{a, b, a}}))
		},
		"reclassify": func(env job.Env) (string, error) {
			var out string
			report, err := job.Reclassify(ctx, env, job.ReclassifyOptions{Rasters: []string{a}, Crosswalk: at("walk.csv"), LegendOption: legend, MinPatch: 3},
				func(r *job.Reclassified) error {
					out += digest(r.Source)
					s, err := r.Survey()
					out += digest(s)
					return err
				})
			return out + digest(report), err
		},
		"mosaic": func(env job.Env) (string, error) {
			return made(job.Mosaic(ctx, env, job.MosaicOptions{Rasters: []string{a, b}}))
		},
		"clip": func(env job.Env) (string, error) {
			return made(job.Clip(ctx, env, job.ClipOptions{Rasters: []string{a}, To: "geo:58.465,15.02;u=400", Shrink: true}))
		},
		"align": func(env job.Env) (string, error) {
			return made(job.Align(ctx, env, job.AlignOptions{Rasters: []string{a}, Grid: b, Resample: "majority"}))
		},
		"patches": func(env job.Env) (string, error) {
			p, err := job.FindPatches(ctx, env, job.PatchOptions{Covers: []string{a}, LegendOption: legend, MinArea: 2})
			if err != nil {
				return "", err
			}
			defer p.Close()
			var out strings.Builder
			_, err = p.Find(ctx, "", func(x *patch.Patch) error {
				_, err := fmt.Fprintln(&out, x.ID, x.Class, x.Cells, x.Area, x.Bounds)
				return err
			})
			return out.String() + digest(p.Report), err
		},
		"pick": func(env job.Env) (string, error) {
			f := features
			f.Where = "people > 5"
			return did(job.PickZones(ctx, env, job.PickOptions{FeatureFile: f}))
		},
		"merge": func(env job.Env) (string, error) {
			return did(job.MergeZones(ctx, env, job.MergeOptions{FeatureFile: features, ZoneID: "code", Sum: []string{"people"}}))
		},
		"circle": func(env job.Env) (string, error) {
			return did(job.CircleZones(ctx, env, job.CircleOptions{At: []string{"15.02,58.465"}, RadiusOption: job.RadiusOption{Radius: "300m"}}))
		},
		"buffer": func(env job.Env) (string, error) {
			return did(job.BufferZones(ctx, env, job.BufferOptions{FeatureFile: job.FeatureFile{File: []string{at("points.csv")}}, RadiusOption: job.RadiusOption{Radius: "1km"}}))
		},
		"squares": func(env job.Env) (string, error) {
			o := job.SquareOptions{Area: features.File, Size: "500m"}
			o.ZonesCRS = "EPSG:32633"
			return did(job.SquareZones(ctx, env, o))
		},
		"attach": func(env job.Env) (string, error) {
			o := job.AttachOptions{Table: []string{at("people.csv")}}
			o.Zones, o.ZoneID, o.ZonesCRS = at("wards.csv"), "code", "EPSG:32633"
			return did(job.Attach(ctx, env, o))
		},
		"extent account": func(env job.Env) (string, error) {
			return did(job.ExtentAccount(ctx, env, job.ExtentAccountOptions{FlowsOption: job.FlowsOption{Flows: at("flows.csv")}, StatementOptions: job.StatementOptions{Tables: []string{at("moves.csv")}}}))
		},
		"composition": func(env job.Env) (string, error) {
			return did(job.Composition(ctx, env, job.CompositionOptions{Rank: "Wood", StatementOptions: job.StatementOptions{Tables: []string{at("extents.csv")}}}))
		},
		"matrix": func(env job.Env) (string, error) {
			return did(job.Matrix(ctx, env, job.MatrixOptions{StatementOptions: job.StatementOptions{Tables: []string{at("moves.csv")}}}))
		},
		"flows": func(env job.Env) (string, error) {
			return did(job.FlowAccount(ctx, env, job.FlowOptions{FlowsOption: job.FlowsOption{Flows: at("flows.csv")}, StatementOptions: job.StatementOptions{Tables: []string{at("moves.csv")}}}))
		},
		"series": func(env job.Env) (string, error) {
			return did(job.Series(ctx, env, job.SeriesOptions{StatementOptions: job.StatementOptions{Tables: []string{at("extents.csv")}}}))
		},
		"accuracy": func(env job.Env) (string, error) {
			return did(job.Accuracy(ctx, env, job.AccuracyOptions{Samples: []string{at("samples.csv")}, Cover: a, ClassOptions: classes}))
		},
		"look at rasters": func(env job.Env) (string, error) {
			return did(job.LookRasters(ctx, env, job.LookOptions{Files: []string{a, b}, LegendOption: legend}))
		},
		"look at zones": func(env job.Env) (string, error) {
			o := job.LookOptions{Files: []string{at("wards.csv")}, Values: "name"}
			o.ZonesCRS = "EPSG:32633"
			return did(job.LookZones(ctx, env, o))
		},
		"a file that is missing": func(env job.Env) (string, error) {
			return did(job.Measure(ctx, env, job.MeasureOptions{Covers: []string{at("none.asc")}}))
		},
		"a wrong option": func(env job.Env) (string, error) {
			return did(job.Summarise(ctx, env, job.SummariseOptions{Values: []string{height}, Stats: "average"}))
		},
	}
}

// A thousand jobs of all kinds at once give what they give one by one: they share no state. The race detector watches this test
// in CI.
func TestAThousandJobsAtOnce(t *testing.T) {
	jobs := all(files(t))
	var names []string
	want := map[string]string{}
	outcome := func(name string, threads int) string {
		text, err := jobs[name](job.Env{Threads: threads})
		return fmt.Sprint(text, " ", err)
	}
	for name := range jobs {
		names = append(names, name)
		want[name] = outcome(name, 1)
		if name == "a file that is missing" || name == "a wrong option" {
			assert.Regexp(t, "none.asc: cannot be opened|average", want[name], name)
			continue
		}
		require.True(t, strings.HasSuffix(want[name], " <nil>"), "%s: %s", name, want[name][max(0, len(want[name])-400):])
		require.Greater(t, len(want[name]), 100, name)
	}
	sort.Strings(names)
	var wait sync.WaitGroup
	room := make(chan bool, 64)
	for i := range 1000 {
		name := names[i%len(names)]
		room <- true
		wait.Go(func() {
			defer func() { <-room }()
			if got := outcome(name, 1+i%3); got != want[name] {
				t.Errorf("%s gave another result beside others:\n%s\n%s", name, want[name], got)
			}
		})
	}
	wait.Wait()
}

// A job that is called off says so, whatever it does, and leaves nothing running.
func TestJobsThatAreCalledOff(t *testing.T) {
	at := files(t)
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	_, err := job.Measure(ctx, job.Env{}, job.MeasureOptions{Covers: []string{at("a.asc")}})
	assert.ErrorIs(t, err, context.Canceled)
	_, err = job.Summarise(ctx, job.Env{}, job.SummariseOptions{Values: []string{at("height.asc")}})
	assert.ErrorIs(t, err, context.Canceled)
	_, err = job.Change(ctx, job.Env{}, job.ChangeOptions{Epochs: []string{"2010=" + at("a.asc"), "2020=" + at("b.asc")}})
	assert.ErrorIs(t, err, context.Canceled)
}

// A job names its inputs, by role and in the order in which it opened them, and tells the environment before it opens each.
func TestInputsAreRecordedAsTheyAreOpened(t *testing.T) {
	at := files(t)
	var opened []string
	o := job.MeasureOptions{Covers: []string{at("a.asc")}}
	o.Zones, o.ZonesCRS, o.Legend = at("wards.csv"), "EPSG:32633", at("legend.csv")
	m, err := job.Measure(context.Background(), job.Env{Opened: func(role, path string) { opened = append(opened, role+" "+filepath.Base(path)) }}, o)
	require.NoError(t, err)
	var listed []string
	for _, in := range m.Inputs {
		listed = append(listed, in.Role+" "+filepath.Base(in.Path))
	}
	assert.Equal(t, listed, opened)
	slices.Sort(listed)
	assert.Equal(t, []string{"cover a.asc", "cover a.prj", "legend legend.csv", "zones wards.csv"}, listed)
}

func did(result any, err error) (string, error) {
	if err != nil {
		return "", err
	}
	return digest(result), nil
}

// digest writes down everything that a result shows: fields that can be read, rows of those that hold them elsewhere, and the cells of
// rasters.
func digest(v any) string {
	var b strings.Builder
	write(&b, reflect.ValueOf(v), 0)
	return b.String()
}

func write(b *strings.Builder, v reflect.Value, depth int) {
	if !v.IsValid() || depth > 24 {
		return
	}
	if v.CanInterface() {
		switch x := v.Interface().(type) {
		case *extent.Composition:
			for _, z := range x.Zones {
				for _, row := range z.Rows() {
					fmt.Fprintln(b, row)
				}
			}
		case *account.Extents:
			for rows := range x.Composition() {
				fmt.Fprintln(b, rows)
			}
			for row := range x.Series() {
				fmt.Fprintln(b, row)
			}
		case *account.Moves:
			fmt.Fprintln(b, x.Statements(nil))
		case *change.Change:
			for i := range x.Zones {
				fmt.Fprintln(b, x.Balances(&x.Zones[i]))
			}
		case raster.Source:
			fmt.Fprintln(b, cells(x))
			return
		}
	}
	switch v.Kind() {
	case reflect.Pointer, reflect.Interface:
		if !v.IsNil() {
			write(b, v.Elem(), depth+1)
		}
	case reflect.Struct:
		b.WriteString("{")
		for i := range v.NumField() {
			if f := v.Type().Field(i); f.IsExported() && f.Name != "CRS" {
				b.WriteString(f.Name + ":")
				write(b, v.Field(i), depth+1)
			}
		}
		b.WriteString("}")
	case reflect.Slice, reflect.Array:
		for i := range v.Len() {
			write(b, v.Index(i), depth+1)
			b.WriteString(",")
		}
	case reflect.Map:
		keys := v.MapKeys()
		sort.Slice(keys, func(i, j int) bool { return fmt.Sprint(keys[i]) < fmt.Sprint(keys[j]) })
		for _, k := range keys {
			fmt.Fprint(b, k, "=")
			write(b, v.MapIndex(k), depth+1)
		}
	case reflect.Func, reflect.Chan:
	case reflect.Float64, reflect.Float32:
		fmt.Fprintf(b, "%x", math.Float64bits(v.Float()))
	default:
		fmt.Fprint(b, v)
	}
}

func cells(s raster.Source) string {
	h := s.Header()
	var c raster.Cells
	if err := s.NewReader().Read(raster.Window{Width: h.Grid.Width, Height: h.Grid.Height}, &c); err != nil {
		return err.Error()
	}
	sum := fnv.New64a()
	for r := range h.Grid.Height {
		for col := range h.Grid.Width {
			v := c.At(col, r)
			if h.Missing(v) {
				v = math.NaN()
			}
			fmt.Fprintf(sum, "%x,", math.Float64bits(v))
		}
	}
	return fmt.Sprintf("%d × %d cells of %v: %x", h.Grid.Width, h.Grid.Height, h.Type, sum.Sum64())
}
