package cli

import (
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/verdex-land/verdex/core/check"
	"github.com/verdex-land/verdex/core/text"
	"github.com/verdex-land/verdex/internal/book"
	"github.com/verdex-land/verdex/internal/plan"
)

// show shows what became of a step.
func (r *planRun) show(i int, err error) {
	step, c := r.plan.Steps[i], r.out
	name := left(step.Name, r.width)
	switch what := strings.Join(r.written(i), ", "); {
	case err != nil:
		c.line(c.bold("✗ ") + name + "  " + c.bold("failed"))
	case step.Hidden:
		return
	case r.reused[i]:
		c.line("= " + name + "  " + c.dim("as it was  ") + what)
	default:
		c.line("✓ " + name + "  made       " + what)
	}
	c.flush()
	if err == nil && !r.reused[i] {
		for _, w := range r.done[i].Warnings {
			if !strings.HasPrefix(w, "check ") { // the summary lists those
				r.Warn(step.Name + ": " + w)
			}
		}
	}
}

// written are what a step has written, for people.
func (r *planRun) written(i int) (out []string) {
	out = r.plan.Steps[i].Writes()
	if b := r.plan.Steps[i].Posts(); b != "" {
		out = append(out, "posted to "+book.NameOf(b))
	}
	return out
}

// conclude writes the record and shows what became of the run.
func (r *planRun) conclude(begun time.Time, errs []error) error {
	c, record := r.out, r.record
	failed, made, same, outputs := 0, 0, 0, 0
	var done []plan.Done
	r.showFailures(errs)
	for i, err := range errs {
		switch step := r.plan.Steps[i]; {
		case err != nil:
			failed++
		default:
			done = append(done, r.done[i])
			if step.Hidden {
				continue
			}
			if outputs++; r.reused[i] {
				same++
			} else {
				made++
			}
		}
	}
	c.line()
	summary := fmt.Sprintf("%d made, %s", made, asBefore(same))
	if same == 0 {
		summary = fmt.Sprintf("%d made", made)
	} else if made == 0 {
		summary = "nothing to do, " + asBefore(same)
	}
	if failed > 0 {
		summary += ", " + c.bold(fmt.Sprintf("%d failed", failed))
	}
	c.line(left("outputs", 9) + summary + c.dim(fmt.Sprintf(" (%.1f s)", time.Since(begun).Seconds())))
	r.showChecks()
	if failed > 0 {
		c.line(left("record", 9) + "none, because the run is not whole: mend what failed and run the plan again, which goes on from here")
		if err := c.flush(); err != nil {
			return err
		}
		return fmt.Errorf("%s: %s failed", r.plan.Path, text.Count(failed, "step"))
	}
	if record != nil {
		if err := r.sameOutputs(record, done); err != nil {
			c.flush()
			return err
		}
		c.line(left("record", 9) + r.options.Plan[0] + ": every output is the same, byte for byte")
		return c.flush()
	}
	if r.options.Only == "" && r.options.Epoch == "" {
		data, err := r.plan.RecordOf("verdex "+r.version, begun, done)
		if err == nil {
			err = r.Write(r.plan.Record, func(w io.Writer) error { _, err := w.Write(data); return err })
		}
		if err == nil {
			err = r.commit()
		}
		if err != nil {
			return err
		}
		c.line(left("record", 9) + r.plan.Record)
	}
	if err := c.flush(); err != nil {
		return err
	}
	if r.fellShort() {
		return errStrict
	}
	return nil
}

// fellShort reports whether a step for which that counts has a warning, or a check that falls short.
func (r *planRun) fellShort() bool {
	for i, d := range r.done {
		if given[bool](r.plan.Steps[i].Options, "strict") && (len(d.Warnings) > 0 || slices.ContainsFunc(d.Checks, func(k plan.Check) bool { return k.Outcome == check.FallsShort.String() })) {
			return true
		}
	}
	return false
}

// asBefore says how many outputs need not be made.
func asBefore(n int) string {
	if n == 1 {
		return "1 is as it was"
	}
	return fmt.Sprintf("%d are as they were", n)
}

// showFailures says what made steps fail, each reason once.
func (r *planRun) showFailures(errs []error) {
	var reasons []string
	of := map[string][]string{}
	for i, err := range errs {
		if errors.Is(err, plan.ErrNotReached) {
			if !r.plan.Steps[i].Hidden {
				r.out.line("– " + left(r.plan.Steps[i].Name, r.width) + "  not made:  " + messageOf(err))
			}
			continue
		}
		if err == nil {
			continue
		}
		text := plan.Message(err)
		if of[text] == nil {
			reasons = append(reasons, text)
		}
		of[text] = append(of[text], r.plan.Steps[i].Name)
	}
	for _, text := range reasons {
		r.Warn(strings.Join(of[text][:min(3, len(of[text]))], ", ") + more(len(of[text])-3) + ": " + text)
	}
}

// more says that there are others.
func more(n int) string {
	if n <= 0 {
		return ""
	}
	return fmt.Sprintf(" and %d more", n)
}

// showChecks counts the checks, and lists those that fall short.
func (r *planRun) showChecks() {
	c := r.out
	holds := 0
	var short []string
	for i, d := range r.done {
		if r.plan.Steps[i].Hidden {
			continue
		}
		for _, k := range d.Checks {
			switch k.Outcome {
			case check.Holds.String():
				holds++
			case check.FallsShort.String():
				short = append(short, d.Name+": "+k.Name+": "+k.Text)
			}
		}
	}
	if holds+len(short) == 0 {
		return
	}
	line := fmt.Sprintf("%d hold", holds)
	if holds == 1 {
		line = "1 holds"
	}
	switch n := len(short); {
	case n == 1:
		line += c.bold(", 1 falls short")
	case n > 1:
		line += c.bold(fmt.Sprintf(", %d fall short", n))
	}
	c.line(left("checks", 9) + line)
	for _, s := range short {
		for _, l := range strings.Split(wrapped(s, c.width-11), "\n") {
			c.line(strings.Repeat(" ", 9) + l)
		}
	}
}

// foretell shows what a run would do.
func (r *planRun) foretell() error {
	c := r.out
	again := make([]bool, len(r.plan.Steps))
	read := map[string]int64{}
	for i, step := range r.plan.Steps {
		key, files, err := r.keyOf(step)
		if err != nil {
			return err
		}
		again[i] = r.options.Fresh || !r.isDone(step, key, r.store.Done(step.Name)) || slices.ContainsFunc(step.Needs, func(k int) bool { return again[k] })
		if again[i] {
			for _, f := range files {
				read[f.Path] = f.Size
			}
		}
		what := strings.Join(r.written(i), ", ")
		switch {
		case step.Hidden:
		case again[i]:
			c.line("  " + left(step.Name, r.width) + "  would be made  " + what)
		default:
			c.line("= " + left(step.Name, r.width) + "  " + c.dim("as it is       ") + what)
		}
	}
	total := int64(0)
	for _, size := range read {
		total += size
	}
	c.line()
	c.line(left("reads", 9) + text.Count(len(read), "file") + ", " + size(total))
	for _, path := range slices.Sorted(maps.Keys(read)) {
		c.line(strings.Repeat(" ", 9) + left(path, 50) + right(size(read[path]), 12))
	}
	return c.flush()
}
