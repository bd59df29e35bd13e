package job

import (
	"fmt"
	"math"

	"github.com/verdex-land/verdex/core/change"
	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/raster/view"
	"github.com/verdex-land/verdex/core/text"
)

// HistoryMap is what a map of histories shows.
type HistoryMap int

// The maps of histories.
const (
	MapSince HistoryMap = iota // the epoch since which the ground has been what it is at the last one: the n-th epoch is n, and 0 is ground that the last one does not map
	MapKind                    // the course of the history: [change.Course] and one more, and 0 is ground that no epoch maps
	MapCount                   // how often its class changed, and 255 is ground that no epoch maps
)

// mostMapped is how many epochs a map of histories can show.
const mostMapped = 254

// HistoryRaster returns a map of histories under a name for its header. It is computed as it is read, of cells as they are mended.
func (c *Changed) HistoryRaster(name string, which HistoryMap) (*Raster, error) {
	if len(c.Epochs) > mostMapped {
		return nil, fmt.Errorf("a map of histories shows up to %d epochs", mostMapped)
	}
	classes, none := historyClasses(c.Epochs, which)
	h := raster.Header{Name: name, Type: raster.Uint8, NoData: &none, Bands: 1, Palette: make([]raster.Color, 256)}
	for _, class := range classes {
		h.Palette[class.Code] = class.Color
	}
	coders, steady := c.all.in.Coders, c.Steady
	cells := view.Courses(c.all.layers, h, func(values []float64) float64 {
		x := change.History{Codes: make([]int32, len(values))}
		mapped := false
		for e, v := range values {
			x.Codes[e] = change.Unmapped
			if m, ok := coders[e].Code(v); ok && m.Kind == cover.Classified {
				x.Codes[e], mapped = int32(m.Code), true
			}
		}
		if !mapped {
			return none
		}
		x.Mend(steady)
		switch which {
		case MapSince:
			return float64(x.Since() + 1)
		case MapKind:
			return float64(x.Course() + 1)
		}
		return float64(x.Changes())
	})
	return &Raster{Source: cells, Classes: func() []cover.Class { return classes }, Report: c.Report, work: c.work}, nil
}

// historyClasses are the classes of a map, and its value for no data.
func historyClasses(epochs []string, which HistoryMap) (out []cover.Class, none float64) {
	n := len(epochs)
	switch which {
	case MapSince:
		return EpochClasses(epochs), 0
	case MapKind:
		for k := change.Stable; k < change.NeverMapped; k++ {
			out = append(out, cover.Class{Code: int(k) + 1, Name: k.String(), Color: courseColors[k]})
		}
		return out, 0
	}
	for k := range n {
		name := "no change"
		if k > 0 {
			name = text.Count(k, "change")
		}
		out = append(out, cover.Class{Code: k, Name: name, Color: ramp(k, n)})
	}
	return out, 255
}

// EpochClasses are the epochs since which ground has been what it is, as the classes of a map: the first, 1, since then or before.
func EpochClasses(epochs []string) (out []cover.Class) {
	for e, label := range epochs {
		name := "since " + label
		if e == 0 {
			name = label + " or before"
		}
		out = append(out, cover.Class{Code: e + 1, Name: name, Color: ramp(e, len(epochs))})
	}
	return out
}

// CourseColor is the colour of a course in maps and figures.
func CourseColor(k change.Course) raster.Color { return courseColors[k] }

// courseColors are the colours of courses: pale where little happens, strong where it does.
var courseColors = [...]raster.Color{
	{R: 0xd9, G: 0xd9, B: 0xcf}, // stable
	{R: 0x2f, G: 0x7f, B: 0xb8}, // changed once
	{R: 0x6a, G: 0x51, B: 0x9c}, // changed and went on
	{R: 0xf0, G: 0xa2, B: 0x2e}, // went and came back
	{R: 0xc4, G: 0x3c, B: 0x39}, // unsteady
	{R: 0xa8, G: 0xa8, B: 0xa8}, // partly mapped
	{R: 0xff, G: 0xff, B: 0xff}, // never mapped
}

// ramp is the k-th of n colours from pale to strong.
func ramp(k, n int) raster.Color {
	from, to := [3]float64{0xe4, 0xe0, 0xd2}, [3]float64{0x8c, 0x2d, 0x04}
	t := float64(k) / math.Max(1, float64(n-1))
	at := func(i int) uint8 { return uint8(math.Round(from[i] + (to[i]-from[i])*t)) }
	return raster.Color{R: at(0), G: at(1), B: at(2)}
}
