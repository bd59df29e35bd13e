package change

import (
	"cmp"
	"math"
	"slices"

	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/tally"
)

// Confusion is how often a map has a class for what is on the ground, of an assessment of its accuracy.
type Confusion struct {
	Classes     []int       // their codes
	Proportions [][]float64 // of the area, by class of the map and class on the ground
}

// FlipPair is the ground of a zone that was of one class, of another one at the next epoch, and of the first one again.
type FlipPair struct {
	Class, Between int32 // places in the legend
	Area           float64
	// Expected is the area that errors of the maps make of ground that did not change: see [errorsOfMaps.expects]. NaN where nothing is known of them.
	Expected float64
}

// Unexplained is the area that no error explains; all of it where nothing is known of errors.
func (p *FlipPair) Unexplained() float64 {
	if math.IsNaN(p.Expected) {
		return p.Area
	}
	return max(0, p.Area-p.Expected)
}

// flicker are the pairs of a zone, by class. back is by class and the one between; mapped is what each class has at the first of the epochs, on ground that all of them map.
func (c *Changes) flicker(back map[[2]int32]tally.Extent, mapped []tally.Extent, quantum float64, errors *errorsOfMaps) (out []FlipPair) {
	area := func(e tally.Extent) float64 { return e.Area(quantum) / c.Unit.M2 }
	areas := make([]float64, len(mapped))
	for k, e := range mapped {
		areas[k] = area(e)
	}
	expects := errors.expects(areas)
	for pair, e := range back {
		if !e.IsZero() {
			out = append(out, FlipPair{pair[0], pair[1], area(e), expects(pair[0], pair[1])})
		}
	}
	slices.SortFunc(out, func(a, b FlipPair) int {
		return cmp.Or(cmp.Compare(a.Class, b.Class), cmp.Compare(a.Between, b.Between))
	})
	return out
}

// errorsOfMaps is a confusion as classes of a legend are looked up in it.
type errorsOfMaps struct {
	*Confusion
	at             []int     // by place in the legend: the place among the classes of the confusion, -1 for none
	mapped, ground []float64 // by that place: the share of what is mapped as the class, and of what is
}

// of is nil for nil.
func (e *Confusion) of(l *cover.Legend) *errorsOfMaps {
	if e == nil {
		return nil
	}
	out := &errorsOfMaps{Confusion: e, mapped: make([]float64, len(e.Classes)), ground: make([]float64, len(e.Classes))}
	for _, class := range l.Classes {
		out.at = append(out.at, slices.Index(e.Classes, class.Code))
	}
	for m, row := range e.Proportions {
		for t, p := range row {
			out.mapped[m] += p
			out.ground[t] += p
		}
	}
	return out
}

// expects returns a function that gives how much ground errors make look as if it were of a class, of another one, and of the first again, though it did not change; areas are what each class of the legend has. Where a map is wrong is taken to have
// nothing to do with where another one is, and all are taken to be as accurate as the one that was assessed. With p the proportions, ground mapped as m is T to p(m,T)/Σp(m,·), and ground that is T is mapped as m with the probability
// q(m|T) = p(m,T)/Σp(·,T); of an area a(T) the maps make A, B, A of a(T)·q(A|T)·q(B|T)·q(A|T). That is one error between two that are right, or two around one. Where nothing is known of errors it gives NaN.
func (e *errorsOfMaps) expects(areas []float64) func(a, b int32) float64 {
	if e == nil {
		return func(a, b int32) float64 { return math.NaN() }
	}
	truth := make([]float64, len(e.Classes))
	for k, a := range areas {
		m := e.at[k]
		if m < 0 || e.mapped[m] == 0 {
			continue
		}
		for t, p := range e.Proportions[m] {
			truth[t] += a * p / e.mapped[m]
		}
	}
	return func(a, b int32) (sum float64) {
		x, y := e.at[a], e.at[b]
		if x < 0 || y < 0 {
			return math.NaN() // a class that was not assessed
		}
		for t := range truth {
			if e.ground[t] > 0 {
				p, q := e.Proportions[x][t]/e.ground[t], e.Proportions[y][t]/e.ground[t]
				sum += truth[t] * p * q * p
			}
		}
		return sum
	}
}
