package draw

import (
	"bytes"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/recorder"
)

// plane is a frame of n × n cells of 30 m.
func plane(n float64) Plane {
	return Plane{Frame: [4]float64{0, 0, n, n}, MetresX: 30, MetresY: 30, North: true, CRS: "EPSG:32633 WGS 84 / UTM zone 33N"}
}

func keysN(n int) (out []Key) {
	for i := range n {
		out = append(out, Key{Name: fmt.Sprintf("Class %d with a rather long name, of the kind that legends have", i), Value: "12,345", Color: color.NRGBA{uint8(i * 37), uint8(i * 91), uint8(i * 13), 255}})
	}
	return out
}

func pixelsN(n int) *Pixels {
	p := &Pixels{Width: n, Height: n, Colors: make([]color.NRGBA, n*n), Void: make([]bool, n*n)}
	for i := range p.Colors {
		p.Colors[i], p.Void[i] = color.NRGBA{uint8(i), 90, 120, 255}, i%7 == 0
	}
	return p
}

func areasN(n int) (out []Area) {
	for i := range n {
		x, y := float64(i%10)*9, float64(i/10)*9
		ring := Ring{{x, y}, {x + 8, y}, {x + 8, y + 8}, {x, y + 8}}
		out = append(out, Area{Label: fmt.Sprintf("Zone %d of the north-eastern hills", i), Rings: []Ring{ring}, At: LabelPoint([]Ring{ring}), Chosen: n > 3 && i == 2})
	}
	return out
}

// figures of every kind, with little and with much in them.
func figures() map[string]Figure {
	head := Head{Title: "A title that is so long that it has to be broken into lines, and is then cut, because three of them would be too many for any reader of it", Sub: "of something", Note: "a.tif"}
	out := map[string]Figure{}
	for _, n := range []int{0, 1, 7, 60} {
		name := func(kind string) string { return fmt.Sprintf("%s of %d", kind, n) }
		m := &MapFigure{head, plane(90), pixelsN(64), areasN(n), "hectares", keysN(n)}
		out[name("map")] = m
		out[name("pair")] = &PairFigure{head, plane(90), [2]string{"2004", "2020-06-01"}, [2]*Pixels{pixelsN(40), pixelsN(40)}, areasN(n), keysN(n)}
		s := &ShadeFigure{Head: head, Plane: plane(90), Areas: areasN(n), KeysTitle: "%", Keys: keysN(min(n, 5))}
		for i := range n {
			s.Colors, s.Void = append(s.Colors, ramp(amounts, float64(i)/60)), append(s.Void, i%5 == 1)
		}
		out[name("shade")] = s
		b := &BarsFigure{Head: head, Keys: keysN(max(1, n)), Share: n == 7, Unit: "ha"}
		t := &TrendFigure{Head: head, Unit: "ha", Labels: []string{"1999", "2004-05-06", "2004-05-09", "2020"}, Times: []float64{1999, 2004.34, 2004.35, 2020}}
		x := &MatrixFigure{Head: head, From: "2004", To: "2020", Keys: keysN(n), Unit: "ha"}
		w := &FlowsFigure{Head: head, Epochs: []string{"2004", "2012", "2020"}, Keys: keysN(n), Unit: "ha"}
		r := &RanksFigure{Head: head}
		for range 2 {
			moves := make([][]float64, n)
			for i := range moves {
				moves[i] = make([]float64, n)
				for j := range moves[i] {
					moves[i][j] = float64((i*7+j*3)%11) * 1e4
				}
			}
			w.Moves = append(w.Moves, moves)
			x.Cells = moves
		}
		for i := range n {
			parts := make([]float64, max(1, n))
			for k := range parts {
				parts[k] = float64((i + k) % 5)
			}
			b.Names, b.Parts = append(b.Names, strings.Repeat("name ", 1+i%30)), append(b.Parts, parts)
			t.Lines = append(t.Lines, Line{Key: keysN(n)[i], Values: []float64{float64(i) * 10, -float64(i), math.NaN(), 3}, Half: []float64{math.NaN(), 5, 5, 2}})
			r.List = append(r.List, Rank{Name: strings.Repeat("zone ", 1+i%20), Value: "1,234 ha", Group: fmt.Sprint(i % 2), Amount: float64(20 - i), Color: light.accent})
		}
		out[name("bars")], out[name("trend")], out[name("matrix")], out[name("flows")], out[name("ranks")] = b, t, x, w, r
	}
	return out
}

// Nothing that is drawn leaves the page, however much there is and however small the page.
func TestNothingLeavesThePage(t *testing.T) {
	for name, f := range figures() {
		for _, size := range [][2]float64{{1280, 800}, {420, 300}, {800, 1400}} {
			c := &recorder.Canvas{}
			p := &pen{canvas: c, width: size[0], height: size[1], options: Options{Width: size[0], Height: size[1], DPI: 96}, theme: light, missing: map[rune]bool{}}
			f.draw(p)
			w, h := vg.Length(size[0])*pixel, vg.Length(size[1])*pixel
			for _, a := range c.Actions {
				var path vg.Path
				switch a := a.(type) {
				case *recorder.Fill:
					path = a.Path
				case *recorder.Stroke:
					path = a.Path
				}
				for _, q := range path {
					for _, pt := range append([]vg.Point{q.Pos}, q.Control...) {
						if q.Type == vg.CloseComp {
							continue
						}
						require.False(t, math.IsNaN(float64(pt.X+pt.Y)), "%s %v", name, size)
						require.True(t, pt.X >= -1.5 && pt.X <= w+1.5 && pt.Y >= -1.5 && pt.Y <= h+1.5, "%s at %v: %v, %v of %v × %v", name, size, pt.X/pixel, (h-pt.Y)/pixel, size[0], size[1])
					}
				}
			}
		}
	}
}

// The same figure is the same bytes in every format.
func TestSameBytes(t *testing.T) {
	for name, f := range figures() {
		for _, format := range []string{"png", "svg", "pdf"} {
			var a, b bytes.Buffer
			_, err := Write(&a, format, f, Options{Width: 500, Height: 400})
			require.NoError(t, err, name)
			_, err = Write(&b, format, f, Options{Width: 500, Height: 400})
			require.NoError(t, err)
			assert.True(t, bytes.Equal(a.Bytes(), b.Bytes()), "%s as %s", name, format)
			assert.Greater(t, a.Len(), 500)
		}
	}
}

// sameWidth is a figure of images of one width.
type sameWidth struct{}

func (sameWidth) draw(p *pen) {
	for i := range 8 {
		img := image.NewNRGBA(image.Rect(0, 0, 3, 2))
		for j := range img.Pix {
			img.Pix[j] = uint8(i*31 + j&3/3*255)
		}
		p.image(10, float64(10+20*i), 30, 15, img)
	}
}

// Images of one width are written in one order, whatever order the library of PDF keeps them in.
func TestSameBytesOfImagesOfOneWidth(t *testing.T) {
	var first bytes.Buffer
	for range 20 {
		var b bytes.Buffer
		_, err := Write(&b, "pdf", sameWidth{}, Options{Width: 500, Height: 400})
		require.NoError(t, err)
		if first.Len() == 0 {
			first = b
		}
		require.True(t, bytes.Equal(first.Bytes(), b.Bytes()))
	}
	for i := range 8 {
		assert.Contains(t, first.String(), fmt.Sprintf("/Width %d\n/Height 2\n/ColorSpace /DeviceRGB", 3+i))
	}
}

func drawn(t *testing.T, f Figure, o Options) image.Image {
	t.Helper()
	var b bytes.Buffer
	_, err := Write(&b, "png", f, o)
	require.NoError(t, err)
	img, err := png.Decode(&b)
	require.NoError(t, err)
	return img
}

// A map has the colours of its pixels at their places, and hatching where there is no class.
func TestMapHasItsColours(t *testing.T) {
	red, blue := color.NRGBA{200, 30, 30, 255}, color.NRGBA{20, 60, 200, 255}
	f := &MapFigure{Plane: plane(10), Pixels: &Pixels{Width: 2, Height: 2, Colors: []color.NRGBA{red, blue, blue, red}, Void: []bool{false, false, false, true}}}
	img := drawn(t, f, Options{Width: 800, Height: 600, DPI: 192})
	assert.Equal(t, image.Rect(0, 0, 1600, 1200), img.Bounds())
	at := func(x, y int) color.NRGBA { return color.NRGBAModel.Convert(img.At(2*x, 2*y)).(color.NRGBA) }
	p := &pen{width: 800, height: 600}
	b := p.frame(box{margin, margin + gap, 800 - 2*margin - p.legendWidth() - 24, 600 - 2*margin - gap}, f.Plane)
	q := func(fx, fy float64) color.NRGBA { return at(int(b.x+b.w*fx), int(b.y+b.h*fy)) }
	assert.Equal(t, red, q(0.2, 0.2))
	assert.Equal(t, blue, q(0.8, 0.2))
	assert.Equal(t, blue, q(0.2, 0.8))
	for _, c := range []color.NRGBA{red, blue} {
		assert.NotEqual(t, c, q(0.8, 0.8), "what is no class has the colour of none")
	}
	assert.Equal(t, light.paper, at(2, 2))
	assert.Equal(t, dark.paper, color.NRGBAModel.Convert(drawn(t, f, Options{Width: 400, Height: 300, Dark: true}).At(1, 1)))
}

func TestOptions(t *testing.T) {
	for _, o := range []Options{{Width: 100, Height: 100}, {Width: 5000, Height: 5000, DPI: 400}, {Width: 800, Height: 600, DPI: 3}} {
		assert.Error(t, o.Check())
	}
	_, err := FormatOf("x.gif")
	assert.ErrorContains(t, err, "end the name with .png, .svg or .pdf")
	_, err = Write(&bytes.Buffer{}, "gif", &RanksFigure{}, Options{})
	assert.Error(t, err)
	w, h := PixelSize(Options{}, plane(10), 1)
	assert.Equal(t, w, h)
	assert.Greater(t, w, 500)
}

// Letters that the fonts do not have are boxes, and are named; those of direction take no room.
func TestLetters(t *testing.T) {
	notes, err := Write(&bytes.Buffer{}, "svg", &RanksFigure{Head: Head{Title: "Łąka Лес Δάσος 森林 🌳"}}, Options{})
	require.NoError(t, err)
	require.Len(t, notes, 1)
	assert.Contains(t, notes[0], "the fonts have no 林 森 🌳")
	assert.Equal(t, widthOf("ab", 10, false), widthOf("a\u200b\u202eb", 10, false))
	assert.Equal(t, "", fit("wide", 20, false, 1))
	assert.Equal(t, "wi…", fit("wide words", 20, false, widthOf("wi…", 20, false)+1))
	got := lines("one two three four five six seven", 12, false, 60, 2)
	assert.Len(t, got, 2)
	assert.True(t, strings.HasSuffix(got[1], "…"))
	for _, l := range got {
		assert.LessOrEqual(t, widthOf(l, 12, false), 60.0)
	}
}

func TestBreaks(t *testing.T) {
	b, err := NewBreaks([]float64{0, 10, 20, 30, 40, math.NaN()}, "equal", 4)
	require.NoError(t, err)
	assert.Equal(t, []float64{0, 10, 20, 30, 40}, b.Limits)
	assert.Equal(t, []int{0, 1, 3, 3, -1, -1}, []int{b.Of(0), b.Of(10), b.Of(30), b.Of(40), b.Of(41), b.Of(math.NaN())})
	b, err = NewBreaks([]float64{1, 2, 3, 4, 100, 200, 300, 400}, "quantiles", 4)
	require.NoError(t, err)
	assert.Equal(t, []float64{1, 3, 100, 300, 400}, b.Limits)
	// Three clusters are found whatever their sizes: the least sum of squares is 2 + 0 + 2.
	b, err = NewBreaks([]float64{10, 11, 12, 50, 90, 91, 92}, "natural", 3)
	require.NoError(t, err)
	assert.Equal(t, []float64{10, 50, 90, 92}, b.Limits)
	b, err = NewBreaks([]float64{-8, -2, 3, 4}, "equal", 4)
	require.NoError(t, err)
	assert.True(t, b.Diverging)
	assert.Equal(t, []float64{-8, -4, 0, 4, 8}, b.Limits)
	c := b.Colors()
	assert.Greater(t, luminance(c[1]), luminance(c[0]), "darker further from nothing")
	assert.Greater(t, luminance(c[2]), luminance(c[3]))
	for _, wrong := range [][]float64{{}, {math.NaN()}, {math.Inf(1)}} {
		_, err := NewBreaks(wrong, "equal", 3)
		assert.Error(t, err)
	}
	for _, wrong := range [][]float64{{1}, {1, 1}, {2, 1}, {math.NaN(), 1}, {0, math.NaN()}} {
		_, err := StatedBreaks(wrong)
		assert.Error(t, err)
	}
	rng := rand.New(rand.NewPCG(1, 2))
	for range 200 { // every number has a class, whatever they are
		var v []float64
		for range 1 + rng.IntN(50) {
			v = append(v, math.Round(rng.NormFloat64()*10))
		}
		for _, how := range []string{"equal", "quantiles", "natural"} {
			b, err := NewBreaks(v, how, 2+rng.IntN(7))
			require.NoError(t, err)
			for _, x := range v {
				require.GreaterOrEqual(t, b.Of(x), 0, "%v in %v by %s of %v", x, b.Limits, how, v)
			}
			require.Len(t, b.Colors(), len(b.Limits)-1)
		}
	}
}

// Text stands out from any ground by the contrast that WCAG 2 asks of text, 4.5 to 1.
func TestContrast(t *testing.T) {
	ratio := func(a, b color.NRGBA) float64 {
		x, y := luminance(a), luminance(b)
		return (math.Max(x, y) + 0.05) / (math.Min(x, y) + 0.05)
	}
	for _, k := range []theme{light, dark} {
		assert.Greater(t, ratio(k.ink, k.paper), 12.0)
		assert.Greater(t, ratio(k.soft, k.paper), 4.5)
	}
	for i := range 256 {
		g := color.NRGBA{uint8(i), uint8(i * 7), uint8(i * 31), 255}
		assert.Greater(t, ratio(light.on(g), g), 4.5, g)
	}
	for _, stops := range [][]color.NRGBA{amounts, losses, gains} {
		for i := 1; i < len(stops); i++ {
			assert.Less(t, luminance(stops[i]), luminance(stops[i-1])-0.008, "each stop is darker than the one before")
		}
	}
}

func TestLabelPoint(t *testing.T) {
	at := LabelPoint([]Ring{{{0, 0}, {10, 0}, {10, 2}, {2, 2}, {2, 10}, {0, 10}}}) // an L
	assert.True(t, at[1] < 2 && at[0] > 2 || at[0] < 2, at)
	hole := LabelPoint([]Ring{{{0, 0}, {10, 0}, {10, 10}, {0, 10}}, {{1, 1}, {7, 1}, {7, 9}, {1, 9}}})
	assert.Greater(t, hole[0], 7.0)
	ring := clip([][2]float64{{-5, -5}, {15, -5}, {15, 15}, {-5, 15}}, box{0, 0, 10, 10})
	assert.Len(t, ring, 4)
	assert.Empty(t, clip([][2]float64{{20, 20}, {30, 20}, {30, 30}}, box{0, 0, 10, 10}))
	assert.Equal(t, []float64{1, 0.5, 20, 50}, []float64{nice(0.7), nice(0.3), nice(11), nice(50)})
}

// The classes are the best that a search of all divisions finds, and none is empty: there are never more classes than different numbers.
func TestBreaksAreTheBest(t *testing.T) {
	rng := rand.New(rand.NewPCG(5, 5))
	for try := range 400 {
		v := make([]float64, 1+rng.IntN(9))
		for i := range v {
			v[i] = float64(rng.IntN(12)) * 5
		}
		slices.Sort(v)
		distinct := slices.Compact(slices.Clone(v))
		steps := 1 + try%5
		n := min(steps, len(distinct))
		cost := map[string]func(class []float64, before int) float64{
			"natural": func(class []float64, _ int) (sum float64) {
				mean := 0.0
				for _, x := range class {
					mean += x / float64(len(class))
				}
				for _, x := range class {
					sum += (x - mean) * (x - mean)
				}
				return sum
			},
			"quantiles": func(_ []float64, before int) float64 { // how far the limit is from an even division; the caller numbers the classes
				return float64(before)
			},
		}
		for _, how := range []string{"natural", "quantiles"} {
			total := func(lower []float64) (sum float64) {
				for k, from := range lower {
					var class []float64
					before := 0
					for _, x := range v {
						if x < from {
							before++
						} else if k == len(lower)-1 || x < lower[k+1] {
							class = append(class, x)
						}
					}
					if len(class) == 0 {
						return math.Inf(1)
					}
					if c := cost[how](class, before); how == "quantiles" {
						sum += math.Abs(c*float64(n) - float64(k*len(v)))
					} else {
						sum += c
					}
				}
				return sum
			}
			least := math.Inf(1)
			for chosen := range 1 << len(distinct) {
				var lower []float64
				for i, x := range distinct {
					if chosen>>i&1 == 1 {
						lower = append(lower, x)
					}
				}
				if len(lower) == n && lower[0] == distinct[0] {
					least = math.Min(least, total(lower))
				}
			}
			b, err := NewBreaks(v, how, steps)
			require.NoError(t, err)
			require.Len(t, b.Limits, n+1, "%s of %v in %d", how, v, steps)
			require.InDelta(t, least, total(b.Limits[:n]), 1e-9, "%s of %v in %d: %v", how, v, steps, b.Limits)
			seen := map[int]bool{}
			for _, x := range v {
				seen[b.Of(x)] = true
			}
			require.Len(t, seen, n)
		}
	}
	b, err := NewBreaks([]float64{5, 95}, "equal", 5)
	require.NoError(t, err)
	assert.NotEqual(t, b.Of(5), b.Of(95))
	assert.NotEqual(t, b.Colors()[b.Of(5)], b.Colors()[b.Of(95)])
}

// Losses, gains and what stays have colours of their own, however far apart they are.
func TestColorsOfClassesDiffer(t *testing.T) {
	rng := rand.New(rand.NewPCG(7, 5))
	for range 200 {
		var v []float64
		for range 2 + rng.IntN(12) {
			v = append(v, math.Round(rng.NormFloat64()*math.Pow(10, float64(rng.IntN(4)))))
		}
		for _, how := range []string{"equal", "quantiles", "natural"} {
			b, err := NewBreaks(v, how, 2+rng.IntN(8))
			require.NoError(t, err)
			require.True(t, slices.IsSorted(b.Limits), "%v", b.Limits)
			colors := map[color.NRGBA]bool{}
			for _, c := range b.Colors() {
				colors[c] = true
			}
			require.Len(t, colors, len(b.Limits)-1)
			for _, x := range v {
				k := b.Of(x)
				require.GreaterOrEqual(t, k, 0)
				require.True(t, x >= b.Limits[k] && x <= b.Limits[k+1])
				if b.Diverging && x != 0 {
					require.Equal(t, x < 0, b.Limits[k] < 0, "%v is in a class of its own sign in %v", x, b.Limits)
				}
			}
		}
	}
}

// Names of right-to-left scripts are drawn in their direction, and what is within them in its own.
func TestLettersRunInTheirDirection(t *testing.T) {
	for s, want := range map[string]string{
		"Ward 3":            "Ward 3",
		"שלום":              "םולש",
		"Ward שלום 3":       "Ward 3 םולש",
		"שלום (צפון)":       "(ןופצ) םולש",
		"שלום 12":           "12 םולש",
		"مدينة":             "ةنيدم",
		"é – ﬁ":             "é – ﬁ",
		"שלום ab":           "ab םולש",
		"from שלום to עולם": "from םולש to םלוע",
	} {
		assert.Equal(t, want, inOrder(s), s)
	}
}
