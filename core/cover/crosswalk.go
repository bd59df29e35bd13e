package cover

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"github.com/verdex-land/verdex/core/decimal"
	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/rows"

	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/text"
)

// Target is what source values become.
type Target struct {
	Code   int
	NoData bool
	Keep   bool // the value itself is the code
}

// Line is a line of a crosswalk.
type Line struct {
	Number int    // in the file
	From   string // as it is written
	To     Target
	Note   string
}

// Crosswalk says which source values become which class. Of the lines of a value there is one at most.
type Crosswalk struct {
	Source string
	Lines  []Line
	Notes  []string // what had to be assumed when the file was read
	// Gaps are the intervals between neighbouring intervals of the crosswalk that no line holds.
	Gaps []Interval

	values    map[float64]int // line of a single value
	intervals []ranged        // by their lower end
	overlap   bool            // whether some of them do
	nodata    int             // line for nodata cells, -1: they stay nodata
	otherwise int             // line for values without one of their own, -1: they are an error
	problems  []Problem
	single    bool // numbers are rounded to single precision
}

type ranged struct {
	Interval
	line int
}

// Problem is what makes a crosswalk ambiguous or void, and the source values that it concerns.
type Problem struct {
	What     string
	Concerns func(v float64) bool
}

// ReadCrosswalk is InspectCrosswalk for those who need a sound crosswalk: the first problem is an error.
func ReadCrosswalk(from files.System, path string, legend *Legend) (*Crosswalk, error) {
	x, problems, err := InspectCrosswalk(from, path, legend)
	if err == nil && len(problems) > 0 {
		err = fmt.Errorf("%s: %s", path, problems[0].What)
	}
	if err != nil {
		return nil, err
	}
	return x, nil
}

// InspectCrosswalk reads a crosswalk from CSV with the columns from, to and optionally note. from is a
// code, a list such as 41;42;43, an interval such as [0.1,0.3), nodata or else; to is a legend code, nodata or
// keep. Lines that overlap, and targets that are not in the legend, when there is one, are problems; in a crosswalk with
// problems the first line of a value holds. What cannot be read is an error.
func InspectCrosswalk(from files.System, path string, legend *Legend) (*Crosswalk, []Problem, error) {
	t, notes, err := rows.Read(from, path, []string{"from", "to"}, []string{"note"})
	if err != nil {
		return nil, nil, err
	}
	x := &Crosswalk{Source: path, Notes: notes, values: map[float64]int{}, nodata: -1, otherwise: -1}
	for _, r := range t {
		to, err := parseTarget(r.Cell["to"], nil)
		if err == nil {
			x.Lines = append(x.Lines, Line{r.Line, r.Cell["from"], to, r.Cell["note"]})
			err = x.add(r.Cell["from"], len(x.Lines)-1)
		}
		if err != nil {
			return nil, nil, fmt.Errorf("%s: line %d: %w", path, r.Line, err)
		}
		if _, err := parseTarget(r.Cell["to"], legend); err != nil {
			line := len(x.Lines) - 1
			x.problem(fmt.Sprintf("line %d: %v", r.Line, err), func(v float64) bool { return x.lineOf(v, false) == line })
		}
	}
	if len(x.Lines) == 0 {
		return nil, nil, fmt.Errorf("%s: it has no lines, so no value would become a class", path)
	}
	x.settle()
	return x, x.problems, nil
}

func (x *Crosswalk) problem(what string, concerns func(v float64) bool) {
	x.problems = append(x.problems, Problem{what, concerns})
}

// add enters the source values of a line.
func (x *Crosswalk) add(from string, line int) error {
	twice := func(other int, what string, concerns func(v float64) bool) {
		x.problem(fmt.Sprintf("lines %d and %d both say what becomes of %s: keep one of them", x.Lines[other].Number, x.Lines[line].Number, what), concerns)
	}
	none := func(float64) bool { return false }
	for _, part := range strings.Split(from, ";") {
		part = strings.ToLower(strings.TrimSpace(part))
		switch {
		case part == "":
			return fmt.Errorf("it has an empty source value")
		case part == "nodata":
			if x.nodata >= 0 {
				twice(x.nodata, part, none)
				continue
			}
			x.nodata = line
		case part == "else":
			if x.otherwise >= 0 {
				twice(x.otherwise, part, none)
				continue
			}
			x.otherwise = line
		case strings.ContainsAny(part, "[]()"):
			i, err := ParseInterval(part)
			if err != nil {
				return err
			}
			x.intervals = append(x.intervals, ranged{i, line})
		default:
			v, err := decimal.Parse(part)
			if err != nil || math.IsNaN(v) || math.IsInf(v, 0) {
				return fmt.Errorf("the source value %q is neither a number, a list such as 41;42;43, an interval such as [0.1,0.3), nodata nor else", part)
			}
			if other, ok := x.values[v]; ok {
				twice(other, part, func(u float64) bool { return u == v })
				continue
			}
			x.values[v] = line
		}
	}
	return nil
}

// settle sorts the intervals and finds overlaps and gaps.
func (x *Crosswalk) settle() {
	slices.SortStableFunc(x.intervals, func(a, b ranged) int {
		if c := cmp.Compare(a.From, b.From); c != 0 {
			return c
		}
		return cmp.Compare(a.To, b.To)
	})
	furthest := 0 // the interval that reaches furthest so far
	for i, r := range x.intervals {
		for _, before := range x.intervals[:i] {
			if before.meets(r.Interval) {
				x.overlap = true
				x.problem(fmt.Sprintf("lines %d and %d overlap: %v and %v share numbers, so that it is not clear which holds: end one where the other begins",
					x.Lines[before.line].Number, x.Lines[r.line].Number, before.Interval, r.Interval),
					func(v float64) bool { return before.Holds(v) && r.Holds(v) })
			}
		}
		if i > 0 {
			if gap, ok := x.intervals[furthest].gapBefore(r.Interval); ok {
				x.Gaps = append(x.Gaps, gap)
			}
			if f := x.intervals[furthest]; r.To > f.To || r.To == f.To && f.ToOpen {
				furthest = i
			}
		}
		for v, line := range x.values {
			if r.Holds(v) {
				x.problem(fmt.Sprintf("lines %d and %d overlap: %v holds %v too: keep one of them",
					min(x.Lines[line].Number, x.Lines[r.line].Number), max(x.Lines[line].Number, x.Lines[r.line].Number), r.Interval, v),
					func(u float64) bool { return u == v })
			}
		}
	}
}

// In gives the crosswalk in the precision of a raster's cells: for float32 codes and limits are rounded as the cells are, so that a
// cell of 0.7 is not below the limit 0.7, and a line for 0.1 holds cells of 0.1.
func (x *Crosswalk) In(t raster.CellType) *Crosswalk {
	if x == nil || t != raster.Float32 || x.single {
		return x
	}
	out := *x
	out.single = true
	out.values = map[float64]int{}
	for v, line := range x.values {
		v = float64(float32(v))
		if other, ok := out.values[v]; !ok || line < other {
			out.values[v] = line
		}
	}
	out.intervals = slices.Clone(x.intervals)
	for i := range out.intervals {
		r := &out.intervals[i]
		r.From, r.To = float64(float32(r.From)), float64(float32(r.To))
	}
	return &out
}

// In is the coder for cells of a type, in their precision.
func (c *Coder) In(t raster.CellType) *Coder {
	out := *c
	out.Crosswalk = c.Crosswalk.In(t)
	return &out
}

// HasIntervals reports whether ranges of values have a line.
func (x *Crosswalk) HasIntervals() bool { return len(x.intervals) > 0 }

// lineOf is the line of a value, -1 when it has none; missing says that it is nodata.
func (x *Crosswalk) lineOf(v float64, missing bool) int {
	if missing && x.nodata >= 0 {
		return x.nodata
	}
	if line, ok := x.values[v]; ok {
		return line
	}
	if missing {
		return -1
	}
	if x.overlap {
		line := x.otherwise
		for _, r := range x.intervals {
			if r.Holds(v) && (line == x.otherwise || r.line < line) {
				line = r.line
			}
		}
		return line
	}
	lo, hi := 0, len(x.intervals)
	for lo < hi {
		mid := (lo + hi) / 2
		switch r := &x.intervals[mid]; {
		case r.Holds(v):
			return r.line
		case v <= r.From:
			hi = mid
		default:
			lo = mid + 1
		}
	}
	return x.otherwise
}

// String writes the target as a crosswalk has it.
func (t Target) String() string {
	switch {
	case t.NoData:
		return "nodata"
	case t.Keep:
		return "keep"
	}
	return strconv.Itoa(t.Code)
}

func parseTarget(cell string, legend *Legend) (Target, error) {
	switch strings.ToLower(cell) {
	case "nodata":
		return Target{NoData: true}, nil
	case "keep":
		return Target{Keep: true}, nil
	}
	plain, err := text.Code(cell)
	if err != nil {
		return Target{}, err
	}
	code, err := strconv.Atoi(plain)
	if err != nil {
		return Target{}, fmt.Errorf("the target %q is neither a legend code, nodata nor keep", cell)
	}
	if _, ok := legend.Find(code); legend != nil && !ok {
		return Target{}, fmt.Errorf("the target %d is not in the legend %s: add the class there, or correct the line", code, legend.Source)
	}
	return Target{Code: code}, nil
}

// Kind is what a cell counts as.
type Kind uint8

// The kinds, in the order in which they are reported.
const (
	Classified Kind = iota
	NoData
	Unlisted
	Outside
)

// String names the kind as tables do: class, nodata, unlisted or outside.
func (k Kind) String() string { return [...]string{"class", "nodata", "unlisted", "outside"}[k] }

// Coder decides what the values of a raster count as.
type Coder struct {
	Legend    *Legend    // nil: every value is a class of its own
	Crosswalk *Crosswalk // nil: values are codes
	NoData    *float64   // the declared nodata value
	Undecided *float64   // a value of cells that are without data, too, because rules could not be decided; nil for none
	Groups    *Groups    // nil: classes are reported as they are
	gap       *float64   // what values without a line have become, nil for nothing
}

// Meaning is what a value counts as: its kind and, for classes and unlisted values, its code.
type Meaning struct {
	Kind  Kind
	Code  int
	Value float64 // the source value, for unlisted ones
}

// Code decides what a value counts as. It reports false when a crosswalk has no line for it.
func (c *Coder) Code(v float64) (Meaning, bool) { return c.CodeOf(v, c.missing(v)) }

// CodeOf is Code for those who know whether a cell is without data, whatever its value.
func (c *Coder) CodeOf(v float64, missing bool) (Meaning, bool) {
	if c.gap != nil && v == *c.gap {
		return Meaning{}, false
	}
	missing = missing || c.missing(v)
	if missing && c.NoData != nil { // a crosswalk may list the nodata value
		v = *c.NoData
	}
	if c.Crosswalk == nil {
		if missing {
			return Meaning{Kind: NoData}, true
		}
		return c.listed(v), true
	}
	line := c.Crosswalk.lineOf(v, missing)
	if line < 0 {
		return Meaning{Kind: NoData}, missing
	}
	to := c.Crosswalk.Lines[line].To
	switch {
	case to.NoData, to.Keep && missing:
		return Meaning{Kind: NoData}, true
	case to.Keep:
		return c.listed(v), true
	}
	return c.class(to.Code), true
}

// LineOf is the line of the crosswalk that a value comes to, -1 when it has none; missing says that the value is
// nodata, which without a line stays so.
func (c *Coder) LineOf(v float64) (line int, missing bool) {
	if missing = c.missing(v); missing && c.NoData != nil {
		v = *c.NoData
	}
	return c.Crosswalk.lineOf(v, missing), missing
}

// FillsWith is the line of the crosswalk that makes a class of cells without data, nil if none does, and whether it says nodata; else it lists the
// value that stands for it.
func (c *Coder) FillsWith() (line *Line, named bool) {
	if c.Crosswalk == nil {
		return nil, false
	}
	n, _ := c.LineOf(math.NaN())
	if n < 0 || c.Crosswalk.Lines[n].To.NoData || c.Crosswalk.Lines[n].To.Keep {
		return nil, false
	}
	return &c.Crosswalk.Lines[n], n == c.Crosswalk.nodata
}

func (c *Coder) missing(v float64) bool {
	return math.IsNaN(v) || c.NoData != nil && v == *c.NoData || c.Undecided != nil && v == *c.Undecided
}

// class is the meaning of a class, by its group where groups are wanted.
func (c *Coder) class(code int) Meaning {
	if c.Groups != nil {
		if g, ok := c.Groups.of[code]; ok {
			code = g
		}
	}
	return Meaning{Kind: Classified, Code: code}
}

// Shown is the legend in which classes are reported: that of the groups where they are wanted.
func (c *Coder) Shown() *Legend {
	if c.Groups != nil {
		return c.Groups.Legend
	}
	return c.Legend
}

func (c *Coder) listed(v float64) Meaning {
	code := int(v)
	if float64(code) != v {
		return Meaning{Kind: Unlisted, Value: v}
	}
	if _, ok := c.Legend.Find(code); c.Legend != nil && !ok {
		return Meaning{Kind: Unlisted, Code: code, Value: v}
	}
	return c.class(code)
}
