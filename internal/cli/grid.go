package cli

import (
	"regexp"
	"strings"
	"unicode/utf8"

	"github.com/mattn/go-runewidth"
)

// grid is a table of numbers under headings of one or two lines, with a name for each row.
type grid struct {
	c     *canvas
	above string   // a line before it
	name  string   // over the names of rows
	head  []string // of the columns
	keys  []string // marks beneath the first headings
	rows  []gridRow
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

// escapeAt is the length of the escape sequence that a text begins with, 0 for none.
func escapeAt(s string) int {
	if !strings.HasPrefix(s, "\ue000") {
		return 0
	}
	if at := escapes.FindStringIndex(s); at != nil && at[0] == 0 {
		return at[1]
	}
	return 0
}

func screenWidth(s string) int { return runewidth.StringWidth(escapes.ReplaceAllString(s, "")) }

// fill pads a text, which may have colours, to a width on the screen.
func fill(s string, width int) string {
	if n := screenWidth(s); n < width {
		return s + strings.Repeat(" ", width-n)
	}
	return s
}

// shorten cuts a text, which may have colours, to a width on the screen.
func shorten(s string, width int) string {
	if screenWidth(s) <= width {
		return s
	}
	if !strings.Contains(s, "\ue000") {
		return runewidth.Truncate(s, width, "…")
	}
	var b strings.Builder
	at, full := 0, false
	for i := 0; i < len(s); {
		if n := escapeAt(s[i:]); n > 0 { // styles end, also behind the cut
			b.WriteString(s[i : i+n])
			i += n
			continue
		}
		r, n := utf8.DecodeRuneInString(s[i:])
		if w := runewidth.RuneWidth(r); !full {
			if full = at+w > width-1; full {
				b.WriteString("…")
			} else {
				b.WriteRune(r)
				at += w
			}
		}
		i += n
	}
	return b.String()
}

func (g *grid) paint() { paintGrids(g) }

// paintGrids draws grids one after another, with one width for each column. Columns that the screen has no room for follow below, beside the
// names of the rows.
func paintGrids(grids ...*grid) {
	names, widths := 0, make([]int, len(grids[0].head))
	for _, g := range grids {
		names = max(names, screenWidth(g.name))
		for i, h := range g.head {
			for _, word := range strings.Split(h, " ") {
				widths[i] = max(widths[i], min(12, runewidth.StringWidth(word)))
			}
			for ; g.c.folds && widths[i] < 12 && cutShort(h, widths[i]); widths[i]++ { // there is room below
			}
		}
		for _, r := range g.rows {
			names = max(names, screenWidth(r.name))
			for i, text := range r.cells {
				widths[i] = max(widths[i], screenWidth(text))
			}
		}
	}
	c := grids[0].c
	names = min(names, 48)
	room := c.width - names
	for _, w := range widths {
		room -= w + 2
	}
	if room < 0 && c.folds { // shorter names before columns that are torn apart
		shorter := min(max(names+room, 20, c.width/4), names)
		room, names = room+names-shorter, shorter
	}
	for i, h := range grids[0].head { // where there is room, no heading is cut short
		for room > 0 {
			if !cutShort(h, widths[i]) {
				break
			}
			widths[i], room = widths[i]+1, room-1
		}
	}
	for k, g := range grids {
		if k > 0 {
			c.line()
		}
		for from, first := 0, true; from < len(widths) || first; first = false {
			to, used := from, names
			for to < len(widths) && (to == from || !c.folds || used+2+widths[to] <= c.width) {
				used += 2 + widths[to]
				to++
			}
			if !first {
				c.line()
			} else if g.above != "" {
				c.line(g.above)
			}
			g.draw(names, widths, from, to)
			from = to
		}
	}
}

// cutShort reports whether a heading does not fit on two lines.
func cutShort(h string, width int) bool {
	_, b := twoLines(h, width)
	return strings.HasSuffix(b, "…")
}

// draw draws the columns from one to another.
func (g *grid) draw(names int, widths []int, from, to int) {
	c := g.c
	upper, lower, keys := left("", names), c.bold(left(g.name, names)), left("", names)
	marked := false
	for i := from; i < to; i++ {
		a, b := twoLines(g.head[i], widths[i])
		b = strings.ReplaceAll(b, "\u00a0", " ") // which has kept words together
		upper += "  " + right(a, widths[i])
		lower += c.dim("  " + right(b, widths[i]))
		if i < len(g.keys) {
			keys += "  " + right(g.keys[i], widths[i])
			marked = true
		}
	}
	if strings.TrimSpace(upper) != "" {
		c.line(c.dim(upper))
	}
	if strings.TrimSpace(escapes.ReplaceAllString(lower, "")) != "" {
		c.line(lower)
	}
	if marked {
		c.line(keys)
	}
	for _, r := range g.rows {
		line := left(r.name, names)
		for i := from; i < to && i < len(r.cells); i++ {
			line += "  " + right(r.cells[i], widths[i])
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
