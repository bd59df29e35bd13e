package reference

import (
	"fmt"
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/peterstace/simplefeatures/geom"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/vector"
	"github.com/verdex-land/verdex/core/vector/open"
)

// line is a line of a crosswalk: which values it is for, and what they become, a code, nodata or keep.
type line struct {
	from, to string
	covers   func(float64) bool
}

// crosswalk is one of single codes and lists, or of intervals, that do not overlap.
func (j *job) crosswalk() (lines []line, nodata, others string) {
	target := func() string { return []string{"1", "2", "3", "4", "nodata", "keep"}[j.rng.IntN(6)] }
	if j.chance(0.5) {
		values := []float64{1, 2, 3, 4, 7, 0, -5, 1234567, 2.5}
		j.rng.Shuffle(len(values), func(a, b int) { values[a], values[b] = values[b], values[a] })
		for len(values) > 0 {
			n := 1 + j.rng.IntN(min(3, len(values)))
			own := values[:n]
			values = values[n:]
			if j.chance(0.1) {
				continue
			}
			var texts []string
			for _, v := range own {
				texts = append(texts, code(v))
			}
			lines = append(lines, line{strings.Join(texts, ";"), target(), func(v float64) bool { return slices.Contains(own, v) }})
		}
	} else {
		cuts := []float64{math.Inf(-1), -5, 1, 2.5, 3, 7, 1e6, math.Inf(1)}
		below := make([]bool, len(cuts)) // a cut belongs to what is below it
		for i := range below {
			below[i] = i == 0 || i < len(cuts)-1 && j.chance(0.5)
		}
		for i := 0; i < len(cuts)-1; {
			k := i + 1 + j.rng.IntN(min(3, len(cuts)-1-i))
			lo, hi, open, closed := cuts[i], cuts[k], below[i], below[k]
			from := map[bool]string{true: "(", false: "["}[open] + code(lo) + "," + code(hi) + map[bool]string{true: "]", false: ")"}[closed]
			from = strings.NewReplacer("+Inf", "inf", "-Inf", "-inf").Replace(from)
			if i = k; j.chance(0.1) {
				continue
			}
			lines = append(lines, line{`"` + from + `"`, target(), func(v float64) bool {
				return (v > lo || v == lo && !open) && (v < hi || v == hi && closed)
			}})
		}
	}
	if j.chance(0.3) {
		nodata = []string{"1", "4", "nodata"}[j.rng.IntN(3)]
	}
	if j.chance(0.5) {
		others = target()
	}
	return lines, nodata, others
}

// reclassify compares a raster whose values were put into classes, and the table of what became of what, cell by cell.
func (j *job) reclassify() {
	m := j.cover(j.grid())
	m.write(j.t, j.path("cover.tif"))
	lines, nodata, others := j.crosswalk()
	text := "from,to\n"
	for _, l := range lines {
		text += l.from + "," + l.to + "\n"
	}
	if nodata != "" {
		text += "nodata," + nodata + "\n"
	}
	if others != "" {
		text += "else," + others + "\n"
	}
	counts := make([]float64, len(lines)+4) // by line of the file, the header being the first
	want := make([][]cell, m.grid.Height)
	fails := m.typ.Floating() && (others == "keep" || slices.ContainsFunc(lines, func(l line) bool { return l.to == "keep" }))
	become := func(v float64, to string, at int) cell {
		counts[at]++
		switch to {
		case "nodata":
			return cell{missing: true}
		case "keep":
			return cell{v: v}
		}
		return cell{v: number(j.t, to)}
	}
	for r := range m.grid.Height {
		for c := range m.grid.Width {
			v := m.at(c, r)
			i := slices.IndexFunc(lines, func(l line) bool { return l.covers(v.v) })
			if v.missing && (m.nodata == nil || strings.Contains(lines[0].from, ",")) {
				i = -1
			} else if v.missing { // a line may list the value that means no data
				i = slices.IndexFunc(lines, func(l line) bool { return l.covers(*m.nodata) })
			}
			n := len(lines) + 2
			switch {
			case v.missing && nodata != "":
				want[r] = append(want[r], become(0, nodata, n))
			case v.missing && i >= 0 && lines[i].to != "keep":
				want[r] = append(want[r], become(0, lines[i].to, i+2))
			case v.missing && i >= 0:
				want[r] = append(want[r], become(0, "nodata", i+2))
			case v.missing:
				want[r] = append(want[r], become(0, "nodata", 0))
			case i >= 0:
				want[r] = append(want[r], become(v.v, lines[i].to, i+2))
			case others != "":
				if nodata != "" {
					n++
				}
				want[r] = append(want[r], become(v.v, others, n))
			default:
				fails = true
				want[r] = append(want[r], cell{})
			}
		}
	}
	args := []string{"reclassify", j.path("cover.tif"), "--crosswalk", j.text("walk.csv", text)}
	checked, ok := j.verdex(append(args, "--check")...)
	require.Equal(j.t, !fails, ok, "%s %d: %v", j.kind, j.seed, j.what)
	written, ok := j.verdex(append(args, "--out", j.path("out.tif"))...)
	require.Equal(j.t, !fails, ok, "%s %d: %v", j.kind, j.seed, j.what)
	if !ok {
		return
	}
	require.Equal(j.t, checked, written, "%s %d: what is counted while it is written, in %v", j.kind, j.seed, j.what)
	got := make([]float64, len(counts))
	for _, row := range tableLine.FindAllStringSubmatch(written, -1) {
		n := 0
		if row[1] != "" {
			n = int(number(j.t, row[1]))
		}
		got[n] += number(j.t, strings.ReplaceAll(row[2], ",", ""))
	}
	require.Equal(j.t, counts, got, "%s %d: cells by line in %v:\n%s", j.kind, j.seed, j.what, written)
	j.compareCells(want, j.read("out.tif", m.grid))
}

// tableLine is a line of the table that reclassify prints: the line of the crosswalk, and cells.
var tableLine = regexp.MustCompile(`(?m)^ +(\d+)? +\S+.*?  +([\d,]+) +[\d,.]+ +[\d.]+(?:  stays)? *$`)

func (j *job) compareCells(want, got [][]cell) {
	require.Len(j.t, got, len(want), "%s %d: %v", j.kind, j.seed, j.what)
	for r := range want {
		for c, w := range want[r] {
			require.Equal(j.t, w.missing, got[r][c].missing, "%s %d: %d, %d of %v", j.kind, j.seed, c, r, j.what)
			if !w.missing {
				require.InDelta(j.t, w.v, got[r][c].v, 1e-7*math.Abs(w.v), "%s %d: %d, %d of %v", j.kind, j.seed, c, r, j.what) // in single precision
			}
		}
	}
}

// zonesOfIDs compares extents in the zones of a raster of ids on the cells of the cover, of which it covers a part or more.
func (j *job) zonesOfIDs() {
	g := j.grid()
	m := j.cover(g)
	m.write(j.t, j.path("cover.tif"))
	at := g
	left, top := j.rng.IntN(3)-1, j.rng.IntN(3)-1
	at.X0, at.Y0 = g.Point(float64(left), float64(top))
	if at.CRS.Geographic() && (at.Y0 > 90 || at.Y0+float64(at.Height)*at.DY < -90) {
		return
	}
	ids := &image{grid: at, typ: raster.Int16}
	none := 0.0
	ids.nodata = &none
	ids.fill(j, []float64{0, 1, 1, 2, 300, -7})
	ids.write(j.t, j.path("ids.tif"))
	byID := map[string]*zone{}
	var list []*zone
	for r := range at.Height {
		for c := range at.Width {
			v := ids.at(c, r)
			if v.missing {
				continue
			}
			z := byID[code(v.v)]
			if z == nil {
				z = &zone{id: code(v.v), straight: true, area2: make([][]float64, g.Height)}
				for k := range z.area2 {
					z.area2[k] = make([]float64, g.Width)
				}
				byID[z.id], list = z, append(list, z)
			}
			x0, y0 := at.Point(float64(c), float64(r))
			x1, y1 := at.Point(float64(c+1), float64(r+1))
			m2 := area(j.t, g.CRS, outline{{{x0, y1}, {x1, y1}, {x1, y0}, {x0, y0}}})
			z.area += m2
			if row, col := r+top, c+left; row >= 0 && row < g.Height && col >= 0 && col < g.Width {
				z.area2[row][col] = m2
				z.sum += m2
			}
		}
	}
	if len(list) == 0 {
		return
	}
	k, more := j.coding(true)
	k.single = m.typ == raster.Float32
	j.compareExtents(m, list, k, false, append([]string{"measure", j.path("cover.tif"), "--zones", j.path("ids.tif"), "--format", "csv", "--unit", "m2"}, more...))
}

// clip compares a raster that was cut to zones: the cells whose centres lie in one stay.
func (j *job) clip() {
	g := j.grid()
	m := j.cover(g)
	if m.nodata == nil { // the cells outside become it
		n := 99.0
		m.nodata = &n
	}
	m.write(j.t, j.path("cover.tif"))
	list, path, _, ok := j.zones(g)
	if !ok || !j.prepare(list, g, true) {
		return
	}
	args := []string{"clip", j.path("cover.tif"), "--to", path, "--out", j.path("out.tif")}
	shrunk := j.chance(0.5)
	if shrunk {
		args = append(args, "--shrink")
	}
	left, right, top, bottom := g.Width, -1, g.Height, -1
	want := make([][]cell, g.Height)
	for r := range g.Height {
		for c := range g.Width {
			v := cell{missing: true}
			if slices.ContainsFunc(list, func(z *zone) bool { return z.area2[r][c] > 0 }) {
				v = m.at(c, r)
				left, right, top, bottom = min(left, c), max(right, c), min(top, r), max(bottom, r)
			}
			want[r] = append(want[r], v)
		}
	}
	_, ok = j.verdex(args...)
	if !ok {
		return
	}
	require.GreaterOrEqual(j.t, right, 0, "%s %d: no cell is in a zone in %v", j.kind, j.seed, j.what)
	if shrunk {
		part := g
		part.X0, part.Y0 = g.Point(float64(left), float64(top))
		part.Width, part.Height = right+1-left, bottom+1-top
		want = want[top : bottom+1]
		for r := range want {
			want[r] = want[r][left : right+1]
		}
		g = part
	}
	j.compareCells(want, j.read("out.tif", g))
}

// mosaic compares one raster of several that overlap.
func (j *job) mosaic() {
	g := j.grid()
	if g.Width < 3 {
		return
	}
	integers := j.chance(0.6)
	overlaps := []string{"last", "first", "majority"}
	if !integers {
		overlaps = []string{"last", "first", "mean", "min", "max"}
	}
	overlap := overlaps[j.rng.IntN(len(overlaps))]
	args := []string{"mosaic", "--overlap", overlap, "--out", j.path("out.tif")}
	stacks := make([][][]float64, g.Height) // what the rasters hold in each cell, in their order
	for r := range stacks {
		stacks[r] = make([][]float64, g.Width)
	}
	for i := range 2 + j.rng.IntN(3) {
		m, name, from, top := j.tile(g, i, integers)
		args = append(args, name)
		for r := range m.grid.Height {
			for c := range m.grid.Width {
				if v := m.at(c, r); !v.missing {
					stacks[top+r][from+c] = append(stacks[top+r][from+c], v.v)
				}
			}
		}
	}
	if !integers {
		args = append(args, "--measurements")
	}
	if _, ok := j.verdex(args...); !ok {
		return
	}
	want := make([][]cell, g.Height)
	for r := range want {
		for _, stack := range stacks[r] {
			v := cell{missing: len(stack) == 0}
			switch {
			case v.missing:
			case overlap == "first":
				v.v = stack[0]
			case overlap == "last":
				v.v = stack[len(stack)-1]
			default:
				v.v = plainStatistic(overlap, stack)
			}
			want[r] = append(want[r], v)
		}
	}
	j.compareCells(want, j.read("out.tif", g))
}

// patches compares the connected pieces of classes: which cell is the first, how many there are, their ground, and that within the outline.
func (j *job) patches() {
	g := j.grid()
	m := j.cover(g)
	for m.typ.Floating() {
		m = j.cover(g)
	}
	m.write(j.t, j.path("cover.tif"))
	neighbours := 4 * (1 + j.rng.IntN(2))
	out := j.path("pieces.gpkg")
	args := []string{"patches", j.path("cover.tif"), "--neighbours", strconv.Itoa(neighbours), "--unit", "m2", "--out", out}
	type piece struct{ class, cells, area float64 }
	want := map[float64]piece{}
	seen := make([]bool, g.Width*g.Height)
	for start := range seen {
		v := m.at(start%g.Width, start/g.Width)
		if seen[start] || v.missing {
			continue
		}
		p := piece{class: v.v}
		seen[start] = true
		for list := []int{start}; len(list) > 0; {
			at := list[0]
			list = list[1:]
			p.cells++
			x0, y0 := g.Point(float64(at%g.Width), float64(at/g.Width))
			x1, y1 := g.Point(float64(at%g.Width+1), float64(at/g.Width+1))
			p.area += area(j.t, g.CRS, outline{{{x0, y1}, {x1, y1}, {x1, y0}, {x0, y0}}})
			for dr := -1; dr <= 1; dr++ {
				for dc := -1; dc <= 1; dc++ {
					c, r := at%g.Width+dc, at/g.Width+dr
					if c < 0 || r < 0 || c >= g.Width || r >= g.Height || neighbours == 4 && dr != 0 && dc != 0 {
						continue
					}
					if n := r*g.Width + c; !seen[n] && m.at(c, r) == v {
						seen[n] = true
						list = append(list, n)
					}
				}
			}
		}
		want[float64(start+1)] = p
	}
	if _, ok := j.verdex(args...); !ok {
		require.Empty(j.t, want, "%s %d: %v", j.kind, j.seed, j.what)
		return
	}
	layer, err := open.Read(files.Disk, out, "")
	require.NoError(j.t, err)
	require.Len(j.t, layer.Features, len(want), "%s %d: %v", j.kind, j.seed, j.what)
	for _, f := range layer.Features {
		field := func(name string) float64 {
			return number(j.t, fmt.Sprint(f.Values[layer.Field(name)]))
		}
		p, ok := want[field("patch_id")]
		require.True(j.t, ok, "%s %d: a piece that begins at %v in %v", j.kind, j.seed, field("patch_id"), j.what)
		require.Equal(j.t, p.class, field("class_code"), "%s %d: %v", j.kind, j.seed, j.what)
		require.Equal(j.t, p.cells, field("cells"), "%s %d: %v", j.kind, j.seed, j.what)
		require.InDelta(j.t, p.area, field("area"), 1e-9*p.area, "%s %d: %v", j.kind, j.seed, j.what)
		within, ok := vector.Area(layer.CRS, &f.Geometry)
		require.True(j.t, ok)
		require.InDelta(j.t, p.area, within, 1e-9*p.area, "%s %d: the outline of piece %v in %v", j.kind, j.seed, field("patch_id"), j.what)
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
	var want [][]cell
	for r := range g.Height {
		want = append(want, nil)
		for c := range g.Width {
			var values []float64
			for _, m := range stack {
				if v := m.at(c, r); !v.missing {
					values = append(values, v.v)
				}
			}
			v := cell{missing: len(values) == 0}
			if !v.missing {
				v.v = plainStatistic(of, values)
			}
			if of == "count" {
				v = cell{v: float64(len(values))}
			}
			want[r] = append(want[r], v)
		}
	}
	j.compareCells(want, j.read("out.tif", g))
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
