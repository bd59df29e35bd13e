package draw

import (
	"fmt"
	"image"
	"image/color"
	"math"
	"slices"

	"github.com/verdex-land/verdex/core/text"
)

// Ring is an outline in cells of a raster: columns to the right, rows down.
type Ring = [][2]float64

// Area is a zone on a map.
type Area struct {
	Label  string
	Rings  []Ring
	At     [2]float64 // where its label goes
	Chosen bool       // it is the one that is looked at; others are dimmed then
}

// Plane says how the cells of a raster lie on a page.
type Plane struct {
	Frame   [4]float64 // columns and rows from and to: x0, y0, x1, y1
	MetresX float64    // of a cell on the ground, in the middle of the frame
	MetresY float64
	North   bool // up is north: the CRS is conformal or geographic, and rows run south
	CRS     string
}

// Pixels are the colours of places in the frame of a plane, row by row. Void marks those that are no class.
type Pixels struct {
	Width, Height int
	Colors        []color.NRGBA
	Void          []bool
}

// MapFigure is a map: pixels with the outlines of zones, a legend, a scale bar.
type MapFigure struct {
	Head
	Plane
	Pixels    *Pixels
	Areas     []Area
	KeysTitle string
	Keys      []Key
}

// legendWidth is the room for the legend of a map.
func (p *pen) legendWidth() float64 { return math.Min(260, p.width*0.26) }

func (f *MapFigure) draw(p *pen) {
	b := p.head(f.Head)
	side := p.legendWidth()
	m := box{b.x, b.y, b.w - side - 24, b.h}
	at := p.frame(m, f.Plane)
	p.pixels(at, f.Pixels)
	p.areas(at, f.Plane, f.Areas)
	p.stroke([][][2]float64{{{at.x, at.y}, {at.x + at.w, at.y}, {at.x + at.w, at.y + at.h}, {at.x, at.y + at.h}}}, 1, p.theme.rule, true)
	legend := box{math.Min(b.x+b.w-side, at.x+at.w+28), b.y, side, b.h - 70}
	p.keys(legend, f.KeysTitle, f.Keys)
	p.scale(box{legend.x, b.y + b.h - 54, side, 54}, at, f.Plane)
}

// frame is where a plane lies in a box, with its true shape.
func (p *pen) frame(b box, m Plane) box {
	w, h := (m.Frame[2]-m.Frame[0])*m.MetresX, (m.Frame[3]-m.Frame[1])*m.MetresY
	scale := math.Min(b.w/w, b.h/h)
	return box{b.x, b.y, w * scale, h * scale}
}

// PixelSize is how many pixels a map of a plane has, for a figure with options, of which n stand beside one another.
func PixelSize(o Options, m Plane, n int) (width, height int) {
	if o.Check() != nil {
		return 1, 1
	}
	p := &pen{width: o.Width, height: o.Height}
	b := box{w: p.width - 2*margin - p.legendWidth() - 24, h: p.height - 2*margin - 100}
	if n > 1 {
		b.w = (p.width - 2*margin - float64(n-1)*gap) / float64(n)
	}
	f := p.frame(b, m)
	return max(1, int(f.w*o.DPI/96)), max(1, int(f.h*o.DPI/96))
}

// pixels draws the colours of a map. What is no class is hatched.
func (p *pen) pixels(b box, x *Pixels) {
	img := image.NewNRGBA(image.Rect(0, 0, x.Width, x.Height))
	scale := math.Max(1, float64(x.Width)/b.w) // pixels of the image on one of the page
	for row := range x.Height {
		for col := range x.Width {
			i := row*x.Width + col
			c := x.Colors[i]
			if x.Void[i] {
				c = p.theme.void
				if math.Mod((float64(col)+float64(row))/scale, 6) < 1 {
					c = p.theme.hatch
				}
			}
			img.SetNRGBA(col, row, c)
		}
	}
	p.image(b.x, b.y, b.w, b.h, img)
}

// areas draws the outlines and the labels of zones.
func (p *pen) areas(b box, m Plane, list []Area) {
	sx, sy := b.w/(m.Frame[2]-m.Frame[0]), b.h/(m.Frame[3]-m.Frame[1])
	point := func(q [2]float64) [2]float64 {
		return [2]float64{b.x + (q[0]-m.Frame[0])*sx, b.y + (q[1]-m.Frame[1])*sy}
	}
	chosen := false
	for _, a := range list {
		chosen = chosen || a.Chosen
	}
	var labels placed
	for pass := range 2 {
		for _, a := range list {
			if a.Chosen != (pass == 1) {
				continue
			}
			var rings [][][2]float64
			for _, r := range a.Rings {
				var ring [][2]float64
				for _, q := range r {
					ring = append(ring, point(q))
				}
				if ring = clip(ring, b); len(ring) > 2 {
					rings = append(rings, ring)
				}
			}
			if chosen && !a.Chosen {
				p.fill(rings, p.theme.dim)
			}
			width := 1.1
			if a.Chosen {
				width = 2
			}
			p.stroke(rings, width+1.6, color.NRGBA{p.theme.paper.R, p.theme.paper.G, p.theme.paper.B, 150}, true)
			p.stroke(rings, width, p.theme.ink, true)
		}
	}
	for _, a := range list {
		if a.Label == "" {
			continue
		}
		q := point(a.At)
		size := float64(textSize)
		w := widthOf(a.Label, size, true)
		place := box{q[0] - w/2 - 3, q[1] - size*0.75, w + 6, size * 1.2}
		place.x, place.y = math.Max(b.x+2, math.Min(place.x, b.x+b.w-place.w-2)), math.Max(b.y+2, math.Min(place.y, b.y+b.h-place.h-2))
		if q[0] < b.x || q[0] > b.x+b.w || q[1] < b.y || q[1] > b.y+b.h || place.w > b.w-4 || !labels.free(place) {
			continue
		}
		c := p.theme.paper
		c.A = 200
		p.rect(place.x, place.y, place.w, place.h, c)
		p.text(place.x+3, place.y+size*0.95, size, true, left, p.theme.ink, a.Label)
	}
}

// clip keeps the part of a ring that lies in a box (Sutherland and Hodgman 1974).
func clip(ring [][2]float64, b box) [][2]float64 {
	for k := range 4 {
		inside := func(q [2]float64) bool {
			return [4]bool{q[0] >= b.x, q[0] <= b.x+b.w, q[1] >= b.y, q[1] <= b.y+b.h}[k]
		}
		limit := [4]float64{b.x, b.x + b.w, b.y, b.y + b.h}[k]
		cross := func(a, c [2]float64) [2]float64 {
			if k < 2 {
				t := (limit - a[0]) / (c[0] - a[0])
				return [2]float64{limit, a[1] + t*(c[1]-a[1])}
			}
			t := (limit - a[1]) / (c[1] - a[1])
			return [2]float64{a[0] + t*(c[0]-a[0]), limit}
		}
		var out [][2]float64
		for i, q := range ring {
			before := ring[(i+len(ring)-1)%len(ring)]
			switch {
			case inside(q) && !inside(before):
				out = append(out, cross(before, q), q)
			case inside(q):
				out = append(out, q)
			case inside(before):
				out = append(out, cross(before, q))
			}
		}
		ring = out
	}
	return ring
}

// scale draws a scale bar that is true in the middle of a map, and which way is north.
func (p *pen) scale(b, at box, m Plane) {
	metres := (m.Frame[2] - m.Frame[0]) * m.MetresX / at.w // of a pixel
	length := nice(metres * b.w * 0.22)
	w := length / metres
	label := text.Number(length, 0) + " m"
	if length >= 1000 {
		label = text.Number(length/1000, 0) + " km"
	} else if length < 1 {
		label = fmt.Sprintf("%g m", length)
	}
	y := b.y + 14
	p.line(b.x, y, b.x+w, y, 2, p.theme.ink)
	for _, x := range []float64{b.x, b.x + w} {
		p.line(x, y-4, x, y+4, 2, p.theme.ink)
	}
	p.text(b.x+w+8, y+4, noteSize, false, left, p.theme.ink, label)
	note := "true in the middle; " + m.CRS
	if m.North {
		x := b.x + b.w - 10
		p.line(x, y+8, x, y-10, 1.6, p.theme.ink)
		p.fill([][][2]float64{{{x, y - 14}, {x - 4, y - 5}, {x + 4, y - 5}}}, p.theme.ink)
		p.text(x-8, y+4, noteSize, true, right, p.theme.ink, "N")
	}
	for i, l := range lines(note, noteSize, false, b.w, 2) {
		p.text(b.x, y+20+float64(i)*noteSize*1.3, noteSize, false, left, p.theme.soft, l)
	}
}

// keyRows is how many lines a legend below a pair of maps has at least.
const keyRows = 3

// keyColumns draws a legend in columns.
func (p *pen) keyColumns(b box, list []Key) {
	widest := 0.0
	for _, k := range list {
		widest = math.Max(widest, widthOf(k.Name, textSize, false))
	}
	width := math.Min(widest+46, b.w)
	rows := max(1, int(b.h/(textSize*1.6)))
	columns := max(1, int(b.w/width))
	rows = min(rows, max(keyRows, (len(list)+columns-1)/columns))
	for i := 0; i < len(list); i += rows {
		x := b.x + float64(i/rows)*width
		if x+width > b.x+b.w+1 {
			p.text(b.x+b.w, b.y+textSize, textSize, false, right, p.theme.soft, "and "+text.Count(len(list)-i, "other"))
			return
		}
		p.keys(box{x, b.y, width - 12, b.h}, "", list[i:min(len(list), i+rows)])
	}
}

// PairFigure is two maps in the same frame, side by side.
type PairFigure struct {
	Head
	Plane
	Labels [2]string
	Pixels [2]*Pixels
	Areas  []Area
	Keys   []Key
}

func (f *PairFigure) draw(p *pen) {
	b := p.head(f.Head)
	w := (b.w - gap) / 2
	var at box
	for k := range 2 {
		x := b.x + float64(k)*(w+gap)
		p.text(x, b.y+textSize, textSize+2, true, left, p.theme.accent, f.Labels[k])
		at = p.frame(box{x, b.y + 22, w, b.h - 22 - keyRows*textSize*1.6 - 40}, f.Plane)
		p.pixels(at, f.Pixels[k])
		p.areas(at, f.Plane, f.Areas)
		p.stroke([][][2]float64{{{at.x, at.y}, {at.x + at.w, at.y}, {at.x + at.w, at.y + at.h}, {at.x, at.y + at.h}}}, 1, p.theme.rule, true)
	}
	below := at.y + at.h + 18
	side := p.legendWidth()
	p.keyColumns(box{b.x, below, b.w - side - 24, b.y + b.h - below}, f.Keys)
	p.scale(box{b.x + b.w - side, below, side, 54}, at, f.Plane)
}

// ShadeFigure is zones in colours that stand for a number.
type ShadeFigure struct {
	Head
	Plane
	Areas     []Area
	Colors    []color.NRGBA // by area
	Void      []bool        // by area: it has no number
	Keys      []Key
	KeysTitle string
}

func (f *ShadeFigure) draw(p *pen) {
	b := p.head(f.Head)
	side := p.legendWidth()
	at := p.frame(box{b.x, b.y, b.w - side - 24, b.h}, f.Plane)
	sx, sy := at.w/(f.Frame[2]-f.Frame[0]), at.h/(f.Frame[3]-f.Frame[1])
	for i, a := range f.Areas {
		var rings [][][2]float64
		for _, r := range a.Rings {
			var ring [][2]float64
			for _, q := range r {
				ring = append(ring, [2]float64{at.x + (q[0]-f.Frame[0])*sx, at.y + (q[1]-f.Frame[1])*sy})
			}
			if ring = clip(ring, at); len(ring) > 2 {
				rings = append(rings, ring)
			}
		}
		if len(rings) == 0 {
			continue
		}
		if !f.Void[i] {
			p.fill(rings, f.Colors[i])
			continue
		}
		p.fill(rings, p.theme.void)
		p.hatchWithin(rings)
	}
	p.areas(at, f.Plane, f.Areas)
	legend := box{math.Min(b.x+b.w-side, at.x+at.w+28), b.y, side, b.h - 70}
	p.keys(legend, f.KeysTitle, f.Keys)
	p.scale(box{legend.x, b.y + b.h - 54, side, 54}, at, f.Plane)
}

// hatchWithin draws slanted lines within rings: their crossings with each line, in pairs.
func (p *pen) hatchWithin(rings [][][2]float64) {
	least, most := math.Inf(1), math.Inf(-1)
	for _, r := range rings {
		for _, q := range r {
			least, most = math.Min(least, q[0]+q[1]), math.Max(most, q[0]+q[1])
		}
	}
	var list [][][2]float64
	for d := math.Ceil(least/6) * 6; d < most; d += 6 {
		var xs []float64
		for _, r := range rings {
			for i, q := range r {
				a, c := q[0]+q[1]-d, r[(i+1)%len(r)][0]+r[(i+1)%len(r)][1]-d
				if (a > 0) != (c > 0) {
					xs = append(xs, q[0]+(r[(i+1)%len(r)][0]-q[0])*a/(a-c))
				}
			}
		}
		slices.Sort(xs)
		for i := 0; i+1 < len(xs); i += 2 {
			list = append(list, [][2]float64{{xs[i], d - xs[i]}, {xs[i+1], d - xs[i+1]}})
		}
	}
	p.stroke(list, 1, p.theme.hatch, false)
}
