package reference

import (
	"encoding/csv"
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/peterstace/simplefeatures/geom"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/internal/cli"
)

// place is where a grid lies: a CRS, and sizes of cells that go with it.
type place struct {
	code     int
	lon, lat float64
	cells    []float64
}

// places have the usual projection methods, and rare those that few CRSs use.
var places = []place{
	{4326, 12, 58, []float64{0.0003, 0.01, 1, 5}}, {4326, 178.9, -17, []float64{0.01, 0.5}}, {4326, 20, 84, []float64{0.25, 1}}, {4258, -9, 38, []float64{0.001}},
	{32633, 13, 58, []float64{10, 1000}}, {32633, 19.5, 66, []float64{30}}, {2053, 29, -26, []float64{30}}, {3035, 10, 52, []float64{100, 10000}},
	{5070, -96, 40, []float64{30, 5000}}, {6933, 10, 52, []float64{1000, 25000}}, {3395, 10, 70, []float64{250}}, {3857, 10, 70, []float64{38, 5000}},
	{2154, 3, 46, []float64{25, 1000}}, {27572, 3, 46, []float64{25}}, {31370, 4.5, 50.5, []float64{10}}, {3413, -30, 75, []float64{100, 5000}},
	{3031, 60, -80, []float64{1000}}, {28992, 5.4, 52.2, []float64{10}}, {2056, 8, 47, []float64{10, 500}}, {26931, -134, 57, []float64{30}},
	{5514, 15, 50, []float64{10, 500}}, {30200, -61, 10.5, []float64{100}}, {5880, -45, -10, []float64{1000}}, {8857, 60, 50, []float64{1000, 20000}},
	{4087, 10, 60, []float64{1000}}, {6931, 40, 88.9, []float64{25000}},
}
var rare = []place{
	{9311, -100, 40, []float64{1000}}, {2985, 140, -66.7, []float64{30}}, {6244, -70.76, 7.08, []float64{10}}, {2218, -23, 70.3, []float64{30}},
	{3388, 51, 42, []float64{100}}, {3832, 178, -17, []float64{500}}, {5513, 15, 50, []float64{100}}, {6201, -85, 44, []float64{30}},
	{31300, 4.5, 50.5, []float64{10}}, {3375, 102, 4, []float64{30, 500}}, {5041, 20, 85, []float64{100}},
}

type job struct {
	t    *testing.T
	kind string
	seed uint64
	rng  *rand.Rand
	dir  string
	what []string // the command
}

func (j *job) chance(p float64) bool { return j.rng.Float64() < p }
func (j *job) path(name string) string {
	return filepath.Join(j.dir, name)
}

func (j *job) text(name, text string) string {
	require.NoError(j.t, os.WriteFile(j.path(name), []byte(text), 0o644))
	return j.path(name)
}

// grid is a small grid somewhere.
func (j *job) grid() raster.Grid {
	list := places
	if j.kind == "rare" {
		list = rare
	}
	p := list[j.rng.IntN(len(list))]
	crs, err := earth.Lookup(p.code)
	require.NoError(j.t, err)
	crs = crs.OnGround()
	x, y, ok := crs.FromGeographic(p.lon*math.Pi/180, p.lat*math.Pi/180)
	require.True(j.t, ok)
	size := p.cells[j.rng.IntN(len(p.cells))] / crs.Unit
	if crs.Geographic() {
		size *= crs.Unit
	}
	g := raster.Grid{Width: 1 + j.rng.IntN(9), Height: 1 + j.rng.IntN(7), X0: x, Y0: y, DX: size, DY: -size * (0.5 + j.rng.Float64()), CRS: crs}
	if j.chance(0.5) {
		g.DY = -g.DX
	}
	if crs.Geographic() { // not beyond the pole
		g.Y0 = math.Min(g.Y0, 90)
	}
	return g
}

var types = []raster.CellType{raster.Uint8, raster.Uint8, raster.Uint8, raster.Int8, raster.Uint16, raster.Int16, raster.Uint32, raster.Int32, raster.Float32, raster.Float64}

// cover is a raster of classes 1 to 4 and some that are in no legend.
func (j *job) cover(g raster.Grid) *image {
	m := &image{grid: g, typ: types[j.rng.IntN(len(types))]}
	values := []float64{1, 2, 3, 4, 1, 2, 7}
	if j.chance(0.3) {
		values = append(values, 0)
	}
	if least, _ := m.typ.Range(); least < 0 && j.chance(0.3) {
		values = append(values, -5)
	}
	if m.typ.Bytes() > 2 && j.chance(0.2) {
		values = append(values, 1234567)
	}
	if m.typ.Floating() {
		values = append(values, math.NaN(), 2.5)
	}
	if j.chance(0.6) {
		n := []float64{0, 7, 4, 120}[j.rng.IntN(4)]
		m.nodata = &n
	}
	m.fill(j, values)
	if j.chance(0.2) && m.typ == raster.Uint8 {
		m.bits = j.chance(0.5)
		for r := range g.Height {
			m.masked = append(m.masked, nil)
			for range g.Width {
				m.masked[r] = append(m.masked[r], j.chance(0.3))
			}
		}
	}
	return m
}

func (m *image) fill(j *job, values []float64) {
	for r := range m.grid.Height {
		m.stored = append(m.stored, nil)
		for range m.grid.Width {
			m.stored[r] = append(m.stored[r], values[j.rng.IntN(len(values))])
		}
	}
}

// measurements is a raster of numbers.
func (j *job) measurements(g raster.Grid) *image {
	m := &image{grid: g, typ: []raster.CellType{raster.Float32, raster.Float64, raster.Int16, raster.Uint8}[j.rng.IntN(4)]}
	var values []float64
	for range 20 {
		v := math.Round(j.rng.Float64()*2000-1000) / 8
		if !m.typ.Floating() {
			v = math.Abs(math.Round(v))
		}
		values = append(values, v)
	}
	if m.typ.Floating() {
		values = append(values, math.NaN(), math.NaN())
	}
	if j.chance(0.5) {
		n := values[0]
		m.nodata = &n
	}
	m.fill(j, values)
	return m
}

// zone is a zone in the CRS that its file has, and in that of the grid.
type zone struct {
	id       string
	given    []outline
	onGrid   []outline
	area     float64 // m²
	area2    [][]float64
	sum      float64
	straight bool
}

// zones are some around a grid: in its CRS, or in degrees.
func (j *job) zones(g raster.Grid) (list []*zone, path string, straight, ok bool) {
	degrees := !g.CRS.Geographic() && j.chance(0.4)
	straight = !degrees
	w, h := float64(g.Width), float64(g.Height)
	var features []string
	for i := range 1 + j.rng.IntN(3) {
		z := &zone{id: fmt.Sprintf("z%d", i), straight: straight}
		for piece := range 1 + j.rng.IntN(2) {
			// Pieces of one zone lie in the left and the right half, so that they do not overlap.
			cx, cy := (0.1+0.8*j.rng.Float64())*w, (-0.1+1.2*j.rng.Float64())*h
			radius := (0.15 + 0.7*j.rng.Float64()) * math.Min(w, h)
			if piece == 1 {
				cx += 3 * w
			}
			n := 3 + j.rng.IntN(6)
			var shell [][2]float64
			for k := range n {
				a := -2 * math.Pi * (float64(k) + 0.6*j.rng.Float64()) / float64(n) // rows count down
				r := radius * (0.4 + 0.6*j.rng.Float64())
				if n == 3 {
					r = radius
				}
				q := [2]float64{cx + r*math.Cos(a), cy + r*math.Sin(a)}
				if j.chance(0.2) { // on borders and corners of cells
					q[0], q[1] = math.Round(q[0]), math.Round(q[1])
				}
				shell = append(shell, q)
			}
			o := outline{shell}
			if j.chance(0.3) && n > 4 {
				var hole [][2]float64
				for k := range 4 {
					a := 2 * math.Pi * float64(k) / 4
					hole = append(hole, [2]float64{cx + radius*0.1*math.Cos(a), cy + radius*0.1*math.Sin(a)})
				}
				o = append(o, hole)
			}
			for _, ring := range o {
				for k, q := range ring {
					ring[k][0], ring[k][1] = g.Point(q[0], q[1])
					if g.CRS.Geographic() {
						ring[k][1] = math.Max(-90, math.Min(90, ring[k][1]))
					}
				}
			}
			if polygon(o).AsGeometry().Validate() != nil {
				continue
			}
			onGrid := o
			if degrees {
				for _, ring := range o {
					first := math.NaN()
					for k, q := range ring {
						lon, lat, ok := g.CRS.ToGeographic(q[0], q[1])
						if !ok || !g.CRS.OnEarth(q[0], q[1]) {
							return nil, "", false, false
						}
						if math.IsNaN(first) {
							first = lon
						}
						ring[k] = [2]float64{(first + math.Remainder(lon-first, 2*math.Pi) - g.CRS.Meridian) / g.CRS.Definition.Base.Unit, lat / g.CRS.Definition.Base.Unit}
					}
				}
				if polygon(o).AsGeometry().Validate() != nil {
					continue
				}
				var ok bool
				if onGrid, ok = dense(o, g); !ok || polygon(onGrid).AsGeometry().Validate() != nil {
					return nil, "", false, false
				}
			}
			z.given, z.onGrid = append(z.given, o), append(z.onGrid, onGrid)
		}
		if len(z.given) == 0 {
			continue
		}
		for _, o := range z.given {
			var rings []string
			for _, r := range o {
				var points []string
				for _, q := range append(slices.Clone(r), r[0]) {
					points = append(points, fmt.Sprintf("[%s,%s]", strconv.FormatFloat(q[0], 'g', -1, 64), strconv.FormatFloat(q[1], 'g', -1, 64)))
				}
				rings = append(rings, "["+strings.Join(points, ",")+"]")
			}
			features = append(features, fmt.Sprintf(`{"type":"Feature","properties":{"id":"%s"},"geometry":{"type":"Polygon","coordinates":[%s]}}`, z.id, strings.Join(rings, ",")))
		}
		list = append(list, z)
	}
	if len(list) == 0 {
		return nil, "", false, false
	}
	crs := fmt.Sprintf(`"crs":{"type":"name","properties":{"name":"EPSG:%d"}},`, g.CRS.Code)
	own := g.CRS
	if degrees {
		own = g.CRS.Definition.Base // on the grid's datum, so that nothing is shifted
		crs = fmt.Sprintf(`"crs":{"type":"name","properties":{"name":"EPSG:%d"}},`, own.Code)
	}
	for _, z := range list {
		z.area = area(j.t, own, z.given...)
	}
	return list, j.text("zones.geojson", `{"type":"FeatureCollection",`+crs+`"features":[`+strings.Join(features, ",")+`]}`), straight, true
}

// verdex runs the program. It is not ok where it ended in an error that is to be expected of such a job.
func (j *job) verdex(args ...string) (string, bool) {
	j.what = args
	var out, errs strings.Builder
	if code := cli.Main(append([]string{"verdex", "--quiet"}, args...), "test", &out, &errs); code != 0 {
		require.Regexp(j.t, expected, errs.String(), "%s %d: %v", j.kind, j.seed, args)
		return "", false
	}
	return out.String(), true
}

// run runs the program and reads the table that it prints.
func (j *job) run(args ...string) (rows []map[string]string, ok bool) {
	out, ok := j.verdex(args...)
	if !ok {
		return nil, false
	}
	lines, err := csv.NewReader(strings.NewReader(out)).ReadAll()
	require.NoError(j.t, err, "%s %d: %v", j.kind, j.seed, args)
	for i := 1; i < len(lines); i++ {
		row := map[string]string{}
		for k, name := range lines[0] {
			row[name] = lines[i][k]
		}
		rows = append(rows, row)
	}
	return rows, true
}

// expected are the errors that are right for some of these jobs.
var expected = regexp.MustCompile(`has no line for|which have no majority|none of its \d+ zones meets|its one zone does not meet|is kept, but (is not a whole number|.* has no room)|no type has room|encloses no area|floating-point numbers, which cannot be kept|whole numbers and measurements|hold cells that no type takes|no published parameters lead|crosses itself|it declares no nodata value that cells there could have|its cells are floating-point numbers, so they are measurements|has its centre in it|has their centres in it|holds no cell of the chosen classes|there are no transitions in it`)

func number(t *testing.T, text string) float64 {
	v, err := strconv.ParseFloat(text, 64)
	require.NoError(t, err)
	return v
}

// coding is how values become classes, in the simplest words.
type coding struct {
	walk   string            // the file, "" for none
	fill   float64           // the class of cells without data, 0 for none
	legend map[string]bool   // codes, nil for none
	group  map[string]string // of a code, nil where classes are shown
	single bool
}

func code(v float64) string { return strconv.FormatFloat(v, 'f', -1, 64) }

// class is what a cell counts as: its kind, and its class or value. It is not ok where the crosswalk has no line.
func (k *coding) class(c cell) (kind, id string, ok bool) {
	if k.walk != "" {
		v := c.v
		lo, hi := 3.0, 8.0
		if k.single {
			lo, hi = float64(float32(lo)), float64(float32(hi))
		}
		switch {
		case c.missing && k.fill == 0:
			return "nodata", "", true
		case c.missing:
			c.v = k.fill
		case v == 1 || v == 2:
			c.v = 1
		case v >= lo && v < hi:
			c.v = 2
		case v == -5:
			return "nodata", "", true
		default:
			return "", "", false
		}
	} else if c.missing {
		return "nodata", "", true
	}
	id = code(c.v)
	if c.v != math.Trunc(c.v) || k.legend != nil && !k.legend[id] {
		return "unlisted", id, true
	}
	if k.group != nil {
		id = k.group[id]
	}
	return "class", id, true
}

// coding chooses one, and the options that say so.
func (j *job) coding() (*coding, []string) {
	k := &coding{}
	var args []string
	if j.chance(0.6) {
		k.legend = map[string]bool{"1": true, "2": true, "3": true, "4": true}
		args = append(args, "--legend", j.text("legend.csv", "code,name,color,group\n1,one,,A\n2,two,,B\n3,three,,A\n4,four,,\n"))
		if j.chance(0.4) {
			k.group = map[string]string{"1": "A", "2": "B", "3": "A", "4": "four"}
			args = append(args, "--by", "group")
		}
	}
	if j.chance(0.35) {
		lines := "from,to\n1;2,1\n\"[3,8)\",2\n-5,nodata\n"
		if more := rand.New(rand.NewPCG(j.seed, 15)); more.Float64() < 0.3 {
			k.fill = 3
			lines += "nodata,3\n"
		}
		k.walk = j.text("walk.csv", lines)
	}
	return k, args
}

// tolerance is by how much a sum of parts of cells of a zone may be off, in m².
func tolerance(z *zone, g raster.Grid) float64 {
	c := area1(g)
	size := math.Max(g.DX, math.Abs(g.DY)) * g.CRS.Unit
	tol := 1e-9*z.area + 1e-9*c
	if !g.CRS.Geographic() && !g.CRS.EqualArea() && !g.CRS.AreaByRow() {
		// Within a cut cell density is taken as changing evenly.
		tol += 0.02 * c * math.Pow(size/6.4e6, 2)
	}
	if !z.straight {
		tol += 3e-4 * c * 4 // curves between points: see docs/numbers.md
	}
	return tol
}

// area1 is about the area of a cell.
func area1(g raster.Grid) float64 {
	d, _ := g.CRS.Density(g.Point(float64(g.Width)/2, float64(g.Height)/2))
	return d * g.DX * math.Abs(g.DY)
}

// prepare finds the shares of all zones.
func (j *job) prepare(list []*zone, g raster.Grid, centres bool) bool {
	for _, z := range list {
		var err error
		if centres {
			var near bool
			if z.area2, near = centred(j.t, g, z.onGrid); near {
				return false
			}
		} else if z.area2, err = shares(j.t, g, z.onGrid); err != nil {
			return false // the geometry library cannot do it
		}
		z.sum = 0
		for _, row := range z.area2 {
			for _, a := range row {
				z.sum += a
			}
		}
	}
	return true
}

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
	k, more := j.coding()
	k.single = m.typ == raster.Float32
	if k.walk != "" {
		more = append(more, "--crosswalk", k.walk)
	}
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
		from := j.rng.IntN(g.Width - 1)
		width := 1 + j.rng.IntN(g.Width-from)
		top := j.rng.IntN(g.Height)
		height := 1 + j.rng.IntN(g.Height-top)
		if i == 0 {
			from, width, top, height = 0, g.Width, 0, g.Height
		}
		part := g
		part.X0, part.Y0 = g.Point(float64(from), float64(top))
		part.Width, part.Height = width, height
		m := j.cover(part)
		for m.typ.Floating() == integers {
			m = j.cover(part)
		}
		if m.nodata == nil { // else it would take that of another
			n := 99.0
			m.nodata = &n
		}
		name := j.path(fmt.Sprintf("tile%d.tif", i))
		m.write(j.t, name)
		args = append(args, name)
		for r := range height {
			for c := range width {
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
	k, more := j.coding()
	k.walk = ""
	j.compareExtents(whole, list, k, false, append(append(args, more...), "--zones", path, "--zone-id", "id", "--overlap", overlap, "--format", "csv", "--unit", "m2"))
}

// change compares transitions between epochs, of rasters that need not have one extent.
func (j *job) change() {
	g := j.grid()
	n := 2 + j.rng.IntN(2)
	var epochs []*image
	args := []string{"change"}
	for e := range n {
		part := g
		if j.chance(0.3) && g.Width > 2 {
			part.Width = g.Width - 1
			if j.chance(0.5) {
				part.X0, _ = g.Point(1, 0)
			}
		}
		m := j.cover(part)
		for e > 0 && m.typ.Floating() != epochs[0].typ.Floating() {
			m = j.cover(part)
		}
		name := j.path(fmt.Sprintf("epoch%d.tif", e))
		m.write(j.t, name)
		epochs = append(epochs, m)
		args = append(args, "--epoch", fmt.Sprintf("%d=%s", 2000+5*e, name))
	}
	list, path, _, ok := j.zones(g)
	if !ok || !j.prepare(list, g, false) {
		return
	}
	k, more := j.coding()
	if k.walk != "" {
		more = append(more, "--crosswalk", k.walk)
	}
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
	class := func(m *image, c, r int) string {
		x, y := g.Point(float64(c)+0.5, float64(r)+0.5)
		col, row := m.grid.Cell(x, y)
		if col < 0 || row < 0 || col >= float64(m.grid.Width) || row >= float64(m.grid.Height) {
			return ""
		}
		own := *k
		own.single = m.typ == raster.Float32
		kind, id, ok := own.class(m.at(int(col), int(row)))
		if !ok || kind != "class" {
			return ""
		}
		return id
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
					want[key{z.id, fmt.Sprint(2000 + 5*p[0]), fmt.Sprint(2000 + 5*p[1]), class(epochs[p[0]], c, r), class(epochs[p[1]], c, r)}] += z.area2[r][c]
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

// composite compares statistics of a stack, cell by cell, by measuring what is written.
func (j *job) composite() {
	g := j.grid()
	of := []string{"majority", "min", "max", "mean", "count", "median"}[j.rng.IntN(6)]
	args := []string{"derive", "composite", "--of", of, "--out", j.path("out.tif")}
	var stack []*image
	for i := range 2 + j.rng.IntN(3) {
		m := j.cover(g)
		for i > 0 && m.typ.Floating() != stack[0].typ.Floating() {
			m = j.cover(g)
		}
		name := j.path(fmt.Sprintf("s%d.tif", i))
		m.write(j.t, name)
		stack = append(stack, m)
		args = append(args, name)
	}
	args = append(args, "--measurements")
	if _, ok := j.verdex(args...); !ok {
		return
	}
	got := j.read("out.tif", g)
	for r := range g.Height {
		for c := range g.Width {
			var values []float64
			for _, m := range stack {
				if v := m.at(c, r); !v.missing {
					values = append(values, v.v)
				}
			}
			want := cell{missing: len(values) == 0}
			if !want.missing {
				want.v = plainStatistic(of, values)
			}
			if of == "count" {
				want = cell{v: float64(len(values))}
			}
			require.Equal(j.t, want.missing, got[r][c].missing, "%s %d: %d, %d of %v", j.kind, j.seed, c, r, j.what)
			if !want.missing {
				require.InDelta(j.t, want.v, got[r][c].v, 1e-6*(1+math.Abs(want.v)), "%s %d: %d, %d of %v", j.kind, j.seed, c, r, j.what)
			}
		}
	}
}

func plainStatistic(of string, values []float64) float64 {
	sorted := slices.Sorted(slices.Values(values))
	n := len(values)
	switch of {
	case "min":
		return sorted[0]
	case "max":
		return sorted[n-1]
	case "median":
		return (sorted[(n-1)/2] + sorted[n/2]) / 2
	case "mean":
		sum := 0.0
		for _, v := range values {
			sum += v
		}
		return sum / float64(n)
	}
	best, most := 0.0, 0
	for i := n - 1; i >= 0; i-- { // the latest wins a tie
		k := 0
		for _, v := range values {
			if v == values[i] {
				k++
			}
		}
		if k > most {
			best, most = values[i], k
		}
	}
	return best
}

// read gives the cells of a raster that the program has written, which has the cells of a grid.
func (j *job) read(name string, g raster.Grid) [][]cell {
	f, err := openRaster(j.path(name))
	require.NoError(j.t, err)
	defer f.Close()
	h := f.Header()
	require.NoError(j.t, h.Grid.Aligned(g), "%s %d: %v", j.kind, j.seed, j.what)
	var cells raster.Cells
	require.NoError(j.t, f.NewReader().Read(raster.Window{Width: g.Width, Height: g.Height}, &cells))
	out := make([][]cell, g.Height)
	for r := range out {
		for c := range g.Width {
			v := cells.At(c, r)
			out[r] = append(out[r], cell{v, h.Missing(v)})
		}
	}
	return out
}

// align compares a raster on another grid, by nearest centre.
func (j *job) align() {
	g := j.grid()
	m := j.cover(g)
	m.write(j.t, j.path("cover.tif"))
	// A grid around the same place, in another CRS: that of degrees, or the grid's own, shifted.
	target := g
	target.X0, target.Y0 = g.Point(j.rng.Float64()*4-2, j.rng.Float64()*4-2)
	if !g.CRS.Geographic() && j.chance(0.5) {
		lon, lat, ok := g.CRS.ToGeographic(g.Point(0, 0))
		if !ok {
			return
		}
		size := g.DX * g.CRS.Unit / 111e3
		target = raster.Grid{Width: 3 + j.rng.IntN(5), Height: 3 + j.rng.IntN(5), X0: lon * 180 / math.Pi, Y0: lat * 180 / math.Pi, DX: size, DY: -size, CRS: g.CRS.Definition.Base}
		if g.CRS.Meridian != 0 || g.CRS.Definition.Base.UnitName != "degree" {
			return
		}
		if target.Y0 > 90 || target.Y0-float64(target.Height)*size < -90 {
			return
		}
	}
	if target.CRS.Geographic() && target.Y0 > 90 {
		return
	}
	like := &image{grid: target, typ: raster.Uint8}
	like.fill(j, []float64{1})
	like.write(j.t, j.path("like.tif"))
	by := []string{"nearest", "majority"}[j.rng.IntN(2)]
	args := []string{"align", j.path("cover.tif"), "--grid", j.path("like.tif"), "--resample", by, "--out", j.path("out.tif")}
	if _, ok := j.verdex(args...); !ok {
		return
	}
	got := j.read("out.tif", target)
	for r := range target.Height {
		for c := range target.Width {
			x, y := target.Point(float64(c)+0.5, float64(r)+0.5)
			lon, lat, ok1 := target.CRS.ToGeographic(x, y)
			x, y, ok2 := g.CRS.FromGeographic(lon, lat)
			col, row := g.Cell(x, y)
			if !ok1 || !ok2 || math.Abs(col-math.Round(col)) < 1e-4 || math.Abs(row-math.Round(row)) < 1e-4 {
				continue
			}
			if g.CRS.Geographic() {
				turn := 360 / g.DX
				col -= turn * math.Floor(col/turn)
			}
			want := cell{missing: true}
			if col >= 0 && row >= 0 && col < float64(g.Width) && row < float64(g.Height) {
				want = m.at(int(col), int(row))
			}
			if by == "majority" {
				var clear bool
				if want, clear = heaviest(m, target, c, r, col); !clear {
					continue
				}
			}
			require.Equal(j.t, want.missing, got[r][c].missing, "%s %d: %d, %d of %v", j.kind, j.seed, c, r, j.what)
			if !want.missing {
				require.Equal(j.t, want.v, got[r][c].v, "%s %d: %d, %d of %v", j.kind, j.seed, c, r, j.what)
			}
		}
	}
}

// heaviest is what covers most of a cell of another grid, whose centre lies in a column of the image's; it is clear where nothing
// else covers as much, by a millionth of the cell.
func heaviest(m *image, target raster.Grid, c, r int, column float64) (cell, bool) {
	g := m.grid
	var corners [][2]float64
	for _, d := range [4][2]float64{{0, 0}, {1, 0}, {1, 1}, {0, 1}} {
		lon, lat, ok1 := target.CRS.ToGeographic(target.Point(float64(c)+d[0], float64(r)+d[1]))
		x, y, ok2 := g.CRS.FromGeographic(lon, lat)
		if !ok1 || !ok2 {
			return cell{}, false
		}
		col, row := g.Cell(x, y)
		if g.CRS.Geographic() {
			turn := 360 / g.DX
			col += turn * math.Round((column-col)/turn)
		}
		corners = append(corners, [2]float64{col, row})
	}
	quad := polygon(outline{corners}).AsGeometry()
	if quad.Validate() != nil {
		return cell{}, false
	}
	left := quad.Area() // what no cell of the raster covers is missing
	weights := map[cell]float64{}
	for y := range g.Height {
		for x := range g.Width {
			x, y := float64(x), float64(y)
			both, err := geom.Intersection(quad, polygon(outline{{{x, y}, {x + 1, y}, {x + 1, y + 1}, {x, y + 1}}}).AsGeometry())
			if err != nil {
				return cell{}, false
			}
			v := m.at(int(x), int(y))
			if v.missing {
				continue
			}
			weights[v] += both.Area()
			left -= both.Area()
		}
	}
	weights[cell{missing: true}] = left
	var best cell
	var most, second float64
	for v, w := range weights {
		if w > most {
			best, most, second = v, w, most
		} else {
			second = math.Max(second, w)
		}
	}
	return best, most-second > 1e-6*quad.Area()
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

// kinds are the kinds of jobs, with how often they come.
var kinds = []struct {
	name   string
	weight int
	do     func(*job)
}{
	{"measure", 2, (*job).measure}, {"tiles", 1, (*job).tiles}, {"change", 1, (*job).change}, {"accounts", 1, (*job).accounts},
	{"rare", 1, (*job).measure}, {"summarise", 1, (*job).summarise}, {"composite", 1, (*job).composite}, {"align", 1, (*job).align},
	{"reclassify", 1, (*job).reclassify}, {"clip", 1, (*job).clip}, {"mosaic", 1, (*job).mosaic}, {"patches", 1, (*job).patches}, {"histories", 1, (*job).histories},
}

// try does a job. It is that of its kind and seed for ever, as long as nobody changes how jobs of the kind are made.
func try(t *testing.T, kind string, seed uint64) {
	dir := os.Getenv("VERDEX_FILES")
	if dir == "" {
		var err error
		dir, err = os.MkdirTemp(t.TempDir(), "job")
		require.NoError(t, err)
		defer os.RemoveAll(dir)
	}
	j := &job{t: t, kind: kind, seed: seed, rng: rand.New(rand.NewPCG(seed, 14)), dir: dir}
	for _, k := range kinds {
		if k.name == kind {
			k.do(j)
			return
		}
	}
	t.Fatalf("there is no kind of job %q", kind)
}

// named does a job that a line names: its kind, its seed, and what was wrong.
func named(t *testing.T, line string) {
	f := strings.Fields(line)
	require.GreaterOrEqual(t, len(f), 2, line)
	seed, err := strconv.ParseUint(f[1], 10, 64)
	require.NoError(t, err)
	try(t, f[0], seed)
}

// VERDEX_SECOND_OPINION is how many jobs to do or for how long, VERDEX_SEED the seed of the first one, and VERDEX_JOB the kind and seed of one job to do alone.
func TestSecondOpinion(t *testing.T) {
	if line := os.Getenv("VERDEX_JOB"); line != "" {
		named(t, line)
		return
	}
	kept, err := os.ReadFile("testdata/seeds.txt")
	require.NoError(t, err)
	for line := range strings.Lines(string(kept)) {
		if line = strings.TrimSpace(line); line != "" && !strings.HasPrefix(line, "#") {
			named(t, line)
		}
	}
	seed := uint64(time.Now().UnixNano())
	if text := os.Getenv("VERDEX_SEED"); text != "" {
		seed, err = strconv.ParseUint(text, 10, 64)
		require.NoError(t, err)
	}
	many, long := math.MaxInt, 10*time.Second
	if text := os.Getenv("VERDEX_SECOND_OPINION"); text != "" {
		if many, err = strconv.Atoi(text); err == nil {
			long = math.MaxInt64
		} else {
			many = math.MaxInt
			long, err = time.ParseDuration(text)
			require.NoError(t, err)
		}
	}
	var wheel []string
	for _, k := range kinds {
		wheel = append(wheel, slices.Repeat([]string{k.name}, k.weight)...)
	}
	n := 0
	for begin := time.Now(); n < many && time.Since(begin) < long; n++ {
		try(t, wheel[n%len(wheel)], seed+uint64(n))
	}
	t.Logf("%d jobs agree, seeds from %d", n, seed)
}
