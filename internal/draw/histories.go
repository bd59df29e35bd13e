package draw

import (
	"cmp"
	"math"
	"slices"

	"github.com/verdex-land/verdex/core/text"
)

// HistoriesFigure is what each piece of ground went through, as bands through all epochs whose width is area.
type HistoriesFigure struct {
	Head
	Epochs  []string
	Keys    []Key // by class
	Courses []Key // the kinds of histories
	List    []HistoryBand
	Unit    string
}

// HistoryBand is a history.
type HistoryBand struct {
	Classes []int // by epoch: its place among the keys
	Course  int   // its place among the courses
	Area    float64
}

// mostBands is how many histories are drawn one by one; of those with less area the bars alone show the ground.
const mostBands = 400

func (f *HistoriesFigure) draw(p *pen) {
	b := p.head(f.Head)
	n, last := len(f.Keys), len(f.Epochs)-1
	label := 0.0
	for _, k := range f.Keys {
		label = math.Max(label, widthOf(k.Name, textSize, false))
	}
	label = math.Min(label+70, b.w*0.24)
	const bar, space = 18.0, 6.0
	below := p.row(box{b.x, b.y + b.h - 20, b.w, 20}, f.courseKeys())
	at := box{b.x + label, b.y + 26, b.w - 2*label, b.h - 40 - below}
	totals := make([][]float64, last+1)
	whole := 0.0
	for e := range totals {
		totals[e] = make([]float64, n)
		for _, h := range f.List {
			totals[e][h.Classes[e]] += h.Area
		}
	}
	for _, h := range f.List {
		whole += h.Area
	}
	if whole == 0 {
		p.text(at.x+at.w/2, at.y+at.h/2, textSize, false, middle, p.theme.soft, "there is no ground")
		return
	}
	scale := (at.h - space*float64(n-1)) / whole
	x := func(e int) float64 { return at.x + float64(e)/float64(last)*(at.w-bar) }
	tops := make([][]float64, last+1)
	for e := range tops {
		y := at.y
		for k := range n {
			tops[e] = append(tops[e], y)
			y += totals[e][k]*scale + space
		}
	}
	places := f.stacked(tops, scale)
	order := make([]int, len(f.List)) // the largest last, but what stayed beneath all
	for i := range order {
		order[i] = i
	}
	slices.SortStableFunc(order, func(a, b int) int {
		x, y := f.List[a], f.List[b]
		return cmp.Or(cmp.Compare(min(x.Course, 1), min(y.Course, 1)), -cmp.Compare(x.Area, y.Area))
	})
	for i, k := range order {
		if i == mostBands {
			break
		}
		h := f.List[k]
		c := f.Courses[h.Course].Color
		if c.A = 190; h.Course == 0 {
			c = f.Keys[h.Classes[0]].Color
			c.A = 50
		}
		for e := range last {
			p.band(x(e)+bar, places[k][e], x(e+1), places[k][e+1], math.Max(h.Area*scale, 0.4), c)
		}
	}
	for e := range tops {
		p.text(x(e)+bar/2, b.y+textSize, textSize+1, true, middle, p.theme.accent, f.Epochs[e])
		for k := range n {
			if totals[e][k] > 0 {
				p.swatch(x(e), tops[e][k], bar, math.Max(totals[e][k]*scale, 0.75), Key{Color: f.Keys[k].Color, Hatch: f.Keys[k].Hatch})
			}
		}
	}
	p.sideLabels(f.Keys, totals[0], tops[0], scale, at.x-8, label-10, right)
	p.sideLabels(f.Keys, totals[last], tops[last], scale, at.x+at.w+8, label-10, left)
}

// stacked is where each history begins at each epoch: within a class, by where it comes from and where it goes.
func (f *HistoriesFigure) stacked(tops [][]float64, scale float64) [][]float64 {
	places := make([][]float64, len(f.List))
	for i := range places {
		places[i] = make([]float64, len(f.Epochs))
	}
	order := make([]int, len(f.List))
	for i := range order {
		order[i] = i
	}
	for e := range f.Epochs {
		slices.SortStableFunc(order, func(a, b int) int {
			x, y := f.List[a].Classes, f.List[b].Classes
			for d := 1; d < len(x); d++ { // the nearest epochs count most
				if e-d >= 0 && x[e-d] != y[e-d] {
					return x[e-d] - y[e-d]
				}
				if e+d < len(x) && x[e+d] != y[e+d] {
					return x[e+d] - y[e+d]
				}
			}
			return 0
		})
		next := slices.Clone(tops[e])
		for _, i := range order {
			k := f.List[i].Classes[e]
			places[i][e] = next[k]
			next[k] += f.List[i].Area * scale
		}
	}
	return places
}

// courseKeys are the kinds of histories that occur, with their area.
func (f *HistoriesFigure) courseKeys() (out []Key) {
	sums := make([]float64, len(f.Courses))
	for _, h := range f.List {
		sums[h.Course] += h.Area
	}
	for k, key := range f.Courses {
		if sums[k] > 0 {
			key.Value = text.Number(sums[k], 0) + " " + f.Unit
			out = append(out, key)
		}
	}
	return out
}

// row draws keys beside one another, in as many lines as they take from the bottom of a box up, and returns how high they are.
func (p *pen) row(b box, list []Key) float64 {
	const step = textSize * 1.7
	var lines [][]Key
	used := math.Inf(1)
	width := func(k Key) float64 { return 24 + widthOf(k.Name+"  "+k.Value, textSize, false) + 22 }
	for _, k := range list {
		if used+width(k) > b.w {
			lines, used = append(lines, nil), 0
		}
		used += width(k)
		lines[len(lines)-1] = append(lines[len(lines)-1], k)
	}
	y := b.y + b.h - step*float64(len(lines))
	for _, l := range lines {
		x := b.x
		for _, k := range l {
			p.swatch(x, y+2, 16, textSize, k)
			p.text(x+24, y+textSize, textSize, false, left, p.theme.ink, k.Name)
			p.text(x+24+widthOf(k.Name+"  ", textSize, false), y+textSize, textSize, false, left, p.theme.soft, k.Value)
			x += width(k)
		}
		y += step
	}
	return step * float64(len(lines))
}
