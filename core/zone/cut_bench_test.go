package zone

import (
	"math"
	"testing"

	"github.com/verdex-land/verdex/core/raster"
)

// zonesOf are zones of about 57 × 57 cells that tile a window, forty times with other borders, so that a processor does not learn them by heart. Their borders wind.
func zonesOf(each int) (out []Outline) {
	for k := range 40 {
		out = append(out, lattice(each, float64(k))...)
	}
	return out
}

func lattice(each int, phase float64) (out []Outline) {
	g := raster.Grid{Width: 512, Height: 512}
	const n, size = 9, 512.0 / 9
	at := func(x, y float64) Point {
		fade := math.Min(1, math.Min(math.Min(x, 512-x), math.Min(y, 512-y))/20)
		return Point{x + 5*fade*math.Sin(y/7+x/31+phase), y + 5*fade*math.Sin(x/8+y/29+3*phase)}
	}
	for i := range n {
		for j := range n {
			x, y := float64(i)*size, float64(j)*size
			var r Ring
			for _, side := range [4][4]float64{{x, y, 0, 1}, {x, y + size, 1, 0}, {x + size, y + size, 0, -1}, {x + size, y, -1, 0}} {
				for k := range each {
					t := float64(k) * size / float64(each)
					r = append(r, at(side[0]+side[2]*t, side[1]+side[3]*t))
				}
			}
			out = append(out, outlineOf(g, r))
		}
	}
	return out
}

// BenchmarkCut cuts cells along the borders of zones, as pieces and as spans: nanoseconds for each zone.
func BenchmarkCut(b *testing.B) {
	for _, c := range []struct {
		name string
		each int
	}{{"16-corners", 4}, {"128-corners", 32}} {
		zones := zonesOf(c.each)
		w := raster.Window{Width: 512, Height: 512}
		b.Run("pieces/"+c.name, func(b *testing.B) {
			t := Cutter{Width: 512, Down: true}
			for i := range b.N {
				if _, ok := t.Pieces(&zones[i%len(zones)], w, 512); !ok {
					b.Fatal("no pieces")
				}
			}
		})
		for _, moments := range []bool{false, true} {
			name := "spans/"
			if moments {
				name = "moments/"
			}
			b.Run(name+c.name, func(b *testing.B) {
				t := Cutter{Width: 512, Down: true, Moments: moments}
				for i := range b.N {
					t.Cut(&zones[i%len(zones)], 0, 0, 512).Free()
				}
			})
		}
	}
}
