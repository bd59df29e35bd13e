package draw

import (
	"image/color"
	"math"
	"slices"

	"github.com/verdex-land/verdex/core/text"
)

// BarsFigure is a bar for each zone, divided by classes.
type BarsFigure struct {
	Head
	Keys  []Key // by class
	Names []string
	Parts [][]float64 // by bar and class
	Share bool        // bars are percent, and all as long
	Unit  string
}

func (f *BarsFigure) draw(p *pen) {
	b := p.head(f.Head)
	side := p.legendWidth()
	p.keys(box{b.x + b.w - side, b.y, side, b.h}, "", f.Keys)
	b.w -= side + 24
	name, most := 0.0, 0.0
	for i, n := range f.Names {
		name = math.Max(name, widthOf(n, textSize, false))
		sum := 0.0
		for _, v := range f.Parts[i] {
			sum += v
		}
		most = math.Max(most, sum)
	}
	name = math.Min(name, b.w*0.3)
	total := 0.0
	if !f.Share {
		total = widthOf(text.Number(most, 0)+" "+f.Unit, textSize, false) + 10
	}
	step := math.Min(64, b.h/float64(max(1, len(f.Names))))
	shown := len(f.Names)
	if step < 13 { // the rest is counted
		step = 13
		shown = max(0, int(b.h/step)-1)
	}
	thick := math.Max(6, step*0.68)
	room := b.w - name - 10 - total
	for i := range shown {
		y := b.y + float64(i)*step
		size := math.Min(textSize, step*0.8)
		p.text(b.x+name, y+thick/2+size*0.36, size, false, right, p.theme.ink, fit(f.Names[i], size, false, name))
		sum := 0.0
		for _, v := range f.Parts[i] {
			sum += v
		}
		whole := most
		if f.Share {
			whole = sum
		}
		x := b.x + name + 10
		for k, v := range f.Parts[i] {
			w := 0.0
			if whole > 0 {
				w = v / whole * room
			}
			p.swatch(x, y, w, thick, Key{Color: f.Keys[k].Color, Hatch: f.Keys[k].Hatch})
			label := text.Number(v/math.Max(sum, 1e-300)*100, 0) + " %"
			if f.Share && thick > 15 && w > widthOf(label, noteSize, false)+8 && !f.Keys[k].Hatch {
				p.text(x+w/2, y+thick/2+4, noteSize, false, middle, p.theme.on(f.Keys[k].Color), label)
			}
			x += w
		}
		if !f.Share {
			p.text(x+8, y+thick/2+size*0.36, size, false, left, p.theme.soft, text.Number(sum, 0)+" "+f.Unit)
		}
	}
	if n := len(f.Names) - shown; n > 0 {
		p.text(b.x+name+10, b.y+float64(shown)*step+11, noteSize, false, left, p.theme.soft, "and "+text.Count(n, "other zone"))
	}
}

// Line is a line of a chart over time.
type Line struct {
	Key
	Values []float64 // NaN where there is none
	Half   []float64 // half of the interval around each; nil for none
}

// TrendFigure is extents over time, at their real dates.
type TrendFigure struct {
	Head
	Labels []string
	Times  []float64 // years
	Lines  []Line
	Unit   string
}

func (f *TrendFigure) draw(p *pen) {
	b := p.head(f.Head)
	side := p.legendWidth()
	least, most := 0.0, 0.0
	for _, l := range f.Lines {
		for i, v := range l.Values {
			half := 0.0
			if l.Half != nil && !math.IsNaN(l.Half[i]) {
				half = l.Half[i]
			}
			if !math.IsNaN(v) {
				least, most = math.Min(least, v-half), math.Max(most, v+half)
			}
		}
	}
	room := axisRoom(least, most, b.h-30, f.Unit)
	at := box{b.x + room, b.y + 6, b.w - room - side - 8, b.h - 36}
	y, _, _ := p.axis(at, least, most, f.Unit)
	first, last := f.Times[0], f.Times[len(f.Times)-1]
	x := func(t float64) float64 {
		if last == first {
			return at.x + at.w/2
		}
		return at.x + 14 + (t-first)/(last-first)*(at.w-28)
	}
	free := math.Inf(-1)
	for i, t := range f.Times {
		p.line(x(t), at.y+at.h, x(t), at.y+at.h+5, 1, p.theme.soft)
		if w := widthOf(f.Labels[i], textSize, false); x(t)-w/2 > free {
			p.text(x(t), at.y+at.h+20, textSize, false, middle, p.theme.ink, f.Labels[i])
			free = x(t) + w/2 + 8
		}
	}
	for _, l := range f.Lines {
		p.trend(l, f.Times, x, y)
	}
	p.endLabels(f.Lines, at, side, y, f.Unit)
}

// trend draws a line with its intervals.
func (p *pen) trend(l Line, times []float64, x, y func(float64) float64) {
	if l.Half != nil {
		pale := l.Color
		pale.A = 60
		for i, v := range l.Values {
			if !math.IsNaN(v) && !math.IsNaN(l.Half[i]) {
				p.line(x(times[i]), y(v-l.Half[i]), x(times[i]), y(v+l.Half[i]), 6, pale)
			}
		}
	}
	var run [][2]float64
	flush := func() {
		if len(run) > 1 {
			p.stroke([][][2]float64{run}, 4.4, p.theme.paper, false)
			p.stroke([][][2]float64{run}, 2.4, l.Color, false)
		}
		run = nil
	}
	for i, v := range l.Values {
		if math.IsNaN(v) {
			flush()
			continue
		}
		run = append(run, [2]float64{x(times[i]), y(v)})
	}
	flush()
	for i, v := range l.Values {
		if !math.IsNaN(v) {
			px, py := x(times[i]), y(v)
			p.disc(px, py, 4, l.Color)
		}
	}
}

// disc fills a circle.
func (p *pen) disc(x, y, r float64, c color.NRGBA) {
	var ring [][2]float64
	for i := range 24 {
		s, k := math.Sincos(float64(i) / 24 * 2 * math.Pi)
		ring = append(ring, [2]float64{x + r*k, y + r*s})
	}
	p.fill([][][2]float64{ring}, c)
}

// endLabels names the lines at their ends, where they do not meet one another.
func (p *pen) endLabels(list []Line, at box, side float64, y func(float64) float64, unit string) {
	type end struct {
		line Line
		want float64
		last float64
	}
	var ends []end
	for _, l := range list {
		for i := len(l.Values) - 1; i >= 0; i-- {
			if !math.IsNaN(l.Values[i]) {
				ends = append(ends, end{l, y(l.Values[i]), l.Values[i]})
				break
			}
		}
	}
	slices.SortStableFunc(ends, func(a, b end) int {
		if a.want < b.want {
			return -1
		} else if a.want > b.want {
			return 1
		}
		return 0
	})
	step := 17.0
	if n := float64(len(ends)); n*step > at.h+20 {
		step = (at.h + 20) / n
	}
	if step < 11 {
		p.keys(box{at.x + at.w + 16, at.y, side - 16, at.h}, "", keysOf(list))
		return
	}
	ys := make([]float64, len(ends))
	for i, e := range ends {
		ys[i] = e.want
		if i > 0 {
			ys[i] = math.Max(ys[i], ys[i-1]+step)
		}
	}
	for i := len(ys) - 1; i >= 0; i-- { // back into the frame
		limit := at.y + at.h + 8
		if i < len(ys)-1 {
			limit = ys[i+1] - step
		}
		ys[i] = math.Min(ys[i], limit)
	}
	x := at.x + at.w
	for i, e := range ends {
		p.line(x-8, e.want, x+10, ys[i], 0.8, e.line.Color)
		p.rect(x+12, ys[i]-5, 10, 10, e.line.Color)
		value := text.Number(e.last, 0)
		if math.Abs(e.last) < 10 {
			value = text.Number(e.last, 1)
		}
		value += " " + unit
		w := widthOf(value, noteSize, false)
		name := fit(e.line.Name, textSize, false, side-34-w)
		p.text(x+28, ys[i]+4.5, textSize, false, left, p.theme.ink, name)
		p.text(x+side+8, ys[i]+4.5, noteSize, false, right, p.theme.soft, value)
	}
}

func keysOf(list []Line) (out []Key) {
	for _, l := range list {
		out = append(out, l.Key)
	}
	return out
}

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
	p.sideLabels(f, totals[0], tops[0], scale, at.x-8, label-10, right)
	p.sideLabels(f, totals[steps], tops[steps], scale, at.x+at.w+8, label-10, left)
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
func (p *pen) sideLabels(f *FlowsFigure, totals, tops []float64, scale, x, room float64, to align) {
	free := math.Inf(-1)
	for k, key := range f.Keys {
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

// Rank is a line of a ranking or of findings.
type Rank struct {
	Name, Value string
	Group       string // amounts of a group are drawn on one scale
	Amount      float64
	Color       color.NRGBA
}

// RanksFigure is amounts from the greatest to the least.
type RanksFigure struct {
	Head
	List []Rank
}

func (f *RanksFigure) draw(p *pen) {
	b := p.head(f.Head)
	if len(f.List) == 0 {
		p.text(b.x+b.w/2, b.y+b.h/2, textSize+2, false, middle, p.theme.soft, "there is nothing to show")
		return
	}
	name, value, least := 0.0, 0.0, 0.0
	most := map[string]float64{} // by group; the least is a share of it
	for _, r := range f.List {
		name, value = math.Max(name, widthOf(r.Name, textSize, false)), math.Max(value, widthOf(r.Value, textSize, false))
		if !math.IsNaN(r.Amount) {
			most[r.Group] = math.Max(most[r.Group], math.Abs(r.Amount))
		}
	}
	for _, r := range f.List {
		if m := most[r.Group]; m > 0 && r.Amount < 0 {
			least = math.Min(least, r.Amount/m)
		}
	}
	name = math.Min(name, b.w*0.42)
	step := math.Min(52, b.h/float64(len(f.List)))
	shown := len(f.List)
	if step < 15 {
		step = 15
		shown = int(b.h/step) - 1
	}
	room := b.w - name - value - 30
	x := func(share float64) float64 { return b.x + name + 12 + (share-least)/(1-least)*room }
	for i, r := range f.List[:shown] {
		y := b.y + float64(i)*step
		thick := step * 0.62
		p.text(b.x+name, y+thick/2+4.5, textSize, false, right, p.theme.ink, fit(r.Name, textSize, false, name))
		if m := most[r.Group]; m > 0 && !math.IsNaN(r.Amount) && r.Amount != 0 {
			from, to := x(math.Min(0, r.Amount/m)), x(math.Max(0, r.Amount/m))
			p.rect(from, y, math.Max(1, to-from), thick, r.Color)
		}
		p.text(b.x+b.w, y+thick/2+4.5, textSize, false, right, p.theme.soft, r.Value)
	}
	if least < 0 {
		p.line(x(0), b.y-4, x(0), b.y+float64(shown)*step, 1, p.theme.soft)
	}
	if n := len(f.List) - shown; n > 0 {
		p.text(b.x+name+12, b.y+float64(shown)*step+11, noteSize, false, left, p.theme.soft, "and "+text.Count(n, "other"))
	}
}
