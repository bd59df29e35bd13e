// Package spill keeps what has to wait, in memory as long as it is little and then in a temporary file.
package spill

import (
	"io"
	"os"
	"sync"
)

// Store keeps pieces of bytes. Its zero value keeps all but 32 MiB in the system's folder for
// temporary files. Several goroutines may use it.
type Store struct {
	Dir  string // of the temporary file; "" is the system's
	Room int    // bytes to keep in memory; 0 is 32 MiB

	mu     sync.Mutex
	memory []byte
	file   *os.File
	size   int64 // of the file
}

const room = 32 << 20

// Add keeps a copy of b and returns where; what fails is the temporary file.
func (s *Store) Add(b []byte) (int64, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	most := s.Room
	if most == 0 {
		most = room
	}
	if s.file == nil && len(s.memory)+len(b) <= most {
		s.memory = append(s.memory, b...)
		return int64(len(s.memory) - len(b)), nil
	}
	if s.file == nil {
		f, err := os.CreateTemp(s.Dir, ".verdex-*")
		if err != nil {
			return 0, err
		}
		s.file = f
		os.Remove(f.Name()) // where an open file can be removed, nothing is left behind whatever happens
	}
	at := int64(len(s.memory)) + s.size
	n, err := s.file.Write(b)
	s.size += int64(n)
	return at, err
}

// Get fills b with what was added at a place.
func (s *Store) Get(at int64, b []byte) error {
	s.mu.Lock()
	kept, memory := int64(len(s.memory)), s.memory
	s.mu.Unlock()
	if at >= kept {
		_, err := s.file.ReadAt(b, at-kept)
		return err
	}
	copy(b, memory[at:])
	return nil
}

// Read reads all of r, if that is no more than most bytes; of what is longer, it gives no data and a size beyond most. What is read waits in a store, so that
// memory holds all of it only once it is known to be allowed.
func Read(r io.Reader, most int64) (data []byte, size int64, err error) {
	var s Store
	defer s.Close()
	if size, err = io.Copy(writer{&s}, io.LimitReader(r, most+1)); err != nil || size > most {
		return nil, size, err
	}
	data = make([]byte, size)
	if n := copy(data, s.memory); n < len(data) {
		err = s.Get(int64(n), data[n:])
	}
	return data, size, err
}

type writer struct{ *Store }

func (w writer) Write(b []byte) (int, error) {
	_, err := w.Add(b)
	return len(b), err
}

// Close removes the temporary file.
func (s *Store) Close() {
	if s.file != nil {
		s.file.Close()
		os.Remove(s.file.Name())
		s.file = nil
	}
}
