package draw

import (
	"math"
	"slices"
)

// LabelPoint is a place within rings where a label has room: the middle of the widest stretch that lies in them, of those along some rows.
func LabelPoint(rings []Ring) (at [2]float64) {
	least, most := math.Inf(1), math.Inf(-1)
	for _, r := range rings {
		for _, q := range r {
			least, most = math.Min(least, q[1]), math.Max(most, q[1])
		}
	}
	widest := -1.0
	const rows = 25
	for i := range rows {
		y := least + (most-least)*(float64(i)+0.5)/rows
		var xs []float64
		for _, r := range rings {
			for k, q := range r {
				n := r[(k+1)%len(r)]
				if (q[1] > y) != (n[1] > y) {
					xs = append(xs, q[0]+(n[0]-q[0])*(y-q[1])/(n[1]-q[1]))
				}
			}
		}
		slices.Sort(xs)
		for k := 0; k+1 < len(xs); k += 2 {
			x := (xs[k] + xs[k+1]) / 2
			if w := math.Min(xs[k+1]-xs[k], 4*clearance(rings, x, y)); w > widest { // a label is wider than it is high
				widest, at = w, [2]float64{x, y}
			}
		}
	}
	return at
}

// clearance is how far the nearest line above or below a place is.
func clearance(rings []Ring, x, y float64) float64 {
	least := math.Inf(1)
	for _, r := range rings {
		for k, q := range r {
			n := r[(k+1)%len(r)]
			if (q[0] > x) != (n[0] > x) {
				least = math.Min(least, math.Abs(q[1]+(n[1]-q[1])*(x-q[0])/(n[0]-q[0])-y))
			}
		}
	}
	return least
}
