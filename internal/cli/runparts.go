package cli

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"reflect"
	"runtime"
	"slices"
	"strings"

	"github.com/verdex-land/verdex/core/job"
	"github.com/verdex-land/verdex/core/option"
	"github.com/verdex-land/verdex/core/tally"
	"github.com/verdex-land/verdex/internal/output"
	"github.com/verdex-land/verdex/internal/plan"
)

// part measures one part of what all steps of the plan that measure ask for, in as few passes as the plan takes, and writes the sums; nothing else is made.
func (r *planRun) part(o *runOptions) error {
	which, err := tally.ParsePart(o.Part)
	if err != nil {
		return usage("--part %w", err)
	}
	if o.Out == "" {
		return usage("--part writes the sums of the part: name a file for them with --out")
	}
	var inputs []partInput
	for _, step := range r.plan.Steps {
		if !inParts(step.Command) {
			continue
		}
		_, files, err := r.keyOf(step)
		if err != nil {
			return err
		}
		for _, f := range files {
			in := partInput{f.Role, plan.Relative(r.plan.Dir, f.Path), f.Digest + f.Validator}
			if !slices.Contains(inputs, in) {
				inputs = append(inputs, in)
			}
		}
	}
	slices.SortFunc(inputs, func(a, b partInput) int {
		return cmp.Or(strings.Compare(a.Role, b.Role), strings.Compare(a.Path, b.Path))
	})
	head := &partHead{Program: "verdex " + r.version, Processor: runtime.GOARCH, Command: "run", Options: optionValues(o), Inputs: inputs, I: which.I, N: which.N}
	type kept struct {
		key  string
		t    *tally.Tally
		sets []tally.Set
	}
	var all []kept
	counter := &plan.Counter{Store: r.store, Threads: r.threads, Progress: r.Progress, Part: which, Keep: func(key string, t *tally.Tally, sets []tally.Set) { all = append(all, kept{key, t, sets}) }}
	errs := (&plan.Schedule{Counter: counter}).Run(r.ctx, r.plan.Steps, func(i int, counter job.Counter) error {
		step := r.plan.Steps[i]
		if !inParts(step.Command) {
			return plan.ErrPart
		}
		options := plan.Clone(step.Options)
		for _, o := range option.Of(options) { // the book is made, and posted to, when the parts are gathered
			if o.Group == "book" {
				o.Set(options, reflect.Zero(o.Type).Interface())
			}
		}
		s := &session{reporter: &reporter{w: io.Discard, run: r.reporter}, commandFiles: &commandFiles{Job: output.New(r.ctx, &output.Temporaries{})},
			ctx: r.ctx, system: r.system, remote: r.remote, name: step.Command, options: options, stdout: io.Discard, version: r.version, threads: r.threads}
		s.plan = &planned{counter: counter, maker: plan.Maker{Plan: r.plan}, owns: func(string) bool { return true }}
		defer s.Discard()
		return commandOf(r.root, step.Command)(s, options)
	})
	for i, err := range errs {
		if err != nil && !errors.Is(err, plan.ErrPart) && !errors.Is(err, plan.ErrNotReached) {
			return fmt.Errorf("%s: %w", r.plan.Steps[i].Name, err)
		}
	}
	if len(all) == 0 {
		return fmt.Errorf("%s: no step of it measures anything that could be done in parts: run it as a whole", o.Plan[0])
	}
	slices.SortFunc(all, func(a, b kept) int { return strings.Compare(a.key, b.key) })
	var tallies []*tally.Tally
	for _, k := range all {
		head.Keys, head.Sets = append(head.Keys, k.key), append(head.Sets, k.sets)
		tallies = append(tallies, k.t)
	}
	return r.writePart(o.Out, head, tallies)
}

// inParts reports whether a step is measured in parts.
func inParts(command string) bool { return command == "measure" || command == "change" }

// gatherPlan keeps the sums of all parts in the cache folder of the plan, where the run of the plan finds them instead of measuring.
func (s *session) gatherPlan(parts []*jobPart, o *runOptions) error {
	p, _, err := s.openPlan(o.Plan)
	if err != nil {
		return planError(err)
	}
	store, err := plan.OpenStore(p.CacheDir, p.CacheLimit)
	if err != nil {
		return err
	}
	defer store.Close()
	for k, key := range parts[0].Keys {
		var of []*tally.Tally
		for _, q := range parts {
			if !slices.Equal(q.Keys, parts[0].Keys) {
				return fmt.Errorf("%s and %s have not measured the same: an input was changed between them", q.path, parts[0].path)
			}
			of = append(of, q.tallies[k])
		}
		names := slices.Repeat([]string{"a raster of the plan"}, len(of[0].Numbers))
		sum, err := tally.Gather(of, parts[0].Sets[k], 0, names)
		if err != nil {
			return err
		}
		if !store.Keep(key, sum) {
			return fmt.Errorf("%s: the sums do not fit into the cache folder: give the plan a larger cache_limit", p.CacheDir)
		}
	}
	return nil
}
