package job

import (
	"context"
	"math"

	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/zone"
)

// cells counts the cells of a number one by one, finds the least and the greatest of them, and which blocks hold the zone.
func (x *Explanation) cells(ctx context.Context, s raster.Source, place *zone.Placement, centres bool, wanted func(float64) bool) error {
	g := place.Grid
	areas, err := raster.NewAreas(g)
	if err != nil {
		return err
	}
	o := &place.Outlines[0]
	cutter := &zone.Cutter{Width: g.Width, Down: place.Down, Centres: centres, Moments: areas.Vary == raster.ByCell}
	x.BlockW, x.BlockH = s.BlockSize()
	x.BlockW, x.BlockH = min(x.BlockW, g.Width), min(x.BlockH, g.Height)
	x.Of = ((g.Width + x.BlockW - 1) / x.BlockW) * ((g.Height + x.BlockH - 1) / x.BlockH)
	_, step := raster.WorkSize(s)
	x.LeastCell = math.Inf(1)
	reader := s.NewReader()
	c := &cellCount{x: x, areas: areas, blocks: map[[2]int]bool{}, col: o.ColFrom, is: remembered(wanted)}
	for v := range c.bytes {
		c.bytes[v] = s.Header().Type == raster.Uint8 && wanted(float64(v))
	}
	for row := o.RowFrom / step * step; row < o.RowTo; row += step {
		if err := ctx.Err(); err != nil {
			return err
		}
		from, to := max(row, o.RowFrom), min(row+step, o.RowTo)
		spans := cutter.Cut(o, 0, from, to)
		if err := reader.Read(raster.Window{Col: c.col, Row: from, Width: o.ColTo - c.col, Height: to - from}, &c.cells); err != nil {
			return err
		}
		for r := from; r < to; r++ {
			full, edge := spans.Row(r)
			if err := c.row(full, edge, r, r-from); err != nil {
				return err
			}
		}
		spans.Free()
	}
	x.CutShare = math.Ldexp(float64(c.share), -40)
	x.Blocks = len(c.blocks)
	if x.WholeCells+x.CutCells == 0 {
		x.LeastCell = 0
	}
	return nil
}

// cellCount counts the cells of a number one by one.
type cellCount struct {
	x      *Explanation
	areas  *raster.Areas
	cells  raster.Cells // of some rows, from column col on
	col    int
	is     func(v float64) bool
	bytes  [256]bool // the same for cells of bytes, of which there may be many
	share  int64     // of cut cells
	blocks map[[2]int]bool
}

// wanted reports whether a cell is one of those that are counted; at is its row in cells.
func (c *cellCount) wanted(col, at int) bool {
	if c.cells.Type == raster.Uint8 {
		return c.bytes[c.cells.U8[at*c.cells.Stride+col-c.col]]
	}
	return c.is(c.cells.At(col-c.col, at))
}

// row counts the cells of a row of the grid, which is the row at of those at hand.
func (c *cellCount) row(full []zone.Range, edge []zone.EdgeCell, row, at int) error {
	x := c.x
	first, last := -1, -1
	note := func(col int) {
		if first < 0 {
			first = col
		}
		last = col
	}
	touch := func(col int) { c.blocks[[2]int{col / x.BlockW, row / x.BlockH}] = true }
	for _, r := range full {
		for col := int(r.From); col < int(r.To); col++ {
			if c.wanted(col, at) {
				x.WholeCells++
				note(col)
			}
		}
		for col := int(r.From); col < int(r.To); col += x.BlockW {
			touch(col)
		}
		if r.To > r.From {
			touch(int(r.To) - 1)
		}
	}
	for _, e := range edge {
		if touch(int(e.Col)); c.wanted(int(e.Col), at) {
			x.CutCells++
			c.share += e.Share
			note(int(e.Col))
		}
	}
	if first < 0 {
		return nil
	}
	for _, col := range []int{min(first, last), (first + last) / 2, max(first, last)} { // areas vary smoothly along a row
		a, err := c.areas.Cell(col, row)
		if err != nil {
			return err
		}
		x.LeastCell, x.GreatestCell = math.Min(x.LeastCell, a), math.Max(x.GreatestCell, a)
	}
	return nil
}

// remembered asks a question about each number once, but for many numbers.
func remembered(ask func(v float64) bool) func(v float64) bool {
	known := map[float64]bool{}
	return func(v float64) bool {
		answer, ok := known[v]
		if !ok {
			if answer = ask(v); v == v && len(known) < 1<<16 {
				known[v] = answer
			}
		}
		return answer
	}
}
