package spread

import (
	"io"
	"os"
	"sync/atomic"
)

const (
	largeFile = 8 << 20
	fileBlock = 128 << 10
)

// ReadFile is os.ReadFile with the blocks of a large file read on all processors: most of the time goes into the pages that
// they are put on.
func ReadFile(path string) ([]byte, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil || !info.Mode().IsRegular() { // a pipe, which is opened once
		return io.ReadAll(f)
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
