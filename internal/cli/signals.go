package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"os/signal"
	"syscall"
	"time"

	"github.com/verdex-land/verdex/internal/output"
)

// grace is how long a command that is interrupted may take to end by itself.
const grace = 3 * time.Second

// interruptible gives a context that ends when the program is asked to end: by Ctrl-C, by a request to terminate, or because its
// terminal was closed. Work that does not end soon after that, or a second request, makes the program end at once. Either way no
// temporary file is left.
func interruptible(ctx context.Context, temporaries *output.Temporaries, stderr io.Writer) (context.Context, func()) {
	ctx, cancel := context.WithCancel(ctx)
	asked := make(chan os.Signal, 2)
	for _, s := range []os.Signal{os.Interrupt, syscall.SIGTERM, syscall.SIGHUP} {
		if !signal.Ignored(s) { // as nohup does
			signal.Notify(asked, s)
		}
	}
	go func() {
		select {
		case <-asked:
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
		os.Exit(exitFailed)
	}()
	return ctx, func() {
		signal.Stop(asked)
		cancel()
	}
}

const interrupted = "verdex: interrupted before the work was done"
