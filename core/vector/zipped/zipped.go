// Package zipped reads the files in a ZIP archive, in memory. Nothing of an archive is written to the disk, so that no name in it leads anywhere, and nothing is
// unpacked beyond a limit, whatever its directory claims.
package zipped

import (
	"archive/zip"
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"math"
	"os"
	"path"
	"slices"
	"strings"

	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/spill"
)

// What is unpacked at most of one file, and how many files are listed.
const (
	mostBytes = 1 << 30
	mostFiles = 1 << 16
)

// Archive is a [files.System] of the files in an archive. Their names are case-sensitive paths with slashes.
type Archive struct {
	Name string // of the archive, for messages
	zip  *zip.Reader
	most int64 // bytes of a file
}

// Is reports whether the first bytes of a file are those of an archive.
func Is(head []byte) bool {
	return bytes.HasPrefix(head, []byte("PK\x03\x04")) || bytes.HasPrefix(head, []byte("PK\x05\x06"))
}

// Open reads the directory of an archive, whose file stays open as long as it is read.
func Open(name string, f files.File) (*Archive, error) {
	z, err := zip.NewReader(f, f.Size())
	if err != nil && !errors.Is(err, zip.ErrInsecurePath) { // names are never used as paths of the disk
		return nil, fmt.Errorf("%s: it is not a ZIP archive that can be read (%v): get it again", name, err)
	}
	if len(z.File) > mostFiles {
		return nil, fmt.Errorf("%s: it has %d files, far more than one looks for zones in: unpack it", name, len(z.File))
	}
	return &Archive{Name: name, zip: z, most: mostBytes}, nil
}

// Names are the files in the archive, without folders and without what file managers add.
func (a *Archive) Names() (out []string) {
	for _, f := range a.zip.File {
		if strings.HasSuffix(f.Name, "/") || strings.HasPrefix(f.Name, "__MACOSX/") || strings.HasPrefix(path.Base(f.Name), ".") {
			continue
		}
		out = append(out, f.Name)
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// ReadFile implements [files.System].
func (a *Archive) ReadFile(name string) ([]byte, error) {
	for _, f := range a.zip.File {
		if f.Name != name {
			continue
		}
		if f.Flags&1 != 0 {
			return nil, fmt.Errorf("%s: %s in it is encrypted: unpack it", a.Name, name)
		}
		r, err := f.Open()
		if err != nil {
			return nil, fmt.Errorf("%s: %s in it cannot be unpacked (%v): get the archive again", a.Name, name, err)
		}
		defer r.Close()
		data, size := []byte(nil), int64(min(f.UncompressedSize64, math.MaxInt64))
		if size <= a.most {
			data, size, err = spill.Read(r, a.most)
		}
		if err != nil {
			return nil, fmt.Errorf("%s: %s in it cannot be unpacked (%v): get the archive again", a.Name, name, err)
		}
		if size > a.most {
			return nil, fmt.Errorf("%s: %s in it has more than %d MB: unpack it, and name the file", a.Name, name, a.most>>20)
		}
		return data, nil
	}
	return nil, fmt.Errorf("%s: it has no file %s: %w", a.Name, name, fs.ErrNotExist)
}

// Open implements [files.System].
func (a *Archive) Open(name string) (files.File, error) {
	data, err := a.ReadFile(name)
	if err != nil {
		return nil, err
	}
	return files.Bytes(data), nil
}

// Local implements [files.System]; nothing of an archive is on the disk.
func (a *Archive) Local(name string) (string, error) {
	return "", fmt.Errorf("%s: %s in it is read from the disk only: unpack it: %w", a.Name, name, os.ErrInvalid)
}
