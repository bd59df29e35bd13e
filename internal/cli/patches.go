package cli

import (
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"iter"
	"math"
	"strconv"

	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/fault"
	"github.com/verdex-land/verdex/core/job"
	"github.com/verdex-land/verdex/core/patch"
	"github.com/verdex-land/verdex/core/spread"
	"github.com/verdex-land/verdex/core/text"
	"github.com/verdex-land/verdex/core/vector"
	"github.com/verdex-land/verdex/core/vector/geojson"
	vectors "github.com/verdex-land/verdex/core/vector/open"
)

// patchOptions are those of patches.
type patchOptions struct {
	job.PatchOptions
	Out string `opt:"out" out:"features" help:"<FILE> to write: .geojson, .geojsonl, .gpkg, .shp or .parquet"`
	forceOption
	savePlanOption `group:"output"`
}

func patchesCommand() *cli.Command {
	return command(cli.Command{
		Name:  "patches",
		Usage: "the connected pieces of classes as polygons with their areas",
		Description: `Writes each connected piece of the chosen classes as a polygon along the borders of its cells (or
with its corners cut), with its class, cells, true area and an id: the number of its first cell, counted row by row, which
stays the same whatever classes are chosen. The raster is read once, and only the pieces that are not complete are in memory.

  verdex patches cover.tif --legend legend.csv --class Wetland --min-area 2 --out wetlands.geojson
  verdex patches cover.tif --class 1 --at 12.52,58.31 --set name="Orrin Water" --out lake.geojson
  verdex patches cover.tif --class 3,4 --neighbours 8 --smooth --out woods.geojson`,
	}, runPatches)
}

func runPatches(s *session, o *patchOptions) error {
	if err := needOut(s, o.Out); err != nil {
		return err
	}
	path, _ := vectors.SplitOutput(o.Out)
	ext := endingOf(path, ".geojson")
	p, err := job.FindPatches(s.ctx, s.env(), o.PatchOptions)
	if err != nil {
		return err
	}
	defer p.Close()
	found, small, sum := 0, 0, 0.0
	count := func(x *patch.Patch) {
		found++
		sum += x.Area / p.Unit.M2
	}
	if ext == ".geojson" || ext == ".json" || ext == ".geojsonl" {
		small, err = s.streamPatches(o.Out, p, ext == ".geojsonl", count)
	} else {
		small, err = s.collectPatches(o.Out, p, count)
	}
	if err != nil {
		return err
	}
	note := fmt.Sprintf("%s: %s with %s %s of true ground", o.Out, text.Count(found, "piece"), text.Number(sum, text.Decimals(math.Abs(sum))), p.Unit.Name)
	if small > 0 {
		note += fmt.Sprintf("; %s left out", are(small, "smaller one"))
	}
	s.noteThen(note)
	return nil
}

// streamPatches writes patches as GeoJSON, in longitude and latitude, while they are found.
func (s *session) streamPatches(out string, p *job.Patches, lines bool, count func(*patch.Patch)) (small int, err error) {
	err = s.Write(out, func(w io.Writer) (err error) {
		f := newPatchWriter(w, p, lines)
		defer func() { err = cmp.Or(f.close(), err) }() // what could not be written is also why no more was wanted
		if err := f.text(f.begin); err != nil {
			return err
		}
		small, err = p.Find(s.ctx, folderOf(out), func(x *patch.Patch) error {
			count(x)
			return f.add(x)
		})
		return cmp.Or(err, f.text(f.end))
	})
	return small, err
}

// collectPatches writes patches in another format, in the CRS of the raster, with all of them in memory.
func (s *session) collectPatches(out string, p *job.Patches, count func(*patch.Patch)) (small int, err error) {
	l := &vector.Layer{Source: p.Name, CRS: p.CRS, Fields: p.Fields()}
	path, _ := vectors.SplitOutput(out)
	small, err = p.Find(s.ctx, folderOf(path), func(x *patch.Patch) error {
		count(x)
		f, err := p.Feature(x)
		l.Features = append(l.Features, f)
		return err
	})
	if err != nil {
		return small, err
	}
	return small, s.stageFeatures(out, l)
}

// are is a number of things with the verb: "1 zone is", "5 zones are".
func are(n int, noun string) string {
	if n == 1 {
		return text.Count(n, noun) + " is"
	}
	return text.Count(n, noun) + " are"
}

// patchWriter writes patches as GeoJSON, as they are found, with the work of it on all processors.
type patchWriter struct {
	of       *job.Patches
	out      *spread.InOrder[patchPart]
	batch    patchPart
	edges    int // of the patches in batch
	features int
	begin    string // before all features
	end      string // and behind them
	between  string // and between them
}

// patchPart is a part of the file: a text, and behind it patches or a piece of a ring.
type patchPart struct {
	text    []byte
	patches []*patch.Patch
	first   bool         // no patch comes before them
	line    [][2]float64 // a piece of a ring in cells
	joins   bool         // its first point stands at the end of the piece before
}

// How many edges of patches, and how many points of a ring, are seen to at a time.
const (
	edgesAtOnce  = 1 << 15
	pointsAtOnce = 1 << 12
)

// errPatches ends the search when something could not be written; close then says what.
var errPatches = errors.New("patches cannot be written")

func newPatchWriter(w io.Writer, of *job.Patches, lines bool) *patchWriter {
	out := &patchWriter{of: of, begin: `{"type":"FeatureCollection","features":[` + "\n", end: "\n]}\n", between: ",\n"}
	if lines {
		out.begin, out.end, out.between = "", "\n", "\n"
	}
	out.out = spread.NewInOrder(w, func() func(*bytes.Buffer, patchPart) error {
		f := newPatchText(of, out.between)
		return func(out *bytes.Buffer, p patchPart) error {
			f.b = append(out.AvailableBuffer(), p.text...)
			err := f.part(&p)
			out.Write(f.b)
			return err
		}
	})
	return out
}

// text writes a text behind what was added.
func (f *patchWriter) text(s string) error {
	if f.batch.patches != nil {
		if err := f.flush(); err != nil {
			return err
		}
	}
	f.batch.text = append(f.batch.text, s...)
	return nil
}

// flush hands over what waits.
func (f *patchWriter) flush() error {
	p := f.batch
	f.batch, f.edges = patchPart{}, 0
	if len(p.text) > 0 || p.patches != nil || p.line != nil {
		if !f.out.Add(p) {
			return errPatches
		}
	}
	return nil
}

func (f *patchWriter) close() error {
	_ = f.flush() // what fails is said by Close
	return f.out.Close()
}

// add writes a patch.
func (f *patchWriter) add(p *patch.Patch) error {
	f.features++
	if n := p.Edges(); n > 0 {
		if len(f.batch.patches) == 0 {
			f.batch.first = f.features == 1
		}
		f.batch.patches = append(f.batch.patches, p)
		if f.edges += n; f.edges < edgesAtOnce {
			return nil
		}
		return f.flush()
	}
	// Its outline is read now, and written piece by piece.
	if err := f.flush(); err != nil {
		return err
	}
	t := newPatchText(f.of, f.between)
	t.head(p, f.features == 1)
	err := t.outline(p, func(points iter.Seq[[2]float64]) error {
		f.batch.text, t.b = append(f.batch.text, t.b...), nil
		return f.ring(points)
	})
	f.batch.text = append(f.batch.text, t.b...)
	return err
}

// ring writes a ring in pieces.
func (f *patchWriter) ring(points iter.Seq[[2]float64]) error {
	for q := range points {
		f.batch.line = append(f.batch.line, q)
		if len(f.batch.line) < pointsAtOnce {
			continue
		}
		if err := f.flush(); err != nil {
			return err
		}
		f.batch.line, f.batch.joins = append(make([][2]float64, 0, pointsAtOnce), q), true
	}
	return f.flush()
}

// patchText makes the text of parts.
type patchText struct {
	of      *job.Patches
	between string // features
	b       []byte
	tracer  *earth.RoundedTracer
	room    [][2]float64
	classes map[float64]string // their columns, by code
	rest    string             // the columns behind the area, which all patches share
}

func newPatchText(of *job.Patches, between string) *patchText {
	f := &patchText{of: of, between: between, tracer: of.Tracer(), classes: map[float64]string{}, rest: `,"unit":` + quote(of.Unit.Name)}
	for _, s := range of.Set {
		f.rest += "," + quote(s[0]) + ":" + quote(s[1])
	}
	return f
}

func (f *patchText) text(s string) { f.b = append(f.b, s...) }

func (f *patchText) part(p *patchPart) error {
	for i, x := range p.patches {
		f.head(x, i == 0 && p.first)
		if err := f.outline(x, f.ring); err != nil {
			return err
		}
	}
	if p.line == nil {
		return nil
	}
	f.tracer.Begin()
	line := p.line
	if p.joins {
		if err := f.trace(line[0]); err != nil {
			return err
		}
		line = line[1:]
	}
	for i, q := range line {
		if err := f.to(q, i == 0 && !p.joins); err != nil {
			return err
		}
	}
	return nil
}

// head writes a patch up to its coordinates.
func (f *patchText) head(p *patch.Patch, first bool) {
	if !first {
		f.text(f.between)
	}
	class, ok := f.classes[p.Class]
	if !ok {
		name := ""
		if class, ok := f.of.Legend.Find(int(p.Class)); ok {
			name = class.Name
		}
		class = fmt.Sprintf(`,"class_code":%v,"class_name":%s,"cells":`, p.Class, quote(name))
		f.classes[p.Class] = class
	}
	f.text(`{"type":"Feature","properties":{"patch_id":`)
	f.b = strconv.AppendInt(f.b, p.ID, 10)
	f.text(class)
	f.b = strconv.AppendInt(f.b, p.Cells, 10)
	f.text(`,"area":`)
	f.b = strconv.AppendFloat(f.b, p.Area/f.of.Unit.M2, 'f', -1, 64)
	f.text(f.rest)
}

// outline writes the geometry of a patch, whose rings are written by ring.
func (f *patchText) outline(p *patch.Patch, ring func(points iter.Seq[[2]float64]) error) error {
	kind, open, shut := "Polygon", "[", "]"
	if p.Polygons > 1 {
		kind, open, shut = "MultiPolygon", "[[", "]]"
	}
	f.text(`},"geometry":{"type":"` + kind + `","coordinates":` + open)
	rings := 0
	err := p.Rings(func(shell bool, n int64, points iter.Seq[[2]int32]) error {
		switch {
		case rings > 0 && shell:
			f.text("],[")
		case rings > 0:
			f.text(",")
		}
		rings++
		f.text("[")
		corners := patch.Corners(points)
		if f.of.Smooth {
			corners = patch.Smooth(points)
		}
		err := ring(closed(corners))
		f.text("]")
		return err
	})
	f.text(shut + "}}")
	return err
}

// ring writes the positions of a ring in degrees.
func (f *patchText) ring(points iter.Seq[[2]float64]) error {
	f.tracer.Begin()
	first := true
	for q := range points {
		if err := f.to(q, first); err != nil {
			return err
		}
		first = false
	}
	return nil
}

// closed are the points of a ring, and the first of them again.
func closed(points iter.Seq[[2]float64]) iter.Seq[[2]float64] {
	return func(yield func([2]float64) bool) {
		var first [2]float64
		begun := false
		for q := range points {
			if !begun {
				first, begun = q, true
			}
			if !yield(q) {
				return
			}
		}
		if begun {
			yield(first)
		}
	}
}

// to writes the positions on the way to a point.
func (f *patchText) to(q [2]float64, first bool) error {
	if err := f.trace(q); err != nil {
		return err
	}
	for i, q := range f.room {
		if i > 0 || !first {
			f.b = append(f.b, ',')
		}
		f.b = geojson.AppendPosition(f.b, q)
	}
	return nil
}

// trace goes on to a point.
func (f *patchText) trace(q [2]float64) error {
	traced, ok := f.tracer.To(f.room[:0], q)
	if f.room = traced; !ok {
		return fault.Errorf("%s: a patch reaches ground where %v is not defined", f.of.Name, f.of.CRS).Do("check that its CRS is right")
	}
	return nil
}

func quote(s string) string {
	b, _ := json.Marshal(s) // a string always has a JSON form
	return string(b)
}
