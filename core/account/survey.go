package account

import (
	"context"
	"fmt"
	"math"
	"slices"

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
	Values []float64 // source values, the first hundred of them; empty where there are too many to tell
}

// Survey is what a crosswalk does to a raster, before anything is written.
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

// Concern is a problem of the crosswalk with the cells that it concerns; Cells is -1 where there are too many
// different values to tell.
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

// surveyValues is how many source values are told.
const surveyValues = 100

// TakeSurvey reads a raster once and finds which of its cells each line of the coder's crosswalk takes, and which
// the problems of the crosswalk concern.
func TakeSurvey(ctx context.Context, src raster.Source, coder *cover.Coder, problems []cover.Problem, threads int, progress func(done, total int)) (*Survey, error) {
	set, place, err := tally.Whole(src.Header().Grid)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", src.Header().Name, err)
	}
	s := &Survey{Raster: src.Header().Name, Crosswalk: coder.Crosswalk, Missing: Moved{Kind: cover.NoData}, Gap: Moved{Kind: cover.Unlisted}}
	for i := range coder.Crosswalk.Lines {
		l := &coder.Crosswalk.Lines[i]
		m := Moved{Line: l}
		if l.To.NoData {
			m.Kind = cover.NoData
		}
		s.Lines = append(s.Lines, m)
	}
	lineOf := coder.LineOf
	measure := func(layer raster.Source) (*tally.Tally, error) {
		return tally.Measure(ctx, tally.Request{Layers: []raster.Source{layer}, Zones: set, Placement: place, Threads: threads, Progress: progress})
	}
	t, err := measure(src)
	known := err == nil
	if tally.IsTooMany(err) { // measurements: by line instead of by value
		n := len(s.Lines)
		lineView := raster.Map(src, raster.Header{Name: src.Header().Name, Type: raster.Uint16}, func(v float64) (float64, error) {
			line, missing := lineOf(v)
			switch {
			case line >= 0:
				return float64(line), nil
			case missing:
				return float64(n), nil
			}
			return float64(n + 1), nil
		})
		t, err = measure(lineView)
		lineOf = func(v float64) (int, bool) {
			if int(v) < n {
				return int(v), false
			}
			return -1, int(v) == n
		}
	}
	if err != nil {
		return nil, err
	}
	for _, p := range problems {
		s.Problems = append(s.Problems, Concern{What: p.What, Cells: -1})
	}
	z := t.Zones[0]
	for i, v := range z.Values {
		line, missing := lineOf(v[0])
		m := &s.Gap
		if line >= 0 {
			m = &s.Lines[line]
		} else if missing {
			m = &s.Missing
		}
		area := z.Extents[i].Area(t.Unit)
		m.Cells += int64(math.Round(z.Extents[i].CellCount()))
		m.Area += area
		s.Total += area
		for k, p := range problems {
			if !known {
				break
			}
			s.Problems[k].Cells = max(0, s.Problems[k].Cells)
			if p.Concerns(v[0]) && !missing {
				s.Problems[k].Cells += int64(math.Round(z.Extents[i].CellCount()))
				s.Problems[k].Area += area
			}
		}
		if known {
			s.Values = append(s.Values, v[0])
			if len(m.Values) < surveyValues {
				m.Values = append(m.Values, v[0])
			}
		}
	}
	slices.Sort(s.Values)
	return s, nil
}
