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
	List    []Rank
	Nothing string // what stands there when the list is empty
}

func (f *RanksFigure) draw(p *pen) {
	b := p.head(f.Head)
	if len(f.List) == 0 {
		p.text(b.x+b.w/2, b.y+b.h/2, textSize+2, false, middle, p.theme.soft, f.Nothing)
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
