package report

import (
	"math"
	"slices"
	"strconv"
	"strings"
)

// Path is SVG path data of rings in pixels, with a decimal; points that lie within six tenths of a pixel of the one before are left out.
func Path(rings [][][2]float64) string {
	var b strings.Builder
	write := func(v float64) { b.WriteString(strconv.FormatFloat(math.Round(v*10)/10, 'f', -1, 64)) }
	for _, r := range rings {
		var last [2]float64
		for i, q := range r {
			if i > 0 && math.Hypot(q[0]-last[0], q[1]-last[1]) < 0.6 {
				continue
			}
			if i == 0 {
				b.WriteByte('M')
			} else {
				b.WriteByte('L')
			}
			write(q[0])
			b.WriteByte(' ')
			write(q[1])
			last = q
		}
		if len(r) > 0 {
			b.WriteByte('Z')
		}
	}
	return b.String()
}

// Fill sets the pixels of an image, row by row, whose middles lie within rings (by the even-odd rule).
func Fill(pixels []uint16, width, height int, rings [][][2]float64, value uint16) {
	crossings := make([][]float64, height)
	for _, r := range rings {
		for i, p := range r {
			q := r[(i+1)%len(r)]
			if p[1] > q[1] {
				p, q = q, p
			}
			from, to := max(0, math.Ceil(p[1]-0.5)), min(float64(height), math.Ceil(q[1]-0.5)) // rows whose middles lie between the ends
			for row := from; row < to; row++ {
				y := row + 0.5
				crossings[int(row)] = append(crossings[int(row)], p[0]+(q[0]-p[0])*(y-p[1])/(q[1]-p[1]))
			}
		}
	}
	for row, xs := range crossings {
		slices.Sort(xs)
		for i := 0; i+1 < len(xs); i += 2 {
			from, to := max(0, math.Ceil(xs[i]-0.5)), min(float64(width), math.Ceil(xs[i+1]-0.5))
			for col := from; col < to; col++ {
				pixels[row*width+int(col)] = value
			}
		}
	}
}
