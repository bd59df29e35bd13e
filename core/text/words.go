package text

import (
	"fmt"
	"math"
	"strconv"
	"strings"
)

// Grouped puts commas between the thousands of a number that is written out: 1234567.5 becomes 1,234,567.5.
func Grouped(number string) string {
	whole, rest, _ := strings.Cut(number, ".")
	for i := len(whole) - 3; i > 0 && whole[i-1] != '-'; i -= 3 {
		whole = whole[:i] + "," + whole[i:]
	}
	if rest == "" {
		return whole
	}
	return whole + "." + rest
}

// Number writes a number for people, with commas between thousands and a fixed number of decimals; NaN is a dash.
func Number(v float64, decimals int) string {
	if math.IsNaN(v) {
		return "–"
	}
	s := strconv.FormatFloat(math.Abs(v), 'f', decimals, 64)
	if v < 0 && strings.Trim(s, "0.") != "" {
		return "−" + Grouped(s)
	}
	return Grouped(s)
}

// Signed is Number with a sign for gains too.
func Signed(v float64, decimals int) string {
	s := Number(v, decimals)
	if v > 0 && strings.Trim(s, "0.,") != "" {
		return "+" + s
	}
	return s
}

// Decimals chooses the decimals of a column of numbers whose greatest is most.
func Decimals(most float64) int {
	switch {
	case most >= 100000:
		return 0
	case most >= 100:
		return 1
	case most >= 1:
		return 2
	case most >= 0.01:
		return 4
	}
	return 6
}

// Count is a number of things: "1 zone", "5 zones", "1,200 classes".
func Count(n int, noun string) string {
	number := Number(float64(n), 0)
	if n == 1 {
		return number + " " + noun
	}
	return number + " " + Plural(noun)
}

// Plural is the plural of a noun that follows the rules of English.
func Plural(noun string) string {
	switch {
	case strings.HasSuffix(noun, "epoch"):
		return noun + "s"
	case strings.HasSuffix(noun, "s"), strings.HasSuffix(noun, "x"), strings.HasSuffix(noun, "ch"), strings.HasSuffix(noun, "sh"):
		return noun + "es"
	case strings.HasSuffix(noun, "foot"):
		return strings.TrimSuffix(noun, "foot") + "feet"
	case strings.HasSuffix(noun, "y") && !strings.HasSuffix(noun, "ay") && !strings.HasSuffix(noun, "ey"):
		return strings.TrimSuffix(noun, "y") + "ies"
	}
	return noun + "s"
}

// List lists the first of some items: "a, b, c and 4 more".
func List(items []string, most int) string {
	if len(items) > most {
		return strings.Join(items[:most], ", ") + fmt.Sprintf(" and %d more", len(items)-most)
	}
	return strings.Join(items, ", ")
}

// Given says how many things were given: "none was given", "1 was given", "3 were given".
func Given(n int) string {
	switch n {
	case 0:
		return "none was given"
	case 1:
		return "1 was given"
	}
	return fmt.Sprintf("%d were given", n)
}
