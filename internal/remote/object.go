package remote

import (
	"crypto/sha256"
	"errors"
	"io"
	"slices"
	"sync"

	"github.com/verdex-land/verdex/core/files"
)

// object is a file of a server. Its bytes are held as chunks, which do not overlap; each is fetched by one request.
type object struct {
	system    *System
	name      string // the URL without secrets
	once      sync.Once
	err       error
	size      int64
	ranges    bool   // the server sends parts
	whole     []byte // all of a file whose server sends no parts
	etag      string
	modified  string
	validator string
	kept      *entry // in the cache; nil for none

	mu     sync.Mutex
	chunks []*chunk // by start
	local  string   // a copy on the disk; "" for none
}

// chunk is a range of bytes of a file.
type chunk struct {
	of         *object
	start, end int64

	// Under the lock of the object:
	sum   [sha256.Size]byte // of the bytes, once they were read
	used  bool
	begun bool          // it is fetched, or was
	done  chan struct{} // closed when it is there, or has failed
	err   error
	ready bool // it was fetched ahead, and holds a place of the room for that until it is read

	// Under the lock of the system:
	data []byte // nil when it is not in memory
}

// readAt reads bytes, which it fetches where they are not there yet.
func (o *object) readAt(b []byte, offset int64) (n int, err error) {
	if offset < 0 {
		return 0, errors.New("a file is not read before its beginning")
	}
	if o.whole != nil {
		if offset >= int64(len(o.whole)) {
			return 0, io.EOF
		}
		if n = copy(b, o.whole[offset:]); n < len(b) {
			return n, io.EOF
		}
		return n, nil
	}
	for n < len(b) {
		at := offset + int64(n)
		if at >= o.size {
			return n, io.EOF
		}
		c := o.chunkAt(at, int64(len(b)-n))
		data, err := o.bytesOf(c)
		if err != nil {
			return n, err
		}
		n += copy(b[n:], data[at-c.start:])
	}
	return n, nil
}

// chunkAt is the chunk that holds a byte; where none does, one is made that holds it and up to want bytes, or somewhat more.
func (o *object) chunkAt(at, want int64) *chunk {
	o.mu.Lock()
	defer o.mu.Unlock()
	i := o.find(at)
	if i < len(o.chunks) && o.chunks[i].start <= at {
		return o.chunks[i]
	}
	end := min(at+min(max(want, leastBytes), mostChunk), o.size)
	if i < len(o.chunks) {
		end = min(end, o.chunks[i].start)
	}
	c := &chunk{of: o, start: at, end: end, done: make(chan struct{})}
	o.chunks = slices.Insert(o.chunks, i, c)
	return c
}

// find is the place of the first chunk that ends behind a byte.
func (o *object) find(at int64) int {
	i, _ := slices.BinarySearchFunc(o.chunks, at, func(c *chunk, at int64) int {
		if c.end <= at {
			return -1
		}
		return 1
	})
	return i
}

// bytesOf are the bytes of a chunk: from memory, from the cache, or from the server.
func (o *object) bytesOf(c *chunk) ([]byte, error) {
	for range 3 { // a chunk may be dropped again before it is read
		done, _ := o.system.start(c, false)
		select {
		case <-done:
		case <-o.system.ctx.Done():
			return nil, o.system.ctx.Err()
		}
		o.mu.Lock()
		err, ready := c.err, c.ready
		c.ready = false
		o.mu.Unlock()
		if ready {
			<-o.system.ready
		}
		if err != nil {
			return nil, err
		}
		if data := o.system.inMemory(c); data != nil {
			o.use(c, data)
			return data, nil
		}
		if data := o.kept.read(c.start, c.end); data != nil {
			o.system.keep(c, data, true)
			o.use(c, data)
			return data, nil
		}
		o.mu.Lock()
		if c.done == done { // nobody else has begun again
			c.begun, c.done = false, make(chan struct{})
		}
		o.mu.Unlock()
	}
	return nil, errors.New("there is no room for its bytes")
}

// use notes that the bytes of a chunk were read.
func (o *object) use(c *chunk, data []byte) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if !c.used {
		c.used, c.sum = true, sha256.Sum256(data)
	}
}

// Ahead plans the chunks of spans, and fetches them in their order.
func (o *object) Ahead(spans []files.Span) {
	if o.whole != nil || len(spans) == 0 {
		return
	}
	var planned []*chunk
	o.mu.Lock()
	for _, s := range merged(spans, o.size) {
		planned = append(planned, o.plan(s.Offset, s.Offset+s.Size)...)
	}
	o.mu.Unlock()
	if len(planned) > 0 {
		go o.system.fetchAhead(planned)
	}
}

// merged are spans in the order of the file, several in one where little lies between them.
func merged(spans []files.Span, size int64) (out []files.Span) {
	spans = slices.Clone(spans)
	slices.SortFunc(spans, func(a, b files.Span) int { return int(min(1, max(-1, a.Offset-b.Offset))) })
	useful := int64(0) // bytes of the last one that are wanted
	for _, s := range spans {
		if s.Offset < 0 || s.Offset >= size || s.Size <= 0 {
			continue
		}
		s.Size = min(s.Size, size-s.Offset)
		if n := len(out); n > 0 {
			last := &out[n-1]
			end := last.Offset + last.Size
			gap := s.Offset - end
			together := max(end, s.Offset+s.Size) - last.Offset
			// Gaps take no more than a twelfth of what is fetched.
			if gap <= mostGap && (gap <= 0 || (together-useful-s.Size)*12 <= together) {
				last.Size = together
				useful += max(0, min(s.Size, s.Offset+s.Size-end))
				continue
			}
		}
		out = append(out, s)
		useful = s.Size
	}
	return out
}

// plan makes chunks of what is not there between two places.
func (o *object) plan(from, to int64) (out []*chunk) {
	for at := from; at < to; {
		i := o.find(at)
		if i < len(o.chunks) && o.chunks[i].start <= at {
			at = o.chunks[i].end
			continue
		}
		end := min(to, at+mostChunk)
		if i < len(o.chunks) {
			end = min(end, o.chunks[i].start)
		}
		c := &chunk{of: o, start: at, end: end, done: make(chan struct{})}
		o.chunks = slices.Insert(o.chunks, i, c)
		out = append(out, c)
		at = end
	}
	return out
}

// fetchAhead fetches chunks that will be read, as long as there is room for what was not read yet.
func (s *System) fetchAhead(chunks []*chunk) {
	for _, c := range chunks {
		select {
		case s.ready <- struct{}{}:
		case <-s.ctx.Done():
			return
		}
		if _, began := s.start(c, true); !began { // somebody else has
			<-s.ready
		}
	}
}

// start begins to fetch a chunk, unless that has begun. The channel is closed when it has ended.
func (s *System) start(c *chunk, ahead bool) (done chan struct{}, began bool) {
	o := c.of
	o.mu.Lock()
	defer o.mu.Unlock()
	done = c.done
	if c.begun {
		return done, false
	}
	c.begun, c.ready = true, ahead
	go func() {
		err := s.fetch(c)
		o.mu.Lock()
		c.err = err
		o.mu.Unlock()
		close(done)
	}()
	return done, true
}

// inMemory are the bytes of a chunk, nil when they are not in memory.
func (s *System) inMemory(c *chunk) []byte {
	s.mu.Lock()
	defer s.mu.Unlock()
	if c.data == nil {
		return nil
	}
	if i := slices.Index(s.recent, c); i >= 0 {
		s.recent = append(slices.Delete(s.recent, i, i+1), c)
	}
	return c.data
}

// keep puts the bytes of a chunk into memory; those that were not used for the longest time make room.
func (s *System) keep(c *chunk, data []byte, cached bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if cached {
		s.fetched.Reused += int64(len(data))
	}
	if c.data != nil {
		return
	}
	c.data = data
	s.recent = append(s.recent, c)
	for s.held += int64(len(data)); s.held > mostHeld && len(s.recent) > 1; {
		old := s.recent[0]
		s.recent = s.recent[1:]
		s.held -= int64(len(old.data))
		old.data = nil
	}
}

// reused counts bytes that came from the cache.
func (s *System) reused(n int64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.fetched.Reused += n
}
