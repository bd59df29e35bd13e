package view

import (
	"fmt"
	"math"
	"slices"
	"sync/atomic"

	"github.com/verdex-land/verdex/core/raster"
)

// Statistic is what a composite keeps of a stack of cells.
type Statistic uint8

// The statistics. Cells without data take no part.
const (
	StackMajority Statistic = iota // of classes
	StackMin
	StackMax
	StackMean
	StackMedian
	StackCount // of cells with data
)

// Composite is a view of a stack of rasters on one grid, in the order of time: for each cell a statistic of
// those that hold data. In a tie of classes the one that stands first in Ties wins, and those that do not stand there
// are settled by the latest raster.
type Composite struct {
	header  raster.Header
	sources []raster.Source
	how     Statistic
	rank    map[float64]int
	blockW  int
	blockH  int
	tied    atomic.Int64
}

// NewComposite makes the view; ties are values in the order in which they win.
func NewComposite(sources []raster.Source, how Statistic, ties []float64) (*Composite, error) {
	if len(sources) == 0 {
		return nil, fmt.Errorf("a composite needs at least one raster")
	}
	first := sources[0].Header()
	c := &Composite{how: how, rank: map[float64]int{}, header: first}
	for i, v := range ties {
		c.rank[v] = i
	}
	c.blockW, c.blockH = sources[0].BlockSize()
	var headers []raster.Header
	var types []raster.CellType
	for _, s := range sources {
		h := s.Header()
		if err := first.Grid.Aligned(h.Grid); err != nil {
			return nil, fmt.Errorf("%s and %s do not lie on one grid (%w)", first.Name, h.Name, err)
		}
		if h.Type.Floating() != first.Type.Floating() {
			return nil, fmt.Errorf("%s holds %s and %s %s cells: whole numbers and measurements make no composite", first.Name, first.Type, h.Name, h.Type)
		}
		headers, types = append(headers, h), append(types, h.Type)
		if w, hh := s.BlockSize(); w != c.blockW || hh != c.blockH {
			s = raster.Cached(s, cacheBytes/len(sources))
		}
		c.sources = append(c.sources, s)
	}
	c.header.Name, c.header.Format, c.header.Overviews = fmt.Sprintf("composite of %d rasters", len(sources)), "composite", 0
	none := math.NaN()
	switch how {
	case StackMean, StackMedian:
		c.header.Type, c.header.NoData, c.header.Palette = raster.Float32, &none, nil
	case StackCount:
		c.header.Type, c.header.NoData, c.header.Palette = raster.Uint16, nil, nil
	default:
		t, ok := raster.JointType(types...)
		if !ok {
			return nil, fmt.Errorf("%s and the others hold cells that no type can hold together", first.Name)
		}
		c.header.Type, c.header.NoData = raster.Common(t, headers)
	}
	return c, nil
}

// Tied is how many cells had a tie in what has been read.
func (c *Composite) Tied() int64 { return c.tied.Load() }

// Header implements [Source].
func (c *Composite) Header() raster.Header { return c.header }

// BlockSize implements [Source].
func (c *Composite) BlockSize() (width, height int) { return c.blockW, c.blockH }

// NewReader implements [Source].
func (c *Composite) NewReader() raster.Reader {
	r := &compositeReader{c: c, cells: make([]raster.Cells, len(c.sources))}
	for _, s := range c.sources {
		r.readers = append(r.readers, s.NewReader())
		r.rows = append(r.rows, nil)
	}
	return r
}

type compositeReader struct {
	c       *Composite
	readers []raster.Reader
	cells   []raster.Cells
	rows    [][]float64
}

// Read implements [Reader].
func (r *compositeReader) Read(w raster.Window, dst *raster.Cells) error {
	c := r.c
	for i := range r.readers {
		if err := r.readers[i].Read(w, &r.cells[i]); err != nil {
			return err
		}
		r.rows[i] = raster.Grown(r.rows[i], w.Width)
	}
	dst.Resize(c.header.Type, w.Width, w.Height, w.Width)
	none := 0.0
	if c.header.NoData != nil {
		none = *c.header.NoData
	}
	values := make([]float64, 0, len(r.cells))
	tied := int64(0)
	for row := range w.Height {
		for i := range r.cells {
			numbersOf(&r.cells[i], row*r.cells[i].Stride, c.sources[i].Header().NoData, r.rows[i])
		}
		for col := range w.Width {
			values = values[:0]
			for i := range r.rows {
				if v := r.rows[i][col]; v == v {
					values = append(values, v)
				}
			}
			v := none
			if c.how == StackCount {
				v = float64(len(values))
			} else if len(values) > 0 {
				var tie bool
				if v, tie = c.combine(values); tie {
					tied++
				}
			}
			dst.Set(col, row, v)
		}
	}
	c.tied.Add(tied)
	return nil
}

// combine gives the statistic of the values of a cell, of which there is at least one, and whether classes tied.
func (c *Composite) combine(values []float64) (float64, bool) {
	switch c.how {
	case StackMin:
		return slices.Min(values), false
	case StackMax:
		return slices.Max(values), false
	case StackMean:
		return float64(float32(Combine(Mean, values))), false
	case StackMedian:
		slices.Sort(values)
		n := len(values)
		return float64(float32((values[(n-1)/2] + values[n/2]) / 2)), false
	}
	return raster.Majority(values, c.rank)
}

// Ahead implements [raster.Announced].
func (c *Composite) Ahead(windows []raster.Window) bool { return raster.AheadOf(windows, c.sources...) }
