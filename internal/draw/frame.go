package draw

import (
	"image/color"
	"math"

	"github.com/verdex-land/verdex/core/text"
)

// Head is what stands around a figure: its title, a line about what it shows, and at the foot where it comes from.
type Head struct {
	Title, Sub, Note string
}

// box is a part of the page.
type box struct{ x, y, w, h float64 }

// head draws the title and the foot, and returns the room between them.
func (p *pen) head(h Head) box {
	b := box{margin, margin, p.width - 2*margin, p.height - 2*margin}
	title := h.Title
	if p.options.Title != "" {
		title = p.options.Title
	}
	if title != "" && title != "-" {
		for _, l := range lines(title, titleSize, true, b.w, 2) {
			p.text(b.x, b.y+titleSize*0.8, titleSize, true, left, p.theme.ink, l)
			b.y, b.h = b.y+titleSize*1.2, b.h-titleSize*1.2
		}
	}
	if h.Sub != "" {
		for _, l := range lines(h.Sub, textSize, false, b.w, 2) {
			p.text(b.x, b.y+textSize, textSize, false, left, p.theme.soft, l)
			b.y, b.h = b.y+textSize*1.4, b.h-textSize*1.4
		}
	}
	b.y, b.h = b.y+gap, b.h-gap
	if h.Note != "" {
		foot := lines(h.Note, noteSize, false, b.w, 2)
		for i, l := range foot {
			p.text(b.x, p.height-margin-float64(len(foot)-1-i)*noteSize*1.35, noteSize, false, left, p.theme.soft, l)
		}
		b.h -= float64(len(foot))*noteSize*1.35 + gap
	}
	return b
}

// Key is a line of a legend.
type Key struct {
	Name   string
	Value  string // beside it, "" for none
	Color  color.NRGBA
	Hatch  bool // it is no class
	Border bool // an outlined swatch, for colours near that of the paper
}

// keys draws a legend down a column and returns how high it is. Lines that have no room are counted in a last one.
func (p *pen) keys(b box, title string, list []Key) float64 {
	y := b.y
	if title != "" {
		for _, l := range lines(title, textSize, true, b.w, 2) {
			p.text(b.x, y+textSize, textSize, true, left, p.theme.ink, l)
			y += textSize * 1.45
		}
		y += 4
	}
	const step = textSize * 1.6
	room := int((b.y + b.h - y) / step)
	shown := list
	if len(list) > room {
		shown = list[:max(0, room-1)]
	}
	widest := 0.0
	for _, k := range shown {
		widest = math.Max(widest, widthOf(k.Value, textSize, false))
	}
	for _, k := range shown {
		p.swatch(b.x, y+2, 16, textSize, k)
		p.text(b.x+24, y+textSize, textSize, false, left, p.theme.ink, fit(k.Name, textSize, false, b.w-24-widest-8))
		p.text(b.x+b.w, y+textSize, textSize, false, right, p.theme.soft, k.Value)
		y += step
	}
	if n := len(list) - len(shown); n > 0 {
		p.text(b.x+24, y+textSize, textSize, false, left, p.theme.soft, "and "+text.Count(n, "other"))
		y += step
	}
	return y - b.y
}

// swatch draws the colour of a key.
func (p *pen) swatch(x, y, w, h float64, k Key) {
	if k.Hatch {
		p.rect(x, y, w, h, p.theme.void)
		p.hatchRect(x, y, w, h)
		return
	}
	p.rect(x, y, w, h, k.Color)
	if k.Border {
		p.stroke([][][2]float64{{{x, y}, {x + w, y}, {x + w, y + h}, {x, y + h}}}, 0.7, p.theme.rule, true)
	}
}

// hatchRect draws slanted lines in a rectangle: what is no class, so that it cannot be taken for one.
func (p *pen) hatchRect(x, y, w, h float64) {
	const step = 6
	var list [][][2]float64
	for d := step / 2.0; d < w+h; d += step {
		x0, y0 := x+d, y
		if d > w {
			x0, y0 = x+w, y+d-w
		}
		x1, y1 := x, y+d
		if d > h {
			x1, y1 = x+d-h, y+h
		}
		list = append(list, [][2]float64{{x0, y0}, {x1, y1}})
	}
	p.stroke(list, 1, p.theme.hatch, false)
}

// nice is a round step near a number: 1, 2 or 5 times a power of ten, no smaller than it.
func nice(v float64) float64 {
	if !(v > 0) || math.IsInf(v, 0) {
		return 1
	}
	unit := math.Pow10(int(math.Floor(math.Log10(v))))
	for _, m := range []float64{1, 2, 5, 10} {
		if m*unit >= v*(1-1e-9) {
			return m * unit
		}
	}
	return 10 * unit
}

// number writes a number with as many decimals as a step of an axis needs.
func number(v, step float64) string {
	decimals := 0
	if step < 1 {
		decimals = int(math.Ceil(-math.Log10(step) - 1e-9))
	}
	return text.Number(v, decimals)
}

// axis draws the rule lines of an axis from least to most up a box, with numbers to its left, and returns where a value lies.
func (p *pen) axis(b box, least, most float64, unit string) (y func(v float64) float64, bottom, top float64) {
	step := nice((most - least) / math.Max(2, math.Floor(b.h/70)))
	bottom, top = math.Floor(least/step)*step, math.Ceil(most/step)*step
	if bottom == top {
		top = bottom + step
	}
	y = func(v float64) float64 { return b.y + b.h*(1-(v-bottom)/(top-bottom)) }
	for k := 0; ; k++ {
		v := bottom + float64(k)*step
		if v > top+step/2 {
			break
		}
		c, width := p.theme.rule, 1.0
		if math.Abs(v) < step/1e6 {
			c, width = p.theme.soft, 1.2
		}
		p.line(b.x, y(v), b.x+b.w, y(v), width, c)
		label := number(v, step)
		if v+step > top+step/2 && unit != "" {
			label += " " + unit
		}
		p.text(b.x-8, y(v)+4, noteSize, false, right, p.theme.soft, label)
	}
	return y, bottom, top
}

// axisRoom is the room that the numbers of an axis take.
func axisRoom(least, most, height float64, unit string) float64 {
	step := nice((most - least) / math.Max(2, math.Floor(height/70)))
	room := 0.0
	for _, v := range []float64{math.Floor(least/step) * step, math.Ceil(most/step) * step} {
		room = math.Max(room, widthOf(number(v, step)+" "+unit, noteSize, false))
	}
	return room + 12
}

// placed are rectangles that text has taken.
type placed []box

// free reports whether a rectangle meets none of them, and takes it then.
func (l *placed) free(b box) bool {
	for _, o := range *l {
		if b.x < o.x+o.w && o.x < b.x+b.w && b.y < o.y+o.h && o.y < b.y+b.h {
			return false
		}
	}
	*l = append(*l, b)
	return true
}
