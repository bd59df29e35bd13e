package cli

import (
	"fmt"
	"io"
	"math"
	"math/rand/v2"
	"os"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/mattn/go-runewidth"
	"golang.org/x/term"

	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/text"
)

// canvas draws tables for reading: in colour on a terminal that wants it, in letters otherwise.
type canvas struct {
	w     io.Writer
	color bool
	drawn bool // sparklines and arrows: on a terminal, or where colours are always wanted
	width int
	folds bool // lines are broken at the width: it is that of a terminal, or stated
	b     strings.Builder
	// escape stands for the escape character of the canvas's own styles until it is drawn. Nobody knows it, so that no name in a file can
	// hold it: what a name has of control characters does not reach the terminal.
	escape string
}

// newCanvas makes a canvas; when is auto, always or never.
func newCanvas(w io.Writer, when string) *canvas {
	c := &canvas{w: w, width: 110, escape: fmt.Sprintf("\ue000%08x", rand.Uint32()), drawn: when == "always"}
	if f, ok := w.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		c.drawn = os.Getenv("TERM") != "dumb" || c.drawn
		if width, _, err := term.GetSize(int(f.Fd())); err == nil && width > 20 {
			c.width, c.folds = width, true
		}
	}
	if n, err := strconv.Atoi(os.Getenv("COLUMNS")); err == nil && n > 20 {
		c.width, c.folds = n, true
	}
	c.color = wantsColor(w, when)
	return c
}

// wantsColor reports whether colours go to a file: as --color says, or to a terminal unless NO_COLOR is set.
func wantsColor(w io.Writer, when string) bool {
	if when == "always" || when == "never" {
		return when == "always"
	}
	f, ok := w.(*os.File)
	return ok && term.IsTerminal(int(f.Fd())) && os.Getenv("NO_COLOR") == "" && os.Getenv("TERM") != "dumb"
}

func (c *canvas) flush() error {
	_, err := io.WriteString(c.w, strings.ReplaceAll(c.b.String(), c.escape, "\x1b"))
	c.b.Reset()
	return err
}

// printable is a line of text without control characters: a terminal would obey them.
func printable(s string) string {
	return strings.Map(func(r rune) rune {
		if r == '\n' || r == '\t' || r == '\r' {
			return ' '
		}
		return text.Printable(r)
	}, s)
}

// printableLines is printable for a text of several lines.
func printableLines(s string) string {
	lines := strings.Split(s, "\n")
	for i, l := range lines {
		lines[i] = printable(l)
	}
	return strings.Join(lines, "\n")
}

// line draws a line, which goes on below where the screen ends.
func (c *canvas) line(parts ...string) {
	line := strings.Join(parts, "")
	c.lineIn(len(line)-len(strings.TrimLeft(line, " "))+2, line)
}

// lineIn is line; what goes on below is set in by indent.
func (c *canvas) lineIn(indent int, line string) {
	line = strings.TrimRight(printable(line), " ")
	if c.folds && screenWidth(line) > c.width {
		line = fold(line, c.width, indent)
	}
	c.b.WriteString(line)
	c.b.WriteByte('\n')
}

// whole draws a line that is not folded: one to be copied, or that lies over another.
func (c *canvas) whole(parts ...string) {
	c.b.WriteString(strings.TrimRight(printable(strings.Join(parts, "")), " "))
	c.b.WriteByte('\n')
}

// fold breaks a line between words where the screen ends. What follows is set in.
func fold(line string, width, indent int) string {
	if indent > width/2 {
		indent = 2
	}
	var out strings.Builder
	at, cut, from := 0, -1, 0 // the column, the last space in this line of the screen, and where that line begins
	for i := 0; i < len(line); {
		if n := escapeAt(line[i:]); n > 0 {
			i += n
			continue
		}
		r, n := utf8.DecodeRuneInString(line[i:])
		if r == ' ' && strings.TrimSpace(escapes.ReplaceAllString(line[from:i], "")) != "" {
			cut = i
		}
		if at += runewidth.RuneWidth(r); at > width && cut >= 0 {
			out.WriteString(strings.TrimRight(line[from:cut], " ") + "\n" + strings.Repeat(" ", indent))
			from = cut
			for from < len(line) && line[from] == ' ' {
				from++
			}
			i, at, cut = from, indent, -1
			continue
		}
		i += n
	}
	return out.String() + line[from:]
}

func (c *canvas) style(code, s string) string {
	if !c.color || s == "" {
		return s
	}
	return c.escape + "[" + code + "m" + s + c.escape + "[0m"
}

func (c *canvas) bold(s string) string { return c.style("1", s) }
func (c *canvas) dim(s string) string  { return c.style("2", s) }

// swatch is a mark in the colour of a class, or its letter in brackets.
func (c *canvas) swatch(color raster.Color, letter rune) string {
	if !c.color {
		return "[" + string(letter) + "]"
	}
	return c.style(fmt.Sprintf("38;2;%d;%d;%d", color.R, color.G, color.B), "██")
}

// part is a stretch of a bar.
type part struct {
	share  float64
	color  raster.Color
	letter rune
	plain  bool // not a class: drawn as a light stretch
}

// bar draws parts in width cells, by largest remainder, so that the bar is exactly as wide as the
// sum of the shares.
func (c *canvas) bar(parts []part, width int) string {
	total := 0.0
	for _, p := range parts {
		total += p.share
	}
	cells := make([]int, len(parts))
	rest := make([]float64, len(parts))
	left := int(math.Round(math.Min(1, total) * float64(width)))
	for i, p := range parts {
		x := p.share * float64(width)
		cells[i] = int(x)
		rest[i] = x - float64(cells[i])
		left -= cells[i]
	}
	for ; left > 0; left-- {
		best := 0
		for i := range rest {
			if rest[i] > rest[best] {
				best = i
			}
		}
		cells[best]++
		rest[best] = -1
	}
	var b strings.Builder
	used := 0
	for i, p := range parts {
		used += cells[i]
		switch {
		case p.plain:
			b.WriteString(c.dim(strings.Repeat("·", cells[i])))
		case c.color:
			b.WriteString(c.style(fmt.Sprintf("38;2;%d;%d;%d", p.color.R, p.color.G, p.color.B), strings.Repeat("█", cells[i])))
		default:
			b.WriteString(strings.Repeat(string(p.letter), cells[i]))
		}
	}
	return b.String() + strings.Repeat(" ", max(0, width-used))
}

// left and right pad to a width on the screen; left cuts what is too long.
func left(s string, width int) string { return fill(shorten(s, width), width) }
func right(s string, width int) string {
	return strings.Repeat(" ", max(0, width-screenWidth(s))) + s
}

// move is a gain or a loss, and a dot where nothing moved.
func (c *canvas) move(v float64, decimals, width int) string {
	if v == 0 {
		return c.dim(right("·", width))
	}
	return right(text.Signed(v, decimals), width)
}

// net is move with an arrow, in bold.
func (c *canvas) net(v float64, decimals int) string {
	if v == 0 {
		return c.move(v, decimals, 0)
	}
	return c.bold(c.arrow(v, decimals))
}

// arrow is a gain or a loss with its sign, and an arrow before it where signs are drawn.
func (c *canvas) arrow(v float64, decimals int) string {
	s := text.Signed(v, decimals)
	switch {
	case !c.drawn || strings.Trim(s, "0.−+") == "":
		return s
	case v < 0:
		return "▼ " + s
	}
	return "▲ " + s
}

// sparkline draws values as columns from nothing to the greatest of them; a gap where there is none.
func sparkline(values []float64) string {
	most := 0.0
	for _, v := range values {
		if !math.IsNaN(v) {
			most = math.Max(most, v)
		}
	}
	var b strings.Builder
	for _, v := range values {
		switch {
		case math.IsNaN(v):
			b.WriteRune(' ')
		case !(most > 0) || v <= 0:
			b.WriteRune('▁')
		default:
			b.WriteRune([]rune("▁▂▃▄▅▆▇█")[min(7, int(math.Ceil(v/most*8))-1)])
		}
	}
	return b.String()
}

// letters gives each name a letter of its own, its first where that is free.
func letters(names []string) []rune {
	taken := map[rune]bool{}
	out := make([]rune, len(names))
	for i, name := range names {
		for _, r := range strings.ToUpper(strings.TrimPrefix(name, "class ")) + "ABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789abcdefghijklmnopqrstuvwxyz" {
			if (r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || r >= 'a' && r <= 'z') && !taken[r] {
				out[i] = r
				taken[r] = true
				break
			}
		}
		if out[i] == 0 {
			out[i] = '#'
		}
	}
	return out
}
