// Package epoch compares the labels of epochs: years, dates, or anything else.
package epoch

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"time"
)

// Rates are the change in percent of the opening extent: in all, a year by division, and a year compounded, the r
// with opening·(1+r)^years = closing.
func Rates(opening, closing, net, years float64) (all, simple, compound float64) {
	if opening <= 0 {
		return math.NaN(), math.NaN(), math.NaN()
	}
	all = net / opening * 100
	if math.IsNaN(years) {
		return all, years, years
	}
	// (1+r)^years - 1 by way of logarithms of 1+x, which keep their precision where r is small, and are the same on every processor.
	return all, all / years, math.Expm1(math.Log1p((closing-opening)/opening)/years) * 100
}

// yearDays is the length of a year of the Gregorian calendar in days.
const yearDays = 365.2425

// Years is the time between two labels that are years or dates, NaN for other labels: between two years their difference, else
// days / 365.2425, a year alone being its first day.
func Years(a, b string) float64 {
	x, first, ok1 := When(a)
	y, second, ok2 := When(b)
	switch {
	case !ok1 || !ok2:
		return math.NaN()
	case first && second:
		return float64(y.Year() - x.Year())
	}
	return math.Round(y.Sub(x).Hours()/24) / yearDays
}

// When is the first day of a label, and whether the label is a year alone.
func When(label string) (t time.Time, year, ok bool) {
	for _, layout := range []string{"2006", "2006-01-02", "2006-01"} {
		if t, err := time.Parse(layout, label); err == nil {
			return t, layout == "2006", true
		}
	}
	return t, false, false
}

// InOrder reports an error when labels that are years or dates do not rise.
func InOrder(labels []string) error {
	for i := 1; i < len(labels); i++ {
		if Years(labels[i-1], labels[i]) <= 0 {
			return fmt.Errorf("the epochs %s are not in the order of time: give the earliest one first", strings.Join(labels, ", "))
		}
	}
	return nil
}

// Sort puts labels in the order of time, when all are years or dates.
func Sort(labels []string) {
	for _, l := range labels {
		if _, _, ok := When(l); !ok {
			return
		}
	}
	slices.SortStableFunc(labels, func(a, b string) int {
		x, _, _ := When(a)
		y, _, _ := When(b)
		return x.Compare(y)
	})
}
