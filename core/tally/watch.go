package tally

import (
	"sync"
	"sync/atomic"

	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/zone"
)

// Watched counts the cells of a raster while something else reads them, so that a raster that is written need not be read once more to be measured. It is the
// raster itself for those who read it; what is read in windows of its tiling, from several goroutines or one, is counted the first time.
type Watched struct {
	raster.Source
	width, height int // of windows
	pass          *pass
	read          []atomic.Bool // by window
	left          atomic.Int64  // windows that have not been read
	mu            sync.Mutex
	workers       []*worker
}

// Watch makes a raster that is counted as it is read in windows of width × height cells from its corner. Its cells have 8 or 16 bits, so that no more values
// occur than can be counted.
func Watch(src raster.Source, width, height int) (*Watched, error) {
	g := src.Header().Grid
	set, place, err := Whole(g)
	if err != nil {
		return nil, err
	}
	areas, err := raster.NewAreas(g)
	if err != nil {
		return nil, err
	}
	w := &Watched{Source: src, width: width, height: height}
	w.pass = newPass(Request{Layers: []raster.Source{tiled{src, width, height}}, Zones: set, Placement: place}, areas)
	w.read = make([]atomic.Bool, len(w.pass.bands)*w.pass.across)
	w.left.Store(int64(len(w.read)))
	return w, nil
}

// tiled is a raster in windows of one size.
type tiled struct {
	raster.Source
	width, height int
}

// Tiling is where the windows begin.
func (t tiled) Tiling() (cols, rows []int) {
	g := t.Header().Grid
	return steps(g.Width, t.width), steps(g.Height, t.height)
}

// Tiling is that of the raster.
func (w *Watched) Tiling() (cols, rows []int) { return raster.Tiling(w.Source) }

// Ahead implements [raster.Announced].
func (w *Watched) Ahead(windows []raster.Window) bool { return raster.Ahead(w.Source, windows) }

// NewReader implements [raster.Source].
func (w *Watched) NewReader() raster.Reader {
	k := newWorker(w.pass)
	r := &watchedReader{of: w, reader: k.layers[0].reader, worker: k, cutter: w.pass.cutter()}
	k.layers[0].reader = &r.given
	w.mu.Lock()
	defer w.mu.Unlock()
	w.workers = append(w.workers, k)
	return r
}

// Tally is what has been counted, once no reader is at work any more; ok is false if not all of the raster has been read.
func (w *Watched) Tally() (t *Tally, ok bool) {
	if w.left.Load() > 0 {
		return nil, false
	}
	for _, k := range w.workers {
		k.settle()
	}
	return w.pass.gather(w.workers, w.pass.number(w.workers)), true
}

type watchedReader struct {
	of     *Watched
	reader raster.Reader
	worker *worker
	cutter *zone.Cutter
	given  givenCells
}

// givenCells are cells that have been read already.
type givenCells struct{ cells raster.Cells }

func (g *givenCells) Read(_ raster.Window, dst *raster.Cells) error {
	*dst = g.cells
	return nil
}

// Read implements [raster.Reader].
func (r *watchedReader) Read(win raster.Window, dst *raster.Cells) error {
	if err := r.reader.Read(win, dst); err != nil {
		return err
	}
	p, row, col := r.of.pass, win.Row/r.of.height, win.Col/r.of.width
	b := p.bands[row]
	if b.window(col) != win || !r.of.read[row*p.across+col].CompareAndSwap(false, true) {
		return nil
	}
	if err := b.prepare(r.cutter); err != nil {
		return err
	}
	r.given.cells = *dst
	if err := r.worker.tile(r.cutter, b, col); err != nil {
		return err
	}
	b.release()
	r.of.left.Add(-1)
	return nil
}
