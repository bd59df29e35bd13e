package plan

import (
	"fmt"
	"os"
	"syscall"
)

// stampOf describes a file such that another description means that the file may have changed. The time of the last change of its
// metadata cannot be set by programs, as that of its content can.
func stampOf(info os.FileInfo) string {
	stamp := fmt.Sprint(info.Size(), " ", info.ModTime().UnixNano())
	if s, ok := info.Sys().(*syscall.Stat_t); ok {
		stamp += fmt.Sprint(" ", s.Dev, " ", s.Ino, " ", s.Ctim.Sec, " ", s.Ctim.Nsec)
	}
	return stamp
}
