package draw

import (
	"fmt"
	"image/color"
	"math"
	"slices"
)

// Breaks divide numbers into classes: class i has the numbers from Limits[i] up to Limits[i+1], the last one including its upper limit, which may be its lower one, too.
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
	limits := divide(below, how, half)
	b := &Breaks{Limits: append(limits[:len(limits)-1], 0), Diverging: true}
	if len(above) > 0 {
		b.Limits = append(b.Limits, divide(above, how, half)[1:]...)
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

// divide divides numbers that are sorted into n classes, or as many as there are different ones. Of quantiles and natural breaks each limit but the last is
// the least number of its class, so that the last class may be one number.
func divide(sorted []float64, how string, n int) (limits []float64) {
	var distinct []float64
	var before []int // how many numbers are less than each of those, and in the end all
	for i, v := range sorted {
		if i == 0 || v != sorted[i-1] {
			distinct, before = append(distinct, v), append(before, i)
		}
	}
	before = append(before, len(sorted))
	n = min(n, len(distinct))
	least, most := sorted[0], sorted[len(sorted)-1]
	switch how {
	case "quantiles":
		limits = quantiles(distinct, before, n)
	case "natural":
		limits = natural(distinct, before, n)
	default:
		for i := range n {
			limits = append(limits, least+(most-least)*float64(i)/float64(n))
		}
	}
	return append(limits, most)
}

// quantiles finds the least number of each of n classes. Equal numbers stay together; under that condition, the limits have the least total distance
// from where they would divide the numbers evenly.
func quantiles(v []float64, before []int, n int) (limits []float64) {
	m, all := len(v), before[len(v)]
	off := make([]int, m) // the least sum of distances, the last of the limits being at a number
	from := make([][]int, n)
	for i := 1; i < m; i++ { // the first class begins with the first number
		off[i] = math.MaxInt / 2
	}
	for k := 1; k < n; k++ {
		next := slices.Repeat([]int{math.MaxInt / 2}, m)
		from[k] = make([]int, m)
		for i, last := k, k-1; i < m; i++ {
			if off[i-1] < off[last] {
				last = i - 1
			}
			d := before[i]*n - k*all
			next[i], from[k][i] = off[last]+max(d, -d), last
		}
		off = next
	}
	at := n - 1
	for i := range off {
		if off[i] < off[at] {
			at = i
		}
	}
	for k := n - 1; k >= 0; k-- {
		if limits = append(limits, v[at]); k > 0 {
			at = from[k][at]
		}
	}
	slices.Reverse(limits)
	return limits
}

// natural finds the least number of each of n classes, of different numbers in their order, whose sums of squared differences from their means are least, by
// dynamic programming. Of more than 1,500 numbers as many are divided, so that about as many lie between each of them and the next.
func natural(v []float64, before []int, n int) (limits []float64) {
	const most = 1500
	if len(v) > most {
		whole, all := v, before
		v, before = nil, nil
		for i := range most {
			k := i * (len(whole) - 1) / (most - 1)
			v, before = append(v, whole[k]), append(before, all[k])
		}
		before = append(before, all[len(whole)])
	}
	m := len(v)
	count, sum, squares := make([]float64, m+1), make([]float64, m+1), make([]float64, m+1)
	for i, x := range v {
		x -= v[0]
		many := float64(before[i+1] - before[i])
		count[i+1], sum[i+1], squares[i+1] = count[i]+many, sum[i]+many*x, squares[i]+many*x*x
	}
	cost := func(a, b int) float64 { // of v[a:b]
		s := sum[b] - sum[a]
		return squares[b] - squares[a] - s*s/(count[b]-count[a])
	}
	best, from := make([][]float64, n+1), make([][]int, n+1)
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
	losing := slices.IndexFunc(b.Limits, func(v float64) bool { return v >= 0 }) // classes below zero
	whole := float64(max(losing, n-losing))
	for i := range n {
		if i < losing {
			out = append(out, ramp(losses, 0.15+0.85*float64(losing-i)/whole))
		} else {
			out = append(out, ramp(gains, 0.15+0.85*float64(i-losing+1)/whole))
		}
	}
	return out
}
