package cover

import (
	"fmt"
	"math"
	"strconv"
	"strings"
)

// Target is what source values become.
type Target struct {
	Code   int
	NoData bool
	Keep   bool // the value itself is the code
}

// Crosswalk says which source values become which class.
type Crosswalk struct {
	Source string
	Values map[float64]Target
	NoData *Target // for nodata cells; nil leaves them nodata
	Else   *Target // for values without a line; nil makes them an error
}

// ReadCrosswalk reads a crosswalk from CSV with the columns from, to and optionally note. from is a
// code, a list such as 41;42;43, nodata or else; to is a legend code, nodata or keep. Targets
// must be in the legend, when there is one.
func ReadCrosswalk(path string, legend *Legend) (*Crosswalk, error) {
	t, err := readTable(path, []string{"from", "to"}, []string{"note"})
	if err != nil {
		return nil, err
	}
	x := &Crosswalk{Source: path, Values: map[float64]Target{}}
	lines := map[string]int{}
	for _, r := range t {
		to, err := parseTarget(r.cell["to"], legend)
		if err != nil {
			return nil, fmt.Errorf("%s: line %d: %w", path, r.line, err)
		}
		for _, part := range strings.Split(r.cell["from"], ";") {
			part = strings.ToLower(strings.TrimSpace(part))
			key := part
			switch part {
			case "":
				return nil, fmt.Errorf("%s: line %d: it has an empty source value", path, r.line)
			case "nodata":
				x.NoData = &to
			case "else":
				x.Else = &to
			default:
				if strings.ContainsAny(part, "[(") {
					return nil, fmt.Errorf("%s: line %d: the interval %q is not read by this version: list the codes instead, as in 41;42;43", path, r.line, r.cell["from"])
				}
				v, err := strconv.ParseFloat(part, 64)
				if err != nil || math.IsNaN(v) || math.IsInf(v, 0) {
					return nil, fmt.Errorf("%s: line %d: the source value %q is neither a number, a list such as 41;42;43, nodata nor else", path, r.line, part)
				}
				x.Values[v] = to
				key = strconv.FormatFloat(v, 'g', -1, 64)
			}
			if first, ok := lines[key]; ok {
				return nil, fmt.Errorf("%s: lines %d and %d both say what becomes of %s: keep one of them", path, first, r.line, part)
			}
			lines[key] = r.line
		}
	}
	if len(lines) == 0 {
		return nil, fmt.Errorf("%s: it has no lines, so no value would become a class", path)
	}
	return x, nil
}

func parseTarget(text string, legend *Legend) (Target, error) {
	switch strings.ToLower(text) {
	case "nodata":
		return Target{NoData: true}, nil
	case "keep":
		return Target{Keep: true}, nil
	}
	code, err := strconv.Atoi(text)
	if err != nil {
		return Target{}, fmt.Errorf("the target %q is neither a legend code, nodata nor keep", text)
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

func (k Kind) String() string { return [...]string{"class", "nodata", "unlisted", "outside"}[k] }

// Coder decides what the values of a raster count as.
type Coder struct {
	Legend    *Legend    // nil: every value is a class of its own
	Crosswalk *Crosswalk // nil: values are codes
	NoData    *float64   // the declared nodata value
}

// Meaning is what a value counts as: its kind and, for classes and unlisted values, its code.
type Meaning struct {
	Kind  Kind
	Code  int
	Value float64 // the source value, for unlisted ones
}

// Code decides what a value counts as. It reports false when a crosswalk has no line for it.
func (c *Coder) Code(v float64) (Meaning, bool) {
	missing := math.IsNaN(v) || c.NoData != nil && v == *c.NoData
	if c.Crosswalk == nil {
		if missing {
			return Meaning{Kind: NoData}, true
		}
		return c.listed(v), true
	}
	var to Target
	switch t, ok := c.Crosswalk.Values[v]; {
	case missing && c.Crosswalk.NoData != nil:
		to = *c.Crosswalk.NoData
	case missing && !ok:
		return Meaning{Kind: NoData}, true
	case ok:
		to = t
	case c.Crosswalk.Else != nil:
		to = *c.Crosswalk.Else
	default:
		return Meaning{}, false
	}
	switch {
	case to.NoData, to.Keep && missing:
		return Meaning{Kind: NoData}, true
	case to.Keep:
		return c.listed(v), true
	}
	return Meaning{Kind: Classified, Code: to.Code}, true
}

func (c *Coder) listed(v float64) Meaning {
	code := int(v)
	if float64(code) != v {
		return Meaning{Kind: Unlisted, Value: v}
	}
	if _, ok := c.Legend.Find(code); c.Legend != nil && !ok {
		return Meaning{Kind: Unlisted, Code: code, Value: v}
	}
	return Meaning{Kind: Classified, Code: code}
}
