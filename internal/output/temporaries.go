package output

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
)

// Temporaries are the temporary files of a program, so that it can remove them when it has to end at once. Its methods
// may be called concurrently.
type Temporaries struct {
	hold  sync.Mutex // while files are put in their places
	mu    sync.Mutex
	mark  string
	names map[string]bool
	ended bool
}

// errEnded says that the program is about to end.
var errEnded = errors.New("the program is ending")

// Prefix begins the names of temporary files.
const Prefix = ".verdex-"

// Mark sets what stands behind [Prefix] in the names of temporary files, by which those that a killed program has left are found.
func (t *Temporaries) Mark(mark string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.mark = mark
}

// Sweep removes what begins with [Prefix] and a mark from a folder.
func Sweep(dir, mark string) {
	list, err := os.ReadDir(dir)
	if err != nil {
		return // what is there is of no concern
	}
	for _, e := range list {
		if strings.HasPrefix(e.Name(), Prefix+mark) {
			os.RemoveAll(filepath.Join(dir, e.Name()))
		}
	}
}

// File makes an empty temporary file in a folder, which [Temporaries.Drop] removes.
func (t *Temporaries) File(dir string) (*os.File, error) { return t.file(dir) }

// Drop removes a temporary file.
func (t *Temporaries) Drop(name string) { t.remove(name) }

// file makes an empty temporary file in a folder.
func (t *Temporaries) file(dir string) (*os.File, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.ended {
		return nil, errEnded
	}
	f, err := os.CreateTemp(dir, Prefix+t.mark+"*")
	if err == nil {
		t.note(f.Name())
	}
	return f, err
}

// folder makes a temporary folder in a folder.
func (t *Temporaries) folder(dir string) (string, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.ended {
		return "", errEnded
	}
	name, err := os.MkdirTemp(dir, Prefix+t.mark+"*")
	if err == nil {
		t.note(name)
	}
	return name, err
}

// name is a name in a folder at which there is nothing, for a file to be renamed to.
func (t *Temporaries) name(dir string) (string, error) {
	f, err := t.file(dir)
	if err != nil {
		return "", err
	}
	f.Close()
	return f.Name(), os.Remove(f.Name())
}

func (t *Temporaries) note(name string) {
	if t.names == nil {
		t.names = map[string]bool{}
	}
	t.names[name] = true
}

func (t *Temporaries) forget(name string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	delete(t.names, name)
}

// remove removes a temporary file or folder.
func (t *Temporaries) remove(name string) {
	removeAll(name)
	t.forget(name)
}

// removeAll removes a file or folder, and what a database keeps beside its file.
func removeAll(name string) {
	os.RemoveAll(name)
	for _, ending := range []string{"-journal", "-wal", "-shm"} {
		os.Remove(name + ending)
	}
}

// Remove removes all temporary files that are left and allows no more. It waits until a job that is being
// committed has ended.
func (t *Temporaries) Remove() {
	t.hold.Lock()
	defer t.hold.Unlock()
	t.mu.Lock()
	defer t.mu.Unlock()
	t.ended = true
	for name := range t.names {
		removeAll(name)
	}
	t.names = nil
}

// noRoom reports whether an error says that a file system is full or has reached a quota.
func noRoom(err error) bool { return errors.Is(err, syscall.ENOSPC) }
