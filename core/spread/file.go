package spread

import (
	"errors"
	"io"
	"os"
	"sync/atomic"

	"github.com/verdex-land/verdex/core/spill"
)

const (
	largeFile = 8 << 20
	fileBlock = 128 << 10

	mostOfPipe = 1 << 30
)

// ErrLongPipe is that of a pipe or device that gives more than is read of one.
var ErrLongPipe = errors.New("it is a pipe or a device that gives more than 1024 MB")

// ReadFile is os.ReadFile with the blocks of a large file read on all processors: most of the time goes into the pages that
// they are put on. Of a pipe or a device, 1 GiB is read at most.
func ReadFile(path string) ([]byte, error) { return readFile(path, mostOfPipe) }

func readFile(path string, most int64) ([]byte, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil || !info.Mode().IsRegular() { // a pipe, which is opened once
		data, size, err := spill.Read(f, most)
		if size > most {
			err = ErrLongPipe
		}
		return data, err
	}
	if info.Size() < largeFile || info.Size() != int64(int(info.Size())) {
		return os.ReadFile(path)
	}
	data := make([]byte, info.Size())
	var failed atomic.Pointer[error]
	Over((len(data)+fileBlock-1)/fileBlock, func() func(int) {
		return func(i int) {
			block := data[i*fileBlock : min(len(data), (i+1)*fileBlock)]
			if _, err := io.ReadFull(io.NewSectionReader(f, int64(i*fileBlock), int64(len(block))), block); err != nil {
				failed.Store(&err)
			}
		}
	})
	if err := failed.Load(); err != nil {
		return nil, *err
	}
	return data, nil
}
