package tally

import (
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/zone"
)

// cropped are the spans of a row that meet a window, and how many cut cells lie before them.
func (t touch) cropped(row int, w raster.Window) ([]zone.Range, []zone.EdgeCell, int) {
	full, edge := t.spans.Row(row)
	if t.inside {
		return full, edge, 0
	}
	left, right := int32(w.Col), int32(w.Col+w.Width)
	if n, m := len(full), len(edge); n > 0 && (full[0].To <= left || full[n-1].From >= right) ||
		m > 0 && (edge[0].Col < left || edge[m-1].Col >= right) {
		return crop(full, edge, w.Col, w.Col+w.Width)
	}
	return full, edge, 0
}

// crop keeps the spans that meet columns from to to-1, and says how many cut cells lie before them.
func crop(full []zone.Range, edge []zone.EdgeCell, from, to int) ([]zone.Range, []zone.EdgeCell, int) {
	a, b := int32(from), int32(to)
	for len(full) > 0 && full[0].To <= a {
		if n := len(full) / 2; n > 8 && full[n].To <= a {
			full = full[n:]
		}
		full = full[1:]
	}
	for len(full) > 0 && full[len(full)-1].From >= b {
		if n := len(full) / 2; n > 8 && full[n].From >= b {
			full = full[:n+1]
		}
		full = full[:len(full)-1]
	}
	before := 0
	for len(edge) > 0 && edge[0].Col < a {
		if n := len(edge) / 2; n > 8 && edge[n].Col < a {
			edge, before = edge[n:], before+n
		}
		edge, before = edge[1:], before+1
	}
	for len(edge) > 0 && edge[len(edge)-1].Col >= b {
		if n := len(edge) / 2; n > 8 && edge[n].Col >= b {
			edge = edge[:n+1]
		}
		edge = edge[:len(edge)-1]
	}
	return full, edge, before
}

// holdsAll reports whether a zone holds all cells of a window, none of them cut.
func (t touch) holdsAll(w raster.Window) bool {
	if int(t.from) > w.Row || int(t.to) < w.Row+w.Height {
		return false
	}
	for row := w.Row; row < w.Row+w.Height; row++ {
		full, edge, _ := t.cropped(row, w)
		if len(edge) > 0 || len(full) != 1 || int(full[0].From) > w.Col || int(full[0].To) < w.Col+w.Width {
			return false
		}
	}
	return true
}
