// Package output keeps the files of a job: those that it reads and those that it is to write.
//
// A job records its inputs with [Job.Read] and declares its outputs with [Job.Claim] before it begins its work. Claim
// refuses an output that would replace an input or a book, that is the same file as another output, that exists (unless
// the user allows it to be replaced), or that cannot be written where it is. The outputs are then staged beside their
// places with [Job.Write], [Job.Make] and [Job.MakeFolder]; nothing is visible until [Job.Commit] puts all of them in
// their places, or none. [Job.Discard] removes what was staged and not committed.
package output

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"

	"github.com/verdex-land/verdex/core/fault"
	"github.com/verdex-land/verdex/core/files"
)

// Standard is the name of standard output; IsStandard knows those that the system has for it, too.
const Standard = "-"

// IsStandard reports whether a name is that of standard output.
func IsStandard(name string) bool {
	return name == Standard || name == "/dev/stdout" || name == "/dev/fd/1" || name == "/proc/self/fd/1"
}

// Job is the files of one job. Its methods must not be called concurrently, except [Temporaries.Remove] on its
// temporary files.
type Job struct {
	Stdout    io.Writer // what the output - is written to; nil is that of the program
	ctx       context.Context
	temporary *Temporaries
	inputs    []Input
	known     map[string]bool // paths of inputs
	claims    []*claim
	folders   []string // that the job has made, the outermost first
	committed bool
}

// Input is a file that a job reads.
type Input struct {
	Role string // what it is for: "zones", "legend"; "" for a book that is posted to
	Path string

	info os.FileInfo // as it was when the job began
}

// claim is an output.
type claim struct {
	name   string // as the user gave it
	real   string // where it is put: the target of a link
	rules  Rules
	stream bool // a pipe or a device, into which the staged bytes are copied
	mode   os.FileMode
	old    os.FileInfo // what is replaced, nil for nothing
	staged string      // the temporary file or folder, "" before it is written
	backup string      // the replaced one, while the job is being committed
	placed bool
}

// Size is the size of the file in bytes when the job began, 0 for a URL.
func (in Input) Size() int64 {
	if in.info == nil {
		return 0
	}
	return in.info.Size()
}

// New begins a job. Writing stops with an error when ctx is done.
func New(ctx context.Context, t *Temporaries) *Job { return &Job{ctx: ctx, temporary: t} }

// Read records an input as it is now. A path that is neither a regular file nor a URL, or was recorded, is ignored.
func (j *Job) Read(in Input) {
	info, err := os.Stat(in.Path)
	if j.known[in.Path] || !files.IsURL(in.Path) && (err != nil || !info.Mode().IsRegular()) {
		return
	}
	if err != nil {
		info = nil
	}
	if j.known == nil {
		j.known = map[string]bool{}
	}
	j.known[in.Path] = true
	in.info = info
	j.inputs = append(j.inputs, in)
}

// Inputs are the files recorded so far, in the order of Read.
func (j *Job) Inputs() []Input { return j.inputs }

// Changed returns an error if an input is no longer the file that it was when the job began: another one, or of another
// size or time.
func (in Input) Changed() error {
	if in.info == nil { // who reads URLs finds out
		return nil
	}
	now, err := os.Stat(in.Path)
	if err != nil {
		return fmt.Errorf("%s: it was removed while it was read (%w): run the command again", in.Path, fault.Reason(err))
	}
	if files.Changed(in.info, now) {
		return fmt.Errorf("%s: it was changed while it was read: run the command again", in.Path)
	}
	return nil
}

// Rules are what a claim allows.
type Rules struct {
	Replace bool                    // an existing file may be replaced
	Folder  bool                    // the output is a folder
	Keeps   bool                    // what is written holds parts of the file that it replaces, which must not change meanwhile
	Maybe   bool                    // it may be that nothing is written; otherwise that is an error of the commit
	Seeks   bool                    // it is written at several places, so that a pipe cannot take it
	Book    func(path string) bool  // reports whether a file is a book, which is never replaced
	Known   func(path string) error // of an existing folder: why it must not be replaced, nil if it may
}

// Claim declares an output and checks that it can be written.
func (j *Job) Claim(path string, rules Rules) error {
	if files.IsURL(path) {
		return conflict("%s: outputs are written to files, not to servers: name a path", path)
	}
	c := &claim{name: path, rules: rules, mode: 0o644}
	if err := c.resolve(); err != nil {
		return err
	}
	if err := j.distinct(c); err != nil {
		return err
	}
	if err := c.replaceable(); err != nil {
		return err
	}
	if c.stream && (rules.Seeks || rules.Folder) {
		return fmt.Errorf("%s: it is a pipe or a device, and this format cannot be written to one: name a file", path)
	}
	if !c.stream {
		if err := j.writable(c); err != nil {
			return err
		}
	}
	j.claims = append(j.claims, c)
	return nil
}

// resolve finds out what is at the path of an output.
func (c *claim) resolve() error {
	if IsStandard(c.name) {
		c.real, c.stream = Standard, true
		return nil
	}
	info, err := os.Lstat(c.name)
	if err == nil && info.Mode()&os.ModeSymlink != 0 {
		info, err = os.Stat(c.name)
		if errors.Is(err, os.ErrNotExist) {
			return fmt.Errorf("%s: it is a link to a file that does not exist: name the file itself", c.name)
		}
	}
	switch {
	case errors.Is(err, os.ErrNotExist):
		c.real = filepath.Clean(c.name)
		return nil
	case err != nil:
		return fmt.Errorf("%s: cannot be written (%w): choose another name", c.name, fault.Reason(err))
	}
	c.old = info
	switch mode := info.Mode(); {
	case mode.IsRegular(), mode.IsDir():
		c.mode = mode.Perm()
		if c.real, err = filepath.EvalSymlinks(c.name); err != nil {
			return fmt.Errorf("%s: cannot be written (%w): choose another name", c.name, fault.Reason(err))
		}
	case mode&os.ModeNamedPipe != 0, mode&os.ModeCharDevice != 0:
		c.real, c.stream, c.old = c.name, true, nil
	default:
		return fmt.Errorf("%s: it is neither a file nor a pipe: name a file", c.name)
	}
	return nil
}

// ConflictError is an output that would replace an input, a book or another output: wrong use of the program.
type ConflictError struct{ text string }

func (e *ConflictError) Error() string { return e.text }

func conflict(format string, args ...any) error {
	return &ConflictError{fmt.Sprintf(format, args...)}
}

// distinct refuses an output that is an input or another output.
func (j *Job) distinct(c *claim) error {
	for _, in := range j.inputs {
		if in.info == nil {
			continue
		}
		if c.is(in.Path, in.info) {
			if c.rules.Book != nil && c.rules.Book(in.Path) {
				return conflict("%s: it is a book, which is never replaced: choose another name", c.name)
			}
			return conflict("%s: this command reads it (%s), and an input is never replaced: choose another name", c.name, in.Role)
		}
		if c.rules.Folder && within(in.Path, c.real) {
			return conflict("%s: this command reads a file in it, %s: choose another folder", c.name, in.Path)
		}
	}
	for _, other := range j.claims {
		if c.is(other.real, other.old) {
			return conflict("%s: two outputs would be this one file: choose two names", c.name)
		}
		if c.rules.Folder && within(other.real, c.real) || other.rules.Folder && within(c.real, other.real) {
			return conflict("%s and %s: one of these outputs would lie in the other: choose two places", other.name, c.name)
		}
	}
	return nil
}

// is reports whether an output is the file at a path, which info describes if it exists.
func (c *claim) is(path string, info os.FileInfo) bool {
	if info != nil {
		return c.old != nil && os.SameFile(c.old, info)
	}
	return place(c.real) == place(path)
}

// place is a path with the links of its folder resolved.
func place(path string) string {
	full, err := filepath.Abs(path)
	if err != nil {
		return filepath.Clean(path)
	}
	if dir, err := filepath.EvalSymlinks(filepath.Dir(full)); err == nil {
		return filepath.Join(dir, filepath.Base(full))
	}
	return full
}

// within reports whether a file lies in a folder.
func within(path, folder string) bool {
	rel, err := filepath.Rel(place(folder), place(path))
	return err == nil && filepath.IsLocal(rel)
}

// replaceable refuses an output that exists and is not to be replaced.
func (c *claim) replaceable() error {
	rules := c.rules
	switch {
	case c.old == nil:
		return nil
	case c.old.IsDir() && !rules.Folder:
		return fmt.Errorf("%s: it is a folder: name a file in it", c.name)
	case !c.old.IsDir() && rules.Folder:
		return fmt.Errorf("%s: it is a file: name a folder to make", c.name)
	case !c.old.IsDir() && rules.Book != nil && rules.Book(c.real):
		return conflict("%s: it is a book, which is never replaced: choose another name", c.name)
	case !rules.Replace:
		return fmt.Errorf("%s: it exists already: choose another name, or replace it with --force", c.name)
	case c.old.IsDir():
		return rules.Known(c.name)
	}
	return nil
}

// writable makes sure that the folder of an output takes files. A folder that does not exist is an error, unless
// [Job.Folder] is to make it.
func (j *Job) writable(c *claim) error {
	dir := filepath.Dir(c.real)
	if slices.ContainsFunc(j.folders, func(f string) bool { return place(f) == place(dir) }) {
		return nil
	}
	f, err := j.temporary.file(dir)
	if err != nil {
		return fmt.Errorf("%s: its folder cannot be written to (%w): choose another place", c.name, fault.Reason(err))
	}
	f.Close()
	j.temporary.remove(f.Name())
	return nil
}

// Folder makes a folder for outputs, and those above it, unless they exist. Discard removes again what it has made.
func (j *Job) Folder(path string) error {
	var missing []string
	for dir := filepath.Clean(path); ; dir = filepath.Dir(dir) {
		info, err := os.Stat(dir)
		if err == nil && !info.IsDir() {
			return fmt.Errorf("%s: it is a file: name a folder", dir)
		}
		if err == nil || dir == filepath.Dir(dir) {
			break
		}
		missing = append(missing, dir)
	}
	for _, dir := range slices.Backward(missing) {
		if err := os.Mkdir(dir, 0o755); err != nil && !os.IsExist(err) {
			return fmt.Errorf("%s: the folder cannot be made (%w): choose another place", path, fault.Reason(err))
		}
		j.folders = append(j.folders, dir)
	}
	return nil
}

// claimed is the claim of an output.
func (j *Job) claimed(path string) (*claim, error) {
	for _, c := range j.claims {
		if c.name == path {
			return c, nil
		}
	}
	return nil, fmt.Errorf("%s: an output that was not declared before the work began", path)
}

// Write stages a file by a function that fills it.
func (j *Job) Write(path string, fill func(io.Writer) error) error {
	return j.Make(path, func(name string) (err error) {
		f, err := os.OpenFile(name, os.O_WRONLY|os.O_TRUNC, 0)
		if err != nil {
			return err
		}
		b := bufio.NewWriterSize(&watchedWriter{f, j.ctx}, 1<<16)
		if err = fill(b); err == nil {
			err = b.Flush()
		}
		if e := f.Close(); err == nil && e != nil {
			err = writeError{e}
		}
		return err
	})
}

// Make stages a file by a function that writes it under another name, at which there is an empty file.
func (j *Job) Make(path string, write func(name string) error) error {
	c, err := j.claimed(path)
	if err != nil {
		return err
	}
	dir := filepath.Dir(c.real)
	if c.stream {
		dir = os.TempDir()
	}
	f, err := j.temporary.file(dir)
	if err != nil {
		return fmt.Errorf("%s: its folder cannot be written to (%w): choose another place", path, fault.Reason(err))
	}
	f.Close()
	c.staged = f.Name()
	if err := write(c.staged); err != nil {
		return j.failed(c, err)
	}
	if err := os.Chmod(c.staged, c.mode); err != nil {
		return j.failed(c, writeError{err})
	}
	return nil
}

// MakeFolder stages a folder by a function that fills it under another name.
func (j *Job) MakeFolder(path string, fill func(name string) error) error {
	c, err := j.claimed(path)
	if err != nil {
		return err
	}
	c.staged, err = j.temporary.folder(filepath.Dir(c.real))
	if err == nil {
		err = fill(c.staged)
	}
	if err == nil {
		err = os.Chmod(c.staged, 0o755)
	}
	if err != nil {
		return j.failed(c, err)
	}
	return nil
}

// failed words why an output could not be staged: what the file system refused, or what its maker found.
func (j *Job) failed(c *claim, err error) error {
	if stopped := j.ctx.Err(); stopped != nil {
		return stopped
	}
	var w writeError
	var p *os.PathError
	if errors.As(err, &w) || errors.As(err, &p) && p.Path == c.staged || noRoom(err) {
		return fmt.Errorf("%s: it could not be written (%w), and nothing was left behind: make room there, or choose another place", c.name, fault.Reason(err))
	}
	return err
}

// Refused marks an error as one of the file system, such as a database reports when the disk is full. The message then says that the file
// could not be written and what to do.
func Refused(err error) error { return writeError{err} }

// writeError is an error of a file that is written.
type writeError struct{ error }

func (e writeError) Unwrap() error { return e.error }

// watchedWriter stops when the job is called off, and marks what the file refuses.
type watchedWriter struct {
	w   io.Writer
	ctx context.Context
}

func (m *watchedWriter) Write(b []byte) (int, error) {
	if err := m.ctx.Err(); err != nil {
		return 0, err
	}
	n, err := m.w.Write(b)
	if err != nil {
		err = writeError{err}
	}
	return n, err
}

// Discard removes what was staged and not committed, and the folders that were made for it.
func (j *Job) Discard() {
	for _, c := range j.claims {
		if c.staged != "" {
			j.temporary.remove(c.staged)
			c.staged = ""
		}
	}
	if !j.committed {
		for _, dir := range slices.Backward(j.folders) {
			os.Remove(dir) // if it is empty
		}
		j.folders = nil
	}
}

// Staged is an output that is written but not in its place yet.
type Staged struct {
	Path   string // where it is to be
	Temp   string // where it is
	Folder bool
}

// Staged lists the outputs that are written but not in their places. Those that go into pipes and devices are not among them.
func (j *Job) Staged() (out []Staged) {
	for _, c := range j.claims {
		if c.staged != "" && !c.stream {
			out = append(out, Staged{c.name, c.staged, c.rules.Folder})
		}
	}
	return out
}

// Old is the file that an output replaces, "" for none.
func (j *Job) Old(path string) string {
	if c, err := j.claimed(path); err == nil && c.old != nil {
		return c.real
	}
	return ""
}
