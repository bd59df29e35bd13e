package plan

import (
	"context"
	"errors"
	"fmt"

	"github.com/verdex-land/verdex/core/job"
	"github.com/verdex-land/verdex/core/tally"
)

// Schedule does the steps of a plan. One works at a time, in their order; one that asks for measurements waits until no other can go
// on without some, and what all of them ask for is then measured together.
type Schedule struct {
	Counter *Counter
	events  chan event
}

// event is what a step that was working says when it works no more: it is done, or it asks.
type event struct {
	step     int
	err      error
	requests []tally.Keyed // nil when it is done
	answer   chan answer
}

type answer struct {
	tallies []*tally.Tally
	errs    []error
}

// asker is the counter of one step.
type asker struct {
	schedule *Schedule
	step     int
}

// Count implements [job.Counter].
func (a asker) Count(ctx context.Context, requests []tally.Keyed) ([]*tally.Tally, []error) {
	reply := make(chan answer)
	a.schedule.events <- event{step: a.step, requests: requests, answer: reply}
	got := <-reply
	return got.tallies, got.errs
}

// Digest implements [job.Counter].
func (a asker) Digest(path string) (string, error) {
	return a.schedule.Counter.Digest(path)
}

// ErrNotReached is the error of a step that needs one that failed.
var ErrNotReached = errors.New("a step that it needs failed")

// Run does steps, of which each is done by a call of do with its number and the counter that it is to use. It returns the error of each, nil for those
// that are done.
func (s *Schedule) Run(ctx context.Context, steps []*Step, do func(i int, counter job.Counter) error) []error {
	s.events = make(chan event)
	const (
		waiting = iota
		working
		done
	)
	state, errs := make([]int, len(steps)), make([]error, len(steps))
	var asks []event
	// works waits for the step that is working.
	works := func() {
		e := <-s.events
		if e.requests != nil {
			asks = append(asks, e)
			return
		}
		state[e.step], errs[e.step] = done, e.err
	}
	start := func(i int) {
		state[i] = working
		go func() {
			var err error
			defer func() {
				if p := recover(); p != nil {
					err = fmt.Errorf("%s: an unforeseen fault: %v", steps[i].Name, p)
				}
				s.events <- event{step: i, err: err}
			}()
			err = do(i, asker{s, i})
		}()
		works()
	}
	ready := func(i int) bool {
		for _, k := range steps[i].Needs {
			if state[k] != done {
				return false
			}
		}
		return state[i] == waiting
	}
	for {
		started := false
		for i := range steps {
			if !ready(i) {
				continue
			}
			started = true
			failed := ctx.Err()
			for _, k := range steps[i].Needs {
				if errs[k] != nil && failed == nil {
					failed = fmt.Errorf("%w: %s", ErrNotReached, steps[k].Name)
				}
			}
			if failed != nil {
				state[i], errs[i] = done, failed
				continue
			}
			start(i)
		}
		if len(asks) == 0 && !started {
			return errs
		}
		if len(asks) == 0 || started && anyReady(steps, ready) {
			continue
		}
		var all []tally.Keyed
		for _, a := range asks {
			all = append(all, a.requests...)
		}
		tallies, failed := s.Counter.Count(ctx, all)
		now := asks
		asks = nil
		for _, a := range now {
			n := len(a.requests)
			a.answer <- answer{tallies[:n], failed[:n]}
			tallies, failed = tallies[n:], failed[n:]
			works()
		}
	}
}

func anyReady(steps []*Step, ready func(int) bool) bool {
	for i := range steps {
		if ready(i) {
			return true
		}
	}
	return false
}
