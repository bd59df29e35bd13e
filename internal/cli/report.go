package cli

import (
	"fmt"
	"io"
	"log/slog"
	"os"
	"strings"
	"sync"

	"github.com/mattn/go-runewidth"
	"github.com/urfave/cli/v3"
	"github.com/vbauerster/mpb/v8"
	"github.com/vbauerster/mpb/v8/decor"
	"golang.org/x/term"
)

// reporter writes notes, warnings and progress to standard error. It is the log of jobs.
type reporter struct {
	w      io.Writer
	quiet  bool
	log    *slog.Logger // nil for plain lines
	color  bool
	width  int // of the terminal; 0 for none
	warned int
	// Of a step of a plan: who shows its progress, and what it has said.
	run  *reporter
	said struct{ notes, warnings []string }
}

func newReporter(c *cli.Command) *reporter {
	r := &reporter{w: c.Root().ErrWriter, quiet: c.Bool("quiet"), color: wantsColor(c.Root().ErrWriter, c.String("color"))}
	if f, ok := r.w.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		if width, _, err := term.GetSize(int(f.Fd())); err == nil && width > 40 {
			r.width = width
		}
	}
	if c.Bool("log-json") {
		r.log = slog.New(slog.NewJSONHandler(r.w, nil))
	}
	return r
}

// Note takes a sentence about what was assumed, found or done.
func (r *reporter) Note(text string) {
	switch {
	case r.run != nil:
		r.said.notes = append(r.said.notes, text)
	case r.quiet:
	case r.log != nil:
		r.log.Info(text)
	default:
		fmt.Fprintln(r.w, r.wrap("note: "+printableLines(text), 6))
	}
}

// Warn takes a sentence about what may be wrong.
func (r *reporter) Warn(text string) {
	r.warned++
	if r.run != nil {
		r.said.warnings = append(r.said.warnings, text)
		return
	}
	if r.log != nil {
		r.log.Warn(text, "code", codeOf(text, "warning"))
		return
	}
	text = r.wrap("warning: "+printableLines(text), 9)
	if r.color {
		text = "\x1b[1;38;2;224;168;72mwarning:\x1b[0m" + strings.TrimPrefix(text, "warning:")
	}
	fmt.Fprintln(r.w, text)
}

// wrap breaks the lines of a text between words where the terminal ends, and indents what follows.
func (r *reporter) wrap(text string, indent int) string {
	if r.width == 0 {
		return text
	}
	var out []string
	for line := range strings.SplitSeq(text, "\n") {
		for runewidth.StringWidth(line) > r.width {
			cut := -1
			for i := range line {
				if line[i] == ' ' && i > indent && runewidth.StringWidth(line[:i]) <= r.width {
					cut = i
				}
			}
			if cut < 0 {
				break
			}
			out = append(out, line[:cut])
			line = strings.Repeat(" ", indent) + line[cut+1:]
		}
		out = append(out, line)
	}
	return strings.Join(out, "\n")
}

func (r *reporter) notes(texts []string) {
	for _, t := range texts {
		r.Note(t)
	}
}

func (r *reporter) warnings(texts []string) {
	for _, t := range texts {
		r.Warn(t)
	}
}

// Progress begins a piece of work. The first function takes how much of it is done; the second ends it.
// A bar shows only when standard error is a terminal.
func (r *reporter) Progress(what string) (tell func(done, total int), end func()) {
	if r.run != nil {
		return r.run.Progress(what)
	}
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
		if bar == nil {
			p.Shutdown()
			return
		}
		bar.Abort(true)
		p.Wait() // until the bar is off the screen
	}
	return tell, end
}
