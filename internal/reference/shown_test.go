package reference

import (
	"encoding/csv"
	"fmt"
	"html"
	"math"
	"os"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"
)

// shownWorld is a small job of two epochs, and what tables of it hold.
type shownWorld struct {
	*job
	zones, classes []string // ids, and names of the classes with the codes 1, 2, …
	colors         []string
	unit           string
	extents        [2]map[[2]string]float64 // by epoch: area by zone and class, and of a zone without "" for the zone itself
	moves          map[[3]string]float64    // by zone, class before and after, "" where it is not mapped
}

func (w *shownWorld) near(want, got, within float64, what string, args ...any) {
	require.LessOrEqual(w.t, math.Abs(want-got), within, "%s %d: %s: %g, not %g (%v)", w.kind, w.seed, fmt.Sprintf(what, args...), got, want, w.what)
}

// shown compares what workbooks, books, explanations, figures and reports show with the tables of the same job.
func (j *job) shown() {
	w := &shownWorld{job: j, unit: []string{"ha", "km2"}[j.rng.IntN(2)], moves: map[[3]string]float64{}}
	w.make()
	for e, epoch := range []string{"2000", "2010"} {
		w.extents[e] = map[[2]string]float64{}
		for _, r := range w.rows("m_" + epoch + ".csv") {
			class := r["class_code"]
			if r["kind"] == "class" {
				w.extents[e][[2]string{r["zone_id"], class}] = number(j.t, r["area"])
			}
			w.extents[e][[2]string{r["zone_id"], ""}] += number(j.t, r["area"])
		}
	}
	for _, r := range w.rows("c.csv") {
		w.moves[[3]string{r["zone_id"], r["from_code"], r["to_code"]}] = number(j.t, r["area"])
	}
	w.workbook()
	w.book()
	w.explanation()
	w.bars()
	w.shade()
	w.flows()
	w.report()
}

func (w *shownWorld) must(args ...string) string {
	out, ok := w.verdex(args...)
	require.True(w.t, ok, "%s %d: %v", w.kind, w.seed, w.what)
	return out
}

// make writes the world and runs its plan.
func (w *shownWorld) make() {
	side := 4 + w.rng.IntN(6)
	names := []string{"Wood", "Bog & fen", `Field, "old"`, "<b>Town</b>", "Ж", "=1+1"}
	colors := []string{"#0A8020", "#2060C0", "#E0C040", "#C03028", "#8040A0", "#40B0B0"}
	n := 2 + w.rng.IntN(5)
	legend := [][]string{{"code", "name", "color"}}
	for i := range n {
		w.classes, w.colors = append(w.classes, names[i]), append(w.colors, colors[i])
		legend = append(legend, []string{fmt.Sprint(i + 1), names[i], colors[i]})
	}
	w.table("legend.csv", legend)
	for _, name := range []string{"a", "b"} {
		text := fmt.Sprintf("ncols %d\nnrows %d\nxllcorner 500000\nyllcorner 6000000\ncellsize 1000\nNODATA_value 0\n", side, side)
		for range side * side {
			text += fmt.Sprint(w.rng.IntN(n+1), " ")
		}
		w.text(name+".asc", text)
		w.text(name+".prj", "EPSG:32633")
	}
	zones := [][]string{{"id", "wkt"}}
	for i := range 1 + w.rng.IntN(4) {
		x, y := 500000+1000*w.rng.Float64(), 6000000+1000*w.rng.Float64()*float64(side-2)
		x1, y1 := x+1000+1000*w.rng.Float64()*float64(side-3), y+900
		id := fmt.Sprintf("z%d", i)
		w.zones = append(w.zones, id)
		zones = append(zones, []string{id, fmt.Sprintf("SRID=32633;POLYGON((%[1]f %[2]f,%[3]f %[2]f,%[3]f %[4]f,%[1]f %[4]f,%[1]f %[2]f))", x, y, x1, y1)})
	}
	w.table("zones.csv", zones)
	w.text("plan.yaml", fmt.Sprintf("plan: 1\ntitle: Shown\nlegend: legend.csv\nunit: %s\nzones:\n  z: {zones: zones.csv, zone-id: id}\nepochs:\n  2000: a.asc\n  2010: b.asc\noutputs:\n  m: {make: measure, zones: z, out: \"m_{epoch}.csv\"}\n  c: {make: change, zones: z, table: matrix, out: c.csv}\n", w.unit))
	w.must("run", w.path("plan.yaml"))
}

// rows are those of a table.
func (w *shownWorld) rows(name string) []map[string]string {
	f, err := os.Open(w.path(name))
	require.NoError(w.t, err)
	defer f.Close()
	all, err := csv.NewReader(f).ReadAll()
	require.NoError(w.t, err)
	return byColumn(all)
}

// workbook reads the extents of an epoch from a spreadsheet.
func (w *shownWorld) workbook() {
	w.must("measure", w.path("a.asc"), "--zones", w.path("zones.csv"), "--zone-id", "id", "--legend", w.path("legend.csv"), "--unit", w.unit, "--epoch", "2000", "--out", w.path("m.xlsx"))
	f, err := excelize.OpenFile(w.path("m.xlsx"))
	require.NoError(w.t, err)
	defer f.Close()
	seen := 0
	for _, sheet := range f.GetSheetList() {
		all, err := f.GetRows(sheet, excelize.Options{RawCellValue: true})
		require.NoError(w.t, err)
		head := slices.IndexFunc(all, func(r []string) bool { return slices.Contains(r, "zone_id") && slices.Contains(r, "area") })
		if head < 0 {
			continue
		}
		for _, row := range byColumn(all[head:]) {
			if row["kind"] == "class" {
				want, ok := w.extents[0][[2]string{row["zone_id"], row["class_code"]}]
				require.True(w.t, ok, "%v", row)
				w.near(want, number(w.t, row["area"]), 1e-9*want, "%s of %s in a workbook", row["class_code"], row["zone_id"])
				seen++
			}
		}
	}
	require.Equal(w.t, len(w.zones)*len(w.classes), seen, "%s %d", w.kind, w.seed)
}

// book posts an epoch and asks for it.
func (w *shownWorld) book() {
	book := w.path("b.book")
	w.must("book", "create", book)
	w.must("measure", w.path("a.asc"), "--zones", w.path("zones.csv"), "--zone-id", "id", "--legend", w.path("legend.csv"), "--unit", w.unit, "--epoch", "2000", "--out", w.path("posted.csv"), "--post", book, "--account", "x")
	w.must("book", "verify", book)
	w.must("book", "show", book, "x", "--unit", w.unit, "--out", w.path("shown.csv"))
	seen := 0
	for _, r := range w.rows("shown.csv") {
		if r["kind"] == "class" {
			want := w.extents[0][[2]string{r["zone_id"], r["class_code"]}]
			w.near(want, number(w.t, r["area"]), 1e-9*want, "%s of %s in a book", r["class_code"], r["zone_id"])
			seen++
		}
	}
	require.Equal(w.t, len(w.zones)*len(w.classes), seen, "%s %d", w.kind, w.seed)
}

var amount = regexp.MustCompile(`[−-]?[\d,]*\.?\d+`)

// amounts are the numbers in a text for people.
func (w *shownWorld) amounts(text string) (out []float64) {
	for _, n := range amount.FindAllString(text, -1) {
		v, err := strconv.ParseFloat(strings.NewReplacer(",", "", "−", "-").Replace(n), 64)
		require.NoError(w.t, err, text)
		out = append(out, v)
	}
	return out
}

// explanation explains an extent, in which the area, its parts by source value and its other epoch stand.
func (w *shownWorld) explanation() {
	zone, class := w.zones[w.rng.IntN(len(w.zones))], w.rng.IntN(len(w.classes))
	code := fmt.Sprint(class + 1)
	out := w.must("explain", w.path("m_2010.csv"), "--zone", zone, "--class", code)
	area, before, whole := w.extents[1][[2]string{zone, code}], w.extents[0][[2]string{zone, code}], w.extents[1][[2]string{zone, ""}]
	first, rest, _ := strings.Cut(out, "\n")
	_, of, ok := strings.Cut(first, "2010: ")
	require.True(w.t, ok, first)
	shown := w.amounts(of)
	w.near(area, shown[0], 0.005+1e-9, "explain %s %s", zone, code)
	for line := range strings.Lines(rest) {
		label := strings.TrimSpace(line[:min(len(line), 15)])
		switch numbers := w.amounts(line); label {
		case "share":
			w.near(area/whole*100, numbers[0], 0.005+1e-9, "share of %s", line)
			w.near(whole, numbers[1], 0.005+1e-9, "zone of %s", line)
		case "other epochs":
			w.near(before, numbers[1], 0.005+1e-9, "other epoch of %s", line)
		case "made of":
			if area == 0 {
				continue
			}
			w.near(area, numbers[1], 0.005+1e-9, "source value of %s", line)
		}
	}
}

// shape is a rectangle of a figure.
type shape struct {
	x, y, width, height float64
	color               string
}

var rectangle = regexp.MustCompile(`<path d="M([-\d.]+),([-\d.]+)L([-\d.]+),([-\d.]+)L([-\d.]+),([-\d.]+)L([-\d.]+),([-\d.]+)Z" style="fill:(#[0-9A-F]{6})"`)

// rectangles are those of a figure in SVG, whose y runs upwards.
func (w *shownWorld) rectangles(name string) (out []shape) {
	data, err := os.ReadFile(w.path(name))
	require.NoError(w.t, err)
	for _, m := range rectangle.FindAllStringSubmatch(string(data), -1) {
		var c [8]float64
		for i := range c {
			c[i] = number(w.t, m[i+1])
		}
		s := shape{min(c[0], c[4]), min(c[1], c[5]), math.Abs(c[4] - c[0]), math.Abs(c[5] - c[1]), m[9]}
		out = append(out, s)
	}
	return out
}

// bars compares the lengths of bars with areas, or shares.
func (w *shownWorld) bars() {
	show := []string{"area", "percent"}[w.rng.IntN(2)]
	w.must("draw", "bars", w.path("m_2000.csv"), "--legend", w.path("legend.csv"), "--show", show, "--out", w.path("bars.svg"))
	rows := map[float64]map[string]float64{} // lengths by color, by where the bar lies
	for _, s := range w.rectangles("bars.svg") {
		if slices.Contains(w.colors, s.color) {
			if rows[s.y] == nil {
				rows[s.y] = map[string]float64{}
			}
			rows[s.y][s.color] += s.width
		}
	}
	var want [][]float64
	for _, z := range w.zones {
		parts, sum := make([]float64, len(w.classes)), 0.0
		for i := range parts {
			parts[i] = w.extents[0][[2]string{z, fmt.Sprint(i + 1)}]
			sum += parts[i]
		}
		if sum == 0 {
			continue
		}
		if show == "percent" {
			for i := range parts {
				parts[i] /= sum
			}
		}
		want = append(want, parts)
	}
	// Each bar is one of the zones at one scale; rows of keys are none.
	longest, largest := 0.0, 0.0
	for _, r := range rows {
		sum := 0.0
		for _, l := range r {
			sum += l
		}
		longest = max(longest, sum)
	}
	for _, parts := range want {
		sum := 0.0
		for _, p := range parts {
			sum += p
		}
		largest = max(largest, sum)
	}
	for _, parts := range want {
		found := false
		for _, r := range rows {
			all := true
			for i, p := range parts {
				all = all && math.Abs(r[w.colors[i]]-p/largest*longest) < 0.02
			}
			found = found || all
		}
		require.True(w.t, found, "%s %d: no bar for %v among %v (%v)", w.kind, w.seed, parts, rows, w.what)
	}
}

// shade compares the order of colours with that of values, percent of the zones.
func (w *shownWorld) shade() {
	class := fmt.Sprint(1 + w.rng.IntN(len(w.classes)))
	steps := 2 + w.rng.IntN(4)
	w.must("draw", "shade", w.path("m_2000.csv"), "--class", class, "--zones", w.path("zones.csv"), "--zone-id", "id", "--steps", fmt.Sprint(steps), "--out", w.path("shade.svg"))
	list := w.rectangles("shade.svg")[1:] // without the paper
	require.Greater(w.t, len(list), len(w.zones))
	var keys []string
	for _, s := range list[len(w.zones):] {
		if s.width > 11.9 && s.width < 12.1 && !slices.Contains(keys, s.color) {
			keys = append(keys, s.color)
		}
	}
	type zone struct {
		value float64
		rank  int
	}
	var zones []zone
	for i, s := range list[:len(w.zones)] {
		rank := slices.Index(keys, s.color)
		require.GreaterOrEqual(w.t, rank, 0, "%s %d: %s is no key of %v", w.kind, w.seed, s.color, keys)
		zones = append(zones, zone{w.extents[0][[2]string{w.zones[i], class}] / w.extents[0][[2]string{w.zones[i], ""}], rank})
	}
	least, most := math.Inf(1), math.Inf(-1)
	different := map[float64]bool{}
	for _, z := range zones {
		least, most = min(least, z.value), max(most, z.value)
		different[z.value] = true
	}
	steps = min(steps, len(different))
	for _, a := range zones {
		for _, b := range zones {
			if a.value < b.value && a.rank < b.rank { // keys begin with the largest
				require.Fail(w.t, "order", "%s %d: %g is shaded as more than %g (%v)", w.kind, w.seed, a.value, b.value, w.what)
			}
			if b.value-a.value > (most-least)/float64(steps)*1.001 && most > least {
				require.Greater(w.t, a.rank, b.rank, "%s %d: %g is shaded as %g (%v)", w.kind, w.seed, a.value, b.value, w.what)
			}
		}
	}
}

// flows compares the columns of a figure of flows with what both epochs map.
func (w *shownWorld) flows() {
	var sums [2][]float64
	total := 0.0
	for e := range sums {
		sums[e] = make([]float64, len(w.classes))
	}
	for k, v := range w.moves {
		from, to := slices.Index(w.codes(), k[1]), slices.Index(w.codes(), k[2])
		if from >= 0 && to >= 0 {
			sums[0][from] += v
			sums[1][to] += v
			total += v
		}
	}
	if total == 0 {
		return
	}
	w.must("draw", "flows", w.path("c.csv"), "--legend", w.path("legend.csv"), "--out", w.path("flows.svg"))
	var columns [2]map[string]float64
	left := math.Inf(1)
	var list []shape
	for _, s := range w.rectangles("flows.svg") {
		if slices.Contains(w.colors, s.color) && s.width > 13 && s.width < 14 {
			list = append(list, s)
			left = min(left, s.x)
		}
	}
	scale := 0.0
	for _, s := range list {
		e := 0
		if s.x > left+1 {
			e = 1
		}
		if columns[e] == nil {
			columns[e] = map[string]float64{}
		}
		columns[e][s.color] += s.height
	}
	for _, h := range columns[0] {
		scale += h
	}
	thin := 0.0 // the height of lines where the names of classes stand that have next to nothing
	for e, sum := range sums {
		for i, v := range sum {
			if v < total*1e-3 {
				thin += columns[e][w.colors[i]]
			}
		}
	}
	for e, sum := range sums {
		for i, v := range sum {
			within := 0.03 + thin
			if v < total*1e-3 {
				within = 0.6
			}
			w.near(v/total*scale, columns[e][w.colors[i]], within, "column of %s at epoch %d", w.classes[i], e)
		}
	}
}

func (w *shownWorld) codes() (out []string) {
	for i := range w.classes {
		out = append(out, fmt.Sprint(i+1))
	}
	return out
}

var (
	tables = regexp.MustCompile(`(?s)<table[^>]*id="([a-z-]+)"[^>]*>(.*?)</table>`)
	trs    = regexp.MustCompile(`(?s)<tr.*?</tr>`)
	cells  = regexp.MustCompile(`(?s)<t[hd]([^>]*)>(.*?)</t[hd]>`)
	tags   = regexp.MustCompile(`(?s)<[^>]*>`)
	exact  = regexp.MustCompile(`data-v="([^"]*)"`)
)

// report compares the tables of a report with those of the job, both what is shown and what is sorted by.
func (w *shownWorld) report() {
	w.must("report", w.path("plan.yaml"), "--out", w.path("r.html"))
	page, err := os.ReadFile(w.path("r.html"))
	require.NoError(w.t, err)
	seen := map[string]bool{}
	for _, m := range tables.FindAllStringSubmatch(string(page), -1) {
		var rows [][]string
		var values [][]float64
		for _, tr := range trs.FindAllString(m[2], -1) {
			var texts []string
			var numbers []float64
			for _, c := range cells.FindAllStringSubmatch(tr, -1) {
				shown := strings.TrimSpace(html.UnescapeString(tags.ReplaceAllString(c[2], "")))
				v := math.NaN()
				if e := exact.FindStringSubmatch(c[1]); e != nil && e[1] != "" {
					v = number(w.t, e[1])
					if shown != "" && shown != "–" && strings.ContainsAny(shown, "0123456789") {
						decimals := 0
						if i := strings.IndexByte(shown, '.'); i >= 0 {
							decimals = len(strings.TrimRight(shown[i+1:], " %"))
						}
						w.near(v, w.amounts(shown)[0], 0.5001*math.Pow10(-decimals), "%s shows %q", m[1], shown)
					}
				}
				texts, numbers = append(texts, shown), append(numbers, v)
			}
			rows, values = append(rows, texts), append(values, numbers)
		}
		seen[m[1]] = true
		column := func(name string) int {
			k := slices.Index(rows[0], name)
			require.GreaterOrEqual(w.t, k, 0, "%s %d: %s has no column %q: %q", w.kind, w.seed, m[1], name, rows[0])
			return k
		}
		for i, r := range rows[1:] {
			zone, _, _ := strings.Cut(r[0], " ")
			switch m[1] {
			case "extent-table", "composition-table":
				classified := 0.0
				for _, c := range w.codes() {
					classified += w.extents[1][[2]string{zone, c}]
				}
				for k, name := range w.classes {
					want := w.extents[1][[2]string{zone, fmt.Sprint(k + 1)}]
					if m[1] == "composition-table" {
						if classified == 0 {
							continue
						}
						want *= 100 / classified
					}
					w.near(want, values[i+1][column(name)], 1e-9*(1+want), "%s of %s in the %s of a report", name, zone, m[1])
				}
			case "net-table":
				for k, name := range w.classes {
					want := 0.0
					for key, v := range w.moves {
						if key[0] != zone || !slices.Contains(w.codes(), key[1]) || !slices.Contains(w.codes(), key[2]) {
							continue
						}
						if key[2] == fmt.Sprint(k+1) {
							want += v
						}
						if key[1] == fmt.Sprint(k+1) {
							want -= v
						}
					}
					w.near(want, values[i+1][column(name)], 1e-7*(1+math.Abs(want)), "net change of %s in %s of a report", name, zone)
				}
			case "account-table":
				k := slices.Index(w.classes, r[0])
				if k < 0 {
					continue
				}
				code := fmt.Sprint(k + 1)
				var opening, closing, additions, reductions float64
				for key, v := range w.moves {
					if !slices.Contains(w.codes(), key[1]) || !slices.Contains(w.codes(), key[2]) {
						continue
					}
					if key[1] == code {
						opening += v
						if key[2] != code {
							reductions += v
						}
					}
					if key[2] == code {
						closing += v
						if key[1] != code {
							additions += v
						}
					}
				}
				for name, want := range map[string]float64{"2000": opening, "additions": additions, "reductions": reductions, "2010": closing, "net": closing - opening} {
					got := values[i+1][column(name)]
					if want == 0 && math.IsNaN(got) {
						got = 0
					}
					w.near(want, got, 1e-7*(1+math.Abs(want)), "%s of %s in the account of a report", name, r[0])
				}
			}
		}
	}
	both := false // is ground mapped by, without which there is no account
	for k, v := range w.moves {
		both = both || k[1] != "" && k[2] != "" && v > 0
	}
	for _, name := range []string{"extent-table", "composition-table", "net-table", "account-table"} {
		require.True(w.t, seen[name] || name == "account-table" && !both, "%s %d: the report has no %s", w.kind, w.seed, name)
	}
}
