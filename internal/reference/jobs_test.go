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
	if more := rand.New(rand.NewPCG(j.seed, 16)); more.Float64() < 0.1 { // the first row in the south
		g.Y0, g.DY = g.Y0+float64(g.Height)*g.DY, -g.DY
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
	given    []outline // as they are in the file
	apart    []outline // without ground that two of them share
	onGrid   []outline // those on the grid
	area     float64   // m²
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
	together := rand.New(rand.NewPCG(j.seed, 17)).Float64() < 0.2
	for i := range 1 + j.rng.IntN(3) {
		z := &zone{id: fmt.Sprintf("z%d", i), straight: straight}
		for piece := range 1 + j.rng.IntN(2) {
			// Pieces of one zone lie far from one another, so that they do not overlap, or both where they may.
			cx, cy := (0.1+0.8*j.rng.Float64())*w, (-0.1+1.2*j.rng.Float64())*h
			radius := (0.15 + 0.7*j.rng.Float64()) * math.Min(w, h)
			if piece == 1 && !together {
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
		z.apart = z.given
		if together && len(z.given) == 2 {
			var ok1, ok2 bool
			z.apart, ok1 = united(z.given)
			if z.onGrid, ok2 = united(z.onGrid); !ok1 || !ok2 {
				return nil, "", false, false
			}
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
		z.area = area(j.t, own, z.apart...)
	}
	return list, j.text("zones.geojson", `{"type":"FeatureCollection",`+crs+`"features":[`+strings.Join(features, ",")+`]}`), straight, true
}

// united are two polygons as what they cover together.
func united(two []outline) ([]outline, bool) {
	u, err := geom.Union(polygon(two[0]).AsGeometry(), polygon(two[1]).AsGeometry())
	return polygonsOf(u), err == nil
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
	return byColumn(lines), true
}

// byColumn gives the cells of each row by the names in the first one.
func byColumn(lines [][]string) (rows []map[string]string) {
	for _, cells := range lines[1:] {
		row := map[string]string{}
		for k, cell := range cells {
			row[lines[0][k]] = cell
		}
		rows = append(rows, row)
	}
	return rows
}

// expected are the errors that are right for some of these jobs.
var expected = regexp.MustCompile(`has no line for|which have no majority|none of its \d+ zones meets|its one zone does not meet|is kept, but (is not a whole number|.* has no room)|no type has room|encloses no area|floating-point numbers, which cannot be kept|whole numbers and measurements|hold cells that no type takes|no published parameters lead|crosses itself|it declares no nodata value that cells there could have|its cells are floating-point numbers, so they are measurements|has its centre in it|has their centres in it|holds no cell of the chosen classes|no rule holds|there are no transitions in it`)

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

// coding chooses one, with a crosswalk or not where one may be, and the options that say so.
func (j *job) coding(walks bool) (*coding, []string) {
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
	if j.chance(0.35) && walks {
		lines := "from,to\n1;2,1\n\"[3,8)\",2\n-5,nodata\n"
		if more := rand.New(rand.NewPCG(j.seed, 15)); more.Float64() < 0.3 {
			k.fill = 3
			lines += "nodata,3\n"
		}
		k.walk = j.text("walk.csv", lines)
		args = append(args, "--crosswalk", k.walk)
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

// kinds are the kinds of jobs, with how often they come.
var kinds = []struct {
	name   string
	weight int
	do     func(*job)
}{
	{"measure", 2, (*job).measure}, {"tiles", 1, (*job).tiles}, {"change", 1, (*job).change}, {"accounts", 1, (*job).accounts},
	{"rare", 1, (*job).measure}, {"summarise", 1, (*job).summarise}, {"composite", 1, (*job).composite}, {"align", 1, (*job).align},
	{"reclassify", 1, (*job).reclassify}, {"clip", 1, (*job).clip}, {"mosaic", 1, (*job).mosaic}, {"patches", 1, (*job).patches}, {"histories", 1, (*job).histories},
	{"ids", 1, (*job).zonesOfIDs}, {"overlay", 1, (*job).overlay}, {"rules", 1, (*job).rules}, {"expression", 1, (*job).expression},
	{"texts", 1, (*job).texts}, {"edits", 1, (*job).edits}, {"shown", 1, (*job).shown},
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
