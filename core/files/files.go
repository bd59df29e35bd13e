// Package files is where everything that is read comes from: a [System] opens files by name, and [Disk] is that of the machine itself. Many large files are
// read with few of them open at once: a mosaic may have thousands of tiles, and an operating system lets a program have a thousand files open, or fewer.
package files

import (
	"errors"
	"fmt"
	"os"
	"sync"
	"syscall"

	"github.com/verdex-land/verdex/core/fault"
)

// diskFile is a file that is opened when it is read. Between reads it may be closed in favour of others. Several goroutines may read it.
type diskFile struct {
	path       string
	info       os.FileInfo
	f          *os.File // nil when it is closed
	reading    int
	closed     bool
	prev, next *diskFile // among those that are open, the one read last first
}

// most is how many files are open at once.
const most = 256

// open are the files that are open.
var open = newSet(most)

type set struct {
	mu    sync.Mutex
	most  int
	count int
	ring  diskFile // of a ring of files: the one read last is ring.next
}

func newSet(most int) *set {
	s := &set{most: most}
	s.ring.prev, s.ring.next = &s.ring, &s.ring
	return s
}

// openDisk opens a file. What is read later must be the same file, of the same size and time.
func openDisk(path string) (*diskFile, error) {
	if err := Check(path); err != nil {
		return nil, err
	}
	f := &diskFile{path: path}
	open.mu.Lock()
	defer open.mu.Unlock()
	if err := open.use(f); err != nil {
		return nil, err
	}
	return f, nil
}

// Check returns an error if there is no file at a path that can be read at any place: a pipe would have to be read from front to end, and
// opening it waits for someone to write to it.
func Check(path string) error {
	switch info, err := os.Stat(path); {
	case err != nil:
		return fault.Opening(path, err)
	case info.IsDir():
		return fmt.Errorf("%s: it is a folder: name a file in it", path)
	case !info.Mode().IsRegular():
		return fmt.Errorf("%s: it is a pipe or a device, and its parts are not read in order: save it as a file first", path)
	}
	return nil
}

// Changed reports whether a file is another one than before, or of another size or time.
func Changed(before, now os.FileInfo) bool {
	return !os.SameFile(now, before) || now.Size() != before.Size() || !now.ModTime().Equal(before.ModTime())
}

// Size is the number of bytes that the file had when it was opened.
func (f *diskFile) Size() int64 { return f.info.Size() }

// Validator is made of the size and the time of the file as they were when it was opened.
func (f *diskFile) Validator() string {
	return fmt.Sprintf("%d %d", f.info.Size(), f.info.ModTime().UnixNano())
}

// ReadAt implements [io.ReaderAt].
func (f *diskFile) ReadAt(b []byte, offset int64) (int, error) {
	open.mu.Lock()
	if err := open.use(f); err != nil {
		open.mu.Unlock()
		return 0, err
	}
	f.reading++
	open.mu.Unlock()
	n, err := f.f.ReadAt(b, offset)
	open.mu.Lock()
	f.reading--
	open.mu.Unlock()
	return n, err
}

// Close implements [io.Closer]. A closed file cannot be read any more.
func (f *diskFile) Close() error {
	open.mu.Lock()
	defer open.mu.Unlock()
	f.closed = true
	if f.f == nil {
		return nil
	}
	return open.shut(f)
}

// use makes sure that a file is open, and closes those that were not read for the longest time when there are too many.
func (s *set) use(f *diskFile) error {
	if f.closed {
		return os.ErrClosed
	}
	if f.f != nil {
		f.prev.next, f.next.prev = f.next, f.prev
		s.push(f)
		return nil
	}
	for s.count >= s.most && s.shutOne() {
	}
	h, err := os.Open(f.path)
	for errors.Is(err, syscall.EMFILE) && s.shutOne() {
		h, err = os.Open(f.path)
	}
	if err != nil {
		return fault.Opening(f.path, err)
	}
	info, err := h.Stat()
	switch {
	case err != nil:
		err = fault.Opening(f.path, err)
	case f.info == nil:
		f.info = info
	case Changed(f.info, info):
		err = fmt.Errorf("%s: it was changed while it was read: run the command again", f.path)
	}
	if err != nil {
		h.Close()
		return err
	}
	f.f = h
	s.count++
	s.push(f)
	return nil
}

func (s *set) push(f *diskFile) {
	f.prev, f.next = &s.ring, s.ring.next
	f.prev.next, f.next.prev = f, f
}

// shutOne closes the file that was not read for the longest time. It is false when all are being read.
func (s *set) shutOne() bool {
	for f := s.ring.prev; f != &s.ring; f = f.prev {
		if f.reading == 0 {
			_ = s.shut(f) // it was read only
			return true
		}
	}
	return false
}

func (s *set) shut(f *diskFile) error {
	f.prev.next, f.next.prev = f.next, f.prev
	s.count--
	h := f.f
	f.f = nil
	return h.Close()
}
