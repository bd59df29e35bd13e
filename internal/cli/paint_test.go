package cli

import (
	"fmt"
	"math"
	"os"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/mattn/go-runewidth"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/raster"
)

// A bar is exactly as wide as its shares, however they round.
func TestBarsAddUp(t *testing.T) {
	c := &canvas{}
	for n := 1; n < 40; n++ {
		var parts []part
		for range n {
			parts = append(parts, part{share: 1 / float64(n), letter: 'x'})
		}
		for width := 5; width < 60; width += 7 {
			assert.Equal(t, strings.Repeat("x", width), c.bar(parts, width), "%d parts in %d cells", n, width)
		}
	}
	half := c.bar([]part{{share: 0.25, letter: 'A'}, {share: 0.25, plain: true}}, 8)
	assert.Equal(t, "AA··    ", half)
	c.color = true
	assert.Contains(t, c.bar([]part{{share: 1, color: raster.Color{R: 1, G: 2, B: 3}}}, 3), "38;2;1;2;3m███")
}

func TestLettersAreDistinct(t *testing.T) {
	assert.Equal(t, "WOPA", string(letters([]string{"Water", "Woodland", "Pasture", "Arable"})))
	assert.Equal(t, "12", string(letters([]string{"class 1", "class 2"})))
	seen := map[rune]bool{}
	for _, r := range letters(make([]string, 60)) {
		assert.False(t, seen[r])
		seen[r] = true
	}
}

func TestHeadingsBreakAtWords(t *testing.T) {
	a, b := twoLines("Heath and rough grass", 12)
	assert.Equal(t, "Heath and", a)
	assert.LessOrEqual(t, runewidth.StringWidth(b), 12)
	a, b = twoLines("Pasture", 8)
	assert.Equal(t, "", a)
	assert.Equal(t, "Pasture", b)
}

func TestNotesWrapBetweenWords(t *testing.T) {
	r := &reporter{width: 20}
	assert.Equal(t, "note: one two three\n      four five\nsix", r.wrap("note: one two three four five\nsix", 6))
	assert.Equal(t, "note: aaaaaaaaaaaaaaaaaaaaaaaaaaaaaa", r.wrap("note: aaaaaaaaaaaaaaaaaaaaaaaaaaaaaa", 6))
	assert.Equal(t, "as it is however long it may be", (&reporter{}).wrap("as it is however long it may be", 6))
}

// No name in a file reaches the terminal as a command: not in colour, not in a message, and not by pretending to be a style of ours.
func TestNamesDoNotCommandTheTerminal(t *testing.T) {
	var b strings.Builder
	c := newCanvas(&b, "auto")
	c.color = true
	c.line(c.bold("Orrin"), " \x1b[31mred\x1b[0m \a\b\x9b2J a\tb\nc \u202egnp\u2028 \ue00000000000[8mhidden")
	require.NoError(t, c.flush())
	assert.Equal(t, "\x1b[1mOrrin\x1b[0m \ufffd[31mred\ufffd[0m \ufffd\ufffd\ufffd2J a b c \ufffdgnp\ufffd \ue00000000000[8mhidden\n", b.String())
	var said strings.Builder
	r := &reporter{w: &said}
	r.Note("a\x1b]0;title\a\nb")
	r.Warn("\x1b[2J")
	assert.Equal(t, "note: a\ufffd]0;title\ufffd\nb\nwarning: \ufffd[2J\n", said.String())
	t.Chdir(t.TempDir())
	require.NoError(t, os.WriteFile("l.csv", []byte("code,name\n1,\x1b[31mred\a\n2,=risk\n3,c\n4,d\n5,e\n"), 0o644))
	require.NoError(t, os.WriteFile("a.asc", []byte(asciiGrid(40, 30)), 0o644))
	out, errs := verdex(t, "measure", "a.asc", "--crs", "EPSG:32633", "--legend", "l.csv")
	assert.NotContains(t, out+errs, "\x1b")
	assert.NotContains(t, out+errs, "\a")
	assert.Contains(t, out, "red")
	verdex(t, "look", "a.asc", "--crs", "EPSG:32633", "--legend", "l.csv", "--legend-out", "again.csv")
	text, err := os.ReadFile("again.csv")
	require.NoError(t, err)
	assert.Contains(t, string(text), "2,'=risk,", "a spreadsheet would run it")
	verdex(t, "measure", "a.asc", "--crs", "EPSG:32633", "--legend", "again.csv")
}

// What is wider than the screen goes on below: no line leaves it, no number is lost, and names of wide or combining letters keep their columns.
func TestGridsFold(t *testing.T) {
	for _, width := range []int{40, 80, 200} {
		for _, color := range []string{"never", "always"} {
			t.Setenv("COLUMNS", strconv.Itoa(width))
			var b strings.Builder
			c := newCanvas(&b, color)
			g := &grid{c: c, name: "zone", above: c.bold("Orrin"), head: make([]string, 9), keys: make([]string, 9)}
			for i := range g.head {
				g.head[i], g.keys[i] = fmt.Sprintf("Heath and rough grass %d", i), c.swatch(raster.Color{R: 200}, 'H')
			}
			for i, name := range []string{"森林と草地のある長い名前の区", "Öl̈dalen", c.swatch(raster.Color{G: 90}, 'A') + " Arable land with a name that goes on and on", "", "한국"} {
				cells := make([]string, 9)
				for k := range cells {
					cells[k] = fmt.Sprintf("%d,%03d.%d", i+1, k, i)
				}
				g.add(name, cells, i == 1, i == 2)
			}
			g.paint()
			require.NoError(t, c.flush())
			plain := regexp.MustCompile("\x1b\\[[0-9;]*m").ReplaceAllString(b.String(), "")
			assert.Equal(t, color == "always", plain != b.String())
			ends := map[string]int{}
			for line := range strings.Lines(plain) {
				line = strings.TrimRight(line, "\n")
				assert.LessOrEqual(t, runewidth.StringWidth(line), width, line)
				for k := range 9 { // the numbers of a column end at one place
					for i := range 5 {
						number := fmt.Sprintf("%d,%03d.%d", i+1, k, i)
						if at := strings.Index(line, number); at >= 0 {
							end := runewidth.StringWidth(line[:at]) + len(number)
							if was, known := ends[fmt.Sprint(k)]; known {
								assert.Equal(t, was, end, "%d columns, column %d: %s", width, k, line)
							}
							ends[fmt.Sprint(k)] = end
							ends[number]++
						}
					}
				}
			}
			assert.Len(t, ends, 9+45)
		}
	}
}

func TestLinesFoldBetweenWords(t *testing.T) {
	t.Setenv("COLUMNS", "30")
	var b strings.Builder
	c := newCanvas(&b, "always")
	c.line("  ", c.bold("Extent of the classes"), c.dim(" in hectares of true ground"))
	c.line("a-word-that-is-longer-than-the-screen-is-wide and one")
	require.NoError(t, c.flush())
	assert.Equal(t, "  \x1b[1mExtent of the classes\x1b[0m\x1b[2m in\n    hectares of true ground\x1b[0m\na-word-that-is-longer-than-the-screen-is-wide\n  and one\n", b.String())
}

func TestSignsAreDrawn(t *testing.T) {
	assert.Equal(t, "▁▄█", sparkline([]float64{0, 2, 4}))
	assert.Equal(t, "█ ▁", sparkline([]float64{1, math.NaN(), 0}))
	assert.Equal(t, "▁▁", sparkline([]float64{0, 0}))
	drawn := newCanvas(&strings.Builder{}, "always")
	assert.Equal(t, []string{"▲ +1.5", "▼ −1.5", "0.0"}, []string{drawn.arrow(1.5, 1), drawn.arrow(-1.5, 1), drawn.arrow(0, 1)})
	piped := newCanvas(&strings.Builder{}, "auto")
	assert.Equal(t, "+1.5", piped.arrow(1.5, 1))
	for _, c := range []*canvas{drawn, piped} {
		styled := shorten(c.bold("한국어 이름")+"!", 6)
		assert.Equal(t, 5, screenWidth(styled), "%q", styled) // a wide letter has no room beside the dots
	}
}
