package files

import (
	"maps"
	"slices"
	"sync"
)

// Recorder is a system that notes what is looked for by way of it, so that whoever keeps a result can say all that decided it: the files that were
// there, and those that were not and would have been read too.
type Recorder struct {
	System
	mu     sync.Mutex
	found  map[string]string // by name, the validator of one that was opened
	absent map[string]bool
}

// Record returns a system that reads from another one and notes what is looked for. It may be used by several goroutines at once, as that may.
func Record(from System) *Recorder {
	return &Recorder{System: from, found: map[string]string{}, absent: map[string]bool{}}
}

// Found are the names of the files that were there, in the order of their letters.
func (r *Recorder) Found() []string {
	r.mu.Lock()
	defer r.mu.Unlock()
	return slices.Sorted(maps.Keys(r.found))
}

// Absent are the names of files that were looked for and not there, in the order of their letters.
func (r *Recorder) Absent() []string {
	r.mu.Lock()
	defer r.mu.Unlock()
	return slices.Sorted(maps.Keys(r.absent))
}

// Validator is that of a file as it was opened first, "" for one that was not opened.
func (r *Recorder) Validator(name string) string {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.found[name]
}

// note notes a file that was there, with its validator if it was opened, or one that was not.
func (r *Recorder) note(name string, there bool, validator string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if !there {
		r.absent[name] = true
	} else if old, known := r.found[name]; !known || old == "" {
		r.found[name] = validator
	}
}

// Open implements [System].
func (r *Recorder) Open(name string) (File, error) {
	f, err := r.System.Open(name)
	validator := ""
	if err == nil {
		validator = f.Validator()
	}
	r.note(name, !missing(err), validator)
	return f, err
}

// ReadFile implements [System].
func (r *Recorder) ReadFile(name string) ([]byte, error) {
	data, err := r.System.ReadFile(name)
	r.note(name, !missing(err), "")
	return data, err
}

// Local implements [System].
func (r *Recorder) Local(name string) (string, error) {
	path, err := r.System.Local(name)
	r.note(name, !missing(err), "")
	return path, err
}

// Hide is that of the system.
func (r *Recorder) Hide(name string) string { return Hidden(r.System, name) }
