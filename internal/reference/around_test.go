package reference

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/internal/cli"
)

// word is a text as ids and codes are, many of which look like numbers.
func (j *job) word() string {
	words := []string{"1.10", "1.1", "1_2", "12", "012", "12e4", "120000", "0x1F", "31", "3.50", "3.5", "-0", "0", "+5", "5", "1e5", "NaN", "inf", "true", "2020-01-01", "W1", "w1", "0.1", ".1", "1.", "9007199254740993", "9007199254740992.0", "é", "a b"}
	if j.chance(0.6) {
		return words[j.rng.IntN(len(words))]
	}
	var b strings.Builder
	for range 1 + j.rng.IntN(4) {
		b.WriteByte("0123456789._eA"[j.rng.IntN(14)])
	}
	return b.String()
}

// words are texts that differ.
func (j *job) words(n int) (out []string) {
	for len(out) < n {
		if w := j.word(); !slices.Contains(out, w) {
			out = append(out, w)
		}
	}
	return out
}

func (j *job) table(name string, rows [][]string) string {
	var b strings.Builder
	w := csv.NewWriter(&b)
	require.NoError(j.t, w.WriteAll(rows))
	return j.text(name, b.String())
}

// texts takes ids and classes that may look like numbers through the formats of zones and tables and back: they stay as they were written.
func (j *job) texts() {
	n := 2 + j.rng.IntN(5)
	ids, classes := j.words(n), j.words(n)
	zones, cover, table := [][]string{{"id", "wkt"}}, [][]string{{"class", "wkt"}}, [][]string{{"id", "label"}}
	for i := range n {
		square := fmt.Sprintf("POLYGON((%d 0,%d 0,%d 1,%d 1,%d 0))", i, i+1, i+1, i, i)
		zones, cover, table = append(zones, []string{ids[i], square}), append(cover, []string{classes[i], square}), append(table, []string{ids[i], classes[i]})
	}
	j.table("zones.csv", zones)
	j.table("cover.csv", cover)
	j.table("table.csv", table)
	rows, ok := j.run("measure", j.path("cover.csv"), "--class-field", "class", "--zones", j.path("zones.csv"), "--zone-id", "id", "--format", "csv")
	require.True(j.t, ok, "%s %d: %v", j.kind, j.seed, j.what)
	for _, r := range rows {
		i := slices.Index(ids, r["zone_id"])
		require.GreaterOrEqual(j.t, i, 0, "%s %d: the zone %q is none of %q", j.kind, j.seed, r["zone_id"], ids)
		if r["kind"] == "class" {
			require.Equal(j.t, r["class_name"] == classes[i], number(j.t, r["pct_of_zone"]) == 100, "%s %d: class %q in %q", j.kind, j.seed, r["class_name"], ids[i])
		}
	}
	// The same table through a file of every format that holds attributes.
	ending := []string{"geojson", "gpkg", "parquet", "shp"}[j.rng.IntN(4)]
	steps := [][]string{{"attach", j.path("table.csv"), "--key", "id", "--zones", j.path("zones.csv"), "--zone-id", "id", "--out", j.path("with." + ending)}}
	if ending == "geojson" || ending == "shp" { // only tables are attached, so it is read as zones
		steps = append(steps, []string{"zones", "pick", j.path("with." + ending), "--where", "1 = 1", "--out", j.path("with.gpkg")})
		ending = "gpkg"
	}
	steps = append(steps, []string{"attach", j.path("with." + ending), "--key", "id", "--zones", j.path("zones.csv"), "--zone-id", "id", "--out", j.path("again.geojson")})
	for _, args := range steps {
		_, ok := j.verdex(args...)
		require.True(j.t, ok, "%s %d: %v", j.kind, j.seed, j.what)
	}
	data, err := os.ReadFile(j.path("again.geojson"))
	require.NoError(j.t, err)
	var found struct {
		Features []struct{ Properties map[string]json.RawMessage }
	}
	require.NoError(j.t, json.Unmarshal(data, &found))
	require.Len(j.t, found.Features, n)
	for _, f := range found.Features {
		var id string
		if json.Unmarshal(f.Properties["id"], &id) != nil {
			id = string(f.Properties["id"])
		}
		require.Contains(j.t, ids, id, "%s %d", j.kind, j.seed)
	}
}

// edits changes the inputs of a plan, files beside them and options at random and runs it again: what it makes is what a run makes that keeps nothing.
func (j *job) edits() {
	side := 2 + j.rng.IntN(4)
	crs := func() string {
		return fmt.Sprintf(`PROJCS["Mine",GEOGCS["WGS 84",DATUM["WGS_1984",SPHEROID["WGS 84",6378137,298.257223563]],PRIMEM["Greenwich",0],UNIT["degree",0.0174532925199433]],PROJECTION["Transverse_Mercator"],PARAMETER["latitude_of_origin",0],PARAMETER["central_meridian",15],PARAMETER["scale_factor",%g],PARAMETER["false_easting",500000],PARAMETER["false_northing",0],UNIT["metre",1]]`, 0.999+0.0001*float64(j.rng.IntN(4)))
	}
	grid := func() string {
		text := fmt.Sprintf("ncols %d\nnrows %d\nxllcorner %d\nyllcorner 6000000\ncellsize 1000\nNODATA_value %d\n", side, side, 500000+1000*j.rng.IntN(2), j.rng.IntN(2))
		for range side * side {
			text += fmt.Sprint(j.rng.IntN(4), " ")
		}
		return text
	}
	crosswalk := func() string { return fmt.Sprintf("from,to\n0,%d\n1,%d\n2;3,2\n", 1+j.rng.IntN(2), 1+j.rng.IntN(2)) }
	legend := func() string { return fmt.Sprintf("code,name\n1,Wood %d\n2,Field\n", j.rng.IntN(3)) }
	zones := func() string {
		return fmt.Sprintf("id,wkt\na,\"SRID=4326;POLYGON((15 54.1,15.0%d 54.1,15.03 54.2,15 54.2,15 54.1))\"\n", 2+j.rng.IntN(4))
	}
	options := func() string {
		return fmt.Sprintf("plan: 1\nlegend: legend.csv\nresample: nearest\nunit: %s\nedges: %s\nzones:\n  z: {zones: zones.csv, zone-id: id}\nepochs:\n  2000: {cover: a.txt, crosswalk: walk.csv}\n  2010: {cover: b.txt, crosswalk: walk.csv}\noutputs:\n  m: {make: measure, zones: z, out: \"m_{epoch}.csv\"}\n  c: {make: change, zones: z, table: matrix, out: c.csv}\n",
			[]string{"ha", "km2"}[j.rng.IntN(2)], []string{"split", "centre"}[j.rng.IntN(2)])
	}
	sources := map[string]func() string{"a.txt": grid, "b.txt": grid, "a.prj": crs, "b.prj": crs, "walk.csv": crosswalk, "legend.csv": legend, "zones.csv": zones, "plan.yaml": options}
	names := []string{"a.txt", "b.txt", "a.prj", "b.prj", "walk.csv", "legend.csv", "zones.csv", "plan.yaml"}
	for _, name := range names {
		j.text(name, sources[name]())
	}
	run := func(plan string) bool { // a change may make what no run can do, such as a raster without a CRS
		return cli.Main([]string{"verdex", "--quiet", "run", plan}, "test", io.Discard, io.Discard) == 0
	}
	for range 4 {
		kept := run(j.path("plan.yaml"))
		clean := j.path("clean")
		require.NoError(j.t, os.MkdirAll(clean, 0o755))
		for _, name := range names {
			data, err := os.ReadFile(j.path(name))
			if err != nil {
				os.Remove(filepath.Join(clean, name))
				continue
			}
			require.NoError(j.t, os.WriteFile(filepath.Join(clean, name), data, 0o644))
		}
		whole := run(filepath.Join(clean, "plan.yaml"))
		require.Equal(j.t, whole, kept, "%s %d: %v", j.kind, j.seed, j.what)
		for _, out := range []string{"m_2000.csv", "m_2010.csv", "c.csv"} {
			want, err := os.ReadFile(filepath.Join(clean, out))
			if whole {
				require.NoError(j.t, err)
				got, err := os.ReadFile(j.path(out))
				require.NoError(j.t, err)
				require.Equal(j.t, string(want), string(got), "%s %d: %s", j.kind, j.seed, out)
			}
		}
		require.NoError(j.t, os.RemoveAll(clean))
		for range 1 + j.rng.IntN(2) {
			name := names[j.rng.IntN(len(names))]
			if strings.HasSuffix(name, ".prj") && j.chance(0.3) {
				os.Remove(j.path(name))
				continue
			}
			j.text(name, sources[name]())
		}
	}
}
