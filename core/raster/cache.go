package raster

import (
	"sync"
)

// Cached is a view that keeps decoded blocks, so that windows that do not lie on the source's blocks
// do not decode a block for each window that touches it. A window that is one block goes straight to
// the source. At most about limit bytes are kept; blocks that were used last stay.
func Cached(s Source, limit int) Source {
	return NewPool(limit).Keep(s)
}

// Keep is a view of a source that keeps decoded blocks in the pool.
func (p *Pool) Keep(s Source) Source {
	w, h := s.BlockSize()
	return &cached{Source: s, pool: p, blockW: w, blockH: h}
}

// KeepAll is like Keep, and keeps blocks that are read whole, too: for a source that is read by several, each of which reads all of it.
func (p *Pool) KeepAll(s Source) Source {
	w, h := s.BlockSize()
	return &cached{Source: s, pool: p, blockW: w, blockH: h, all: true}
}

// KeepsAll reports whether a source is one of [Pool.KeepAll].
func KeepsAll(s Source) bool {
	c, ok := s.(*cached)
	return ok && c.all
}

// Pool is a set of decoded blocks with a limit on their bytes, shared by the views made with it.
type Pool struct {
	mu     sync.Mutex
	limit  int
	used   int
	blocks map[blockKey]*block
	first  block // of a ring of blocks, the one used last behind it
}

type blockKey struct {
	view *cached
	x, y int
}

type block struct {
	key        blockKey
	cells      Cells
	bytes      int
	err        error
	ready      sync.WaitGroup
	done       bool
	dropped    bool // before it was decoded
	prev, next *block
}

// NewPool makes an empty pool of at most about limit bytes.
func NewPool(limit int) *Pool {
	p := &Pool{limit: limit, blocks: map[blockKey]*block{}}
	p.first.prev, p.first.next = &p.first, &p.first
	return p
}

func (b *block) unlink() { b.prev.next, b.next.prev = b.next, b.prev }

// get gives a block, decoded by fill when it is not there. One that another is decoding is waited for, or
// without wait nil is given.
func (p *Pool) get(key blockKey, wait bool, fill func(*Cells) error) (*Cells, error) {
	p.mu.Lock()
	b := p.blocks[key]
	if b == nil {
		b = &block{key: key}
		b.ready.Add(1)
		p.blocks[key] = b
		p.push(b)
		p.mu.Unlock()
		b.err = fill(&b.cells)
		b.ready.Done()
		p.mu.Lock()
		b.done = true
		b.bytes = b.cells.Stride * b.cells.Height * b.cells.Type.Bytes()
		if b.dropped { // it is not kept, so it does not count
			p.mu.Unlock()
			return &b.cells, b.err
		}
		p.used += b.bytes
		for old := p.first.prev; p.used > p.limit && old != &p.first && old != b; old = p.first.prev {
			old.unlink()
			delete(p.blocks, old.key)
			p.used -= old.bytes
			old.dropped = true
		}
		p.mu.Unlock()
		return &b.cells, b.err
	}
	if !wait && !b.done {
		p.mu.Unlock()
		return nil, nil
	}
	b.unlink()
	p.push(b)
	p.mu.Unlock()
	b.ready.Wait()
	return &b.cells, b.err
}

func (p *Pool) push(b *block) {
	b.prev, b.next = &p.first, p.first.next
	b.prev.next, b.next.prev = b, b
}

type cached struct {
	Source
	pool           *Pool
	blockW, blockH int
	all            bool // blocks that are read whole are kept, too
}

// NewReader implements [Source].
func (c *cached) NewReader() Reader { return &cachedReader{c: c, r: c.Source.NewReader()} }

type cachedReader struct {
	c *cached
	r Reader
}

// Read implements [Reader].
func (r *cachedReader) Read(w Window, dst *Cells) error {
	c, g := r.c, r.c.Header().Grid
	bx0, by0 := w.Col/c.blockW, w.Row/c.blockH
	bx1, by1 := (w.Col+w.Width-1)/c.blockW, (w.Row+w.Height-1)/c.blockH
	whole := func(bx, by int) Window {
		return Window{bx * c.blockW, by * c.blockH, min(c.blockW, g.Width-bx*c.blockW), min(c.blockH, g.Height-by*c.blockH)}
	}
	if !c.all && bx0 == bx1 && by0 == by1 && whole(bx0, by0) == w {
		return r.r.Read(w, dst)
	}
	dst.Resize(c.Header().Type, w.Width, w.Height, w.Width)
	// Blocks that another reader is decoding come last: by then they are likely to be done.
	var busy []Window
	for wait := range 2 {
		list := busy
		if wait == 0 {
			list = list[:0]
			for by := by0; by <= by1; by++ {
				for bx := bx0; bx <= bx1; bx++ {
					list = append(list, whole(bx, by))
				}
			}
		}
		for _, b := range list {
			cells, err := c.pool.get(blockKey{c, b.Col, b.Row}, wait == 1, func(dst *Cells) error { return r.r.Read(b, dst) })
			if err != nil {
				return err
			}
			if cells == nil {
				busy = append(busy, b)
				continue
			}
			x0, y0 := max(w.Col, b.Col), max(w.Row, b.Row)
			x1, y1 := min(w.Col+w.Width, b.Col+b.Width), min(w.Row+w.Height, b.Row+b.Height)
			dst.Copy(x0-w.Col, y0-w.Row, cells, x0-b.Col, y0-b.Row, x1-x0, y1-y0)
		}
	}
	return nil
}
