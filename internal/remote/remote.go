// Package remote reads files of the web as if they lay on the disk. [New] makes a [files.System] that hands paths on to another one and opens URLs by
// requests of ranges: only what is read is fetched, in few requests, ahead of who reads it where that one announces what it is going to read. What was fetched
// is kept in a cache folder between runs, and is used again while the validator of the server (ETag or Last-Modified) stays the same.
//
// A file that changes while it is read is an error; so is a server that sends other bytes than it was asked for. Nothing that the package returns or writes
// holds a password or a token: see [System.Hide].
package remote

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"sync"
	"time"

	"github.com/hashicorp/go-retryablehttp"
	"github.com/verdex-land/verdex/core/fault"
	"github.com/verdex-land/verdex/core/files"
)

// Options say how a system reads.
type Options struct {
	Paths     files.System // opens what is no URL
	Cache     *Cache       // nil for none
	Offline   bool         // nothing is asked of servers; what is in the cache is used
	Agent     string       // the User-Agent of requests
	Secrets   *Secrets     // nil for none
	Transport http.RoundTripper
	Idle      time.Duration // how long a server may send nothing; 0 is half a minute
	Tries     int           // how often a request is made that fails; 0 is 4
	Whole     int64         // how large a file may be that is read whole; 0 is 1 GiB
}

// System is a [files.System] of paths and URLs. It is for one job, or a few that see the same state of the files: what a server says of a file is
// asked for once.
type System struct {
	o      Options
	ctx    context.Context
	client *retryablehttp.Client
	ready  chan struct{} // room for chunks that are fetched and not read yet
	flying chan struct{} // room for requests

	mu      sync.Mutex
	objects map[string]*object
	recent  []*chunk // those whose bytes are in memory, the one used last at the end
	held    int64    // bytes of them
	fetched Fetched
}

// Fetched is what was asked of servers.
type Fetched struct {
	Requests int
	Bytes    int64 // of bodies
	Reused   int64 // bytes that came from the cache
}

const (
	mostHeld    = 96 << 20 // bytes of chunks in memory
	mostReady   = 12       // chunks that are fetched ahead
	mostFlying  = 6        // requests at once
	mostChunk   = 4 << 20
	firstBytes  = 64 << 10 // of the request that opens a file
	leastBytes  = 32 << 10 // of a request for what was not announced
	mostGap     = 16 << 10 // between announced ranges that one request fetches
	wholeLimit  = 1 << 30
	idleDefault = 30 * time.Second
)

// New makes a system whose transfers end with the context.
func New(ctx context.Context, o Options) *System {
	if o.Paths == nil {
		o.Paths = files.Disk
	}
	if o.Whole == 0 {
		o.Whole = wholeLimit
	}
	if o.Idle == 0 {
		o.Idle = idleDefault
	}
	if o.Tries == 0 {
		o.Tries = 4
	}
	if o.Secrets == nil {
		o.Secrets = &Secrets{}
	}
	s := &System{o: o, ctx: ctx, ready: make(chan struct{}, mostReady), flying: make(chan struct{}, mostFlying), objects: map[string]*object{}}
	s.client = s.newClient()
	return s
}

// Hide takes the secrets out of an address that a server or a list has named, see [Secrets.Hide].
func (s *System) Hide(name string) string { return s.o.Secrets.hide(name, true) }

// Fetched is what was asked of servers until now.
func (s *System) Fetched() Fetched {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.fetched
}

// Open implements [files.System].
func (s *System) Open(name string) (files.File, error) {
	if !files.IsURL(name) {
		return s.o.Paths.Open(name)
	}
	o, err := s.object(name)
	if err != nil {
		return nil, err
	}
	if !o.ranges && o.whole == nil {
		return nil, fault.Errorf("%s: the server does not send parts of files, so all of it would have to be fetched: download it, and name the file", name)
	}
	return handle{o}, nil
}

// ReadFile implements [files.System].
func (s *System) ReadFile(name string) ([]byte, error) {
	if !files.IsURL(name) {
		return s.o.Paths.ReadFile(name)
	}
	o, err := s.object(name)
	if err != nil {
		return nil, err
	}
	if o.whole != nil {
		return o.whole, nil
	}
	if !o.ranges {
		return s.getWhole(o)
	}
	if err := s.fits(name, o.size); err != nil {
		return nil, err
	}
	o.Ahead([]files.Span{{Size: o.size}})
	data := make([]byte, o.size)
	if _, err := o.readAt(data, 0); err != nil && !errors.Is(err, io.EOF) {
		return nil, err
	}
	return data, nil
}

// fits refuses a file that is too large to be read whole.
func (s *System) fits(name string, size int64) error {
	if size > s.o.Whole {
		return fault.Errorf("%s: it has more than the %d MB that are read of a file that has to be read whole: download it, or name a smaller one", name, s.o.Whole>>20)
	}
	return nil
}

// Local implements [files.System].
func (s *System) Local(name string) (string, error) {
	if !files.IsURL(name) {
		return s.o.Paths.Local(name)
	}
	data, err := s.ReadFile(name)
	if err != nil {
		return "", err
	}
	o, err := s.object(name)
	if err != nil {
		return "", err
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.local == "" {
		dir, err := os.MkdirTemp("", "verdex-")
		if err != nil {
			return "", fault.Opening(name, err)
		}
		o.local = filepath.Join(dir, "file"+files.Ext(name))
		if err := os.WriteFile(o.local, data, 0o600); err != nil {
			return "", fault.Opening(name, err)
		}
	}
	return o.local, nil
}

// State is what is known of a file that was read.
type State struct {
	Size      int64
	Validator string
	// Read is the SHA-256 of the bytes that were read, in hexadecimal: of the whole file, or of a line "START-END SHA256" for each range.
	Read  string
	Bytes int64 // that were read
}

// State is what is known of a file of the web that the system has read; ok is false for others.
func (s *System) State(name string) (out State, ok bool) {
	s.mu.Lock()
	o := s.objects[name]
	s.mu.Unlock()
	if o == nil || o.err != nil {
		return State{}, false
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	out.Size, out.Validator = o.size, o.validator
	if o.whole != nil {
		sum := sha256.Sum256(o.whole)
		out.Read, out.Bytes = hex.EncodeToString(sum[:]), o.size
		return out, true
	}
	h := sha256.New()
	for _, c := range o.chunks {
		if c.used {
			fmt.Fprintf(h, "%d-%d %x\n", c.start, c.end, c.sum)
			out.Bytes += c.end - c.start
		}
	}
	if out.Bytes > 0 {
		out.Read = hex.EncodeToString(h.Sum(nil))
	}
	return out, true
}

// Close removes what was made for a while.
func (s *System) Close() {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, o := range s.objects {
		if o.local != "" {
			os.RemoveAll(filepath.Dir(o.local))
		}
	}
	if s.o.Cache != nil {
		s.o.Cache.trim()
	}
	s.client.HTTPClient.CloseIdleConnections()
}

// object is what is known of a URL, which is asked for once.
func (s *System) object(name string) (*object, error) {
	if s.o.Secrets.lost(name) {
		return nil, fault.Errorf("%s: its address had a secret, which is not kept: give the whole address", name)
	}
	s.mu.Lock()
	o := s.objects[name]
	if o == nil {
		o = &object{system: s, name: name}
		s.objects[name] = o
	}
	s.mu.Unlock()
	o.once.Do(func() { o.err = s.begin(o) })
	return o, o.err
}

// missing is the error of a file that a server does not have.
func missing(name string, status string) error {
	return notThere{fault.Errorf("%s: there is no such file on the server (%s): check the address", name, status)}
}

type notThere struct{ error }

func (notThere) Is(target error) bool { return target == fs.ErrNotExist }

func (e notThere) Unwrap() error { return e.error }

// handle is a file as one of those who read it has it.
type handle struct{ o *object }

func (h handle) ReadAt(b []byte, offset int64) (int, error) { return h.o.readAt(b, offset) }
func (h handle) Close() error                               { return nil }
func (h handle) Size() int64                                { return h.o.size }
func (h handle) Validator() string                          { return h.o.validator }

// Ahead implements [files.Announced].
func (h handle) Ahead(spans []files.Span) { h.o.Ahead(spans) }
