package draw

import (
	"image/color"
	"math"

	"github.com/verdex-land/verdex/core/portable"
)

// theme is the colours of a figure.
type theme struct {
	paper, ink, soft, rule, accent color.NRGBA
	// What is no class: nodata, unlisted, outside; always hatched.
	void, hatch color.NRGBA
	dim         color.NRGBA // laid over what is not meant
}

func rgb(hex uint32) color.NRGBA {
	return color.NRGBA{uint8(hex >> 16), uint8(hex >> 8), uint8(hex), 255}
}

var light = theme{paper: rgb(0xfbfaf6), ink: rgb(0x22262c), soft: rgb(0x666b73), rule: rgb(0xd8d5cc), accent: rgb(0xb4532e), void: rgb(0xefece4), hatch: rgb(0xa9a59b), dim: color.NRGBA{0xfb, 0xfa, 0xf6, 0xb0}}

var dark = theme{paper: rgb(0x14181f), ink: rgb(0xe8e5de), soft: rgb(0x9aa1ab), rule: rgb(0x353c47), accent: rgb(0xe28b60), void: rgb(0x20252e), hatch: rgb(0x646b76), dim: color.NRGBA{0x14, 0x18, 0x1f, 0xb0}}

// Sizes of text in pixels, and distances.
const (
	titleSize = 22
	textSize  = 13
	noteSize  = 11
	margin    = 30
	gap       = 12
)

// Stops of the ramps, from little to much; they differ in lightness, so that they stay apart in grey and for people who see colours differently.
var (
	amounts = []color.NRGBA{rgb(0xf1eee2), rgb(0xcddbd2), rgb(0x9dc0bc), rgb(0x689da5), rgb(0x3d7487), rgb(0x214c65), rgb(0x0e2942)}
	losses  = []color.NRGBA{rgb(0xefece4), rgb(0xe6c39f), rgb(0xd1905f), rgb(0xab5b31), rgb(0x7a3315)}
	gains   = []color.NRGBA{rgb(0xefece4), rgb(0xb4d0d3), rgb(0x74a8b4), rgb(0x3a7a90), rgb(0x174d66)}
)

// ramp is the colour at a place from 0 to 1 of a list of stops.
func ramp(stops []color.NRGBA, t float64) color.NRGBA {
	t = math.Max(0, math.Min(1, t)) * float64(len(stops)-1)
	i := min(int(t), len(stops)-2)
	f := t - float64(i)
	mix := func(a, b uint8) uint8 { return uint8(math.Round(float64(a)*(1-f) + float64(b)*f)) }
	a, b := stops[i], stops[i+1]
	return color.NRGBA{mix(a.R, b.R), mix(a.G, b.G), mix(a.B, b.B), 255}
}

// luminance is the relative luminance of a colour, as WCAG 2 defines it.
func luminance(c color.NRGBA) float64 {
	linear := func(v uint8) float64 {
		x := float64(v) / 255
		if x <= 0.04045 {
			return x / 12.92
		}
		return portable.Pow((x+0.055)/1.055, 2.4)
	}
	return 0.2126*linear(c.R) + 0.7152*linear(c.G) + 0.0722*linear(c.B)
}

// on is the colour of text on a ground: ink or paper, whichever stands out more.
func (t *theme) on(ground color.NRGBA) color.NRGBA {
	contrast := func(a, b color.NRGBA) float64 {
		x, y := luminance(a), luminance(b)
		return (math.Max(x, y) + 0.05) / (math.Min(x, y) + 0.05)
	}
	black, white := rgb(0x000000), rgb(0xffffff) // of which one always has 4.58 to 1
	if contrast(ground, black) >= contrast(ground, white) {
		return black
	}
	return white
}
