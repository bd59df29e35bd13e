package cover

import (
	"fmt"
	"math"
	"strings"

	"github.com/verdex-land/verdex/core/decimal"
)

// Interval is a set of numbers in mathematical notation: [0.1,0.3) holds 0.1 and not 0.3.
type Interval struct {
	From, To         float64
	FromOpen, ToOpen bool // the end itself does not belong to it
	fromText, toText string
}

// ParseInterval reads an interval such as [0.1,0.3), (-inf,0] or [0.7,inf).
func ParseInterval(text string) (Interval, error) {
	t := strings.TrimSpace(text)
	wrong := fmt.Errorf("the interval %q is not written like [0.1,0.3), (-inf,0] or [0.7,inf)", text)
	if len(t) < 5 || !strings.ContainsRune("[(", rune(t[0])) || !strings.ContainsRune("])", rune(t[len(t)-1])) {
		return Interval{}, wrong
	}
	a, b, ok := strings.Cut(t[1:len(t)-1], ",")
	if !ok {
		return Interval{}, wrong
	}
	i := Interval{FromOpen: t[0] == '(', ToOpen: t[len(t)-1] == ')', fromText: strings.TrimSpace(a), toText: strings.TrimSpace(b)}
	var err1, err2 error
	i.From, err1 = decimal.Parse(i.fromText)
	i.To, err2 = decimal.Parse(i.toText)
	if err1 != nil || err2 != nil || math.IsNaN(i.From) || math.IsNaN(i.To) {
		return Interval{}, wrong
	}
	if math.IsInf(i.From, 0) {
		i.FromOpen = true
	}
	if math.IsInf(i.To, 0) {
		i.ToOpen = true
	}
	if i.From > i.To || i.From == i.To && (i.FromOpen || i.ToOpen) {
		return Interval{}, fmt.Errorf("the interval %q holds no number: its lower end comes first", text)
	}
	return i, nil
}

// Holds reports whether v lies in the interval.
func (i Interval) Holds(v float64) bool {
	return (v > i.From || v == i.From && !i.FromOpen) && (v < i.To || v == i.To && !i.ToOpen)
}

// meets reports whether two intervals have a number in common.
func (i Interval) meets(o Interval) bool {
	if i.From > o.From || i.From == o.From && i.FromOpen && !o.FromOpen {
		i, o = o, i
	}
	return o.From < i.To || o.From == i.To && !i.ToOpen && !o.FromOpen
}

// gapBefore is the interval between i and o, which lies above it, and whether there is one.
func (i Interval) gapBefore(o Interval) (Interval, bool) {
	gap := Interval{From: i.To, To: o.From, FromOpen: !i.ToOpen, ToOpen: !o.FromOpen, fromText: i.toText, toText: o.fromText}
	return gap, gap.From < gap.To || gap.From == gap.To && !gap.FromOpen && !gap.ToOpen
}

// String writes the interval with its ends as they were given.
func (i Interval) String() string {
	open, shut := "[", "]"
	if i.FromOpen {
		open = "("
	}
	if i.ToOpen {
		shut = ")"
	}
	return open + i.fromText + "," + i.toText + shut
}
