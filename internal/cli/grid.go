package cli

import (
	"regexp"
	"strings"

	"github.com/mattn/go-runewidth"
)

// grid is a table of numbers under headings of one or two lines, with a name for each row.
type grid struct {
	c    *canvas
	name string   // over the names of rows
	head []string // of the columns
	keys []string // marks beneath the first headings
	rows []gridRow
}

type gridRow struct {
	name      string
	cells     []string
	bold, dim bool
}

func (g *grid) add(name string, cells []string, bold, dim bool) {
	g.rows = append(g.rows, gridRow{name, cells, bold, dim})
}

// escapes are sequences that take no room on the screen.
var escapes = regexp.MustCompile("\ue000[0-9a-f]{8}\\[[0-9;]*m")

func screenWidth(s string) int { return runewidth.StringWidth(escapes.ReplaceAllString(s, "")) }

// fill pads a text, which may have colours, to a width on the screen.
func fill(s string, width int) string {
	if n := screenWidth(s); n < width {
		return s + strings.Repeat(" ", width-n)
	}
	return s
}

func (g *grid) paint() { paintGrids(g) }

// paintGrids draws grids one after another, with one width for each column.
func paintGrids(grids ...*grid) {
	names, widths := 0, make([]int, len(grids[0].head))
	for _, g := range grids {
		names = max(names, runewidth.StringWidth(g.name))
		for i, h := range g.head {
			for _, word := range strings.Fields(h) {
				widths[i] = max(widths[i], min(12, runewidth.StringWidth(word)))
			}
		}
		for _, r := range g.rows {
			names = max(names, screenWidth(r.name))
			for i, text := range r.cells {
				widths[i] = max(widths[i], runewidth.StringWidth(text))
			}
		}
	}
	names = min(names, 48)
	room := grids[0].c.width - names
	for _, w := range widths {
		room -= w + 2
	}
	for i, h := range grids[0].head { // where there is room, no heading is cut short
		for room > 0 {
			if _, b := twoLines(h, widths[i]); !strings.HasSuffix(b, "…") {
				break
			}
			widths[i], room = widths[i]+1, room-1
		}
	}
	for k, g := range grids {
		if k > 0 {
			g.c.line()
		}
		g.draw(names, widths)
	}
}

func (g *grid) draw(names int, widths []int) {
	c := g.c
	upper, lower, keys := left("", names), c.bold(left(g.name, names)), left("", names)
	for i, h := range g.head {
		a, b := twoLines(h, widths[i])
		upper += "  " + right(a, widths[i])
		lower += c.dim("  " + right(b, widths[i]))
		if i < len(g.keys) {
			keys += "  " + strings.Repeat(" ", max(0, widths[i]-screenWidth(g.keys[i]))) + g.keys[i]
		}
	}
	if strings.TrimSpace(upper) != "" {
		c.line(c.dim(upper))
	}
	c.line(lower)
	if len(g.keys) > 0 {
		c.line(keys)
	}
	for _, r := range g.rows {
		line := fill(r.name, names)
		for i, text := range r.cells {
			line += "  " + right(text, widths[i])
		}
		switch {
		case r.bold:
			line = c.bold(line)
		case r.dim:
			line = c.dim(line)
		}
		c.line(line)
	}
}
