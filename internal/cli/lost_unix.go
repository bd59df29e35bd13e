//go:build unix

package cli

import (
	"os"

	"golang.org/x/sys/unix"
)

// goesNowhere reports whether a stream may have been closed when the program began: Go opens the null device in its place, for reading and writing. Some programs give their
// children such a one on purpose; a shell's >/dev/null is opened for writing alone.
func goesNowhere(f *os.File) bool {
	info, err := f.Stat()
	null, err2 := os.Stat(os.DevNull)
	if err != nil || err2 != nil || !os.SameFile(info, null) {
		return false
	}
	flags, err := unix.FcntlInt(f.Fd(), unix.F_GETFL, 0)
	return err == nil && flags&unix.O_ACCMODE == unix.O_RDWR
}
