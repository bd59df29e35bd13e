package raster

import (
	"context"
	"runtime"
	"sync"
	"sync/atomic"
)

// blocks are the windows in which a source is read without waste, in rows from the upper left corner.
type blocks struct {
	width, height int // of a block
	across, down  int
	grid          Grid
}

func blocksOf(s Source) blocks {
	g := s.Header().Grid
	w, h := WorkSize(s)
	w, h = min(w, g.Width), min(h, g.Height)
	return blocks{w, h, (g.Width + w - 1) / w, (g.Height + h - 1) / h, g}
}

// window is a block, without what would lie beyond the raster.
func (b *blocks) window(i int) Window {
	col, row := i%b.across*b.width, i/b.across*b.height
	return Window{Col: col, Row: row, Width: min(b.width, b.grid.Width-col), Height: min(b.height, b.grid.Height-row)}
}

// readBlocks reads n windows of a source on several threads, 0 for all processors, and calls take with each, from several goroutines at once. The cells are
// valid only during the call. The first error ends the reading.
func readBlocks(ctx context.Context, s Source, n, threads int, window func(i int) Window, take func(i int, c *Cells)) error {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	if threads <= 0 {
		threads = runtime.GOMAXPROCS(0)
	}
	if Ahead(s, nil) {
		windows := make([]Window, n)
		for i := range windows {
			windows[i] = window(i)
		}
		Ahead(s, windows)
	}
	var next atomic.Int64
	var wg sync.WaitGroup
	for range min(threads, n) {
		wg.Go(func() {
			r := s.NewReader()
			var c Cells
			for {
				i := int(next.Add(1)) - 1
				if i >= n || ctx.Err() != nil {
					return
				}
				if err := r.Read(window(i), &c); err != nil {
					cancel(err)
					return
				}
				take(i, &c)
			}
		})
	}
	wg.Wait()
	return context.Cause(ctx)
}
