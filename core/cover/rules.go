package cover

import (
	"errors"
	"fmt"
	"math"
	"strconv"
	"strings"
	"sync/atomic"

	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/raster/view"

	"github.com/goccy/go-yaml"

	"github.com/verdex-land/verdex/core/cql"
	"github.com/verdex-land/verdex/core/fault"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/text"
)

// Rule is a condition over layers and the class that holds where it is true.
type Rule struct {
	Class Target
	When  *cql.Expr
	Note  string
}

// Rules are an ordered list of conditions: the first that holds decides.
type Rules struct {
	Source string
	List   []Rule
	Else   *Target // where none holds; nil makes such a cell an error
}

// ReadRules reads rules from YAML:
//
//	rules:
//	  - class: 3
//	    when: cover IN (41, 42) AND slope > 25
//	    note: steep woodland
//	else: nodata
//
// A class is a code or the name of a class of the legend, or nodata. Unknown keys are errors with their place.
func ReadRules(from files.System, path string, legend *Legend) (*Rules, error) {
	data, assumed, err := text.Read(from, path)
	if err != nil {
		return nil, err
	}
	if len(assumed) > 0 {
		return nil, fmt.Errorf("%s: it is not UTF-8: save it with that encoding", path)
	}
	return ParseRules(path, data, legend)
}

// ParseRules reads rules from the text of a file; source is its name in messages.
func ParseRules(source string, text []byte, legend *Legend) (*Rules, error) {
	if len(text) > 1<<20 {
		return nil, fmt.Errorf("%s: rules of more than a megabyte are not read", source)
	}
	var file struct {
		Rules []struct {
			Class any    `yaml:"class"`
			When  string `yaml:"when"`
			Note  string `yaml:"note"`
		} `yaml:"rules"`
		Else any `yaml:"else"`
	}
	if err := yaml.UnmarshalWithOptions(text, &file, yaml.DisallowUnknownField()); err != nil {
		return nil, fmt.Errorf("%s: %s", source, strings.TrimSpace(yaml.FormatError(err, false, true)))
	}
	r := &Rules{Source: source}
	for i, f := range file.Rules {
		to, err := ruleTarget(f.Class, legend)
		if err != nil {
			return nil, fmt.Errorf("%s: rule %d: %w", source, i+1, err)
		}
		if f.When == "" {
			return nil, fmt.Errorf("%s: rule %d has no condition (when: …)", source, i+1)
		}
		when, err := cql.ParseCondition(f.When)
		if err != nil {
			return nil, fmt.Errorf("%s: rule %d: %w", source, i+1, err)
		}
		r.List = append(r.List, Rule{to, when, f.Note})
	}
	if len(r.List) == 0 {
		return nil, fmt.Errorf("%s: it has no rules: begin with the line \"rules:\" and a list under it", source)
	}
	if file.Else != nil {
		to, err := ruleTarget(file.Else, legend)
		if err != nil {
			return nil, fmt.Errorf("%s: else: %w", source, err)
		}
		r.Else = &to
	}
	return r, nil
}

// ruleTarget reads a class: a code, a name of the legend, or nodata.
func ruleTarget(v any, legend *Legend) (Target, error) {
	if v == nil {
		return Target{}, fmt.Errorf("it names no class")
	}
	text := strings.TrimSpace(fmt.Sprint(v))
	if strings.EqualFold(text, "nodata") {
		return Target{NoData: true}, nil
	}
	if code, err := strconv.Atoi(text); err == nil {
		return parseTarget(strconv.Itoa(code), legend)
	}
	if legend != nil {
		for _, c := range legend.Classes {
			if c.Name == text {
				return Target{Code: c.Code}, nil
			}
		}
		return Target{}, fmt.Errorf("the class %q is neither a code nor a name of the legend %s", text, legend.Source)
	}
	return Target{}, fault.Errorf("the class %q is not a code", text).By("write a code, or name the legend that has the class", "legend", "FILE")
}

// RuleView is a raster of the classes that rules give over layers. A cell that is nodata in every layer is
// nodata whatever the rules say. A condition may be true, false or unknown, as a layer without data makes it (CQL2 and SQL say how these combine);
// a cell is undecided, and nodata, where no rule holds and one is unknown. Where no rule holds, none is unknown and there is no else, reading is an error.
type RuleView struct {
	rules  *Rules
	layers *view.Layers
	header raster.Header
	values []float64 // by rule; the last for else
	nodata float64
	unsure float64        // the value of undecided cells
	table  *ruleTable     // for layers of bytes; nil for others
	took   []atomic.Int64 // cells in what has been read, by rule; the last for else
	before []atomic.Int64 // cells where a rule held but an earlier one had decided
	open   atomic.Int64   // undecided cells, counted as took is
}

// RuleValues is what the cells of a [RuleView] hold.
type RuleValues uint8

// The values of a view of rules.
const (
	RuleClasses RuleValues = iota // classes
	RuleApart                     // classes, and a value of its own for undecided cells: see [RuleView.Undecided]
	RuleNumbers                   // the number of the rule that decides, from 1 on, or one more than there are rules for else; undecided cells as above
)

// ErrNoRule is the error of a cell for which no rule holds.
var ErrNoRule = errors.New("no rule holds, and there is no else")

// NewRuleView makes the view.
func NewRuleView(rules *Rules, l *view.Layers, legend *Legend, of RuleValues) (*RuleView, error) {
	byRule := of == RuleNumbers
	c := &Crosswalk{Source: rules.Source}
	for _, r := range rules.List {
		c.Lines = append(c.Lines, Line{To: r.Class})
	}
	if rules.Else != nil {
		c.Lines = append(c.Lines, Line{To: *rules.Else})
	}
	codes, _ := (&Coder{Legend: legend, Crosswalk: c}).codes()
	h := l.List[0].Header()
	h.Name, h.Format, h.Palette = rules.Source, "rules", nil
	var unsure float64
	gap := &unsure
	if of != RuleApart {
		gap = nil
	}
	t, nodata, err := room(h, codes, false, nil, gap)
	if err != nil {
		return nil, err
	}
	if of == RuleClasses {
		unsure = nodata
	}
	v := &RuleView{rules: rules, layers: l, nodata: nodata, unsure: unsure, took: make([]atomic.Int64, len(rules.List)+1), before: make([]atomic.Int64, len(rules.List)+1)}
	if byRule {
		t, nodata = raster.Uint16, math.MaxUint16
		v.nodata, v.unsure = nodata, math.MaxUint16-1
	}
	value := func(i int, to Target) float64 {
		switch {
		case byRule:
			return float64(i + 1)
		case to.NoData:
			return nodata
		}
		return float64(to.Code)
	}
	for i, r := range rules.List {
		v.values = append(v.values, value(i, r.Class))
	}
	if rules.Else != nil {
		v.values = append(v.values, value(len(rules.List), *rules.Else))
	}
	h.Type, h.NoData, h.Overviews = t, &nodata, 0
	if legend != nil && t == raster.Uint8 {
		h.Palette = make([]raster.Color, 256)
		for _, class := range legend.Classes {
			if class.Code >= 0 && class.Code < 256 {
				h.Palette[class.Code] = class.Color
			}
		}
	}
	v.header = h
	var list []*cql.Expr
	for _, r := range rules.List {
		list = append(list, r.When)
	}
	conditions, err := l.NewConditions(list)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", rules.Source, err)
	}
	if l.Bytes() && !byRule && v.header.Type == raster.Uint8 {
		decisions := make([]int16, 0, 1<<16)
		err = conditions.Table(func(_ int, truths [][]uint8, empty []bool) error {
			for i := range empty {
				decisions = append(decisions, v.decision(truths, empty, i))
			}
			return nil
		})
		if err == nil {
			v.table = newRuleTable(v, decisions)
		}
	}
	return v, err
}

// What decides for a cell: a rule from 0 on, their number for else, or one of these.
const (
	allNoData = -1
	noRule    = -2
	undecided = -3
)

// decision finds what decides for the cell at i of a stretch.
func (v *RuleView) decision(truths [][]uint8, empty []bool, i int) int16 {
	if empty[i] {
		return allNoData
	}
	unknown := false
	for k := range truths {
		if truths[k][i] == cql.True {
			return int16(k)
		}
		unknown = unknown || truths[k][i] == cql.Unknown
	}
	if unknown {
		return undecided
	}
	if v.rules.Else == nil {
		return noRule
	}
	return int16(len(v.rules.List))
}

// Tiling is that of the layers.
func (v *RuleView) Tiling() (cols, rows []int) { return v.layers.Tiling() }

// Ahead implements [raster.Announced].
func (v *RuleView) Ahead(windows []raster.Window) bool { return v.layers.Ahead(windows) }

// Took is how many cells rule i (from 0 on; else is the last) decided in what has been read, and Before for
// how many it held though an earlier one had decided. They are counted by views by rule, and by others over
// layers that are not bytes.
func (v *RuleView) Took(i int) int64 { return v.took[i].Load() }

// Undecided is the value of cells for which no rule holds and one is unknown, and how many such cells were read, counted as by Took. ok is
// false where they are nodata, as others are.
func (v *RuleView) Undecided() (value float64, cells int64, ok bool) {
	return v.unsure, v.open.Load(), v.unsure != v.nodata
}

// Before is described with Took.
func (v *RuleView) Before(i int) int64 { return v.before[i].Load() }

// Header implements [raster.Source].
func (v *RuleView) Header() raster.Header { return v.header }

// BlockSize implements [raster.Source].
func (v *RuleView) BlockSize() (width, height int) { return v.layers.Block() }

// NewReader implements [raster.Source].
func (v *RuleView) NewReader() raster.Reader {
	if v.table != nil {
		return v.table.newReader()
	}
	var list []*cql.Expr
	for _, r := range v.rules.List {
		list = append(list, r.When)
	}
	c, err := v.layers.NewConditions(list)
	if err != nil {
		panic(err) // they compiled when the view was made
	}
	return &ruleReader{v, c}
}

type ruleReader struct {
	v *RuleView
	c *view.Conditions
}

// Read implements [raster.Reader].
func (r *ruleReader) Read(w raster.Window, dst *raster.Cells) error {
	v := r.v
	dst.Resize(v.header.Type, w.Width, w.Height, w.Width)
	took, before, open := make([]int64, len(v.took)), make([]int64, len(v.took)), int64(0)
	last := len(v.rules.List)
	err := r.c.Each(w, func(col, row int, truths [][]uint8, empty []bool) error {
		for i := range empty {
			decided := v.decision(truths, empty, i)
			out := v.nodata
			switch {
			case decided == noRule:
				return v.forgotten(w, col+i, row)
			case decided == undecided:
				out = v.unsure
				open++
			case decided >= 0:
				took[decided]++
				out = v.values[decided]
				for k := int(decided) + 1; k < last; k++ {
					if truths[k][i] == cql.True {
						before[k]++
					}
				}
			}
			dst.Set(col+i, row, out)
		}
		return nil
	})
	v.open.Add(open)
	for k := range took {
		v.took[k].Add(took[k])
		v.before[k].Add(before[k])
	}
	return err
}

func (v *RuleView) forgotten(w raster.Window, col, row int) error {
	return fmt.Errorf("%s: %w, at column %d, row %d: add a rule, or an else", v.rules.Source, ErrNoRule, w.Col+col, w.Row+row)
}
