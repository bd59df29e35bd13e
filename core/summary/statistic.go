package summary

import (
	"fmt"
	"math"
	"math/big"
	"slices"
	"strings"

	"github.com/verdex-land/verdex/core/tally"
)

// Statistic is a number about the values in a zone. Cells that are nodata, and values that are not finite numbers, take no part. A new
// statistic is an entry of the list below: what it computes, and what tables and terminals say about it.
type Statistic struct {
	Name    string
	Meaning string // as the description of a column
	Kind    Kind
	// Arithmetic statistics compute with values, and mean nothing where these are codes of classes.
	Arithmetic bool
	percents   []int // the percentiles that it is made of
	of         func(*measured) float64
}

// Kind says what a statistic counts, and so how it is shown.
type Kind uint8

// The kinds of statistics.
const (
	Values  Kind = iota // in the unit of the values
	Amount              // a sum of values
	Cells               // a number of cells, with shares
	Area                // m²
	Variety             // a number of different values
	Code                // one of the values, which may be a code
)

// counted reports whether a statistic needs every value counted by itself.
func (s *Statistic) counted() bool { return s.Kind == Variety || s.Kind == Code }

// Statistics are all but the percentiles other than p10 and p90. Those of values are weighted by the true area that holds each in the
// zone.
var Statistics = []*Statistic{
	{Name: "count", Kind: Cells, Meaning: "number of cells with a value, those that the outline cuts by their share",
		of: func(m *measured) float64 { return m.extent.CellCount() }},
	{Name: "area", Kind: Area, Meaning: "true area of the cells with a value",
		of: func(m *measured) float64 { return m.extent.Area(m.unit) }},
	{Name: "mean", Meaning: "mean of the values, weighted by true area", Arithmetic: true, of: (*measured).mean},
	{Name: "std", Meaning: "standard deviation of the values about their mean, weighted by true area; of the whole population, not of a sample", Arithmetic: true, of: (*measured).std},
	{Name: "min", Meaning: "least value", of: func(m *measured) float64 { return m.least }},
	{Name: "max", Meaning: "greatest value", of: func(m *measured) float64 { return m.greatest }},
	{Name: "range", Meaning: "greatest less least value", Arithmetic: true, of: func(m *measured) float64 { return m.greatest - m.least }},
	{Name: "median", Meaning: "least value such that at least half of the area has it or less", percents: []int{50}, of: func(m *measured) float64 { return m.quantile(50) }},
	percentile(10), percentile(90),
	{Name: "sum", Kind: Amount, Meaning: "sum of the values, each by the share of its cell in the zone, as is right for cells that hold amounts", Arithmetic: true,
		of: func(m *measured) float64 { m.sum(); return float(m.share) }},
	{Name: "variety", Kind: Variety, Meaning: "number of different values", of: func(m *measured) float64 { return float64(len(m.list)) }},
	{Name: "majority", Kind: Code, Meaning: "value with the largest area, in a tie the lowest", of: func(m *measured) float64 { return m.extreme(1) }},
	{Name: "minority", Kind: Code, Meaning: "value with the smallest area, in a tie the lowest", of: func(m *measured) float64 { return m.extreme(-1) }},
}

func percentile(n int) *Statistic {
	return &Statistic{Name: fmt.Sprintf("p%d", n), Meaning: fmt.Sprintf("least value such that at least %d percent of the area has it or less", n), percents: []int{n},
		of: func(m *measured) float64 { return m.quantile(n) }}
}

// ParseStatistics reads names separated by commas: those of Statistics, and p1 to p99.
func ParseStatistics(text string) (out []*Statistic, err error) {
	for _, name := range strings.Split(text, ",") {
		s := named(strings.ToLower(strings.TrimSpace(name)))
		if s == nil {
			return nil, fmt.Errorf("the statistic %q is not known: choose from %s and p1 to p99", name, strings.Join(names(), ", "))
		}
		if slices.ContainsFunc(out, func(o *Statistic) bool { return o.Name == s.Name }) {
			return nil, fmt.Errorf("the statistic %s is named twice", s.Name)
		}
		out = append(out, s)
	}
	return out, nil
}

func named(name string) *Statistic {
	for _, s := range Statistics {
		if s.Name == name {
			return s
		}
	}
	for n := 1; n < 100; n++ {
		if name == fmt.Sprintf("p%d", n) {
			return percentile(n)
		}
	}
	return nil
}

// names are those of all statistics but percentiles by number.
func names() (out []string) {
	for _, s := range Statistics {
		if len(s.percents) == 0 || s.Name == "median" {
			out = append(out, s.Name)
		}
	}
	return out
}

// measured is what is known of the values in a zone, or in a class of it: each value with its cells where they could be counted, else
// moments.
type measured struct {
	extent          tally.Extent // of all cells with a value
	unit            float64      // of areas
	least, greatest float64
	list            []weighted // by value; nil where they were not counted
	quantiles       map[int]float64
	// Sums of value·area, value²·area, value·share and area: exact, and squares do not cancel.
	area, square, share, total *big.Float
}

// value computes a statistic, NaN where there is no cell unless it counts them.
func (m *measured) value(s *Statistic) float64 {
	if m.extent.IsZero() && (s.Kind == Values || s.Kind == Amount || s.Kind == Code) {
		return math.NaN()
	}
	return s.of(m)
}

const precision = 400

func whole(v float64) *big.Float { return new(big.Float).SetPrec(precision).SetFloat64(v) }

func float(v *big.Float) float64 { x, _ := v.Float64(); return x }

// sum adds counted values up, once.
func (m *measured) sum() {
	if m.total != nil {
		return
	}
	m.area, m.square, m.share, m.total = whole(0), whole(0), whole(0), whole(0)
	for _, w := range m.list {
		a := new(big.Float).SetPrec(precision).SetInt(w.extent.Fixed())
		v := whole(w.value)
		m.total.Add(m.total, a)
		m.area.Add(m.area, new(big.Float).Mul(a, v))
		m.square.Add(m.square, new(big.Float).Mul(new(big.Float).Mul(a, v), v))
		m.share.Add(m.share, new(big.Float).Mul(whole(w.extent.CellCount()), v))
	}
}

func (m *measured) exactMean() *big.Float {
	if m.sum(); m.total.Sign() <= 0 {
		return nil
	}
	return new(big.Float).SetPrec(precision).Quo(m.area, m.total)
}

func (m *measured) mean() float64 {
	mean := m.exactMean()
	if mean == nil {
		return math.NaN()
	}
	return float(mean)
}

func (m *measured) std() float64 {
	mean := m.exactMean()
	if mean == nil {
		return math.NaN()
	}
	variance := new(big.Float).SetPrec(precision).Quo(m.square, m.total)
	variance.Sub(variance, new(big.Float).SetPrec(precision).Mul(mean, mean))
	return math.Sqrt(math.Max(0, float(variance)))
}

// quantile is the least value such that at least percent of the area has it or less.
func (m *measured) quantile(percent int) float64 {
	if v, ok := m.quantiles[percent]; ok {
		return v
	}
	need := new(big.Int).Mul(m.extent.Fixed(), big.NewInt(int64(percent)))
	sum := new(big.Int)
	for _, w := range m.list {
		sum.Add(sum, w.extent.Fixed())
		if new(big.Int).Mul(sum, big.NewInt(100)).Cmp(need) >= 0 {
			return w.value
		}
	}
	return math.NaN()
}

// extreme is the value with the most area (1) or the least (-1).
func (m *measured) extreme(sign int) float64 {
	best := m.list[0]
	for _, w := range m.list[1:] {
		if w.extent.Fixed().Cmp(best.extent.Fixed())*sign > 0 {
			best = w
		}
	}
	return best.value
}
