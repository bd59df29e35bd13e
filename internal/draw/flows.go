package draw

import (
	"image/color"
	"math"
	"slices"

	"github.com/verdex-land/verdex/core/text"
)

// MatrixFigure is the ground from each class to each other; what stayed is set apart.
type MatrixFigure struct {
	Head
	From, To string // the epochs
	Keys     []Key
	Cells    [][]float64 // from, to
	Unit     string
}

func (f *MatrixFigure) draw(p *pen) {
	b := p.head(f.Head)
	n := len(f.Keys)
	name := 0.0
	for _, k := range f.Keys {
		name = math.Max(name, widthOf(k.Name, textSize, false))
	}
	name = math.Min(name+30, b.w*0.22)
	top := 64.0
	w, h := (b.w-name-10)/float64(n+1), math.Min(64, (b.h-top-24)/float64(n+1))
	most := 0.0
	for i := range f.Cells {
		for j, v := range f.Cells[i] {
			if i != j {
				most = math.Max(most, v)
			}
		}
	}
	p.text(b.x, b.y+textSize, textSize, true, left, p.theme.accent, fit("from "+f.From, textSize, true, name))
	p.text(b.x+name+10, b.y+textSize, textSize, true, left, p.theme.accent, "to "+f.To)
	for j, k := range f.Keys {
		x := b.x + name + 10 + float64(j)*w
		p.swatch(x+2, b.y+24, math.Max(2, w-4), 6, k)
		for i, l := range lines(k.Name, noteSize, false, w-6, 2) {
			p.text(x+w/2, b.y+44+float64(i)*noteSize*1.15, noteSize, false, middle, p.theme.ink, l)
		}
	}
	x := b.x + name + 10 + float64(n)*w
	p.text(x+w-4, b.y+44, noteSize, true, right, p.theme.soft, "in all, "+f.Unit)
	columns := make([]float64, n)
	for i, k := range f.Keys {
		y := b.y + top + float64(i)*h
		p.swatch(b.x, y+h*0.2, 14, h*0.6, k)
		p.text(b.x+22, y+h/2+4.5, textSize, false, left, p.theme.ink, fit(k.Name, textSize, false, name-24))
		sum := 0.0
		for j, v := range f.Cells[i] {
			sum += v
			columns[j] += v
			cx := b.x + name + 10 + float64(j)*w
			switch {
			case i == j: // what stayed
				p.stroke([][][2]float64{{{cx + 2, y + 2}, {cx + w - 2, y + 2}, {cx + w - 2, y + h - 2}, {cx + 2, y + h - 2}}}, 1, p.theme.rule, true)
				p.cellText(cx, y, w, h, v, p.theme.soft)
			case v > 0:
				c := ramp(amounts, 0.12+0.88*math.Sqrt(v/math.Max(most, 1e-300)))
				p.rect(cx+2, y+2, w-4, h-4, c)
				p.cellText(cx, y, w, h, v, p.theme.on(c))
			default:
				p.text(cx+w/2, y+h/2+4, noteSize, false, middle, p.theme.rule, "·")
			}
		}
		p.text(x+w-4, y+h/2+4, noteSize, true, right, p.theme.ink, text.Number(sum, 0))
	}
	y := b.y + top + float64(n)*h + h/2 + 4
	p.text(b.x+22, y, textSize, true, left, p.theme.soft, fit("in all, "+f.Unit, textSize, true, name-24))
	for j := range f.Keys {
		p.text(b.x+name+10+float64(j)*w+w/2, y, noteSize, true, middle, p.theme.ink, fitNumber(columns[j], w-4))
	}
}

// fitNumber writes a number in the room that there is, "" where there is none.
func fitNumber(v, room float64) string {
	for _, s := range []string{text.Number(v, 0), text.Number(v/1000, 0) + "k"} {
		if widthOf(s, noteSize, true) <= room {
			return s
		}
	}
	return ""
}

// cellText writes a number into a cell.
func (p *pen) cellText(x, y, w, h, v float64, c color.NRGBA) {
	s := text.Number(v, 0)
	if v > 0 && v < 10 {
		s = text.Number(v, 1)
	}
	if widthOf(s, noteSize, false) > w-6 {
		s = fitNumber(v, w-6)
	}
	if h > noteSize+2 {
		p.text(x+w/2, y+h/2+4, noteSize, false, middle, c, s)
	}
}

// FlowsFigure is what went where, as bands whose width is area.
type FlowsFigure struct {
	Head
	Epochs []string
	Keys   []Key         // by class
	Moves  [][][]float64 // between epochs that follow one another: from, to
	Unit   string
}

func (f *FlowsFigure) draw(p *pen) {
	b := p.head(f.Head)
	n, steps := len(f.Keys), len(f.Moves)
	label := 0.0
	for _, k := range f.Keys {
		label = math.Max(label, widthOf(k.Name, textSize, false))
	}
	label = math.Min(label+70, b.w*0.24)
	const bar = 18.0
	at := box{b.x + label, b.y + 26, b.w - 2*label, b.h - 40}
	totals := make([][]float64, steps+1)
	whole := 0.0
	for e := range totals {
		totals[e] = make([]float64, n)
		for k := range n {
			for o := range n {
				if e < steps {
					totals[e][k] += f.Moves[e][k][o]
				} else {
					totals[e][k] += f.Moves[e-1][o][k]
				}
			}
		}
		sum := 0.0
		for _, v := range totals[e] {
			sum += v
		}
		whole = math.Max(whole, sum)
	}
	if whole == 0 {
		p.text(at.x+at.w/2, at.y+at.h/2, textSize, false, middle, p.theme.soft, "no ground is mapped at both epochs")
		return
	}
	const space = 6.0
	scale := (at.h - space*float64(n-1)) / whole
	x := func(e int) float64 { return at.x + float64(e)/float64(steps)*(at.w-bar) }
	tops := make([][]float64, steps+1)
	for e := range tops {
		y := at.y
		for k := range n {
			tops[e] = append(tops[e], y)
			y += totals[e][k]*scale + space
		}
	}
	for e := range steps {
		left, right := slices.Clone(tops[e]), slices.Clone(tops[e+1])
		for from := range n {
			for to := range n {
				v := f.Moves[e][from][to] * scale
				if v <= 0 {
					continue
				}
				c := f.Keys[from].Color
				c.A = 165
				if from == to {
					c.A = 60
				}
				p.band(x(e)+bar, left[from], x(e+1), right[to], v, c)
				left[from], right[to] = left[from]+v, right[to]+v
			}
		}
	}
	for e := range tops {
		p.text(x(e)+bar/2, b.y+textSize, textSize+1, true, middle, p.theme.accent, f.Epochs[e])
		for k := range n {
			p.rect(x(e), tops[e][k], bar, math.Max(totals[e][k]*scale, 0.75), f.Keys[k].Color)
		}
	}
	p.sideLabels(f.Keys, totals[0], tops[0], scale, at.x-8, label-10, right)
	p.sideLabels(f.Keys, totals[steps], tops[steps], scale, at.x+at.w+8, label-10, left)
}

// band fills a band between two heights, bent like an S.
func (p *pen) band(x0, y0, x1, y1, width float64, c color.NRGBA) {
	var top, bottom [][2]float64
	for i := range 25 {
		t := float64(i) / 24
		s := t * t * (3 - 2*t)
		x, y := x0+(x1-x0)*t, y0+(y1-y0)*s
		top, bottom = append(top, [2]float64{x, y}), append(bottom, [2]float64{x, y + width})
	}
	slices.Reverse(bottom)
	p.fill([][][2]float64{append(top, bottom...)}, c)
}

// sideLabels names the classes beside the first or the last epoch, where they have room.
func (p *pen) sideLabels(keys []Key, totals, tops []float64, scale, x, room float64, to align) {
	free := math.Inf(-1)
	for k, key := range keys {
		y := tops[k] + totals[k]*scale/2 + 4
		if y-textSize < free {
			y = free + textSize
		}
		if totals[k] <= 0 || y > p.height-8 {
			continue
		}
		value := text.Number(totals[k], 0)
		w := widthOf("  "+value, noteSize, false)
		name := fit(key.Name, textSize, false, room-w)
		if to == right {
			p.text(x, y, noteSize, false, right, p.theme.soft, value)
			p.text(x-w, y, textSize, false, right, p.theme.ink, name)
		} else {
			p.text(x, y, textSize, false, left, p.theme.ink, name)
			p.text(x+widthOf(name+"  ", textSize, false), y, noteSize, false, left, p.theme.soft, value)
		}
		free = y + 2
	}
}
