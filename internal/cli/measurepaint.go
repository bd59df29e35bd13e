package cli

import (
	"fmt"
	"math"
	"strings"

	"github.com/verdex-land/verdex/core/extent"

	"github.com/mattn/go-runewidth"

	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/text"
	"github.com/verdex-land/verdex/internal/model"
	"github.com/verdex-land/verdex/internal/sheets"
)

// paintComposition draws zones as rows: a bar of the composition, and hectares over percent for
// each class.
func paintComposition(c *canvas, comp *extent.Composition) error {
	n := len(comp.Legend.Classes)
	names, _ := classNames(comp.Legend, 0, 0)
	marks := letters(names)
	head := append(append([]string{}, names...), "no data", "unlisted", "outside")
	most, shown := 0.0, make([]bool, n+3)
	areasOf := model.NewClassAreas(comp.Legend)
	widest := make([]float64, n+3)
	nameWidth := 4
	for _, z := range comp.Zones {
		most = math.Max(most, z.Area)
		for i, a := range areasOf.Of(&z) {
			widest[i] = math.Max(widest[i], a)
			shown[i] = shown[i] || i < n && comp.Legend.Source != "" || a/math.Max(z.Area, 1e-300) > 1e-12
		}
		nameWidth = max(nameWidth, runewidth.StringWidth(zoneTitle(z)))
	}
	nameWidth = min(nameWidth, 26)
	decimals := text.Decimals(most)
	areaWidth := max(len(comp.Unit.Name)+5, runewidth.StringWidth(text.Number(most, decimals)))
	what := "Extent"
	if comp.Epoch != "" {
		what += " " + comp.Epoch
	}
	zones := text.Count(len(comp.Zones), "zone")
	if comp.HasLarger {
		units := 0
		for _, z := range comp.Zones {
			if z.Larger {
				units++
			}
		}
		zones = text.Count(len(comp.Zones)-units, "zone") + " in " + text.Count(units, "unit")
	}
	c.line(c.bold(fmt.Sprintf("%s in %s of true ground, %s", what, comp.Unit.Label, zones)))
	c.line()
	colWidth, columns := 7, 0
	for i := range head {
		if shown[i] {
			columns++
		}
		colWidth = max(colWidth, runewidth.StringWidth(text.Number(widest[i], decimals)))
	}
	for i := range head { // whole words in the heads, where there is room for them
		for _, word := range strings.Fields(head[i]) {
			if w := min(runewidth.StringWidth(word), 12); shown[i] && c.width-nameWidth-areaWidth-4-columns*(w+2) >= 24 {
				colWidth = max(colWidth, w)
			}
		}
	}
	barWidth := c.width - nameWidth - areaWidth - 4 - columns*(colWidth+2)
	if barWidth < 12 {
		paintTall(c, comp, areasOf, head, marks, shown, decimals)
	} else {
		barWidth = min(barWidth, 48)
		first := left("zone", nameWidth) + "  " + right("zone, "+comp.Unit.Name, areaWidth) + "  " + left("composition", barWidth)
		second := left("", nameWidth+areaWidth+barWidth+4)
		for i := range head {
			if shown[i] {
				a, b := twoLines(head[i], colWidth)
				first += "  " + right(a, colWidth)
				second += "  " + right(b, colWidth)
			}
		}
		c.line(c.dim(first))
		c.line(c.dim(second))
		keys := left("", nameWidth+areaWidth+barWidth+4)
		for i := range n {
			if shown[i] {
				s := c.swatch(comp.Legend.Classes[i].Color, marks[i])
				pad := colWidth - 2
				if !c.color {
					pad--
				}
				keys += "  " + left("", pad) + s
			}
		}
		c.line(keys)
		for _, z := range comp.Zones {
			areas := areasOf.Of(&z)
			upper := left(zoneTitle(z), nameWidth) + "  " + right(text.Number(z.Area, decimals), areaWidth) + "  " +
				c.bar(parts(comp, areas, z.Area, marks), barWidth)
			lower := left("", nameWidth+areaWidth+barWidth+4)
			for i, a := range areas {
				if shown[i] {
					upper += "  " + right(text.Number(a, decimals), colWidth)
					lower += "  " + right(text.Number(a/z.Area*100, 1)+" %", colWidth)
				}
			}
			c.line(upper)
			c.line(c.dim(lower))
		}
	}
	c.line()
	if !shown[n] && !shown[n+1] && !shown[n+2] {
		c.line(c.dim("Every zone is classified throughout: no cells without data, none with unlisted values, none outside the raster."))
	}
	return paintCount(c, comp, decimals)
}

// paintCount shows what a count of cells would have said.
func paintCount(c *canvas, comp *extent.Composition, decimals int) error {
	if comp.HasNominal {
		var area, count float64
		for _, z := range comp.Zones {
			for _, r := range z.Rows() {
				if r.Kind != cover.Outside && !z.Larger {
					area, count = area+r.Area, count+r.NominalArea
				}
			}
		}
		if area > 0 {
			c.line(c.dim(fmt.Sprintf("True ground %s %s; cells × nominal size would say %s (%s %%).",
				text.Number(area, decimals), comp.Unit.Name, text.Number(count, decimals), text.Signed((count-area)/area*100, 4))))
		}
	} else if comp.Polygons {
		c.line(c.dim("Areas of outlines laid over each other, on the ellipsoid."))
	} else {
		c.line(c.dim("The raster is in degrees, so a count of cells says nothing about area."))
	}
	return c.flush()
}

func parts(comp *extent.Composition, areas []float64, whole float64, marks []rune) []part {
	var out []part
	n := len(comp.Legend.Classes)
	for i, a := range areas {
		p := part{share: a / math.Max(whole, 1e-300), plain: i >= n}
		if i < n {
			p.color, p.letter = comp.Legend.Classes[i].Color, marks[i]
		}
		out = append(out, p)
	}
	return out
}

// paintTall draws a block of lines for each zone, for narrow terminals and long legends.
func paintTall(c *canvas, comp *extent.Composition, areasOf *model.ClassAreas, head []string, marks []rune, shown []bool, decimals int) {
	width := 0
	for i, h := range head {
		if shown[i] {
			width = max(width, runewidth.StringWidth(h))
		}
	}
	width = min(width, 28)
	most := 0.0
	for _, z := range comp.Zones {
		most = math.Max(most, z.Area)
	}
	number := runewidth.StringWidth(text.Number(most, decimals))
	if c.folds {
		width = min(width, max(8, c.width-number-29))
	}
	bar := max(10, min(50, c.width-width-number-18))
	for k, z := range comp.Zones {
		if k > 0 {
			c.line()
		}
		c.line(c.bold(zoneTitle(z)), "  ", text.Number(z.Area, decimals), " ", comp.Unit.Name)
		for i, a := range areasOf.Of(&z) {
			if !shown[i] {
				continue
			}
			key, p := "  ", part{share: a / z.Area, plain: true}
			if i < len(marks) {
				key = c.swatch(comp.Legend.Classes[i].Color, marks[i])
				p = part{share: a / z.Area, color: comp.Legend.Classes[i].Color, letter: marks[i]}
			} else if !c.color {
				key = "   "
			}
			c.line("  ", key, " ", left(head[i], width), "  ", right(text.Number(a, decimals), number), "  ",
				right(text.Number(a/z.Area*100, 1), 5), " %  ", c.bar([]part{p}, bar))
		}
	}
}

// zoneTitle is the title of a zone, set in where it lies in a larger unit.
func zoneTitle(z extent.ZoneSum) string {
	if z.WithinID != "" {
		return "  " + title(cover.Named{ID: z.ID, Name: z.Name})
	}
	return title(cover.Named{ID: z.ID, Name: z.Name})
}

// title is a zone's id with its name.
func title(n cover.Named) string { return sheets.Title(n) }

// twoLines breaks a heading at a space so that both halves fit, as far as possible.
func twoLines(s string, width int) (string, string) {
	if runewidth.StringWidth(s) <= width {
		return "", s
	}
	for i := len(s) - 1; i > 0; i-- {
		if (s[i] == ' ' || s[i-1] == '-') && runewidth.StringWidth(s[:i]) <= width {
			rest := s[i:]
			if rest[0] == ' ' {
				rest = rest[1:]
			}
			return s[:i], runewidth.Truncate(rest, width, "…")
		}
	}
	return "", runewidth.Truncate(s, width, "…")
}
