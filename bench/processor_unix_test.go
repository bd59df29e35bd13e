//go:build unix

package bench

import (
	"syscall"
	"time"
)

// processorTime is what this process has had of the processors so far; time that other programs took does
// not count.
func processorTime() time.Duration {
	var u syscall.Rusage
	if syscall.Getrusage(syscall.RUSAGE_SELF, &u) != nil {
		return 0
	}
	return time.Duration(u.Utime.Nano() + u.Stime.Nano())
}
