package draw

import (
	"fmt"
	"image/color"
	"math"
	"slices"
)

// Breaks divide numbers into classes: class i has the numbers from Limits[i] up to Limits[i+1], the last one including its upper limit.
type Breaks struct {
	Limits    []float64
	Diverging bool // around zero, for changes
}

// NewBreaks divides numbers, of which NaN are left out, into at most n classes: "equal" intervals, "quantiles" of as many numbers each, or "natural" breaks, where the
// sum of squared differences from the means of classes is least (Fisher 1958). Numbers of both signs are divided on each side of zero.
func NewBreaks(values []float64, how string, n int) (*Breaks, error) {
	var below, above []float64
	for _, v := range values {
		switch {
		case math.IsNaN(v):
		case math.IsInf(v, 0):
			return nil, fmt.Errorf("a number is infinite, which no class holds")
		case v < 0:
			below = append(below, v)
		default:
			above = append(above, v)
		}
	}
	slices.Sort(below)
	slices.Sort(above)
	if len(below)+len(above) == 0 {
		return nil, fmt.Errorf("there is no number to divide into classes")
	}
	if len(below) == 0 {
		return &Breaks{Limits: divide(above, how, n)}, nil
	}
	half := max(1, n/2)
	if how == "equal" { // the same steps on both sides
		most := math.Max(-below[0], 0)
		if len(above) > 0 {
			most = math.Max(most, above[len(above)-1])
		}
		b := &Breaks{Diverging: true}
		for i := -half; i <= half; i++ {
			b.Limits = append(b.Limits, most*float64(i)/float64(half))
		}
		return b, nil
	}
	b := &Breaks{Limits: divide(append(below, 0), how, half), Diverging: true}
	if len(above) > 0 && above[len(above)-1] > 0 {
		b.Limits = append(b.Limits, divide(append([]float64{0}, above...), how, half)[1:]...)
	}
	return b, nil
}

// StatedBreaks are limits that are given, which must rise.
func StatedBreaks(limits []float64) (*Breaks, error) {
	if slices.ContainsFunc(limits, math.IsNaN) || len(limits) < 2 || !slices.IsSorted(limits) || len(slices.Compact(slices.Clone(limits))) != len(limits) {
		return nil, fmt.Errorf("limits are two numbers or more that rise")
	}
	return &Breaks{limits, limits[0] < 0 && limits[len(limits)-1] > 0}, nil
}

// divide divides numbers that are sorted.
func divide(sorted []float64, how string, n int) (limits []float64) {
	distinct := slices.Compact(slices.Clone(sorted))
	n = max(1, min(n, len(distinct)-1))
	least, most := sorted[0], sorted[len(sorted)-1]
	switch how {
	case "quantiles":
		for i := range n + 1 {
			limits = append(limits, sorted[min(len(sorted)-1, i*len(sorted)/n)])
		}
		limits[n] = most
	case "natural":
		limits = natural(sorted, n)
	default:
		for i := range n + 1 {
			limits = append(limits, least+(most-least)*float64(i)/float64(n))
		}
	}
	if limits = slices.Compact(limits); len(limits) < 2 {
		limits = []float64{least, math.Nextafter(most, math.Inf(1))}
	}
	return limits
}

// natural finds the classes of sorted numbers whose sums of squared differences from their means are least, by dynamic programming. Of more than 1,500 numbers
// as many quantiles are divided.
func natural(sorted []float64, n int) []float64 {
	const most = 1500
	v := sorted
	if len(v) > most {
		v = make([]float64, most)
		for i := range v {
			v[i] = sorted[i*(len(sorted)-1)/(most-1)]
		}
	}
	m := len(v)
	sum, squares := make([]float64, m+1), make([]float64, m+1)
	for i, x := range v {
		x -= v[0]
		sum[i+1], squares[i+1] = sum[i]+x, squares[i]+x*x
	}
	cost := func(a, b int) float64 { // of v[a:b]
		s := sum[b] - sum[a]
		return squares[b] - squares[a] - s*s/float64(b-a)
	}
	best := make([][]float64, n+1)
	from := make([][]int, n+1)
	for k := range best {
		best[k], from[k] = make([]float64, m+1), make([]int, m+1)
		for i := range best[k] {
			best[k][i] = math.Inf(1)
		}
	}
	best[0][0] = 0
	for k := 1; k <= n; k++ {
		for i := k; i <= m; i++ {
			for a := k - 1; a < i; a++ {
				if c := best[k-1][a] + cost(a, i); c < best[k][i] {
					best[k][i], from[k][i] = c, a
				}
			}
		}
	}
	limits := []float64{v[m-1]}
	for k, i := n, m; k > 0; k-- {
		i = from[k][i]
		limits = append(limits, v[i])
	}
	slices.Reverse(limits)
	return limits
}

// Of is the class of a number, -1 for NaN and for numbers beyond the limits.
func (b *Breaks) Of(v float64) int {
	n := len(b.Limits) - 1
	if math.IsNaN(v) || v < b.Limits[0] || v > b.Limits[n] {
		return -1
	}
	for i := range n {
		if v < b.Limits[i+1] {
			return i
		}
	}
	return n - 1
}

// Colors are those of the classes: from little to much, or from loss to gain.
func (b *Breaks) Colors() (out []color.NRGBA) {
	n := len(b.Limits) - 1
	if !b.Diverging {
		for i := range n {
			out = append(out, ramp(amounts, 0.08+0.92*float64(i)/math.Max(1, float64(n-1))))
		}
		return out
	}
	least, most := -b.Limits[0], b.Limits[n]
	whole := math.Max(least, most)
	for i := range n {
		mid := (b.Limits[i] + b.Limits[i+1]) / 2
		if mid < 0 {
			out = append(out, ramp(losses, 0.15+0.85*-mid/whole))
		} else {
			out = append(out, ramp(gains, 0.15+0.85*mid/whole))
		}
	}
	return out
}
