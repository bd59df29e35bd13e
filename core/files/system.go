package files

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"strings"

	"github.com/verdex-land/verdex/core/fault"
	"github.com/verdex-land/verdex/core/spread"
)

// System opens what is read, by name: a path, or where the system reads from elsewhere, a URL. Its methods may be called from several goroutines at once.
// Errors name the file, and those of files that do not exist match [fs.ErrNotExist].
type System interface {
	// Open opens a file that is read at any place.
	Open(name string) (File, error)
	// ReadFile reads a file from front to end; it need not be one that Open opens, but may be a pipe.
	ReadFile(name string) ([]byte, error)
	// Local returns the path of a file on the disk that holds the same bytes, for libraries that open files themselves.
	Local(name string) (path string, err error)
}

// File is a file that is read at any place, by several goroutines at once.
type File interface {
	io.ReaderAt
	io.Closer
	Size() int64
	// Validator is a text that changes when the content of the file does.
	Validator() string
}

// Disk is the system of the machine's own files.
var Disk System = disk{}

type disk struct{}

func (disk) Open(name string) (File, error) { return openDisk(name) }

func (disk) ReadFile(name string) ([]byte, error) {
	data, err := spread.ReadFile(name)
	if errors.Is(err, spread.ErrLongPipe) {
		return nil, fmt.Errorf("%s: %w: save it as a file first", name, err)
	} else if err != nil {
		return nil, fault.Opening(name, err)
	}
	return data, nil
}

func (disk) Local(name string) (string, error) { return name, Check(name) }

// IsURL reports whether a name is a URL of the web, in whichever letters its scheme is written.
func IsURL(name string) bool {
	scheme, _, ok := strings.Cut(name, "://")
	return ok && (strings.EqualFold(scheme, "http") || strings.EqualFold(scheme, "https"))
}

// Exists reports whether there is something by a name that a system can open.
func Exists(from System, name string) bool {
	if r, ok := from.(*Recorder); ok {
		there := Exists(r.System, name)
		r.note(name, there, "")
		return there
	}
	if from == Disk {
		_, err := os.Stat(name)
		return err == nil
	}
	f, err := from.Open(name)
	if err != nil {
		return !missing(err)
	}
	f.Close()
	return true
}

// missing reports whether an error is that of a file that does not exist.
func missing(err error) bool { return errors.Is(err, fs.ErrNotExist) }

// Ext is the ending of a name, such as .tif; of a URL that of its path, without what stands behind ? and #.
func Ext(name string) string {
	if IsURL(name) {
		name, _, _ = strings.Cut(name, "#")
		name, _, _ = strings.Cut(name, "?")
		name = name[strings.LastIndexByte(name, '/')+1:]
	}
	return filepath.Ext(name)
}

// Beside is the name of the file that stands beside another one under another ending.
func Beside(name, ending string) string {
	old := Ext(name)
	if !IsURL(name) {
		return strings.TrimSuffix(name, old) + ending
	}
	name, _, _ = strings.Cut(name, "#")
	path, query, asks := strings.Cut(name, "?")
	path = strings.TrimSuffix(path, old) + ending
	if asks {
		path += "?" + query
	}
	return path
}

// FindBeside is the first file beside another one that exists under one of some endings, "" for none.
func FindBeside(from System, name string, endings ...string) string {
	for _, e := range endings {
		if beside := Beside(name, e); Exists(from, beside) {
			return beside
		}
	}
	return ""
}

// From is the name of a file that another one names: relative names are taken from the folder of that one. A file of the web names others of the web only; an
// address of another scheme than http and https, or one that cannot be read, is an error.
func From(list, name string) (string, error) {
	if IsURL(name) {
		return name, nil
	}
	if scheme, _, ok := strings.Cut(name, "://"); ok && strings.Trim(strings.ToLower(scheme), "abcdefghijklmnopqrstuvwxyz0123456789+.-") == "" && !IsURL(list) {
		return "", fmt.Errorf("%s: it names %s, and of addresses those of http and https are read: give it there as such, or as a path", list, name)
	}
	if !IsURL(list) {
		if filepath.IsAbs(name) {
			return name, nil
		}
		return filepath.Join(filepath.Dir(list), name), nil
	}
	base, err := url.Parse(list)
	if err != nil {
		return "", fmt.Errorf("%s: it is not a valid address: correct it", list)
	}
	to, err := base.Parse(name)
	if err != nil || !IsURL(to.String()) {
		return "", fmt.Errorf("%s: it names %q, which is no address of http or https: tell its operator", list, name)
	}
	return to.String(), nil
}

// Span is a range of bytes of a file.
type Span struct{ Offset, Size int64 }

// Announced is a file that can be told which ranges will be read, and in which order, so that it fetches them early.
type Announced interface{ Ahead(spans []Span) }

// Follow is the name of a file that another one names, as [From] finds it, without what nobody may see: a system that knows secrets in addresses takes them out,
// and reads by what is left.
func Follow(from System, list, name string) (string, error) {
	name, err := From(list, name)
	if err != nil {
		return "", err
	}
	return Hidden(from, name), nil
}

// Hidden is a name without what nobody may see, by which a system that knows secrets in addresses reads.
func Hidden(from System, name string) string {
	if s, ok := from.(interface{ Hide(name string) string }); ok {
		return s.Hide(name)
	}
	return name
}
