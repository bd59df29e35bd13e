// Package draw makes figures: maps, shaded zones, charts.
//
// A figure is drawn with a [pen] on a page whose units are pixels at 96 dots an inch, from the upper left corner. The same calls make a PNG,
// an SVG and a PDF. Letters are outlines of fonts that are part of the program, so that a figure looks the same everywhere and needs no
// font; the same input gives the same bytes. What a figure looks like (sizes, spacing, colours) is in theme.go, and explained in docs/figures.md.
package draw

import (
	"bytes"
	"fmt"
	"image"
	"image/color"
	"image/draw"
	"image/png"
	"io"
	"maps"
	"math"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"codeberg.org/go-fonts/liberation/liberationsansbold"
	"codeberg.org/go-fonts/liberation/liberationsansregular"
	"codeberg.org/go-pdf/fpdf"
	"golang.org/x/image/font"
	"golang.org/x/image/font/sfnt"
	"golang.org/x/image/math/fixed"
	"golang.org/x/text/unicode/bidi"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/vgimg"
	"gonum.org/v1/plot/vg/vgpdf"
	"gonum.org/v1/plot/vg/vgsvg"

	"github.com/verdex-land/verdex/core/text"
)

func init() { // a PDF states no time
	fpdf.SetDefaultCreationDate(time.Unix(0, 0).UTC())
	fpdf.SetDefaultModificationDate(time.Unix(0, 0).UTC())
	fpdf.SetDefaultCatalogSort(true)
}

// Options say how a figure is drawn.
type Options struct {
	Width, Height float64 // pixels at 96 dots an inch; 0 is 1280 × 800
	DPI           float64 // of PNG; 0 is 96
	Dark          bool
	Title         string // instead of the figure's own; "-" for none
}

// The least size of a figure, below which nothing can be read.
const (
	leastWidth  = 320
	leastHeight = 240
	mostSide    = 8192
)

// Figure is something that can be drawn.
type Figure interface {
	draw(p *pen)
}

// Formats are the endings of files that figures are written to.
const Formats = ".png, .svg or .pdf"

// FormatOf is the format that the ending of a name chooses.
func FormatOf(path string) (string, error) {
	switch format := strings.TrimPrefix(strings.ToLower(filepath.Ext(path)), "."); format {
	case "png", "svg", "pdf":
		return format, nil
	}
	return "", fmt.Errorf("%s: figures are written as PNG, SVG or PDF: end the name with %s", path, Formats)
}

// Check refuses sizes at which nothing can be read, or that take too much memory.
func (o *Options) Check() error {
	if o.Width == 0 {
		o.Width, o.Height = 1280, 800
	}
	if o.DPI == 0 {
		o.DPI = 96
	}
	scale := o.DPI / 96
	switch {
	case o.Width < leastWidth || o.Height < leastHeight:
		return fmt.Errorf("a figure of %g × %g is too small to be read: it has %d × %d at least", o.Width, o.Height, leastWidth, leastHeight)
	case o.Width*scale > mostSide || o.Height*scale > mostSide:
		return fmt.Errorf("a figure of %g × %g at %g dots an inch has more than %d pixels along a side: make it smaller", o.Width, o.Height, o.DPI, mostSide)
	case o.DPI < 24:
		return fmt.Errorf("%g dots an inch are too few to be read: take 96", o.DPI)
	}
	return nil
}

// Write draws a figure in a format: "png", "svg" or "pdf". Notes say which letters the fonts do not have.
func Write(w io.Writer, format string, f Figure, o Options) (notes []string, err error) {
	if err := o.Check(); err != nil {
		return nil, err
	}
	width, height := vg.Length(o.Width)*pixel, vg.Length(o.Height)*pixel
	p := &pen{width: o.Width, height: o.Height, options: o, theme: light, missing: map[rune]bool{}}
	if o.Dark {
		p.theme = dark
	}
	var out io.WriterTo
	switch format {
	case "png":
		c := vgimg.NewWith(vgimg.UseWH(width, height), vgimg.UseDPI(int(o.DPI)))
		p.canvas = c
		out = pngOf{c}
	case "svg":
		c := vgsvg.NewWith(vgsvg.UseWH(width, height))
		p.canvas, out = c, svgOf{c}
	case "pdf":
		c := &pdfCanvas{Canvas: vgpdf.New(width, height), widths: map[int]bool{}}
		p.canvas, out = c, c
	default:
		return nil, fmt.Errorf("%q is not a format of figures", format)
	}
	p.rect(0, 0, p.width, p.height, p.theme.paper)
	f.draw(p)
	_, err = out.WriteTo(w)
	return p.notes(), err
}

// pngOf writes the image of a canvas.
type pngOf struct{ c *vgimg.Canvas }

func (p pngOf) WriteTo(w io.Writer) (int64, error) {
	e := png.Encoder{CompressionLevel: png.BestSpeed}
	return 0, e.Encode(w, p.c.Image())
}

// svgOf writes a canvas whose images say what they are: PNGs, which the library declares to be JPEGs, so that some viewers leave them out.
type svgOf struct{ *vgsvg.Canvas }

func (s svgOf) WriteTo(w io.Writer) (int64, error) {
	var b bytes.Buffer
	if _, err := s.Canvas.WriteTo(&b); err != nil {
		return 0, err
	}
	n, err := w.Write(bytes.ReplaceAll(text.PrintableBytes(b.Bytes()), []byte("data:image/jpg;base64,iVBORw0KGgo"), []byte("data:image/png;base64,iVBORw0KGgo")))
	return int64(n), err
}

// pdfCanvas is a canvas whose images all differ in width: the library writes images in the order of their widths, and those of one width in any
// order, so that the same figure would not always be the same bytes.
type pdfCanvas struct {
	*vgpdf.Canvas
	widths map[int]bool
}

// DrawImage draws an image, on the right of which it leaves as many transparent columns as make its width another than those before.
func (c *pdfCanvas) DrawImage(r vg.Rectangle, img image.Image) {
	b := img.Bounds()
	width := b.Dx()
	for c.widths[width] {
		width++
	}
	c.widths[width] = true
	if width > b.Dx() {
		wider := image.NewNRGBA(image.Rect(0, 0, width, b.Dy()))
		draw.Draw(wider, wider.Bounds(), img, b.Min, draw.Src)
		r.Max.X = r.Min.X + r.Size().X*vg.Length(width)/vg.Length(b.Dx())
		img = wider
	}
	c.Canvas.DrawImage(r, img)
}

// pixel is the length of a pixel.
const pixel = vg.Inch / 96

// pen draws on a page.
type pen struct {
	canvas        vg.Canvas
	width, height float64
	options       Options
	theme         theme
	missing       map[rune]bool
}

// notes say which letters were drawn as boxes.
func (p *pen) notes() []string {
	if len(p.missing) == 0 {
		return nil
	}
	var letters []string
	for _, r := range slices.Sorted(maps.Keys(p.missing)) {
		if letters = append(letters, string(r)); len(letters) == 12 {
			break
		}
	}
	return []string{"the fonts have no " + strings.Join(letters, " ") + ", which are drawn as boxes"}
}

// at is a point of the page on the canvas.
func (p *pen) at(x, y float64) vg.Point {
	return vg.Point{X: vg.Length(x) * pixel, Y: vg.Length(p.height-y) * pixel}
}

// rect fills a rectangle.
func (p *pen) rect(x, y, w, h float64, c color.Color) {
	if w <= 0 || h <= 0 {
		return
	}
	p.fill([][][2]float64{{{x, y}, {x + w, y}, {x + w, y + h}, {x, y + h}}}, c)
}

func (p *pen) path(rings [][][2]float64, closed bool) (path vg.Path) {
	for _, r := range rings {
		for i, q := range r {
			if i == 0 {
				path.Move(p.at(q[0], q[1]))
			} else {
				path.Line(p.at(q[0], q[1]))
			}
		}
		if closed {
			path.Close()
		}
	}
	return path
}

// fill fills the ground within rings.
func (p *pen) fill(rings [][][2]float64, c color.Color) {
	p.canvas.SetColor(c)
	p.canvas.Fill(p.path(rings, true))
}

// stroke draws lines.
func (p *pen) stroke(lines [][][2]float64, width float64, c color.Color, closed bool) {
	p.canvas.SetLineWidth(vg.Length(width) * pixel)
	p.canvas.SetLineDash(nil, 0)
	p.canvas.SetColor(c)
	p.canvas.Stroke(p.path(lines, closed))
}

// line draws one line.
func (p *pen) line(x0, y0, x1, y1, width float64, c color.Color) {
	p.stroke([][][2]float64{{{x0, y0}, {x1, y1}}}, width, c, false)
}

// image draws an image.
func (p *pen) image(x, y, w, h float64, img image.Image) {
	p.canvas.DrawImage(vg.Rectangle{Min: p.at(x, y+h), Max: p.at(x+w, y)}, img)
}

// face is a font of the program, whose letters are kept as they are used. Several figures draw with it at once.
type face struct {
	font   *sfnt.Font
	mu     sync.Mutex
	glyphs map[rune]*glyph // nil for those that it does not have
}

// glyph is a letter in units of its height.
type glyph struct {
	segments sfnt.Segments
	advance  float64
}

// faces are the fonts: regular and bold.
var faces = sync.OnceValue(func() (out [2]*face) {
	for i, data := range [][]byte{liberationsansregular.TTF, liberationsansbold.TTF} {
		f, err := sfnt.Parse(data)
		if err != nil {
			panic(err) // they are part of the program
		}
		out[i] = &face{font: f, glyphs: map[rune]*glyph{}}
	}
	return out
})

func faceOf(bold bool) *face {
	if bold {
		return faces()[1]
	}
	return faces()[0]
}

// unitsOfGlyphs is the size at which outlines are taken from the fonts.
const unitsOfGlyphs = 1 << 10

// glyph is a letter, if the font has it.
func (f *face) glyph(r rune) (*glyph, bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	g, known := f.glyphs[r]
	if !known {
		g = f.load(r)
		f.glyphs[r] = g
	}
	return g, g != nil
}

// load takes a letter from the font, nil when it has none.
func (f *face) load(r rune) *glyph {
	var b sfnt.Buffer
	index, err := f.font.GlyphIndex(&b, r)
	if err != nil || index == 0 {
		return nil
	}
	segments, err := f.font.LoadGlyph(&b, index, fixed.I(unitsOfGlyphs), nil)
	if err != nil {
		return nil
	}
	advance, err := f.font.GlyphAdvance(&b, index, fixed.I(unitsOfGlyphs), font.HintingNone)
	if err != nil {
		return nil
	}
	return &glyph{slices.Clone(segments), float64(advance) / 64 / unitsOfGlyphs}
}

// boxAdvance is the width of the box that stands for a letter that the fonts do not have, and its letters for how wide lines are.
const boxAdvance = 0.62

// invisible reports whether a rune takes no room: marks of direction and joining, which are left out.
func invisible(r rune) bool {
	return r < ' ' || r == 0x7f || r >= 0x80 && r < 0xa0 || r >= 0x200b && r <= 0x200f || r >= 0x2028 && r <= 0x202e || r >= 0x2060 && r <= 0x206f || r == 0xfeff
}

// widthOf is the width of a text.
func widthOf(s string, size float64, bold bool) float64 {
	f := faceOf(bold)
	w := 0.0
	for _, r := range s {
		if invisible(r) {
			continue
		}
		if g, ok := f.glyph(r); ok {
			w += g.advance
		} else {
			w += boxAdvance
		}
	}
	return w * size
}

// align is where a text lies beside its point.
type align int

const (
	left align = iota
	middle
	right
)

// inOrder has the letters of a line from left to right: those of Hebrew, Arabic and the like run from right to left, as Unicode's algorithm of directions says.
func inOrder(s string) string {
	if !strings.ContainsFunc(s, func(r rune) bool { return r >= 0x590 }) {
		return s
	}
	var p bidi.Paragraph
	if _, err := p.SetString(s); err != nil {
		return s
	}
	order, err := p.Order()
	if err != nil {
		return s
	}
	// The library gives the runs in the order of reading. In a line that begins from the right they stand the other way round; in one that begins from the left, those
	// that run to the left do, with the numbers among and behind them.
	fromRight := !p.IsLeftToRight()
	line, back := "", ""
	for i := range order.NumRuns() {
		run := order.Run(i)
		words := run.String()
		switch {
		case run.Direction() == bidi.RightToLeft:
			back = bidi.ReverseString(words) + back
			continue
		case fromRight:
			back = words + back
			continue
		case back != "":
			number := leadingNumber.FindString(words)
			words, back = words[len(number):], number+back
		}
		if words != "" {
			line, back = line+back+words, ""
		}
	}
	return line + back
}

var leadingNumber = regexp.MustCompile(`^\d+([.,:/+-]\d+)*%?`)

// text draws a line of text, with its baseline at y.
func (p *pen) text(x, y, size float64, bold bool, to align, c color.Color, s string) {
	switch to {
	case middle:
		x -= widthOf(s, size, bold) / 2
	case right:
		x -= widthOf(s, size, bold)
	}
	f := faceOf(bold)
	var path vg.Path
	for _, r := range inOrder(s) {
		if invisible(r) {
			continue
		}
		g, ok := f.glyph(r)
		if !ok {
			p.missing[r] = true
			w := boxAdvance * size
			p.stroke([][][2]float64{{{x + w*0.12, y}, {x + w*0.88, y}, {x + w*0.88, y - 0.7*size}, {x + w*0.12, y - 0.7*size}}}, math.Max(0.6, size/18), c, true)
			x += w
			continue
		}
		point := func(q fixed.Point26_6) vg.Point {
			return p.at(x+float64(q.X)/64/unitsOfGlyphs*size, y+float64(q.Y)/64/unitsOfGlyphs*size)
		}
		open := false
		for _, s := range g.segments {
			switch s.Op {
			case sfnt.SegmentOpMoveTo:
				if open {
					path.Close()
				}
				path.Move(point(s.Args[0]))
				open = true
			case sfnt.SegmentOpLineTo:
				path.Line(point(s.Args[0]))
			case sfnt.SegmentOpQuadTo:
				path.QuadTo(point(s.Args[0]), point(s.Args[1]))
			case sfnt.SegmentOpCubeTo:
				path.CubeTo(point(s.Args[0]), point(s.Args[1]), point(s.Args[2]))
			}
		}
		if open {
			path.Close()
		}
		x += g.advance * size
	}
	if len(path) > 0 {
		p.canvas.SetColor(c)
		p.canvas.Fill(path)
	}
}

// fit cuts a text such that it is no wider than there is room.
func fit(s string, size float64, bold bool, room float64) string {
	if widthOf(s, size, bold) <= room {
		return s
	}
	runes := []rune(s)
	low, high := 0, len(runes)
	for low < high {
		mid := (low + high + 1) / 2
		if widthOf(string(runes[:mid])+"…", size, bold) <= room {
			low = mid
		} else {
			high = mid - 1
		}
	}
	if low == 0 {
		return ""
	}
	return strings.TrimRight(string(runes[:low]), " ") + "…"
}

// lines breaks a text between words into lines of at most a width, and cuts the last of them when there are more than most.
func lines(s string, size float64, bold bool, room float64, most int) (out []string) {
	line := ""
	words := strings.Fields(s)
	for i, w := range words {
		next := strings.TrimSpace(line + " " + w)
		if line != "" && widthOf(next, size, bold) > room {
			if len(out) == most-1 {
				return append(out, fit(strings.Join(append([]string{line}, words[i:]...), " "), size, bold, room))
			}
			out, line = append(out, fit(line, size, bold, room)), w
			continue
		}
		line = next
	}
	if line != "" {
		out = append(out, fit(line, size, bold, room))
	}
	return out
}
