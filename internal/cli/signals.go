package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/verdex-land/verdex/internal/output"
)

// grace is how long a command that is interrupted may take to end by itself.
const grace = 3 * time.Second

// interruptible gives a context that ends when the program is asked to end: by Ctrl-C, by a request to terminate, or because its
// terminal was closed. Work that does not end soon after that, or a second request, makes the program end at once. Either way no
// temporary file is left, and the exit code is 128 and the number of the signal, as shells have it.
func interruptible(ctx context.Context, temporaries *output.Temporaries, stderr io.Writer) (_ context.Context, code func() int, stop func()) {
	ctx, cancel := context.WithCancel(ctx)
	asked := make(chan os.Signal, 2)
	signal.Notify(make(chan os.Signal, 1), syscall.SIGPIPE) // writing then fails, and what is temporary is removed
	var by atomic.Int32
	code = func() int { return exitSignal + int(by.Load()) }
	for _, s := range []os.Signal{os.Interrupt, syscall.SIGTERM, syscall.SIGHUP} {
		if !signal.Ignored(s) { // as nohup does
			signal.Notify(asked, s)
		}
	}
	go func() {
		select {
		case s := <-asked:
			if n, ok := s.(syscall.Signal); ok {
				by.Store(int32(n))
			}
			cancel()
		case <-ctx.Done():
			return
		}
		select {
		case <-asked:
		case <-time.After(grace):
		}
		temporaries.Remove()
		fmt.Fprintln(stderr, interrupted)
		os.Exit(code())
	}()
	return ctx, code, func() {
		signal.Stop(asked)
		cancel()
	}
}

// closedOutput reports whether nobody reads standard output any more, as with "| head": that is no failure worth a message.
func closedOutput(err error) bool {
	var of *os.PathError
	return errors.As(err, &of) && of.Path == os.Stdout.Name() && errors.Is(of.Err, syscall.EPIPE)
}

const interrupted = "verdex: interrupted before the work was done"
