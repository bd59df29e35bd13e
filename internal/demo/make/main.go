// Command make generates the sample world: the basin of the Orrin Firth, an invented river on an
// invented coast. Everything follows from the seed below.
//
// Towns grow along the river, farmland on the slopes goes back to woodland, a reservoir fills and a
// wetland is drained. The cover of 2004 has codes of its own, that of 2012 comes as overlapping
// tiles whose background of 0 is not declared, that of 2020 comes in metres and in degrees.
package main

import (
	"context"
	"fmt"
	"log"
	"math"
	"os"
	"path/filepath"
	"strings"

	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/raster/geotiff"
)

const (
	seed          = 20041
	width, height = 1100, 900 // cells
	cell          = 30.0      // metres
	west, north   = 344000.0, 6480000.0
	epsg          = 32633
)

// The classes of the legend.
const (
	water = iota + 1
	wetland
	woodland
	heath
	pasture
	arable
	built
)

func main() {
	if len(os.Args) != 2 {
		log.Fatal("usage: make FOLDER")
	}
	if err := generate(os.Args[1]); err != nil {
		log.Fatal(err)
	}
}

func generate(dir string) error {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	crs, err := earth.Lookup(epsg)
	if err != nil {
		return err
	}
	g := raster.Grid{Width: width, Height: height, X0: west, Y0: north, DX: cell, DY: -cell, CRS: crs}
	covers := map[int][]uint8{}
	for _, year := range []int{2004, 2012, 2020} {
		covers[year] = cover(year)
	}
	steps := []func() error{
		func() error { return oldCover(dir, g, covers[2004]) },
		func() error { return tiles(dir, g, covers[2012]) },
		func() error {
			return write(filepath.Join(dir, "cover_2020.tif"), g, raster.Uint8, ptr(0), palette, func(c, r int) float64 { return float64(covers[2020][r*width+c]) })
		},
		func() error { return inDegrees(dir, g, covers[2020]) },
		func() error {
			e := g
			e.Width, e.Height, e.DX, e.DY = width/2, height/2, 2*cell, -2*cell
			return write(filepath.Join(dir, "elevation.tif"), e, raster.Int16, ptr(-9999), nil, func(c, r int) float64 {
				return math.Round(elevation((float64(c)+0.5)*2, (float64(r)+0.5)*2))
			})
		},
		func() error { return wards(dir, crs) },
		func() error { return catchments(dir, crs) },
		func() error { return text(dir, "legend.csv", legend) },
		func() error { return text(dir, "codes_2004.csv", crosswalk) },
		func() error { return text(dir, "flows.csv", flows) },
		func() error { return text(dir, "known_totals.csv", knownTotals) },
		func() error { return text(dir, "terrain.yaml", terrain) },
		func() error { return text(dir, "terrain_legend.csv", terrainLegend) },
		func() error { return text(dir, "orrin.yaml", plan) },
		func() error { return samples(dir, g, covers[2020]) },
	}
	for _, s := range steps {
		if err := s(); err != nil {
			return err
		}
	}
	return nil
}

func ptr(v float64) *float64 { return &v }

func text(dir, name, body string) error {
	return os.WriteFile(filepath.Join(dir, name), []byte(body), 0o644)
}

const legend = `code,name,color,group,category
1,Open water,#4a7fb0,Water,wetlands
2,Wetland,#8fb8b0,Water,wetlands
3,Woodland,#3f7350,Nature,forest land
4,Heath and rough grass,#b59a6a,Nature,grassland
5,Pasture,#a9c27a,Farmland,grassland
6,Arable land,#e0c766,Farmland,cropland
7,Built-up,#9c4a4a,Settlement,settlements
`

const crosswalk = `# codes of the survey of 2004 to the classes of the account
from,to,note
10;11,1,inland water and sea
20;21,2,bog and marsh
30;31,3,conifers and broadleaved trees
40,4,heath
50;51,5,permanent and sown grass
60;61,6,crops and orchards
70;71,7,towns and quarries
`

const flows = `# what the transitions between the classes are
from,to,flow,managed,note
*,7,urban growth,yes,
2,3;5;6,drainage,yes,
5;6,3,regrowth,no,farmland that is left to woodland
4,3,regrowth,no,
*,1,flooding,yes,the reservoir
`

const knownTotals = `# what the county's registers have, in hectares; tolerance in percent
zone_id,class_code,epoch,area,unit,tolerance
W1,1,2020,415,ha,1
W3,7,2020,772,ha,1
`

const terrainLegend = `code,name,color,group
1,Steep woodland,#2f5a3e,Woodland
2,Other woodland,#6f9a72,Woodland
3,Steep open ground,#c08a52,Open ground
4,Other open ground,#dcc9a0,Open ground
`

const terrain = `# classes by the cover of 2020 and the slope in percent; the first rule that holds decides
rules:
  - class: 1
    when: now = 3 AND slope > 4
  - class: 2
    when: now = 3
  - class: nodata
    when: now IN (1, 7)
    note: water and towns are of no interest here
  - class: 3
    when: slope > 4
else: 4
`

const plan = `# The whole job on the basin of the Orrin Firth. verdex check orrin.yaml tests it, verdex run orrin.yaml does it.
plan: 1
title: Land of the Orrin basin, 2004 to 2020
contact: Orrin Survey, land@orrin.example
licence: CC-BY-4.0

legend: legend.csv
unit: ha
edges: split
flows: flows.csv

zones:
  wards: # the islands of a ward are united with it
    zones: wards.geojson
    merge: code
    keep: name
    zone-name: name
  catchments:
    zones: catchments.geojson
    zone-id: id
    zone-name: name
    within: wards.geojson
    within-id: code
    within-name: name
  north: # some of a file, by a condition
    zones: wards.geojson
    where: people > 1000
    zone-id: code
    zone-name: name

layers: # made as they are read; nothing is written
  now: cover_2020.tif
  slope: {slope: elevation.tif, in: percent}
  terrain: {rules: terrain.yaml, legend: terrain_legend.csv, grid: now}

epochs:
  2004: {cover: cover_2004.tif, crosswalk: codes_2004.csv} # codes of its own
  2012: {cover: "cover_2012_?.tif", nodata: 0} # four tiles with an undeclared background
  2020: now

checks:
  control: known_totals.csv
  bound: {pace: 4, nominal: 0.5}

book:
  book: orrin.book
  author: Orrin Survey
  note: from the plan

outputs:
  extents: # a table for each set of zones and each epoch, entered in the book
    make: measure
    zones: [wards, catchments]
    out: results/extents_{zones}_{epoch}.csv
    account: "{zones}"
  change:
    make: change
    zones: wards
    out: results/change.csv
    map: results/change.tif
  matrix:
    make: change
    zones: wards
    table: matrix
    out: results/matrix.csv
    account: change of {zones}
  account: # opening extent, additions, reductions, closing extent, as a spreadsheet
    make: account extent
    of: matrix
    out: results/account.xlsx
  flows:
    make: account flows
    of: matrix
    out: results/flows.csv
  histories: # what each piece of ground went through
    make: change
    zones: wards
    table: histories
    out: results/histories.csv
  remaining: # for the inventory of greenhouse gases
    make: account remaining
    of: histories
    out: results/remaining.csv
  series:
    make: account series
    of: extents
    zones: wards
    out: results/series.csv
  groups:
    make: account composition
    of: extents
    zones: wards
    by: group
    layout: wide
    round-to-sum: true
    out: results/groups.csv
  accuracy:
    make: account accuracy
    samples: samples_2020.csv
    epochs: 2020
    out: results/accuracy.csv
  terrain:
    make: measure
    covers: terrain
    legend: terrain_legend.csv
    zones: north
    epochs: 2020
    out: results/terrain.csv
    ignore: control # its classes are others than those of the registers
  slopes:
    make: summarise
    values: slope
    zones: wards
    out: results/slopes.csv
  map: # the wards with their areas as columns
    make: attach
    of: extents
    zones: wards
    epochs: 2020
    out: results/wards.gpkg
  cover: # figures
    make: draw map
    zones: wards
    out: results/cover_{epoch}.png
  difference:
    make: draw difference
    zones: wards
    out: results/difference.png
  trend:
    make: draw trend
    of: extents
    zones: wards
    out: results/trend.svg
  bands:
    make: draw flows
    of: matrix
    out: results/flows.pdf
  courses:
    make: draw histories
    of: histories
    out: results/histories.svg
  package: # a folder to publish
    make: book export
    package: results/package
    source: Orrin Survey
`

// samples writes what an invented survey found in 2020: points drawn within each class of the map, and the class on the ground,
// which differs now and then from the map's.
func samples(dir string, g raster.Grid, cover []uint8) error {
	wanted := map[uint8]int{water: 40, wetland: 40, woodland: 70, heath: 60, pasture: 90, arable: 60, built: 50}
	mistaken := map[uint8]uint8{water: wetland, wetland: heath, woodland: heath, heath: pasture, pasture: arable, arable: pasture, built: arable}
	b := strings.Builder{}
	b.WriteString("sample,lon,lat,reference\n")
	n := 0
	for i := 0; n < 410 && i < 1000000; i++ {
		at := int(hash(i, 1, 77) * width * height)
		class := cover[at]
		if wanted[class] == 0 {
			continue
		}
		wanted[class]--
		n++
		truth := class
		if hash(i, 2, 77) < map[uint8]float64{water: 0.02, wetland: 0.2, woodland: 0.07, heath: 0.12, pasture: 0.08, arable: 0.12, built: 0.1}[class] {
			truth = mistaken[class]
		}
		x, y := g.Point(float64(at%width)+0.5, float64(at/width)+0.5)
		lon, lat, ok := g.CRS.ToGeographic(x, y)
		if !ok {
			return fmt.Errorf("sample %d lies nowhere", n)
		}
		fmt.Fprintf(&b, "%d,%.6f,%.6f,%d\n", n, lon*180/math.Pi, lat*180/math.Pi, truth)
	}
	return text(dir, "samples_2020.csv", b.String())
}

var palette = []raster.Color{{}, {R: 0x4a, G: 0x7f, B: 0xb0}, {R: 0x8f, G: 0xb8, B: 0xb0}, {R: 0x3f, G: 0x73, B: 0x50},
	{R: 0xb5, G: 0x9a, B: 0x6a}, {R: 0xa9, G: 0xc2, B: 0x7a}, {R: 0xe0, G: 0xc7, B: 0x66}, {R: 0x9c, G: 0x4a, B: 0x4a}}

// hash is a number from 0 to 1 for a lattice point.
func hash(i, j, salt int) float64 {
	h := uint64(i)*0x9e3779b97f4a7c15 ^ uint64(j)*0xc2b2ae3d27d4eb4f ^ uint64(salt+seed)*0x165667b19e3779f9
	h ^= h >> 31
	h *= 0xbf58476d1ce4e5b9
	h ^= h >> 29
	h *= 0x94d049bb133111eb
	h ^= h >> 32
	return float64(h>>11) / (1 << 53)
}

// noise is smooth between the points of a lattice of the given step, from 0 to 1.
func noise(x, y, step float64, salt int) float64 {
	x, y = x/step, y/step
	i, j := math.Floor(x), math.Floor(y)
	u, v := x-i, y-j
	u, v = u*u*(3-2*u), v*v*(3-2*v)
	at := func(a, b float64) float64 { return hash(int(i+a), int(j+b), salt) }
	return (at(0, 0)*(1-u)+at(1, 0)*u)*(1-v) + (at(0, 1)*(1-u)+at(1, 1)*u)*v
}

// river is the row of the Orrin at a column.
func river(c float64) float64 {
	return 470 + 90*math.Sin(c/170) + 40*math.Sin(c/67+1) + 30*(noise(c, 0, 60, 1)-0.5)
}

// elevation in metres at a point in cells; the sea is at most 0.
func elevation(c, r float64) float64 {
	coast := 190 + 90*(noise(0, r, 120, 2)-0.5) + 40*(noise(0, r, 35, 3)-0.5)
	firth := 150 * math.Exp(-math.Pow((r-river(c))/70, 2))
	inland := c - coast - firth
	if islet := island(c, r); islet > 0 {
		return 18 * islet
	}
	if inland < 0 {
		return math.Max(-20, inland/6)
	}
	valley := math.Abs(r - river(c))
	hills := 0.16*inland + 90*(1-math.Exp(-valley/120))*math.Min(1, inland/150)
	return math.Max(0.5, hills*(0.55+0.9*noise(c, r, 140, 4))+26*noise(c, r, 42, 5)*math.Min(1, inland/60)+6*noise(c, r, 14, 6))
}

// The Skarrs: centre column and row, and radii in cells.
var islands = [][4]float64{{62, 180, 26, 17}, {104, 252, 17, 24}, {48, 318, 14, 11}, {96, 372, 11, 15}}

// island is how far inside an island a point lies, from 1 in the middle to 0 and below.
func island(c, r float64) float64 {
	best := -1.0
	for k, i := range islands {
		d := math.Hypot((c-i[0])/i[2], (r-i[1])/i[3])
		best = math.Max(best, 1-d+0.35*(noise(c, r, 9, 40+k)-0.5))
	}
	return best
}

// Towns: column, radius in cells in 2004, growth to 2020. They lie on the river.
var towns = [][3]float64{{330, 30, 1.55}, {560, 17, 1.5}, {790, 12, 1.7}, {960, 7, 1.3}}

// cover makes the classes of a year.
func cover(year int) []uint8 {
	t := float64(year-2004) / 16
	out := make([]uint8, width*height)
	for r := range height {
		for c := range width {
			out[r*width+c] = uint8(class(float64(c)+0.5, float64(r)+0.5, t))
		}
	}
	return out
}

// class at a point in cells; t runs from 0 in 2004 to 1 in 2020.
func class(c, r, t float64) int {
	if r+14*noise(c, 7, 80, 60) < 22 || c > 1085-12*noise(3, r, 90, 61) { // beyond the survey
		return 0
	}
	h := elevation(c, r)
	if h <= 0 {
		return water
	}
	rough, fine := noise(c, r, 30, 10), noise(c, r, 8, 11)
	patch := 0.65*rough + 0.35*fine
	bank := math.Abs(r - river(c))
	if bank < 2.2-c/900+1.2*fine {
		return water
	}
	// The reservoir of Varra fills behind its dam between 2004 and 2012.
	if t > 0.3 && math.Hypot((c-880)/58, (r-river(880)+92)/30)+0.3*(rough-0.5) < 0.9 {
		return water
	}
	for _, w := range towns {
		radius := w[1] * (1 + (w[2]-1)*t)
		d := math.Hypot((c-w[0])/1.5, r-river(w[0]))
		if d < radius*(0.55+0.9*patch) {
			return built
		}
	}
	slope := math.Hypot(elevation(c+1.5, r)-elevation(c-1.5, r), elevation(c, r+1.5)-elevation(c, r-1.5)) / 3
	// Hesper Fen is drained between 2012 and 2020.
	fen := math.Hypot((c-470)/64, (r-river(470)-74)/30) + 0.5*(rough-0.5)
	switch {
	case fen < 0.85 && t < 0.75:
		return wetland
	case fen < 0.85 && patch > 0.7:
		return wetland
	case fen < 0.85:
		return arable
	case bank < 16*(patch-0.35) && c > 330:
		return wetland
	case h > 150+60*rough && patch > 0.42:
		return heath
	case slope > 1.55-0.3*t+0.9*(fine-0.5): // steep land goes back to woodland year by year
		return woodland
	case patch > 0.66-0.03*t:
		return woodland
	case h < 105 && slope < 1.25 && patch < 0.53:
		return arable
	case island(c, r) > 0 && patch < 0.5:
		return heath
	}
	return pasture
}

// write makes a GeoTIFF.
func write(path string, g raster.Grid, t raster.CellType, nodata *float64, colors []raster.Color, value func(c, r int) float64) error {
	f, err := os.Create(path)
	if err != nil {
		return err
	}
	defer f.Close()
	src := raster.NewFunc(raster.Header{Grid: g, Type: t, NoData: nodata, Palette: colors}, value)
	if err := geotiff.Write(context.Background(), f, src, geotiff.Options{TileSize: 256, Values: t == raster.Int16}); err != nil {
		return err
	}
	return f.Close()
}

// oldCover writes 2004 in the codes of its survey, which distinguishes more kinds of land.
func oldCover(dir string, g raster.Grid, cover []uint8) error {
	return write(filepath.Join(dir, "cover_2004.tif"), g, raster.Uint8, ptr(255), nil, func(c, r int) float64 {
		x, y := float64(c), float64(r)
		second := noise(x, y, 22, 70) > 0.6
		pick := func(a, b float64) float64 {
			if second {
				return b
			}
			return a
		}
		switch cover[r*width+c] {
		case water:
			if elevation(x+0.5, y+0.5) <= 0 {
				return 11
			}
			return 10
		case wetland:
			return pick(21, 20)
		case woodland:
			return pick(31, 30)
		case heath:
			return 40
		case pasture:
			return pick(50, 51)
		case arable:
			return pick(60, 61)
		case built:
			if noise(x, y, 9, 71) > 0.9 {
				return 71
			}
			return 70
		}
		return 255
	})
}

// tiles writes 2012 as four tiles that overlap by 40 cells and fill their corners with 0.
func tiles(dir string, g raster.Grid, cover []uint8) error {
	for k, box := range [][4]int{{0, 0, 590, 470}, {550, 0, 1100, 470}, {0, 430, 590, 900}, {550, 430, 1100, 900}} {
		t := g
		t.Width, t.Height = box[2]-box[0], box[3]-box[1]
		t.X0, t.Y0 = g.Point(float64(box[0]), float64(box[1]))
		err := write(filepath.Join(dir, fmt.Sprintf("cover_2012_%c.tif", 'a'+k)), t, raster.Uint8, nil, palette, func(c, r int) float64 {
			// The tiles lean: a wedge along their outer sides holds no data.
			if k%2 == 0 && c < (t.Height-r)/40 || k%2 == 1 && t.Width-c < r/40 {
				return 0
			}
			return float64(cover[(r+box[1])*width+c+box[0]])
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// inDegrees writes 2020 on a grid of longitude and latitude.
func inDegrees(dir string, g raster.Grid, cover []uint8) error {
	w, s, e, n, _ := g.GeographicBounds()
	crs, err := earth.Lookup(4326)
	if err != nil {
		return err
	}
	const dx, dy = 0.00051, 0.00027 // about 30 m each way at 58°
	d := raster.Grid{X0: math.Floor(w*1000) / 1000, Y0: math.Ceil(n*1000) / 1000, DX: dx, DY: -dy, CRS: crs}
	d.Width, d.Height = int((e-d.X0)/dx)+1, int((d.Y0-s)/dy)+1
	return write(filepath.Join(dir, "cover_2020_degrees.tif"), d, raster.Uint8, ptr(0), palette, func(c, r int) float64 {
		lon, lat := d.Point(float64(c)+0.5, float64(r)+0.5)
		x, y, ok := g.CRS.FromGeographic(lon*math.Pi/180, lat*math.Pi/180)
		col, row := g.Cell(x, y)
		if !ok || col < 0 || row < 0 || col >= width || row >= height {
			return 0
		}
		return float64(cover[int(row)*width+int(col)])
	})
}

// point is a place in cells.
type point [2]float64

// border runs from p to q in the bends of a natural border; straight ones only turn at their ends.
func border(p, q point, salt int, bend float64) []point {
	out := []point{p}
	n := int(math.Hypot(q[0]-p[0], q[1]-p[1])/12) + 1
	for k := 1; k < n; k++ {
		t := float64(k) / float64(n)
		m := point{p[0] + t*(q[0]-p[0]), p[1] + t*(q[1]-p[1])}
		fade := math.Min(1, 4*math.Min(t, 1-t)) * bend
		m[0] += fade * (noise(m[0], m[1], 60, salt) - 0.5 + 0.4*(noise(m[0], m[1], 18, salt+1)-0.5))
		m[1] += fade * (noise(m[0], m[1], 60, salt+2) - 0.5 + 0.4*(noise(m[0], m[1], 18, salt+3)-0.5))
		out = append(out, m)
	}
	return out
}

// mesh is a grid of nodes whose cells share their bent borders point for point.
type mesh struct {
	node [][]point // by row, column
	salt int
	bend float64
}

// ring goes round the cell in row j and column i.
func (m mesh) ring(j, i int) []point {
	a, b, c, d := m.node[j][i], m.node[j][i+1], m.node[j+1][i+1], m.node[j+1][i]
	var out []point
	side := func(p, q point, forward bool) {
		from, to := p, q
		if !forward { // every border is made in one direction only
			from, to = q, p
		}
		line := append(border(from, to, m.salt, m.bend), to)
		if !forward {
			for x, y := 0, len(line)-1; x < y; x, y = x+1, y-1 {
				line[x], line[y] = line[y], line[x]
			}
		}
		out = append(out, line[:len(line)-1]...)
	}
	side(a, b, true)
	side(b, c, true)
	side(c, d, false)
	side(d, a, false)
	return out
}

// feature is a GeoJSON feature of one ring.
func feature(crs *earth.CRS, properties string, ring []point) string {
	var pts []string
	for _, p := range append(ring, ring[0]) {
		lon, lat, _ := crs.ToGeographic(west+p[0]*cell, north-p[1]*cell)
		pts = append(pts, fmt.Sprintf("[%.7f,%.7f]", lon*180/math.Pi, lat*180/math.Pi))
	}
	return fmt.Sprintf(`{"type":"Feature","properties":{%s},"geometry":{"type":"Polygon","coordinates":[[%s]]}}`, properties, strings.Join(pts, ","))
}

func collection(dir, name string, features []string) error {
	return text(dir, name, "{\"type\":\"FeatureCollection\",\"features\":[\n"+strings.Join(features, ",\n")+"\n]}\n")
}

func wards(dir string, crs *earth.CRS) error {
	m := mesh{salt: 80, bend: 34, node: [][]point{
		{{215, 45}, {620, 60}, {1050, 50}},
		{{150, 430}, {600, 455}, {1060, 500}},
		{{235, 860}, {650, 845}, {1045, 865}},
	}}
	names := []string{"Tarn Heights", "Varra", "Marlfen", "Hesper Down"}
	var out []string
	for k, n := range names {
		out = append(out, feature(crs, fmt.Sprintf(`"code":"W%d","name":%q,"people":%d`, k+1, n, 1800+2310*k), m.ring(k/2, k%2)))
	}
	for k, i := range islands {
		var ring []point
		for s := range 40 {
			sin, cos := math.Sincos(2 * math.Pi * float64(s) / 40)
			grow := 1.25 + 0.1*math.Sin(float64(3*s+k))
			ring = append(ring, point{i[0] + i[2]*grow*cos, i[1] - i[3]*grow*sin})
		}
		out = append(out, feature(crs, `"code":"W5","name":"The Skarrs","people":140`, ring))
	}
	return collection(dir, "wards.geojson", out)
}

func catchments(dir string, crs *earth.CRS) error {
	m := mesh{salt: 90, bend: 42, node: [][]point{
		{{240, 60}, {480, 40}, {770, 55}, {1040, 70}},
		{{230, 330}, {500, 290}, {760, 320}, {1070, 300}},
		{{210, 600}, {520, 620}, {740, 590}, {1050, 640}},
		{{260, 850}, {470, 870}, {790, 845}, {1030, 860}},
	}}
	names := []string{"Tolm Burn", "Glen Eskel", "Upper Varra", "Orrin Mouth", "Middle Orrin", "Upper Orrin", "Fennow Brook", "Harl Water", "Long Sike"}
	var out []string
	for k, n := range names {
		out = append(out, feature(crs, fmt.Sprintf(`"id":%d,"name":%q`, k+1, n), m.ring(k/3, k%3)))
	}
	return collection(dir, "catchments.geojson", out)
}
