package cli

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/mattn/go-runewidth"
	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/core/check"
	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/job"
	"github.com/verdex-land/verdex/core/text"
	"github.com/verdex-land/verdex/internal/book"
	"github.com/verdex-land/verdex/internal/output"
	"github.com/verdex-land/verdex/internal/plan"
)

type runOptions struct {
	Plan   []string `arg:"PLAN|RECORD" in:"plan"`
	Fresh  bool     `opt:"fresh" help:"measure everything again, whatever the cache folder holds"`
	DryRun bool     `opt:"dry-run" help:"show what would be done, read and written, and do nothing"`
	Only   string   `opt:"only" help:"make one <OUTPUT> only, by its name in the plan, with what it needs"`
	Epoch  string   `opt:"epoch" help:"make the outputs about one epoch only, by its <LABEL>"`
	forceOption
	partOption
	Parts     int    `opt:"parts" least:"0" most:"100000" help:"how many parts the script of --scheduler has"`
	Scheduler string `opt:"scheduler" choose:",slurm,kubernetes" help:"write what a scheduler (<slurm> or kubernetes) needs to do the plan in --parts parts, and submit nothing"`
	Out       string `opt:"out" out:"part" help:"with --part, <FILE> for its sums; with --scheduler, for the script, instead of standard output"`
}

func runCommand() *cli.Command {
	return command(cli.Command{
		Name:  "run",
		Usage: "do everything that a plan states",
		Description: `Makes the outputs of a plan, in one pass over each raster for all epochs, pairs, checks and sets of zones. What did not
change since the last run is not made again, and a run that was interrupted goes on from its last finished output. A record of
the run goes beside the outputs; given a record instead of a plan, the same bytes are made again, or the input is named
that is no longer the same.

  verdex run plan.yaml
  verdex run plan.yaml --dry-run
  verdex run plan.yaml --only matrix
  verdex run results/plan.record.json
  verdex run plan.yaml --part 3/64 --out parts/part-3         one part of what is measured, for verdex gather
  verdex run plan.yaml --parts 64 --scheduler slurm --out parts.sh`,
	}, runPlan)
}

// planCommands are the commands that a plan can make outputs with.
func planCommands(root *cli.Command) (out []plan.Command) {
	var walk func(c *cli.Command, path string)
	walk = func(c *cli.Command, path string) {
		for _, sub := range c.Commands {
			name := strings.TrimSpace(path + " " + sub.Name)
			if defaults, ok := sub.Metadata[optionsKey]; ok && makesOutput(name) {
				out = append(out, plan.Command{Name: name, New: func() any { return plan.Clone(defaults) }})
			}
			walk(sub, name)
		}
	}
	walk(root, "")
	return out
}

// makesOutput reports whether a command makes something that a plan can want.
func makesOutput(name string) bool {
	first, rest, _ := strings.Cut(name, " ")
	switch first {
	case "look", "demo", "run", "check", "plan", "explain", "report", "gather":
		return false
	case "book":
		return rest == "export"
	}
	return true
}

// planned is what a step of a plan has of the plan.
type planned struct {
	counter job.Counter
	maker   job.Maker
	dir     string    // of the plan
	begun   time.Time // when the step began; of a record that is done again, when it did then
	owns    func(path string) bool
	checks  []check.Check
	posted  []int64           // the numbers of the postings that it made or found
	tables  map[string][]byte // tables that a figure of the plan is made of, as CSV, by the names that its options have for them
}

// planRun is a plan while it is run.
type planRun struct {
	*session
	plan    *plan.Plan
	store   *plan.Store
	options *runOptions
	record  *plan.Record // that is done again; nil for a plan
	root    *cli.Command
	out     *canvas
	width   int // of the names of steps
	done    []plan.Done
	reused  []bool
	current map[string]map[int64]bool // by book: the postings that count
}

// openPlan reads the plan that a command names, or that of a record.
func (s *session) openPlan(args []string) (p *plan.Plan, record *plan.Record, err error) {
	if len(args) != 1 {
		return nil, nil, usage("%s takes one plan, and %s (verdex plan new writes one)", s.name, text.Given(len(args)))
	}
	commands := planCommands(newRoot(s.version, io.Discard, io.Discard))
	path := args[0]
	if info, err := os.Stat(path); err == nil && info.IsDir() {
		return nil, nil, usage("%s: it is a folder: name the plan in it, or write one with verdex plan new %s", path, path)
	}
	if plan.IsRecord(path) {
		if record, err = plan.ReadRecord(path); err != nil {
			return nil, nil, err
		}
		p, err = plan.Parse(s.system, plan.At(path, record.PlanPath), []byte(record.Plan), commands)
		return p, record, err
	}
	p, err = plan.Read(s.system, path, commands)
	return p, nil, err
}

func runPlan(s *session, o *runOptions) error {
	if o.Scheduler != "" || o.Parts != 0 {
		return s.writeScript(o)
	}
	if o.Out != "" && o.Part == "" {
		return usage("--out is for --part and --scheduler: a plan says where its outputs go")
	}
	begun := time.Now()
	p, record, err := s.openPlan(o.Plan)
	if err != nil {
		return planError(err)
	}
	if record != nil {
		if err := s.sameInputs(o.Plan[0], record); err != nil {
			return err
		}
	}
	if err := p.Select(o.Only, o.Epoch); err != nil {
		return usageError{err}
	}
	r := &planRun{session: s, plan: p, record: record, options: o, out: s.canvas(), root: newRoot(s.version, io.Discard, io.Discard),
		done: make([]plan.Done, len(p.Steps)), reused: make([]bool, len(p.Steps))}
	for _, step := range p.Steps {
		r.width = max(r.width, runewidth.StringWidth(step.Name))
	}
	if r.store, err = plan.OpenStore(p.CacheDir, p.CacheLimit); err != nil {
		return err
	}
	r.store.From = s.system
	if o.Part != "" {
		return r.part(o)
	}
	err = r.store.Lock(s.ctx, func() { s.Note(p.CacheDir + ": another run of the plan is at work; this one waits until it has ended") })
	if err != nil {
		return err
	}
	defer r.store.Close()
	if o.DryRun {
		return r.foretell()
	}
	if err := r.prepare(); err != nil {
		return err
	}
	r.totals()
	r.digests()
	errs := r.steps()
	if s.ctx.Err() != nil {
		return s.ctx.Err()
	}
	return r.conclude(begun, errs)
}

// planError words what is wrong with a plan.
func planError(err error) error {
	var problems plan.Problems
	if errors.As(err, &problems) && len(problems) > 1 {
		return usage("%s\nverdex: the plan has %s", problems.Error(), text.Count(len(problems), "problem"))
	} else if errors.As(err, &problems) {
		return usageError{problems}
	}
	return err
}

// folders are those in which steps write.
func (r *planRun) folders() (out []string) {
	add := func(path string) {
		if dir := filepath.Dir(path); !slices.Contains(out, dir) {
			out = append(out, dir)
		}
	}
	for _, step := range r.plan.Steps {
		for _, w := range step.Writes() {
			add(w)
		}
	}
	if b := r.plan.Book; b != "" && !book.IsPostgres(b) {
		add(b)
	}
	add(r.plan.Record)
	return out
}

// prepare makes the folders of the outputs, and the book; what a run that was killed has left is removed.
func (r *planRun) prepare() error {
	mark := r.store.Mark()
	if t, ok := r.ctx.Value(temporariesKey{}).(*output.Temporaries); ok {
		t.Mark(mark)
	}
	for _, dir := range r.folders() {
		if err := r.Folder(dir); err != nil {
			return err
		}
		output.Sweep(dir, mark)
	}
	posts := slices.ContainsFunc(r.plan.Steps, func(s *plan.Step) bool { return s.Posts() == r.plan.Book && r.plan.Book != "" })
	if b := r.plan.Book; posts && !book.IsPostgres(b) {
		if _, err := os.Stat(b); errors.Is(err, os.ErrNotExist) {
			if err := book.Create(r.ctx, b, book.Options{Program: r.version, Mark: mark}); err != nil {
				return err
			}
			r.Note(b + ": the book is made")
		}
	}
	if r.record != nil { // it stays as it is
		return nil
	}
	if _, err := os.Stat(r.plan.Record); err == nil && !plan.IsRecord(r.plan.Record) {
		return fmt.Errorf("%s: the record of the run goes there, and another file has the name: choose another place with record in the plan", r.plan.Record)
	}
	return r.Claim(r.plan.Record, output.Rules{Replace: true, Maybe: true, Book: book.IsBook})
}

// totals warns of control totals with which nothing would be compared.
func (r *planRun) totals() {
	for _, step := range r.plan.Steps {
		if path := given[string](step.Options, "control"); path != "" {
			ids, _ := zoneIDs(r.ctx, r.plan)
			r.warnings(strayTotals(r.plan, path, ids))
			return
		}
	}
}

// digests reads the files that steps name, several at a time, so that their digests are known when the steps begin. What cannot be read is reported by the
// step that reads it.
func (r *planRun) digests() {
	named := map[string]bool{}
	for _, step := range r.plan.Steps {
		for _, in := range inputsOf(step.Options) {
			if info, err := os.Stat(in.Path); err == nil && info.Mode().IsRegular() && in.Path != step.Posts() {
				named[in.Path] = true
			}
		}
	}
	paths := make(chan string)
	var wg sync.WaitGroup
	for range runtime.GOMAXPROCS(0) {
		wg.Go(func() {
			for path := range paths {
				r.store.Digest(path)
			}
		})
	}
	for path := range named {
		if r.ctx.Err() == nil {
			paths <- path
		}
	}
	close(paths)
	wg.Wait()
}

// steps does the steps.
func (r *planRun) steps() []error {
	counter := &plan.Counter{Store: r.store, Fresh: r.options.Fresh, Threads: r.threads, Progress: r.Progress}
	if r.plan.Title != "" {
		r.out.line(r.out.bold(r.plan.Title))
		r.out.line()
		r.out.flush()
	}
	schedule := &plan.Schedule{Counter: counter}
	return schedule.Run(r.ctx, r.plan.Steps, func(i int, counter job.Counter) error {
		err := r.step(i, counter)
		if r.ctx.Err() == nil {
			r.show(i, err)
		}
		return err
	})
}

// step does one step, unless all that it is made of and all that it wrote is as it was.
func (r *planRun) step(i int, counter job.Counter) error {
	step := r.plan.Steps[i]
	key, _, err := r.keyOf(step)
	if err != nil {
		return err
	}
	if old := r.store.Done(step.Name); r.isDone(step, key, old) && !r.options.Fresh {
		r.done[i], r.reused[i] = *old, true
		return nil
	}
	temporaries, ok := r.ctx.Value(temporariesKey{}).(*output.Temporaries)
	if !ok {
		temporaries = &output.Temporaries{}
		temporaries.Mark(r.store.Mark())
	}
	seen := files.Record(r.system)
	s := &session{reporter: &reporter{w: io.Discard, run: r.reporter}, commandFiles: &commandFiles{Job: output.New(r.ctx, temporaries)},
		ctx: r.ctx, system: seen, remote: r.remote, name: step.Command, options: step.Options, stdout: io.Discard, version: r.version, threads: r.threads}
	s.plan = &planned{counter: counter, maker: plan.Maker{Plan: r.plan}, owns: func(path string) bool { return r.options.Force && !r.plan.Names(path) || r.store.Wrote(path) }}
	s.plan.begun, s.plan.dir = r.begunOf(step.Name), r.plan.Dir
	done := plan.Done{Name: step.Name, Begun: s.plan.begun, Command: step.Command, Options: plan.OptionsOf(step.Options), Posted: step.Posts(), Key: key}
	s.before = func() error {
		own := []string{step.Posts()}
		for _, staged := range s.Staged() {
			own = append(own, staged.Path)
		}
		for _, name := range seen.Found() {
			if !slices.Contains(own, name) {
				s.Read(output.Input{Role: "beside", Path: name})
			}
		}
		for _, name := range seen.Absent() {
			if !slices.Contains(own, name) && !files.IsURL(name) {
				done.Absent = append(done.Absent, name)
			}
		}
		return r.aboutToWrite(s, &done)
	}
	do := commandOf(r.root, step.Command)
	if err := s.withFiles(func(s *session) error { return do(s, s.options) }); err != nil && !errors.Is(err, errStrict) {
		return err
	}
	done.Finished, done.Complete = time.Now().UTC().Truncate(time.Second), true
	done.Notes, done.Warnings = s.said.notes, s.said.warnings
	done.Postings = s.plan.posted
	for _, c := range s.plan.checks {
		one := plan.Check{Name: c.Name, Outcome: c.Outcome.String()}
		if c.Outcome != check.Holds {
			one.Text = c.Text
		}
		done.Checks = append(done.Checks, one)
	}
	r.done[i] = done
	return r.store.SetDone(&done)
}

// begunOf is when a step begins, or began in the record that is done again: outputs that state a time have the same one.
func (r *planRun) begunOf(name string) time.Time {
	if r.record != nil {
		for _, d := range r.record.Steps {
			if d.Name == name && !d.Begun.IsZero() {
				return d.Begun
			}
		}
	}
	return time.Now().UTC().Truncate(time.Second)
}

// keyOf is the key of a step, and the files that its options name.
func (r *planRun) keyOf(step *plan.Step) (string, []plan.File, error) {
	var named []plan.File
	for _, in := range inputsOf(step.Options) {
		info, err := os.Stat(in.Path)
		if !files.IsURL(in.Path) && (err != nil || !info.Mode().IsRegular()) || in.Path == step.Posts() {
			continue
		}
		f, err := r.store.FileOf(in.Role, in.Path)
		if err != nil {
			return "", nil, err
		}
		named = append(named, f)
	}
	return r.plan.KeyOf(step, r.version, named), named, nil
}

// isDone reports whether a step need not be done again: all that it was made of and all that it wrote is as it was, and what it posted counts.
func (r *planRun) isDone(step *plan.Step, key string, old *plan.Done) bool {
	return old != nil && old.Complete && old.Key == key && r.store.Same(old.Inputs) && r.store.Same(old.Outputs) && !slices.ContainsFunc(old.Absent, func(name string) bool { return files.Exists(files.Disk, name) }) &&
		(step.Posts() == "" || len(old.Postings) > 0 && r.count(step.Posts(), old.Postings))
}

// count reports whether postings of a book count.
func (r *planRun) count(where string, ids []int64) bool {
	if r.current == nil {
		r.current = map[string]map[int64]bool{}
	}
	if r.current[where] == nil {
		r.current[where] = map[int64]bool{}
		b, err := r.openBook(where, false, book.DefaultWait)
		if err != nil {
			return false // the step says why
		}
		defer b.Close()
		heads, err := b.Postings(r.ctx, "")
		if err != nil {
			return false
		}
		for _, h := range heads {
			r.current[where][h.ID] = h.Current()
		}
	}
	return !slices.ContainsFunc(ids, func(id int64) bool { return !r.current[where][id] })
}

// aboutToWrite notes what a step is about to put in its place, so that a run after one that is killed now knows it.
func (r *planRun) aboutToWrite(s *session, done *plan.Done) error {
	for _, in := range s.Inputs() {
		if in.Role == "" {
			continue
		}
		if err := in.Changed(); err != nil {
			return err
		}
		f, err := r.store.FileOf(in.Role, in.Path)
		if err != nil {
			return err
		}
		if state, ok := s.remote.State(in.Path); ok {
			f.Read = state.Read
		}
		done.Inputs = append(done.Inputs, f)
	}
	for _, staged := range s.Staged() {
		err := filepath.WalkDir(staged.Temp, func(path string, e os.DirEntry, err error) error {
			if err != nil || e.IsDir() {
				return err
			}
			f, err := r.store.FileOf("", path)
			f.Path = staged.Path + strings.TrimPrefix(path, staged.Temp)
			done.Outputs = append(done.Outputs, f)
			return err
		})
		if err != nil {
			return err
		}
	}
	intent := *done
	if old := r.store.Done(done.Name); old != nil { // those may still be there
		intent.Outputs = slices.Concat(done.Outputs, old.Outputs)
	}
	return r.store.SetDone(&intent)
}
