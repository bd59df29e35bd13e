package reference

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"github.com/stretchr/testify/require"
)

// truth is what a condition is for a cell: it holds, does not, or is not known.
type truth int

const (
	no truth = iota
	unknown
	yes
)

func truthOf(b bool) truth {
	if b {
		return yes
	}
	return no
}

// term is a number of a cell, as text and as a function of what the layers hold.
type term struct {
	text string
	of   func(cells []cell) cell
}

// condition is one on a cell.
type condition struct {
	text string
	of   func(cells []cell) truth
}

func (j *job) term(layers, depth int) term {
	switch n := j.rng.IntN(4); {
	case n == 0 || depth == 0:
		i := j.rng.IntN(layers)
		return term{fmt.Sprintf("l%d", i), func(cells []cell) cell { return cells[i] }}
	case n == 1:
		v := []float64{0, 1, 2, 2.5, 4, -5, 7}[j.rng.IntN(7)]
		return term{code(v), func([]cell) cell { return cell{v: v} }}
	}
	a, b := j.term(layers, depth-1), j.term(layers, depth-1)
	op := []string{"+", "-", "*", "/"}[j.rng.IntN(4)]
	return term{"(" + a.text + " " + op + " " + b.text + ")", func(cells []cell) cell {
		x, y := a.of(cells), b.of(cells)
		if x.missing || y.missing || op == "/" && y.v == 0 {
			return cell{missing: true}
		}
		switch op {
		case "+":
			return cell{v: x.v + y.v}
		case "-":
			return cell{v: x.v - y.v}
		case "*":
			return cell{v: x.v * y.v}
		}
		return cell{v: x.v / y.v}
	}}
}

func (j *job) condition(layers, depth int) condition {
	n := j.rng.IntN(8)
	if depth == 0 {
		n = j.rng.IntN(5)
	}
	switch n {
	case 0, 1:
		a, b := j.term(layers, 2), j.term(layers, 1)
		op := []string{"=", "<>", "<", "<=", ">", ">="}[j.rng.IntN(6)]
		return condition{a.text + " " + op + " " + b.text, func(cells []cell) truth {
			x, y := a.of(cells), b.of(cells)
			if x.missing || y.missing {
				return unknown
			}
			return truthOf(map[string]bool{"=": x.v == y.v, "<>": x.v != y.v, "<": x.v < y.v, "<=": x.v <= y.v, ">": x.v > y.v, ">=": x.v >= y.v}[op])
		}}
	case 2:
		a := j.term(layers, 1)
		lo := float64(j.rng.IntN(5) - 1)
		hi := lo + float64(j.rng.IntN(4))
		not := j.chance(0.3)
		return condition{a.text + map[bool]string{true: " NOT"}[not] + fmt.Sprintf(" BETWEEN %v AND %v", lo, hi), func(cells []cell) truth {
			x := a.of(cells)
			if x.missing {
				return unknown
			}
			return truthOf((x.v >= lo && x.v <= hi) != not)
		}}
	case 3:
		a := j.term(layers, 0)
		list := []float64{1, 4, 7, 2.5}[j.rng.IntN(3):]
		var texts []string
		for _, v := range list {
			texts = append(texts, code(v))
		}
		not := j.chance(0.3)
		return condition{a.text + map[bool]string{true: " NOT"}[not] + " IN (" + strings.Join(texts, ", ") + ")", func(cells []cell) truth {
			x := a.of(cells)
			if x.missing {
				return unknown
			}
			return truthOf(slices.Contains(list, x.v) != not)
		}}
	case 4:
		a := j.term(layers, 1)
		not := j.chance(0.5)
		return condition{a.text + " IS " + map[bool]string{true: "NOT "}[not] + "NULL", func(cells []cell) truth {
			return truthOf(a.of(cells).missing != not)
		}}
	case 5:
		a := j.condition(layers, depth-1)
		return condition{"NOT (" + a.text + ")", func(cells []cell) truth { return yes - a.of(cells) }}
	}
	a, b := j.condition(layers, depth-1), j.condition(layers, depth-1)
	if n == 6 {
		return condition{"(" + a.text + ") AND (" + b.text + ")", func(cells []cell) truth { return min(a.of(cells), b.of(cells)) }}
	}
	return condition{"(" + a.text + " OR " + b.text + ")", func(cells []cell) truth { return max(a.of(cells), b.of(cells)) }}
}

// layers are rasters on a grid, with the options that name them.
func (j *job) layers() (list []*image, args []string) {
	g := j.grid()
	for i := range 1 + j.rng.IntN(3) {
		m := j.cover(g)
		name := j.path(fmt.Sprintf("l%d.tif", i))
		m.write(j.t, name)
		list, args = append(list, m), append(args, "--layer", fmt.Sprintf("l%d=%s", i, name))
	}
	return list, args
}

func cellsAt(list []*image, c, r int) (cells []cell) {
	for _, m := range list {
		cells = append(cells, m.at(c, r))
	}
	return cells
}

// rules compares classes by conditions, in what derive writes and in what measure counts.
func (j *job) rules() {
	list, args := j.layers()
	g := list[0].grid
	text := "rules:\n"
	var conditions []condition
	var classes []string
	for range 1 + j.rng.IntN(4) {
		c := j.condition(len(list), 2)
		class := []string{"1", "2", "3", "4", "nodata"}[j.rng.IntN(5)]
		conditions, classes = append(conditions, c), append(classes, class)
		text += fmt.Sprintf("  - class: %s\n    when: %q\n", class, c.text)
	}
	others := ""
	if j.chance(0.7) {
		others = []string{"4", "nodata"}[j.rng.IntN(2)]
		text += "else: " + others + "\n"
	}
	fails := false
	of := func(cells []cell) cell {
		if !slices.ContainsFunc(cells, func(c cell) bool { return !c.missing }) {
			return cell{missing: true}
		}
		class := others
		if i := slices.IndexFunc(conditions, func(c condition) bool { return c.of(cells) == yes }); i >= 0 {
			class = classes[i]
		} else if slices.ContainsFunc(conditions, func(c condition) bool { return c.of(cells) == unknown }) {
			return cell{missing: true}
		}
		switch class {
		case "":
			fails = true
			return cell{}
		case "nodata":
			return cell{missing: true}
		}
		return cell{v: number(j.t, class)}
	}
	derived := &image{grid: g}
	var want [][]cell
	for r := range g.Height {
		want = append(want, nil)
		for c := range g.Width {
			want[r] = append(want[r], of(cellsAt(list, c, r)))
		}
	}
	args = append(args, "--rules", j.text("rules.yaml", text))
	_, ok := j.verdex(append(append([]string{"derive", "rules"}, args...), "--out", j.path("out.tif"))...)
	require.Equal(j.t, !fails, ok, "%s %d: %v by\n%s", j.kind, j.seed, j.what, text)
	if !ok {
		return
	}
	j.compareCells(want, j.read("out.tif", g))
	zones, path, _, ok := j.zones(g)
	if !ok || !j.prepare(zones, g, false) {
		return
	}
	for _, row := range want {
		derived.stored = append(derived.stored, nil)
		for _, c := range row {
			if c.missing {
				c.v = math.NaN()
			}
			derived.stored[len(derived.stored)-1] = append(derived.stored[len(derived.stored)-1], c.v)
		}
	}
	j.compareExtents(derived, zones, &coding{}, false, append(append([]string{"measure"}, args...), "--zones", path, "--zone-id", "id", "--format", "csv", "--unit", "m2"))
}

// expression compares what is computed of layers, cell by cell.
func (j *job) expression() {
	list, args := j.layers()
	g := list[0].grid
	e := j.term(len(list), 4)
	if !strings.Contains(e.text, "l") { // no layer is in it
		return
	}
	if _, ok := j.verdex(append(append([]string{"derive", "expr", e.text}, args...), "--out", j.path("out.tif"))...); !ok {
		return
	}
	var want [][]cell
	for r := range g.Height {
		want = append(want, nil)
		for c := range g.Width {
			want[r] = append(want[r], e.of(cellsAt(list, c, r)))
		}
	}
	j.compareCells(want, j.read("out.tif", g))
}
