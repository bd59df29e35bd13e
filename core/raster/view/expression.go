package view

import (
	"fmt"
	"math"
	"slices"
	"sync/atomic"

	"github.com/verdex-land/verdex/core/raster"

	"github.com/verdex-land/verdex/core/cql"
	"github.com/verdex-land/verdex/core/fault"
)

// Layer is a raster under the name that expressions and rules know it by.
type Layer struct {
	Name string
	raster.Source
}

// Layers are rasters on the cells of one grid, read together.
type Layers struct {
	List           []Layer
	blockW, blockH int
}

// NewLayers joins layers that lie on one grid. Layers in other blocks than the first are read through a cache.
func NewLayers(list []Layer) (*Layers, error) {
	if len(list) == 0 {
		return nil, fmt.Errorf("there is no layer")
	}
	l := &Layers{}
	l.blockW, l.blockH = list[0].BlockSize()
	g := list[0].Header().Grid
	for _, layer := range list {
		if err := g.Aligned(layer.Header().Grid); err != nil {
			return nil, fault.Errorf("the layers %s and %s do not lie on one grid (%w)", list[0].Name, layer.Name, err).By("choose the layer on whose grid they meet", "grid", list[0].Name)
		}
		if w, h := layer.BlockSize(); w != l.blockW || h != l.blockH {
			layer.Source = raster.Cached(layer.Source, cacheBytes)
		}
		l.List = append(l.List, layer)
	}
	return l, nil
}

// Tiling is that of the layers, where all have the same.
func (l *Layers) Tiling() (cols, rows []int) {
	cols, rows = raster.Tiling(l.List[0].Source)
	for _, layer := range l.List[1:] {
		c, r := raster.Tiling(layer.Source)
		if !slices.Equal(c, cols) || !slices.Equal(r, rows) {
			return nil, nil
		}
	}
	return cols, rows
}

// Ahead implements [raster.Announced].
func (l *Layers) Ahead(windows []raster.Window) (useful bool) {
	for _, layer := range l.List {
		useful = raster.Ahead(layer.Source, windows) || useful
	}
	return useful
}

// Bytes reports whether these are one or two layers of bytes, for which rules are a table.
func (l *Layers) Bytes() bool {
	return len(l.List) <= 2 && !slices.ContainsFunc(l.List, func(layer Layer) bool { return layer.Header().Type != raster.Uint8 })
}

// Names are the names of the layers.
func (l *Layers) Names() (out []string) {
	for _, layer := range l.List {
		out = append(out, layer.Name)
	}
	return out
}

// singles are the layers whose cells are of single precision.
func (l *Layers) singles() (out []bool) {
	for _, layer := range l.List {
		out = append(out, layer.Header().Type == raster.Float32)
	}
	return out
}

// layerReader reads a window of all layers and hands it over in blocks of numbers, NaN for nodata.
type layerReader struct {
	l       *Layers
	readers []raster.Reader
	cells   []raster.Cells
	blocks  [][]float64
	views   [][]float64
}

func (l *Layers) newReader() *layerReader {
	r := &layerReader{l: l, cells: make([]raster.Cells, len(l.List)), views: make([][]float64, len(l.List))}
	for _, layer := range l.List {
		r.readers = append(r.readers, layer.NewReader())
		r.blocks = append(r.blocks, make([]float64, cql.BlockSize))
	}
	return r
}

// each reads a window and calls f for each stretch of it, with the blocks of all layers.
func (r *layerReader) each(w raster.Window, f func(col, row int, in [][]float64) error) error {
	for i := range r.readers {
		if err := r.readers[i].Read(w, &r.cells[i]); err != nil {
			return err
		}
	}
	for row := range w.Height {
		for col := 0; col < w.Width; col += cql.BlockSize {
			n := min(cql.BlockSize, w.Width-col)
			for i := range r.cells {
				r.views[i] = r.blocks[i][:n]
				numbersOf(&r.cells[i], row*r.cells[i].Stride+col, r.l.List[i].Header().NoData, r.views[i])
			}
			if err := f(col, row, r.views); err != nil {
				return err
			}
		}
	}
	return nil
}

// numbersOf converts cells to numbers, NaN for nodata.
func numbersOf(c *raster.Cells, at int, nodata *float64, dst []float64) {
	switch n := len(dst); c.Type {
	case raster.Uint8:
		convert(dst, c.U8[at:at+n])
	case raster.Int8:
		for i := range dst {
			dst[i] = float64(int8(c.U8[at+i]))
		}
	case raster.Uint16:
		convert(dst, c.U16[at:at+n])
	case raster.Int16:
		convert(dst, c.I16[at:at+n])
	case raster.Uint32:
		convert(dst, c.U32[at:at+n])
	case raster.Int32:
		convert(dst, c.I32[at:at+n])
	case raster.Float32:
		convert(dst, c.F32[at:at+n])
	case raster.Float64:
		copy(dst, c.F64[at:at+n])
	}
	if nodata == nil || math.IsNaN(*nodata) {
		return
	}
	none := *nodata
	for i, v := range dst {
		if v == none {
			dst[i] = math.NaN()
		}
	}
}

func convert[T raster.Number](dst []float64, src []T) {
	src = src[:len(dst)]
	for i, v := range src {
		dst[i] = float64(v)
	}
}

// Expression is a view whose cells are an arithmetic expression over layers: float32, NaN for nodata. It is
// nodata where a layer that it uses is, and where a number was divided by zero.
type Expression struct {
	layers *Layers
	expr   *cql.Expr
	header raster.Header
	zeros  atomic.Int64
	large  atomic.Int64
}

// NewExpression makes the view.
func NewExpression(l *Layers, e *cql.Expr) (*Expression, error) {
	if _, err := e.Compile(l.Names(), l.singles(), cql.Number); err != nil {
		return nil, err
	}
	none := math.NaN()
	h := raster.Header{Name: e.Text, Grid: l.List[0].Header().Grid, Type: raster.Float32, NoData: &none, Format: "expression", Bands: 1}
	return &Expression{layers: l, expr: e, header: h}, nil
}

// TooLarge is how many cells had an outcome that float32 does not hold in what has been read; they are nodata.
func (x *Expression) TooLarge() int64 { return x.large.Load() }

// ZeroDivisions is how many cells were divided by zero in what has been read.
func (x *Expression) ZeroDivisions() int64 { return x.zeros.Load() }

// Header implements [Source].
func (x *Expression) Header() raster.Header { return x.header }

// BlockSize implements [Source].
func (x *Expression) BlockSize() (width, height int) { return x.layers.blockW, x.layers.blockH }

// NewReader implements [Source].
func (x *Expression) NewReader() raster.Reader {
	p, err := x.expr.Compile(x.layers.Names(), x.layers.singles(), cql.Number)
	if err != nil {
		panic(err) // it compiled when the view was made
	}
	return &expressionReader{x: x, r: x.layers.newReader(), program: p}
}

type expressionReader struct {
	x       *Expression
	r       *layerReader
	program *cql.Program
	told    int64
	large   int64 // told
}

// Read implements [Reader].
func (r *expressionReader) Read(w raster.Window, dst *raster.Cells) error {
	dst.Resize(raster.Float32, w.Width, w.Height, w.Width)
	err := r.r.each(w, func(col, row int, in [][]float64) error {
		out := dst.F32[row*dst.Stride+col:]
		for i, v := range r.program.Numbers(in) {
			f := float32(v)
			if f-f != 0 { // infinite, or null already
				f = float32(math.NaN())
				if v-v == 0 {
					r.x.large.Add(1)
				}
			}
			out[i] = f
		}
		return nil
	})
	large := r.program.Overflows()
	r.x.large.Add(large - r.large)
	r.large = large
	zeros := r.program.ZeroDivisions()
	r.x.zeros.Add(zeros - r.told)
	r.told = zeros
	return err
}

// Conditions evaluates conditions for each cell of a window: f gets, for each stretch, the truths of all
// conditions and which cells are nodata in every layer.
type Conditions struct {
	r        *layerReader
	programs []*cql.Program
	truths   [][]uint8
	empty    []bool
}

// NewConditions compiles conditions over the layers; it serves one goroutine.
func (l *Layers) NewConditions(list []*cql.Expr) (*Conditions, error) {
	c := &Conditions{r: l.newReader(), truths: make([][]uint8, len(list)), empty: make([]bool, cql.BlockSize)}
	for _, e := range list {
		p, err := e.Compile(l.Names(), l.singles(), cql.Truth)
		if err != nil {
			return nil, err
		}
		c.programs = append(c.programs, p)
	}
	return c, nil
}

// Each reads a window.
func (c *Conditions) Each(w raster.Window, f func(col, row int, truths [][]uint8, empty []bool) error) error {
	return c.r.each(w, func(col, row int, in [][]float64) error {
		return c.evaluate(in, func(truths [][]uint8, empty []bool) error { return f(col, row, truths, empty) })
	})
}

// Table evaluates conditions for all pairs of bytes of one or two layers, a row of 256 values of the last layer after
// another: f is called as by Each.
func (c *Conditions) Table(f func(row int, truths [][]uint8, empty []bool) error) error {
	list := c.r.l.List
	value := func(i, v int) float64 {
		if n := list[i].Header().NoData; n != nil && float64(v) == *n {
			return math.NaN()
		}
		return float64(v)
	}
	last := len(list) - 1
	rows := 1
	if last == 1 {
		rows = 256
	}
	in := make([][]float64, len(list))
	for i := range in {
		in[i] = make([]float64, 256)
	}
	for row := range rows {
		for v := range 256 {
			in[last][v] = value(last, v)
			if last == 1 {
				in[0][v] = value(0, row)
			}
		}
		if err := c.evaluate(in, func(truths [][]uint8, empty []bool) error { return f(row, truths, empty) }); err != nil {
			return err
		}
	}
	return nil
}

// evaluate computes the truths of the conditions for a block of each layer.
func (c *Conditions) evaluate(in [][]float64, f func(truths [][]uint8, empty []bool) error) error {
	n := len(in[0])
	empty := c.empty[:n]
	for i := range empty {
		empty[i] = true
	}
	for _, layer := range in {
		for i, v := range layer {
			if v == v {
				empty[i] = false
			}
		}
	}
	for k, p := range c.programs {
		c.truths[k] = p.Truths(in)
	}
	return f(c.truths, empty)
}

// Block is the size of the windows that read without waste.
func (l *Layers) Block() (width, height int) { return l.blockW, l.blockH }

// Ahead implements [raster.Announced].
func (x *Expression) Ahead(windows []raster.Window) bool { return x.layers.Ahead(windows) }
