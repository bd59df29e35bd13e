// Package decimal reads numbers that people and programs wrote as text.
//
// [Parse] reads one number. [Of] decides what a column of text is, for every reader: numbers only where each of them is written back
// the same, and text otherwise, for ids and classes such as 1.10, 007, 12e4 and 1_2 must stay as written.
package decimal

import (
	"iter"
	"math"
	"regexp"
	"strconv"
	"strings"
)

// Parse reads a number, also inf and nan, as [strconv.ParseFloat] does, but for the forms that only Go has: digits with underscores
// between them, and hexadecimal ones. The error is that of strconv.
func Parse(text string) (float64, error) {
	if strings.ContainsAny(text, "_xX") {
		return 0, &strconv.NumError{Func: "ParseFloat", Num: text, Err: strconv.ErrSyntax}
	}
	return strconv.ParseFloat(text, 64)
}

// Finite reads a number that is neither infinite nor NaN, with spaces around it or without.
func Finite(text string) (float64, error) {
	v, err := Parse(strings.TrimSpace(text))
	if err == nil && (math.IsNaN(v) || math.IsInf(v, 0)) {
		err = strconv.ErrRange
	}
	return v, err
}

// Column is what a column of text holds.
type Column struct {
	Kind Kind
	// Decimals is how many decimals every number is written with, 0 where they differ and each is written with as few as it needs.
	Decimals int
	// Doubtful is the first cell that keeps a column of numbers text though it may be a measurement, such as 1e-5; "" for none.
	Doubtful string
}

// Kind is what the cells of a column are.
type Kind uint8

// The kinds of columns.
const (
	Text Kind = iota
	Whole
	Real
)

// Exact is the least whole number of which a float64 does not hold all: different ids beyond it would look the same.
const Exact = 1 << 53

var (
	plain    = regexp.MustCompile(`^-?(0|[1-9][0-9]*)(\.[0-9]+)?$`)
	measured = regexp.MustCompile(`^[+-]?([0-9]+\.[0-9]*|\.[0-9]+|[0-9]+)([eE][+-]?[0-9]+)?$`)
)

// Of decides what the cells of a column are; empty ones do not count, and a column without others is text. Numbers are plain decimals that
// are written back the same: with as few digits as they need, or all with the same number of decimals.
func Of(cells iter.Seq[string]) Column {
	whole, shortest, even, large, numbers, any := true, true, true, false, true, false
	decimals, doubtful := -1, ""
	for cell := range cells {
		if cell == "" {
			continue
		}
		any = true
		if !plain.MatchString(cell) {
			if !measured.MatchString(cell) || leadingZero(cell) {
				return Column{}
			}
			numbers = false
			if doubtful == "" {
				doubtful = cell
			}
			continue
		}
		_, fraction, _ := strings.Cut(cell, ".")
		if decimals < 0 {
			decimals = len(fraction)
		}
		even = even && decimals == len(fraction)
		if fraction == "" {
			n, err := strconv.ParseInt(cell, 10, 64)
			if err != nil || n == 0 && cell[0] == '-' {
				return Column{}
			}
			large = large || n >= Exact || n <= -Exact
			continue
		}
		whole = false
		v, _ := strconv.ParseFloat(cell, 64)
		few := strconv.FormatFloat(v, 'f', -1, 64) == cell
		shortest, even = shortest && few, even && strconv.FormatFloat(v, 'f', len(fraction), 64) == cell
		if doubtful == "" && !few {
			doubtful = cell
		}
	}
	switch {
	case !any:
		return Column{}
	case !numbers, !whole && (large || !shortest && !even):
		return Column{Doubtful: doubtful}
	case whole:
		return Column{Kind: Whole}
	case even:
		return Column{Kind: Real, Decimals: decimals}
	}
	return Column{Kind: Real}
}

// leadingZero reports whether a number begins with a zero, as codes do.
func leadingZero(cell string) bool {
	digits := strings.TrimLeft(cell, "+-")
	return len(digits) > 1 && digits[0] == '0' && digits[1] >= '0' && digits[1] <= '9'
}
