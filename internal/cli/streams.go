package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync"

	"golang.org/x/term"

	"github.com/verdex-land/verdex/core/fault"
	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/option"
	"github.com/verdex-land/verdex/internal/output"
)

// standardStream stands for standard input and output in options and arguments.
const standardStream = "-"

// streams are the files of the disk, where standard input and pipes may stand for them: what comes from one is kept in a temporary file, since rasters and zones are
// not read in order. A pipe is read once, whoever asks for it.
type streams struct {
	files.System
	ctx       context.Context
	stdin     io.Reader
	temporary *output.Temporaries

	mu   sync.Mutex
	kept map[string]*keptStream
}

type keptStream struct {
	path string
	err  error
}

// close removes what was kept.
func (s *streams) close() {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, k := range s.kept {
		if k.path != "" {
			s.temporary.Drop(k.path)
		}
	}
	s.kept = nil
}

// where is the file of the disk that a name stands for.
func (s *streams) where(name string) (string, error) {
	var from io.Reader
	if name == standardStream {
		if f, ok := s.stdin.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
			return "", usage("- stands for standard input, which is the terminal: pipe a file into the command")
		}
		from = s.stdin
	} else if info, err := os.Stat(name); err != nil || info.Mode()&(os.ModeNamedPipe|os.ModeSocket) == 0 {
		return name, nil
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	k, ok := s.kept[name]
	if !ok {
		k = &keptStream{}
		k.path, k.err = s.keep(name, from)
		if s.kept == nil {
			s.kept = map[string]*keptStream{}
		}
		s.kept[name] = k
	}
	return k.path, k.err
}

// keep copies a stream into a temporary file.
func (s *streams) keep(name string, from io.Reader) (path string, err error) {
	called := name
	if name == standardStream {
		called = "standard input"
	}
	if from == nil {
		f, err := os.Open(name)
		if err != nil {
			return "", fault.Opening(name, err)
		}
		defer f.Close() // also ends a read that waits
		from = f
	}
	to, err := s.temporary.File(os.TempDir())
	if err != nil {
		return "", fmt.Errorf("%s: it cannot be kept in %s (%w): name another folder with TMPDIR", called, os.TempDir(), fault.Reason(err))
	}
	var n int64
	copied := make(chan error, 1)
	go func() { // a read that waits for more does not keep an interrupted command
		size, err := io.Copy(to, from)
		if e := to.Close(); err == nil {
			err = e
		}
		n = size
		copied <- err
	}()
	select {
	case err = <-copied:
	case <-s.ctx.Done():
	}
	if s.ctx.Err() != nil {
		err = s.ctx.Err()
	} else if err == nil && n == 0 {
		err = fmt.Errorf("%s: nothing came from it: look at what the command before the pipe says", called)
	} else if err != nil {
		err = fmt.Errorf("%s: it cannot be kept in %s (%w): name another folder with TMPDIR", called, os.TempDir(), fault.Reason(err))
	}
	if err != nil {
		s.temporary.Drop(to.Name())
		return "", err
	}
	return to.Name(), nil
}

// Open implements [files.System].
func (s *streams) Open(name string) (files.File, error) {
	path, err := s.where(name)
	if err != nil {
		return nil, err
	}
	return s.System.Open(path)
}

// ReadFile implements [files.System].
func (s *streams) ReadFile(name string) ([]byte, error) {
	path, err := s.where(name)
	if err != nil {
		return nil, err
	}
	return s.System.ReadFile(path)
}

// Local implements [files.System].
func (s *streams) Local(name string) (string, error) {
	path, err := s.where(name)
	if err != nil {
		return "", err
	}
	return s.System.Local(path)
}

// oneStream refuses options and arguments that name one stream twice: what comes from it comes once.
func oneStream(options any) error {
	seen := map[string]bool{}
	for _, o := range option.Of(options) {
		if o.Input == "" {
			continue
		}
		for _, text := range o.Texts(options) {
			path := valueIn(text)
			if i := strings.IndexByte(path, '#'); i > 0 {
				path = path[:i]
			}
			if path != standardStream {
				if info, err := os.Stat(path); err != nil || info.Mode()&(os.ModeNamedPipe|os.ModeSocket) == 0 {
					continue
				}
			}
			if path == "/dev/stdin" {
				path = standardStream
			}
			if seen[path] {
				return usage("%s is named twice, and what comes from it comes once: name a file for one of them", text)
			}
			seen[path] = true
		}
	}
	return nil
}

// isStream reports whether an output is standard output, a pipe or a device.
func isStream(path string) bool {
	if output.IsStandard(path) {
		return true
	}
	info, err := os.Stat(path)
	return err == nil && !info.Mode().IsRegular() && !info.IsDir()
}

// endingOf is the ending of an output, which chooses its format; a stream whose name has none gets that of a usual format.
func endingOf(path, usual string) string {
	ending := strings.ToLower(filepath.Ext(path))
	if ending == "" && isStream(path) {
		return usual
	}
	return ending
}

// folderOf is where what has to wait for an output is kept: beside it, or for a stream in the system's folder for such files.
func folderOf(path string) string {
	if isStream(path) {
		return os.TempDir()
	}
	return filepath.Dir(path)
}

// named is an output by a name whose ending chooses its format: its own, or for a stream a stand-in with a usual ending.
func named(path, standIn, usual string) string {
	if isStream(path) {
		return standIn + endingOf(path, usual)
	}
	return path
}
