package cli

import (
	"fmt"
	"io"
	"log/slog"
	"os"
	"sync"

	"github.com/urfave/cli/v3"
	"github.com/vbauerster/mpb/v8"
	"github.com/vbauerster/mpb/v8/decor"
	"golang.org/x/term"
)

// reporter tells notes, warnings and progress on standard error.
type reporter struct {
	w      io.Writer
	quiet  bool
	log    *slog.Logger // nil for plain lines
	warned int
}

func newReporter(c *cli.Command) *reporter {
	r := &reporter{w: c.Root().ErrWriter, quiet: c.Bool("quiet")}
	if c.Bool("log-json") {
		r.log = slog.New(slog.NewJSONHandler(r.w, nil))
	}
	return r
}

func (r *reporter) note(text string) {
	switch {
	case r.quiet:
	case r.log != nil:
		r.log.Info(text)
	default:
		fmt.Fprintf(r.w, "note: %s\n", text)
	}
}

func (r *reporter) warn(text string) {
	r.warned++
	if r.log != nil {
		r.log.Warn(text)
		return
	}
	fmt.Fprintf(r.w, "warning: %s\n", text)
}

func (r *reporter) notes(texts []string) {
	for _, t := range texts {
		r.note(t)
	}
}

func (r *reporter) warnings(texts []string) {
	for _, t := range texts {
		r.warn(t)
	}
}

// progress returns a function to be told how far a long work is, and one to be called at its end.
// A bar shows only when standard error is a terminal.
func (r *reporter) progress(what string) (tell func(done, total int), end func()) {
	f, ok := r.w.(*os.File)
	if r.quiet || r.log != nil || !ok || !term.IsTerminal(int(f.Fd())) {
		return nil, func() {}
	}
	p := mpb.New(mpb.WithOutput(f), mpb.WithWidth(40))
	var mu sync.Mutex
	var bar *mpb.Bar
	tell = func(done, total int) {
		mu.Lock()
		defer mu.Unlock()
		if bar == nil {
			bar = p.New(int64(total), mpb.BarStyle().Lbound("").Filler("━").Tip("━").Padding(" ").Rbound(""),
				mpb.BarRemoveOnComplete(),
				mpb.PrependDecorators(decor.Name(what+" ")),
				mpb.AppendDecorators(decor.Percentage(), decor.Name("  "), decor.AverageETA(decor.ET_STYLE_GO)))
		}
		if int64(done) > bar.Current() {
			bar.SetCurrent(int64(done))
		}
	}
	end = func() {
		mu.Lock()
		defer mu.Unlock()
		if bar != nil {
			bar.Abort(true)
		}
		p.Shutdown()
	}
	return tell, end
}
