package cli

import (
	"math"
	"strings"
	"testing"

	"github.com/mattn/go-runewidth"
	"github.com/stretchr/testify/assert"

	"github.com/verdex-land/verdex/core/raster"
)

func TestNumbersForReading(t *testing.T) {
	for _, c := range []struct {
		v        float64
		decimals int
		want     string
	}{{0, 1, "0.0"}, {1234567.89, 1, "1,234,567.9"}, {-1234, 0, "−1,234"}, {999.96, 1, "1,000.0"}, {-0.04, 1, "0.0"}, {math.NaN(), 1, "–"}} {
		assert.Equal(t, c.want, group(c.v, c.decimals))
	}
	assert.Equal(t, "+5.0", signed(5, 1))
	assert.Equal(t, "0.0", signed(0.01, 1))
	assert.Equal(t, "−5.0", signed(-5, 1))
}

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
