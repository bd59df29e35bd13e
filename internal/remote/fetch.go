package remote

import (
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/verdex-land/verdex/core/fault"
	"github.com/verdex-land/verdex/core/spill"
)

// errChanged is the error of a file that is no longer the one that was opened.
func errChanged(name string) error {
	return fault.Errorf("%s: it was changed on the server while it was read: run the command again", name)
}

// begin asks for the first bytes of a file, its size and its validator; what the cache holds of the same file is used again.
func (s *System) begin(o *object) error {
	old := s.o.Cache.find(o.name)
	if old != nil && old.Digest != "" && old.read(0, old.Size) == nil { // it is not whole any more
		old = nil
	}
	if old != nil && s.o.Offline && o.from(old) {
		return nil
	}
	return s.tries(func() (again bool, err error) {
		header := http.Header{"Range": {fmt.Sprintf("bytes=0-%d", firstBytes-1)}}
		if old != nil && old.Etag != "" {
			header.Set("If-None-Match", old.Etag)
		} else if old != nil && old.Modified != "" {
			header.Set("If-Modified-Since", old.Modified)
		}
		ctx, cancel := context.WithCancel(s.ctx)
		defer cancel()
		resp, err := s.get(ctx, o, header)
		if err != nil {
			return false, err
		}
		defer resp.Body.Close()
		return s.opened(o, old, resp, cancel)
	})
}

// tries does something until it succeeds, with a pause before each further try, as long as one may help.
func (s *System) tries(do func() (again bool, err error)) error {
	var last error
	for try := range s.o.Tries {
		if try > 0 {
			select {
			case <-time.After(time.Duration(try) * 250 * time.Millisecond):
			case <-s.ctx.Done():
			}
		}
		again, err := do()
		if err == nil || !again {
			return err
		}
		last = err
	}
	return last
}

// from takes over what the cache knows of a file. It is false where all of it should be there and is not.
func (o *object) from(e *entry) bool {
	if e.Digest != "" {
		if o.whole = e.read(0, e.Size); o.whole == nil {
			return false
		}
		o.system.reused(e.Size)
	}
	o.size, o.etag, o.modified, o.validator, o.ranges, o.kept = e.Size, e.Etag, e.Modified, e.validator(), e.Digest == "", e
	e.touch()
	if o.whole != nil {
		return true
	}
	for _, span := range e.spans() {
		c := &chunk{of: o, start: span[0], end: span[1], begun: true, done: make(chan struct{})}
		close(c.done)
		o.chunks = append(o.chunks, c)
	}
	return true
}

// opened reads the answer to the first request.
func (s *System) opened(o *object, old *entry, resp *http.Response, cancel func()) (again bool, err error) {
	switch resp.StatusCode {
	case http.StatusNotModified:
		if old == nil || !o.from(old) {
			return false, s.status(o.name, resp)
		}
		return false, nil
	case http.StatusRequestedRangeNotSatisfiable: // an empty file has no first bytes
		if total, ok := strings.CutPrefix(resp.Header.Get("Content-Range"), "bytes */"); ok && total == "0" {
			o.whole, o.validator = []byte{}, "empty"
			return false, nil
		}
		return false, s.status(o.name, resp)
	case http.StatusPartialContent, http.StatusOK:
	default:
		return false, s.status(o.name, resp)
	}
	o.etag, o.modified = strongTag(resp.Header.Get("ETag")), lasting(resp.Header)
	if resp.StatusCode == http.StatusOK {
		return s.openedWhole(o, resp, cancel)
	}
	if e := resp.Header.Get("Content-Encoding"); e != "" && e != "identity" {
		return false, fault.Errorf("%s: the server compresses parts of files (%s), which cannot be put together: download it, and name the file", o.name, e)
	}
	start, end, size, err := contentRange(resp.Header.Get("Content-Range"))
	if err != nil || start != 0 || end >= firstBytes || size < 1 {
		return false, s.wrongRange(o.name)
	}
	data, err := s.body(resp, end+1, cancel)
	if err != nil {
		return true, fault.Errorf("%s: it cannot be fetched (%s): check the connection", o.name, s.reason(err))
	}
	o.size, o.ranges = size, true
	o.validate()
	o.kept = s.o.Cache.begin(o)
	o.kept.write(0, data)
	c := &chunk{of: o, start: 0, end: int64(len(data)), begun: true, done: make(chan struct{})}
	close(c.done)
	o.chunks = append(o.chunks, c)
	s.keep(c, data, false)
	return false, nil
}

// openedWhole reads a file whose server sends all of it, if it is small; a larger one is read only by who wants all of it.
func (s *System) openedWhole(o *object, resp *http.Response, cancel func()) (again bool, err error) {
	o.size = resp.ContentLength
	o.validate()
	if o.size > 16<<20 && resp.Header.Get("Content-Encoding") == "" {
		return false, s.fits(o.name, o.size)
	}
	data, err := s.readWhole(o, resp, cancel)
	if err != nil {
		return !errors.As(err, new(*fault.Error)), s.worded(o, err)
	}
	o.whole, o.size = data, int64(len(data))
	if o.etag == "" && o.modified == "" {
		o.validator = digestOf(data)
	}
	s.o.Cache.begin(o).write(0, data)
	return false, nil
}

// worded words an error of reading, unless it is in words.
func (s *System) worded(o *object, err error) error {
	if errors.As(err, new(*fault.Error)) {
		return err
	}
	return fault.Errorf("%s: it cannot be fetched (%s): check the connection", o.name, s.reason(err))
}

// getWhole fetches a file whose server sends no parts of it.
func (s *System) getWhole(o *object) (data []byte, err error) {
	err = s.tries(func() (again bool, err error) {
		ctx, cancel := context.WithCancel(s.ctx)
		defer cancel()
		resp, err := s.get(ctx, o, http.Header{})
		if err != nil {
			return false, err
		}
		defer resp.Body.Close()
		if resp.StatusCode != http.StatusOK {
			return false, s.status(o.name, resp)
		}
		if data, err = s.readWhole(o, resp, cancel); err != nil {
			return !errors.As(err, new(*fault.Error)), s.worded(o, err)
		}
		return false, nil
	})
	return data, err
}

// readWhole reads the body of an answer with all of a file, compressed or not.
func (s *System) readWhole(o *object, resp *http.Response, cancel func()) ([]byte, error) {
	most := s.o.Whole
	body := s.watched(resp.Body, cancel)
	defer body.stop()
	var r io.Reader = body
	switch resp.Header.Get("Content-Encoding") {
	case "", "identity":
		if resp.ContentLength > most {
			return nil, s.fits(o.name, resp.ContentLength)
		}
	case "gzip", "x-gzip":
		z, err := gzip.NewReader(r)
		if err != nil && !errors.Is(err, gzip.ErrHeader) {
			return nil, err
		}
		if err != nil {
			return nil, fault.Errorf("%s: the server sends what it calls gzip and is not: tell its operator", o.name)
		}
		r = z
	default:
		return nil, fault.Errorf("%s: the server compresses it as %q, which is not read: download it, and name the file", o.name, resp.Header.Get("Content-Encoding"))
	}
	data, size, err := spill.Read(r, most)
	if err != nil {
		return nil, err
	}
	return data, s.fits(o.name, size)
}

// body reads the body of an answer that has n bytes, no more and no fewer.
func (s *System) body(resp *http.Response, n int64, cancel func()) ([]byte, error) {
	body := s.watched(resp.Body, cancel)
	defer body.stop()
	data := make([]byte, n)
	if _, err := io.ReadFull(body, data); err != nil {
		return nil, err
	}
	var more [1]byte
	if k, _ := body.Read(more[:]); k > 0 {
		return nil, errors.New("the server sends more than it says")
	}
	return data, nil
}

// fetch fetches the bytes of a chunk, and keeps them.
func (s *System) fetch(c *chunk) error {
	select {
	case s.flying <- struct{}{}:
	case <-s.ctx.Done():
		return s.ctx.Err()
	}
	defer func() { <-s.flying }()
	return s.tries(func() (again bool, err error) {
		data, again, err := s.part(c)
		if err != nil {
			return again && s.ctx.Err() == nil, err
		}
		s.keep(c, data, false)
		c.of.kept.write(c.start, data)
		return false, nil
	})
}

// part asks for the bytes of a chunk once.
func (s *System) part(c *chunk) (data []byte, again bool, err error) {
	o := c.of
	header := http.Header{"Range": {fmt.Sprintf("bytes=%d-%d", c.start, c.end-1)}}
	if o.etag != "" {
		header.Set("If-Match", o.etag)
	} else if o.modified != "" {
		header.Set("If-Unmodified-Since", o.modified)
	}
	ctx, cancel := context.WithCancel(s.ctx)
	defer cancel()
	resp, err := s.get(ctx, o, header)
	if err != nil {
		return nil, false, err
	}
	defer resp.Body.Close()
	switch resp.StatusCode {
	case http.StatusPreconditionFailed, http.StatusRequestedRangeNotSatisfiable:
		return nil, false, errChanged(o.name)
	case http.StatusPartialContent:
	case http.StatusOK:
		return nil, false, s.wrongRange(o.name)
	default:
		return nil, false, s.status(o.name, resp)
	}
	start, end, size, err := contentRange(resp.Header.Get("Content-Range"))
	if err != nil {
		return nil, false, s.wrongRange(o.name)
	}
	etag, modified := strongTag(resp.Header.Get("ETag")), resp.Header.Get("Last-Modified")
	if size != o.size || etag != o.etag || o.modified != "" && modified != o.modified {
		return nil, false, errChanged(o.name)
	}
	if start != c.start || end != c.end-1 {
		return nil, false, s.wrongRange(o.name)
	}
	if e := resp.Header.Get("Content-Encoding"); e != "" && e != "identity" {
		return nil, false, s.wrongRange(o.name)
	}
	if data, err = s.body(resp, c.end-c.start, cancel); err != nil {
		return nil, true, fault.Errorf("%s: it cannot be fetched (%s): check the connection", o.name, s.reason(err))
	}
	return data, false, nil
}

func (s *System) wrongRange(name string) error {
	return fault.Errorf("%s: the server sends other bytes than those it was asked for: download it, and name the file", name)
}

// validate makes the validator of a file: without an ETag or a date the size is all that is known.
func (o *object) validate() {
	switch {
	case o.etag != "":
		o.validator = "etag " + o.etag
	case o.modified != "":
		o.validator = fmt.Sprintf("modified %s, %d bytes", o.modified, o.size)
	default: // nothing says later that it is the same
		o.validator = "none, asked " + time.Now().UTC().Format(time.RFC3339Nano)
	}
}

// lasting is the time of the last change that an answer states, "" where the file may change again within the same second.
func lasting(h http.Header) string {
	changed, err := http.ParseTime(h.Get("Last-Modified"))
	if err != nil {
		return ""
	}
	now, err := http.ParseTime(h.Get("Date"))
	if err != nil {
		now = time.Now()
	}
	if now.Sub(changed) < 2*time.Second {
		return ""
	}
	return h.Get("Last-Modified")
}

// strongTag is an entity tag, "" for a weak one, which says only that what is meant is the same.
func strongTag(tag string) string {
	if strings.HasPrefix(tag, "W/") || len(tag) > 512 {
		return ""
	}
	return tag
}

// contentRange reads "bytes 0-99/1000".
func contentRange(text string) (start, end, size int64, err error) {
	rest, ok := strings.CutPrefix(strings.ToLower(text), "bytes ")
	span, total, ok1 := strings.Cut(rest, "/")
	from, to, ok2 := strings.Cut(span, "-")
	if !ok || !ok1 || !ok2 {
		return 0, 0, 0, errors.New("it states no range")
	}
	for i, into := range []*int64{&start, &end, &size} {
		if *into, err = strconv.ParseInt(strings.TrimSpace([]string{from, to, total}[i]), 10, 64); err != nil {
			return 0, 0, 0, err
		}
	}
	if start < 0 || end < start || end >= size {
		return 0, 0, 0, errors.New("its range is none")
	}
	return start, end, size, nil
}

// watchedBody is a body whose transfer ends when the server sends nothing for a while.
type watchedBody struct {
	io.Reader
	s     *System
	timer *time.Timer
}

func (s *System) watched(r io.Reader, cancel func()) *watchedBody {
	return &watchedBody{r, s, time.AfterFunc(s.o.Idle, cancel)}
}

func (w *watchedBody) Read(b []byte) (int, error) {
	w.timer.Reset(w.s.o.Idle) // the time is the server's, not that of who reads
	n, err := w.Reader.Read(b)
	w.timer.Stop()
	w.s.mu.Lock()
	w.s.fetched.Bytes += int64(n)
	w.s.mu.Unlock()
	return n, err
}

func (w *watchedBody) stop() { w.timer.Stop() }
