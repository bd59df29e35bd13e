package job

import (
	"fmt"
	"math"
	"strings"

	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/raster/view"

	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/text"
)

// Raster is a raster that a job makes: a view, computed as it is read. Its files stay open until Close.
type Raster struct {
	raster.Source
	Values bool // its cells are measurements, not classes
	// Classes, when not nil, gives the classes of its codes, of a map that is computed as it is read those that occurred.
	Classes func() []cover.Class
	*Report

	work   *work
	closes []func()
	after  []func()
}

// named gives the raster the names of a legend, which may be nil.
func (r *Raster) named(l *cover.Legend) *Raster {
	if l != nil {
		r.Classes = func() []cover.Class { return l.Classes }
	}
	return r
}

// Describe names the classes of the codes, as a file can state them: "classes: 1 Open water; 2 Wetland". It is "" where they have no names.
func (r *Raster) Describe() string {
	if r.Classes == nil {
		return ""
	}
	var names []string
	for _, c := range r.Classes() {
		names = append(names, fmt.Sprintf("%d %s", c.Code, c.Name))
	}
	if len(names) == 0 {
		return ""
	}
	return "classes: " + strings.Join(names, "; ")
}

// Ahead implements [raster.Announced].
func (r *Raster) Ahead(windows []raster.Window) bool { return raster.Ahead(r.Source, windows) }

// Close closes the files that the raster is computed from.
func (r *Raster) Close() {
	for _, c := range r.closes {
		c()
	}
}

// Done adds to the report what is known once all of the raster has been read: how far cells were moved, where something was
// divided by zero.
func (r *Raster) Done() {
	for _, f := range r.after {
		f()
	}
	r.after = nil
}

// view makes a raster of a view over open files.
func (w *work) view(s raster.Source, measurements bool, closes ...func()) *Raster {
	return &Raster{Source: s, Values: measurements || s.Header().Type.Floating(), Report: w.report, work: w, closes: closes}
}

// noteMoves notes how far cells were moved, when they have been read.
func (w *work) noteMoves(moved []*view.Aligned) {
	for _, a := range moved {
		w.note(movesNote(a))
	}
}

// movesNote says how many cells were moved by how much.
func movesNote(a *view.Aligned) string {
	m := a.Moves()
	ew, ns, _ := a.Source().Grid.GroundSize()
	size := math.Max(ew, ns)
	cells, from := text.Count(int(m.Cells), "cell"), a.Source().Name
	out := ""
	switch a.How() {
	case view.Heaviest:
		out = fmt.Sprintf("%s took the value of %s that covers most of each", cells, from)
	case view.Bilinear:
		out = fmt.Sprintf("%s were interpolated between the cells of %s, whose nearest centre lay %.2f of a cell away on average (%.3g m on the ground)",
			cells, from, m.Mean, m.Mean*size)
	default:
		out = fmt.Sprintf("%s took the nearest one of %s, moved by %.2f of a cell on average and %.2f at most (%.3g m and %.3g m on the ground)",
			cells, from, m.Mean, m.Greatest, m.Mean*size, m.Greatest*size)
	}
	if m.Empty > 0 {
		out += fmt.Sprintf("; %s of the grid lie beyond it and are nodata", text.Count(int(m.Empty), "cell"))
	}
	return out
}
