package reference

import (
	"fmt"
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/files"
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
				require.Equal(j.t, w.v, got[r][c].v, "%s %d: %d, %d of %v", j.kind, j.seed, c, r, j.what)
			}
		}
	}
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
	overlap := []string{"last", "first", "majority"}[j.rng.IntN(3)]
	args := []string{"mosaic", "--overlap", overlap, "--out", j.path("out.tif")}
	stacks := make([][][]float64, g.Height) // what the rasters hold in each cell, in their order
	for r := range stacks {
		stacks[r] = make([][]float64, g.Width)
	}
	integers := j.chance(0.8)
	for i := range 2 + j.rng.IntN(3) {
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
		if m.nodata == nil {
			n := 99.0
			m.nodata = &n
		}
		name := j.path(fmt.Sprintf("tile%d.tif", i))
		m.write(j.t, name)
		args = append(args, name)
		for r := range height {
			for c := range width {
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
				v.v = plainStatistic("majority", stack)
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
