// Package survey finds what a crosswalk does to a raster, before anything is written or beside it.
package survey

import (
	"context"
	"fmt"
	"math"
	"slices"
	"sync"

	"github.com/verdex-land/verdex/core/raster/view"

	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/tally"
)

// Moved is what a line of a crosswalk does to a raster.
type Moved struct {
	Line   *cover.Line // nil for values without a line, and for nodata that stays
	Kind   cover.Kind  // what the cells become; Unlisted for values without a line
	Cells  int64
	Area   float64   // m²
	Values []float64 // source values, the first hundred of them; empty where there are too many to list
}

// Survey is what a crosswalk does to a raster.
type Survey struct {
	Raster    string
	Crosswalk *cover.Crosswalk
	Lines     []Moved // one for each line of the crosswalk, in its order
	Missing   Moved   // nodata that stays nodata
	Gap       Moved   // values without a line
	Total     float64 // m²
	Values    []float64
	Problems  []Concern // in the order in which they were given
}

// Concern is a problem of the crosswalk with the cells that it concerns.
type Concern struct {
	What  string
	Cells int64
	Area  float64 // m²
}

// Idle are the lines that no cell comes to.
func (s *Survey) Idle() (out []*cover.Line) {
	for _, m := range s.Lines {
		if m.Cells == 0 {
			out = append(out, m.Line)
		}
	}
	return out
}

// surveyValues is how many source values are listed.
const surveyValues = 100

// Take reads a raster once and finds which of its cells each line of the coder's crosswalk takes, and which
// the problems of the crosswalk concern.
func Take(ctx context.Context, src raster.Source, coder *cover.Coder, problems []cover.Problem, threads int, progress func(done, total int)) (*Survey, error) {
	coder = coder.In(src.Header().Type)
	set, place, err := tally.Whole(src.Header().Grid)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", src.Header().Name, err)
	}
	measure := func(layer raster.Source) (*tally.Tally, error) {
		return tally.Measure(ctx, tally.Request{Layers: []raster.Source{layer}, Zones: set, Placement: place, Threads: threads, Progress: progress})
	}
	fateOf := fates(coder, problems)
	t, err := measure(src)
	known := err == nil
	if tally.IsTooMany(err) { // measurements: by what becomes of them instead of by value
		numbered := newNumbered(len(coder.Crosswalk.Lines))
		of := fateOf
		t, err = measure(view.Map(src, raster.Header{Name: src.Header().Name, Type: raster.Uint16}, func(v float64) (float64, error) {
			return float64(numbered.of(of(v))), nil
		}))
		fateOf = func(v float64) fate { return numbered.list[int(v)] }
	}
	if err != nil {
		return nil, err
	}
	return summed(src.Header().Name, coder.Crosswalk, problems, t, fateOf, known), nil
}

// Watched is a raster that is surveyed while something else reads it: see [tally.Watched].
type Watched struct {
	*tally.Watched
	coder    *cover.Coder
	problems []cover.Problem
}

// Watch makes a raster that is surveyed as it is read in windows of width × height cells. It is nil for a raster whose cells may be measurements, with more
// values than can be counted: [Take] serves for these.
func Watch(src raster.Source, coder *cover.Coder, problems []cover.Problem, width, height int) (*Watched, error) {
	h := src.Header()
	if h.Type.Floating() || h.Type.Bytes() > 2 {
		return nil, nil
	}
	w, err := tally.Watch(src, width, height)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", h.Name, err)
	}
	return &Watched{w, coder.In(h.Type), problems}, nil
}

// Survey is what has been found; ok is false if not all of the raster has been read.
func (w *Watched) Survey() (s *Survey, ok bool) {
	t, ok := w.Tally()
	if !ok {
		return nil, false
	}
	return summed(w.Header().Name, w.coder.Crosswalk, w.problems, t, fates(w.coder, w.problems), true), true
}

// summed sums what has been measured of a raster by what becomes of it; known says that its values are those of the raster.
func summed(name string, walk *cover.Crosswalk, problems []cover.Problem, t *tally.Tally, fateOf func(float64) fate, known bool) *Survey {
	s := &Survey{Raster: name, Crosswalk: walk, Missing: Moved{Kind: cover.NoData}, Gap: Moved{Kind: cover.Unlisted}}
	for i := range walk.Lines {
		l := &walk.Lines[i]
		m := Moved{Line: l}
		if l.To.NoData {
			m.Kind = cover.NoData
		}
		s.Lines = append(s.Lines, m)
	}
	for _, p := range problems {
		s.Problems = append(s.Problems, Concern{What: p.What})
	}
	z := t.Zones[0]
	for i, v := range z.Values {
		value := t.Number(0, 0, v[0])
		f := fateOf(value)
		m := &s.Gap
		if f.line >= 0 {
			m = &s.Lines[f.line]
		} else if f.missing {
			m = &s.Missing
		}
		cells, area := int64(math.Round(z.Extents[i].CellCount())), z.Extents[i].Area(t.Quantum)
		m.Cells += cells
		m.Area += area
		s.Total += area
		for _, k := range f.problems {
			s.Problems[k].Cells += cells
			s.Problems[k].Area += area
		}
		if known {
			s.Values = append(s.Values, value)
			if len(m.Values) < surveyValues {
				m.Values = append(m.Values, value)
			}
		}
	}
	slices.Sort(s.Values)
	return s
}

// fates says what becomes of a value.
func fates(coder *cover.Coder, problems []cover.Problem) func(v float64) fate {
	return func(v float64) fate {
		line, missing := coder.LineOf(v)
		f := fate{line: line, missing: missing}
		for k, p := range problems {
			if !missing && p.Concerns(v) {
				f.problems = append(f.problems, k)
			}
		}
		return f
	}
}

// fate is what becomes of a value: its line, or -1; whether it is nodata; and the problems that concern it.
type fate struct {
	line     int
	missing  bool
	problems []int
}

// numbered numbers what becomes of values, for several goroutines: 0 for values without a line, 1 for nodata that stays,
// then the lines, and then, as they are met, what problems concern.
type numbered struct {
	mu     sync.Mutex
	number map[string]int
	list   []fate
}

func newNumbered(lines int) *numbered {
	n := &numbered{number: map[string]int{}, list: []fate{{line: -1}, {line: -1, missing: true}}}
	for i := range lines {
		n.list = append(n.list, fate{line: i})
	}
	return n
}

func (n *numbered) of(f fate) int {
	switch {
	case len(f.problems) > 0:
	case f.line >= 0:
		return f.line + 2
	case f.missing:
		return 1
	default:
		return 0
	}
	n.mu.Lock()
	defer n.mu.Unlock()
	key := fmt.Sprint(f)
	i, ok := n.number[key]
	if !ok {
		i = len(n.list)
		n.number[key] = i
		n.list = append(n.list, f)
	}
	return i
}
