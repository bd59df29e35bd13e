package change

import (
	"math"
	"slices"

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
	// Expected is the area that errors of the maps make of ground that did not change: see [Confusion.expects]. NaN where nothing is known of them.
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
func (c *Changes) flicker(back map[[2]int32]tally.Extent, mapped []tally.Extent, quantum float64, errors *Confusion) (out []FlipPair) {
	area := func(e tally.Extent) float64 { return e.Area(quantum) / c.Unit.M2 }
	areas := make([]float64, len(mapped))
	for k, e := range mapped {
		areas[k] = area(e)
	}
	expects := c.expects(errors, areas)
	for pair, e := range back {
		if !e.IsZero() {
			out = append(out, FlipPair{pair[0], pair[1], area(e), expects(pair[0], pair[1])})
		}
	}
	slices.SortFunc(out, func(a, b FlipPair) int {
		if a.Class != b.Class {
			return int(a.Class - b.Class)
		}
		return int(a.Between - b.Between)
	})
	return out
}

// expects returns a function that gives how much ground errors make look as if it were of a class, of another one, and of the first again, though it did not change. Where a map is wrong is taken to have nothing to do with where
// another one is, and all are taken to be as accurate as the one that was assessed. With p the proportions, ground mapped as m is T to p(m,T)/Σp(m,·), and ground that is T is mapped as m with the probability
// q(m|T) = p(m,T)/Σp(·,T); of an area a(T) the maps make A, B, A of a(T)·q(A|T)·q(B|T)·q(A|T). That is one error between two that are right, or two around one.
func (c *Changes) expects(errors *Confusion, areas []float64) func(a, b int32) float64 {
	if errors == nil {
		return func(a, b int32) float64 { return math.NaN() }
	}
	n := len(errors.Classes)
	at := make([]int, len(c.Legend.Classes)) // by place in the legend: the place in errors, -1 for none
	for k, class := range c.Legend.Classes {
		at[k] = slices.Index(errors.Classes, class.Code)
	}
	mapped, ground, truth := make([]float64, n), make([]float64, n), make([]float64, n)
	for m, row := range errors.Proportions {
		for t, p := range row {
			mapped[m] += p
			ground[t] += p
		}
	}
	for k, a := range areas {
		m := at[k]
		if m < 0 || mapped[m] == 0 {
			continue
		}
		for t, p := range errors.Proportions[m] {
			truth[t] += a * p / mapped[m]
		}
	}
	return func(a, b int32) (sum float64) {
		x, y := at[a], at[b]
		if x < 0 || y < 0 {
			return 0 // a class of which no error was found
		}
		for t := range truth {
			if ground[t] > 0 {
				p, q := errors.Proportions[x][t]/ground[t], errors.Proportions[y][t]/ground[t]
				sum += truth[t] * p * q * p
			}
		}
		return sum
	}
}
