package reference

import (
	"fmt"
	"math"
	"os"
	"slices"
	"strings"

	"github.com/peterstace/simplefeatures/geom"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/raster"
)

// measure compares extents.
func (j *job) measure() {
	g := j.grid()
	m := j.cover(g)
	m.write(j.t, j.path("cover.tif"))
	args := []string{"measure", j.path("cover.tif")}
	list, path, ok := []*zone(nil), "", false
	if j.chance(0.2) {
		w, s, e, n := g.Bounds()
		if g.CRS.Geographic() && (s < -90 || n > 90) {
			return
		}
		o := outline{{{w, s}, {e, s}, {e, n}, {w, n}}}
		list, ok = []*zone{{id: "all", onGrid: []outline{o}, area: area(j.t, g.CRS, o), straight: true}}, true
	} else if list, path, _, ok = j.zones(g); ok {
		args = append(args, "--zones", path, "--zone-id", "id")
	}
	centres := ok && path != "" && j.chance(0.2)
	if !ok || !j.prepare(list, g, centres) {
		return
	}
	if centres {
		args = append(args, "--edges", "centre")
	}
	k, more := j.coding(true)
	k.single = m.typ == raster.Float32
	j.compareExtents(m, list, k, centres, append(append(args, more...), "--format", "csv", "--unit", "m2"))
}

func (j *job) compareExtents(m *image, list []*zone, k *coding, centres bool, args []string) {
	rows, ok := j.run(args...)
	if !ok {
		return
	}
	g := m.grid
	got := map[[3]string]float64{}
	cells := map[string]float64{}
	for _, r := range rows {
		got[[3]string{r["zone_id"], r["kind"], r["class_code"]}] += number(j.t, r["area"])
		if r["cells"] != "" {
			cells[r["zone_id"]] += number(j.t, r["cells"])
		}
	}
	for _, z := range list {
		want := map[[3]string]float64{}
		count := 0.0
		for r := range g.Height {
			for c := range g.Width {
				if z.area2[r][c] == 0 {
					continue
				}
				kind, id, ok := k.class(m.at(c, r))
				require.True(j.t, ok || z.area2[r][c] < tolerance(z, g), "%s %d: %v passed over a value without a line", j.kind, j.seed, j.what)
				want[[3]string{z.id, kind, id}] += z.area2[r][c]
				x0, y0 := g.Point(float64(c), float64(r))
				x1, y1 := g.Point(float64(c+1), float64(r+1))
				count += z.area2[r][c] / area(j.t, g.CRS, outline{{{x0, y1}, {x1, y1}, {x1, y0}, {x0, y0}}})
			}
		}
		if !centres {
			want[[3]string{z.id, "outside", ""}] = z.area - z.sum
		}
		for key, v := range want {
			require.InDelta(j.t, v, got[key], tolerance(z, g), "%s %d: %v in %v", j.kind, j.seed, key, j.what)
			delete(got, key)
		}
		for key, v := range got {
			if key[0] == z.id && !(centres && key[1] == "outside") {
				require.InDelta(j.t, 0, v, tolerance(z, g), "%s %d: %v in %v", j.kind, j.seed, key, j.what)
			}
		}
		if !centres {
			require.InDelta(j.t, count, cells[z.id], tolerance(z, g)/area1(g)*2+1e-8*count+1e-7, "%s %d: cells of %s in %v", j.kind, j.seed, z.id, j.what)
		}
	}
}

// tile is the i-th of several rasters on the cells of a grid, of which the first has the grid's extent, with its file and where it begins.
func (j *job) tile(g raster.Grid, i int, integers bool) (m *image, name string, from, top int) {
	from = j.rng.IntN(g.Width - 1)
	width := 1 + j.rng.IntN(g.Width-from)
	top = j.rng.IntN(g.Height)
	height := 1 + j.rng.IntN(g.Height-top)
	if i == 0 {
		from, width, top, height = 0, g.Width, 0, g.Height
	}
	part := g
	part.X0, part.Y0 = g.Point(float64(from), float64(top))
	part.Width, part.Height = width, height
	m = j.cover(part)
	for m.typ.Floating() == integers {
		m = j.cover(part)
	}
	if m.nodata == nil { // else it would take that of another
		n := 99.0
		m.nodata = &n
	}
	name = j.path(fmt.Sprintf("tile%d.tif", i))
	m.write(j.t, name)
	return m, name, from, top
}

// epoch is a raster beside those of earlier epochs, with its file; some lack a column.
func (j *job) epoch(g raster.Grid, lack float64, earlier []*image) (m *image, name string) {
	part := g
	if j.chance(lack) && g.Width > 2 {
		part.Width = g.Width - 1
		if j.chance(0.5) {
			part.X0, _ = g.Point(1, 0)
		}
	}
	m = j.cover(part)
	for len(earlier) > 0 && m.typ.Floating() != earlier[0].typ.Floating() {
		m = j.cover(part)
	}
	name = j.path(fmt.Sprintf("epoch%d.tif", len(earlier)))
	m.write(j.t, name)
	return m, name
}

// mapped is the class that a raster has in a cell of a grid, "" where it has none there.
func (k *coding) mapped(m *image, g raster.Grid, c, r int) string {
	col, row := m.grid.Cell(g.Point(float64(c)+0.5, float64(r)+0.5))
	if col < 0 || row < 0 || col >= float64(m.grid.Width) || row >= float64(m.grid.Height) {
		return ""
	}
	own := *k
	own.single = m.typ == raster.Float32
	if kind, id, ok := own.class(m.at(int(col), int(row))); ok && kind == "class" {
		return id
	}
	return ""
}

// tiles compares the extents of several rasters that are one.
func (j *job) tiles() {
	g := j.grid()
	if g.Width < 3 {
		return
	}
	whole := &image{grid: g, typ: raster.Float64}
	for r := range g.Height {
		whole.stored = append(whole.stored, nil)
		for range g.Width {
			whole.stored[r] = append(whole.stored[r], math.NaN())
		}
	}
	args := []string{"measure"}
	overlap := []string{"last", "first"}[j.rng.IntN(2)]
	integers := j.chance(0.8)
	for i := range 2 + j.rng.IntN(2) {
		m, name, from, top := j.tile(g, i, integers)
		args = append(args, name)
		for r := range m.grid.Height {
			for c := range m.grid.Width {
				have := whole.stored[top+r][from+c]
				if v := m.at(c, r); !v.missing && (overlap == "last" || have != have) {
					whole.stored[top+r][from+c] = v.v
				}
			}
		}
	}
	list, path, _, ok := j.zones(g)
	if !ok || !j.prepare(list, g, false) {
		return
	}
	k, more := j.coding(false)
	j.compareExtents(whole, list, k, false, append(append(args, more...), "--zones", path, "--zone-id", "id", "--overlap", overlap, "--format", "csv", "--unit", "m2"))
}

// change compares transitions between epochs, of rasters that need not have one extent.
func (j *job) change() {
	g := j.grid()
	n := 2 + j.rng.IntN(2)
	var epochs []*image
	args := []string{"change"}
	for e := range n {
		m, name := j.epoch(g, 0.3, epochs)
		epochs = append(epochs, m)
		args = append(args, "--epoch", fmt.Sprintf("%d=%s", 2000+5*e, name))
	}
	list, path, _, ok := j.zones(g)
	if !ok || !j.prepare(list, g, false) {
		return
	}
	k, more := j.coding(true)
	rows, ok := j.run(append(append(args, more...), "--zones", path, "--zone-id", "id", "--table", "matrix", "--format", "csv", "--unit", "m2")...)
	if !ok {
		return
	}
	type key struct{ zone, from, to, a, b string }
	got := map[key]float64{}
	for _, r := range rows {
		if r["from_name"] != "outside" {
			got[key{r["zone_id"], r["from_epoch"], r["to_epoch"], r["from_code"], r["to_code"]}] += number(j.t, r["area"])
		}
	}
	pairs := [][2]int{{0, 1}}
	if n == 3 {
		pairs = append(pairs, [2]int{1, 2}, [2]int{0, 2})
	}
	for _, z := range list {
		want := map[key]float64{}
		for r := range g.Height {
			for c := range g.Width {
				if !slices.ContainsFunc(epochs, func(m *image) bool { // ground that none of them covers is outside
					col, _ := m.grid.Cell(g.Point(float64(c)+0.5, 0))
					return col >= 0 && col < float64(m.grid.Width)
				}) {
					continue
				}
				for _, p := range pairs {
					want[key{z.id, fmt.Sprint(2000 + 5*p[0]), fmt.Sprint(2000 + 5*p[1]), k.mapped(epochs[p[0]], g, c, r), k.mapped(epochs[p[1]], g, c, r)}] += z.area2[r][c]
				}
			}
		}
		for x, v := range want {
			require.InDelta(j.t, v, got[x], tolerance(z, g), "%s %d: %v in %v", j.kind, j.seed, x, j.what)
			delete(got, x)
		}
		for x, v := range got {
			if x.zone == z.id {
				require.InDelta(j.t, 0, v, tolerance(z, g), "%s %d: %v in %v", j.kind, j.seed, x, j.what)
			}
		}
	}
}

// summarise compares statistics of measurements.
func (j *job) summarise() {
	g := j.grid()
	m := j.measurements(g)
	m.write(j.t, j.path("values.tif"))
	list, path, straight, ok := j.zones(g)
	if !ok || !straight || !j.prepare(list, g, false) {
		return
	}
	rows, ok := j.run("summarise", j.path("values.tif"), "--zones", path, "--zone-id", "id", "--stats", "count,area,mean,min,max,sum,std,median", "--format", "csv", "--unit", "m2")
	if !ok {
		return
	}
	byZone := map[string]map[string]string{}
	for _, r := range rows {
		byZone[r["zone_id"]] = r
	}
	for _, z := range list {
		tol := tolerance(z, g)
		var total, count, sum, first, second float64
		least, most := math.Inf(1), math.Inf(-1)
		var slivers []float64
		type weighted struct{ v, a float64 }
		var all []weighted
		for r := range g.Height {
			for c := range g.Width {
				v, a := m.at(c, r), z.area2[r][c]
				if v.missing || a == 0 {
					continue
				}
				if a < 2*tol { // which may be in the zone or not
					slivers = append(slivers, v.v)
					continue
				}
				x0, y0 := g.Point(float64(c), float64(r))
				x1, y1 := g.Point(float64(c+1), float64(r+1))
				share := a / area(j.t, g.CRS, outline{{{x0, y1}, {x1, y1}, {x1, y0}, {x0, y0}}})
				total, count, sum = total+a, count+share, sum+share*v.v
				first, second = first+a*v.v, second+a*v.v*v.v
				least, most = math.Min(least, v.v), math.Max(most, v.v)
				all = append(all, weighted{v.v, a})
			}
		}
		got := byZone[z.id]
		if total < 1000*tol {
			continue
		}
		mean := first / total
		relative := 40*tol/total + 1e-9
		check := func(name string, want, scale float64) {
			require.InDelta(j.t, want, number(j.t, got[name]), relative*scale+1e-12, "%s %d: %s of %s in %v", j.kind, j.seed, name, z.id, j.what)
		}
		check("area", total, total)
		check("count", count, count+1)
		check("mean", mean, 300)
		check("sum", sum, 300*(count+1))
		lowest, highest := number(j.t, got["min"]), number(j.t, got["max"])
		if lowest > least || !slices.Contains(slivers, lowest) {
			require.Equal(j.t, least, lowest, "%s %d: min of %s in %v", j.kind, j.seed, z.id, j.what)
		}
		if highest < most || !slices.Contains(slivers, highest) {
			require.Equal(j.t, most, highest, "%s %d: max of %s in %v", j.kind, j.seed, z.id, j.what)
		}
		require.InDelta(j.t, math.Sqrt(math.Max(0, second/total-mean*mean)), number(j.t, got["std"]), 300*math.Sqrt(relative)+1e-9, "%s %d: std of %s in %v", j.kind, j.seed, z.id, j.what)
		slices.SortFunc(all, func(a, b weighted) int { return int(math.Copysign(1, a.v-b.v)) })
		below := 0.0
		for _, w := range all {
			below += w.a
			if math.Abs(below-total/2) < 100*tol {
				break // either of two
			}
			if below >= total/2 {
				require.Equal(j.t, w.v, number(j.t, got["median"]), "%s %d: median of %s in %v", j.kind, j.seed, z.id, j.what)
				break
			}
		}
	}
}

// accounts compares what is made of a table of transitions: extent accounts and flows, by class and by group.
func (j *job) accounts() {
	g := j.grid()
	var epochs [2]*image
	args := []string{"change"}
	for e := range epochs {
		epochs[e] = j.cover(g)
		for e > 0 && epochs[e].typ.Floating() != epochs[0].typ.Floating() {
			epochs[e] = j.cover(g)
		}
		name := j.path(fmt.Sprintf("epoch%d.tif", e))
		epochs[e].write(j.t, name)
		args = append(args, "--epoch", fmt.Sprintf("%d=%s", 2000+5*e, name))
	}
	list, path, _, ok := j.zones(g)
	if !ok || !j.prepare(list, g, false) {
		return
	}
	k := &coding{legend: map[string]bool{"1": true, "2": true, "3": true, "4": true}}
	legend := j.text("legend.csv", "code,name,color,group\n1,one,,A\n2,two,,B\n3,three,,A\n4,four,,\n")
	matrix := j.path("matrix.csv")
	if _, ok := j.verdex(append(args, "--legend", legend, "--zones", path, "--zone-id", "id", "--table", "matrix", "--unit", "m2", "--out", matrix)...); !ok {
		return
	}
	flows := j.text("flows.csv", "from,to,flow,managed\n1;2,3,growth,yes\n3,1,growth,yes\n*,2,loss,no\n")
	flow := func(a, b string) (name, managed string) {
		switch {
		case a == b:
			return "no change", ""
		case (a == "1" || a == "2") && b == "3" || a == "3" && b == "1":
			return "growth", "managed"
		case b == "2":
			return "loss", "unmanaged"
		}
		return "other change", "not assigned"
	}
	name := map[string]string{"1": "one", "2": "two", "3": "three", "4": "four"}
	more := []string{"--flows", flows, "--format", "csv", "--unit", "m2"}
	grouped := j.chance(0.5)
	if grouped {
		more = append(more, "--legend", legend, "--by", "group")
		name = map[string]string{"1": "A", "2": "B", "3": "A", "4": "four"}
	}
	statement, ok := j.run(append([]string{"account", "extent", matrix}, more...)...)
	if !ok {
		return // nothing is mapped
	}
	moved, ok := j.run(append([]string{"account", "flows", matrix}, more...)...)
	require.True(j.t, ok)
	type key struct{ zone, entry, class string }
	got := map[key]float64{}
	for _, r := range statement {
		for _, c := range []string{"one", "two", "three", "four", "A", "B", "total"} {
			if r[c] != "" {
				got[key{r["zone_id"], r["entry"], c}] += number(j.t, r[c])
			}
		}
	}
	for _, r := range moved {
		got[key{r["zone_id"], "flow", r["flow"]}] += number(j.t, r["area"])
	}
	for _, z := range list {
		want := map[key]float64{}
		for r := range g.Height {
			for c := range g.Width {
				m2 := z.area2[r][c]
				kind, a, _ := k.class(epochs[0].at(c, r))
				kind2, b, _ := k.class(epochs[1].at(c, r))
				post := func(entry, class string, m2 float64) {
					want[key{z.id, entry, class}] += m2
					want[key{z.id, entry, "total"}] += m2
				}
				first, second := kind == "class", kind2 == "class"
				switch {
				case first && second:
					f, managed := flow(a, b)
					if name[a] == name[b] { // within a group nothing changes
						f = "no change"
					}
					want[key{z.id, "flow", f}] += m2
					post("Opening extent 2000", name[a], m2)
					post("Closing extent 2005", name[b], m2)
					if name[a] == name[b] {
						continue
					}
					post("Additions, "+managed, name[b], m2)
					post("Reductions, "+managed, name[a], m2)
					post("Additions to extent", name[b], m2)
					post("Reductions in extent", name[a], m2)
					post("Net change", name[b], m2)
					post("Net change", name[a], -m2)
				case first:
					want[key{z.id, "not in the account: mapped in 2000 only", "total"}] += m2
				case second:
					want[key{z.id, "not in the account: mapped in 2005 only", "total"}] += m2
				default:
					want[key{z.id, "not in the account: mapped in neither", "total"}] += m2
				}
			}
		}
		for x, v := range want {
			require.InDelta(j.t, v, got[x], 2*tolerance(z, g), "%s %d: %v in %v", j.kind, j.seed, x, j.what)
			delete(got, x)
		}
		for x, v := range got {
			if x.zone == z.id && !strings.HasPrefix(x.entry, "not in the account") {
				require.InDelta(j.t, 0, v, 2*tolerance(z, g), "%s %d: %v in %v", j.kind, j.seed, x, j.what)
			}
		}
	}
}

// overlay compares the extents of a cover of polygons, which may overlap, in zones.
func (j *job) overlay() {
	g := j.grid()
	covers, path, straight, ok := j.zones(g)
	if !ok || !straight {
		return
	}
	data, err := os.ReadFile(path)
	require.NoError(j.t, err)
	cover := j.text("cover.geojson", string(data))
	list, path, straight, ok := j.zones(g)
	if !ok || !straight {
		return
	}
	var all geom.Geometry // the ground of all polygons
	for _, c := range covers {
		for _, o := range c.given {
			if all, err = geom.Union(all, polygon(o).AsGeometry()); err != nil {
				return
			}
		}
	}
	rows, ok := j.run("measure", cover, "--class-field", "id", "--zones", path, "--zone-id", "id", "--format", "csv", "--unit", "m2")
	if !ok {
		return
	}
	got := map[[2]string]float64{}
	for _, r := range rows {
		got[[2]string{r["zone_id"], r["kind"] + r["class_code"]}] += number(j.t, r["area"])
	}
	for _, z := range list {
		want := map[[2]string]float64{{z.id, "outside"}: z.area}
		share := func(shape geom.Geometry) (m2 float64) {
			for _, o := range z.apart {
				both, err := geom.Intersection(polygon(o).AsGeometry(), shape)
				if err != nil {
					return math.NaN()
				}
				m2 += area(j.t, g.CRS, polygonsOf(both)...)
			}
			return m2
		}
		for _, c := range covers {
			for _, o := range c.given {
				want[[2]string{z.id, "class" + c.id}] += share(polygon(o).AsGeometry())
			}
		}
		want[[2]string{z.id, "outside"}] -= share(all)
		for key, m2 := range want {
			if !math.IsNaN(m2) {
				require.InDelta(j.t, m2, got[key], 1e-7*z.area, "%s %d: %v in %v", j.kind, j.seed, key, j.what)
			}
			delete(got, key)
		}
		for key, m2 := range got {
			if key[0] == z.id {
				require.InDelta(j.t, 0, m2, 1e-7*z.area, "%s %d: %v in %v", j.kind, j.seed, key, j.what)
			}
		}
	}
}
