package raster

import "slices"

// The rule of majorities, the same wherever classes are put together: the value with the greatest weight wins. In a tie, values that come
// from rasters in an order (the members of a mosaic, the layers of a stack) go by that order, the last first; values that come from the same
// ground (the parts of a cell, the cells of an overview, a zone) have none, and the lowest wins.

// Majority returns the value that most of a list hold, which has at least one, and whether others are as frequent. In a tie the value with
// the least rank wins, and among those without a rank the one that stands last in the list. A nil rank ranks none.
func Majority(values []float64, rank map[float64]int) (v float64, tied bool) {
	most := 0
	for i := len(values) - 1; i >= 0; i-- { // the last first, so that it stays in a tie
		u := values[i]
		if slices.Contains(values[i+1:], u) {
			continue
		}
		n := 0
		for _, w := range values[:i+1] {
			if w == u {
				n++
			}
		}
		switch {
		case n > most:
			v, most, tied = u, n, false
		case n == most:
			tied = true
			a, known := rank[u]
			if b, other := rank[v]; known && (!other || a < b) {
				v = u
			}
		}
	}
	return v, tied
}

// Dominant returns the value with the greatest weight, and its weight; in a tie the lowest value. Weights that differ by less than a
// billionth of the greatest are the same. It is false where no weight is above 0.
func Dominant(weights map[float64]float64) (v, weight float64, ok bool) {
	for _, w := range weights {
		weight = max(weight, w)
	}
	for u, w := range weights {
		if w > 0 && w >= weight*(1-1e-9) && (!ok || u < v) {
			v, ok = u, true
		}
	}
	return v, weight, ok
}
