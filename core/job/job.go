// Package job does whole jobs: options in, results out.
//
// Each job is a function of a context, an environment and a struct of options. It opens what the options name, does the work, and
// returns what it found, what the checks say, and which files it read:
//
//	r, err := job.Measure(ctx, job.Env{}, job.MeasureOptions{
//		Covers:      []string{"cover.tif"},
//		ZoneOptions: job.ZoneOptions{Zones: "wards.geojson"},
//	})
//
// A job writes nothing: a raster that it makes is a view, computed as it is read, and tables are made of its result by whoever
// wants them. It knows no command line, terminal or output format, and has no state outside its arguments, so that any number of jobs
// can run at once. The options say what they are called, what they mean and what they may be (package option); the zero value of
// each is its default. An error that a user can mend is a [fault.Error], and one about the options has Misuse set. A job that is
// called off returns an error that wraps context.Canceled.
//
// A result that keeps files open has a method Close.
package job

import (
	"context"
	"runtime"

	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/rows"

	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/option"
)

// Env is what a job is given besides its options. The zero value works: all processors, silent, files as they are named.
type Env struct {
	Threads int // processors to use; 0 takes all
	// Files opens what is read; nil reads the disk.
	Files files.System
	Log   Log // nil for none
	// Opened, when not nil, is called before an input is opened, with its role ("zones", "legend") and its path.
	Opened func(role, path string)
	// Tables reads the tables of accounts; nil reads files.
	Tables TableReader
	// Counter measures; nil measures at once.
	Counter Counter
	// Maker makes the rasters and zones that a plan defines; nil for none.
	Maker Maker
}

// TableReader reads a table of accounts by its name, as [cover.EachRow] reads files. The legend is that of the table, if it is known
// from elsewhere, and nil otherwise.
type TableReader func(ctx context.Context, name string, needed, optional []string, each func(rows.Row) error) (legend *cover.Legend, notes []string, err error)

// Log takes what a job says while it works. Its methods may be called from several goroutines.
type Log interface {
	// Note takes a sentence about what was assumed, found or done.
	Note(text string)
	// Warn takes a sentence about what may be wrong with the result.
	Warn(text string)
	// Progress begins a piece of work. The first function takes how much of it is done; the second ends it. The first may be nil.
	Progress(what string) (tell func(done, total int), end func())
}

// Report is what a job says besides its result. The log has had the notes and warnings already.
type Report struct {
	Notes, Warnings []string
	Inputs          []Input // in the order in which they were opened
}

// Input is a file that a job has read.
type Input struct{ Role, Path string }

// work is a job while it is done.
type work struct {
	ctx      context.Context
	env      Env
	override bool // a CRS that is given replaces the one that a file states
	report   *Report
	near     *[4]float64 // where zones are wanted: west, south, east, north in degrees; nil for everywhere
	search   search
	replaced map[float64]bool // nodata values that files state and an option has replaced
}

// begin checks the options and begins a job.
func begin(ctx context.Context, env Env, options any, override bool) (*work, *Report, error) {
	if err := option.Check(options); err != nil {
		return nil, nil, err
	}
	report := &Report{}
	return &work{ctx: ctx, env: env, override: override, report: report}, report, ctx.Err()
}

// files is where a job reads from.
func (e Env) files() files.System {
	if e.Files == nil {
		return files.Disk
	}
	return e.Files
}

func (w *work) note(texts ...string) {
	for _, t := range texts {
		w.report.Notes = append(w.report.Notes, t)
		if w.env.Log != nil {
			w.env.Log.Note(t)
		}
	}
}

func (w *work) warn(texts ...string) {
	for _, t := range texts {
		w.report.Warnings = append(w.report.Warnings, t)
		if w.env.Log != nil {
			w.env.Log.Warn(t)
		}
	}
}

// progress begins a piece of work.
func (w *work) progress(what string) (tell func(done, total int), end func()) {
	if w.env.Log == nil {
		return nil, func() {}
	}
	return w.env.Log.Progress(what)
}

// reads records an input that is about to be opened.
func (w *work) reads(role, path string) {
	for _, in := range w.report.Inputs {
		if in.Path == path {
			return
		}
	}
	w.report.Inputs = append(w.report.Inputs, Input{role, path})
	if w.env.Opened != nil {
		w.env.Opened(role, path)
	}
}

// threads is how many processors to use.
func (w *work) threads() int {
	if w.env.Threads > 0 {
		return w.env.Threads
	}
	return runtime.GOMAXPROCS(0)
}

// noting are files whose names are recorded as inputs when they are read: of what a server sends there may be many.
type noting struct {
	files.System
	work *work
	role string
}

// noting records what is read from servers for a role.
func (w *work) noting(role string) files.System { return noting{w.env.files(), w, role} }

// ReadFile implements [files.System].
func (n noting) ReadFile(name string) ([]byte, error) {
	if files.IsURL(name) {
		n.work.reads(n.role, name)
	}
	return n.System.ReadFile(name)
}

// Hide is that of the system.
func (n noting) Hide(name string) string { return files.Hidden(n.System, name) }
