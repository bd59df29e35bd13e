package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"iter"
	"math"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/core/account"
	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/patch"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/vector/geojson"
)

func patchesCommand() *cli.Command {
	return &cli.Command{
		Name:      "patches",
		Usage:     "the connected pieces of classes as polygons with their areas",
		ArgsUsage: "COVER...",
		Description: `Writes each connected piece of the chosen classes as a polygon along the borders of its cells (or
with its corners cut), with its class, cells, true area and an id: the number of its first cell, counted row by row, which
stays the same whatever classes are chosen. The raster is read once, and only the pieces that are not complete are in memory.

  verdex patches cover.tif --legend legend.csv --class Wetland --min-area 2 --out wetlands.geojson
  verdex patches cover.tif --class 1 --at 12.52,58.31 --set name="Orrin Water" --out lake.geojson
  verdex patches cover.tif --class 3,4 --neighbours 8 --smooth --out woods.geojson`,
		Flags: slices.Concat([]cli.Flag{
			&cli.StringFlag{Name: "class", Usage: "`CLASSES`: codes or names of the legend, separated by commas; all without it"},
			&cli.StringFlag{Name: "legend", Usage: "CSV `FILE` of the classes: code,name,color,group"},
			&cli.IntFlag{Name: "neighbours", Value: 4, Usage: "`4`, cells that share a side, or 8, also those that touch at a corner"},
			&cli.FloatFlag{Name: "min-area", Validator: notNegative, Usage: "leave out pieces smaller than `AREA`, in --unit"},
			&cli.StringFlag{Name: "unit", Value: "ha", Usage: "`ha`, m2, km2, acre or mi2"},
			&cli.StringFlag{Name: "at", Usage: "`LON,LAT` in degrees: only the piece there"},
			&cli.StringSliceFlag{Name: "set", Usage: "`NAME=VALUE`, a text to give every piece"},
			&cli.BoolFlag{Name: "smooth", Usage: "cut the corners of the outlines; areas stay those of the cells"},
			&cli.StringFlag{Name: "out", Usage: "GeoJSON `FILE` to write"},
			&cli.BoolFlag{Name: "force", Usage: "replace an output that exists"},
			listFlag(),
		}, rasterFlags()),
		Action: patches,
	}
}

// patchJob is what patches does.
type patchJob struct {
	src       *coverRaster
	legend    *cover.Legend
	unit      account.Unit
	set       [][2]string
	smooth    bool
	request   patch.Request
	toDegrees func([2]float64) ([2]float64, bool) // from cell coordinates
	tolerance earth.Tolerance
}

func patches(ctx context.Context, c *cli.Command) error {
	r := newReporter(c)
	out := c.String("out")
	switch ext := strings.ToLower(filepath.Ext(out)); {
	case c.Args().Len() == 0 && c.String("from-list") == "":
		return usage("patches needs a raster (verdex patches --help shows examples)")
	case out == "":
		return usage("patches needs --out, the file to write")
	case ext != ".geojson" && ext != ".json":
		return usage("--out %s: patches are written as GeoJSON: give the file the ending .geojson", out)
	}
	job, err := newPatchJob(c, r)
	if err != nil {
		return err
	}
	defer job.src.Close()
	tell, end := r.progress("tracing")
	var found, small int
	var sum float64
	err = writeFile(ctx, out, func(w io.Writer) (err error) {
		f := &featureWriter{w: w}
		f.text(`{"type":"FeatureCollection","features":[`)
		req := job.request
		req.Dir, req.Progress = filepath.Dir(out), tell
		req.Found = func(p *patch.Patch) error {
			found++
			sum += p.Area
			return job.write(f, p)
		}
		if small, err = patch.Find(ctx, req); err != nil {
			return err
		}
		if found == 0 {
			return job.nothing(small)
		}
		f.text("\n]}\n")
		return f.flush()
	})
	end()
	if err != nil {
		return err
	}
	note := fmt.Sprintf("%s: %s piece(s) with %s %s of true ground", out, group(float64(found), 0), group(sum/job.unit.M2, digitsOf(sum/job.unit.M2)), job.unit.Name)
	if small > 0 {
		note += fmt.Sprintf("; %s smaller ones are left out", group(float64(small), 0))
	}
	noteThen(ctx, r, note)
	return nil
}

func digitsOf(v float64) int { return decimalsFor(math.Abs(v)) }

// nothing says why no piece was found.
func (j *patchJob) nothing(small int) error {
	switch {
	case j.request.At != nil && small > 0:
		return fmt.Errorf("%s: the piece at that place is smaller than --min-area", j.src.path)
	case j.request.At != nil:
		return fmt.Errorf("%s: no piece of the chosen classes lies at that place: verdex look %s tells its values, and --at takes the longitude first", j.src.path, j.src.path)
	case small > 0:
		return fmt.Errorf("%s: all %d pieces are smaller than --min-area", j.src.path, small)
	}
	return fmt.Errorf("%s: it holds no cell of the chosen classes: verdex look %s tells its values", j.src.path, j.src.path)
}

func newPatchJob(c *cli.Command, r *reporter) (j *patchJob, err error) {
	j = &patchJob{smooth: c.Bool("smooth")}
	if j.unit, err = account.FindUnit(c.String("unit")); err != nil {
		return nil, usageError{err}
	}
	j.request.Least = c.Float("min-area") * j.unit.M2
	switch n := c.Int("neighbours"); n {
	case 4, 8:
		j.request.Eight = n == 8
	default:
		return nil, usage("--neighbours %d is not known: choose 4 or 8", n)
	}
	for _, text := range c.StringSlice("set") {
		name, value, ok := strings.Cut(text, "=")
		if !ok || name == "" {
			return nil, usage("--set %q is not of the form NAME=VALUE", text)
		}
		if slices.Contains([]string{"patch_id", "class_code", "class_name", "cells", "area", "unit"}, name) {
			return nil, usage("--set %s: a column of that name is there already: choose another", name)
		}
		j.set = append(j.set, [2]string{name, value})
	}
	if j.legend, err = readLegend(c); err != nil {
		return nil, err
	}
	classes, err := j.chosen(c.String("class"))
	if err != nil {
		return nil, err
	}
	j.request.Keep = func(v float64) bool { return classes == nil || classes[v] }
	paths, err := coverPaths(c)
	if err != nil {
		return nil, err
	}
	if j.src, err = openCover(c, paths, r); err != nil {
		return nil, err
	}
	if err = j.ready(c, r); err != nil {
		j.src.Close()
		return nil, err
	}
	return j, nil
}

// chosen reads --class.
func (j *patchJob) chosen(text string) (map[float64]bool, error) {
	if text == "" {
		return nil, nil
	}
	out := map[float64]bool{}
	for _, part := range strings.Split(text, ",") {
		part = strings.TrimSpace(part)
		if v, err := strconv.Atoi(part); err == nil {
			out[float64(v)] = true
			continue
		}
		found := false
		var names []string
		if j.legend != nil {
			for _, class := range j.legend.Classes {
				names = append(names, class.Name)
				if class.Name == part {
					out[float64(class.Code)], found = true, true
				}
			}
		}
		switch {
		case !found && j.legend == nil:
			return nil, usage("--class %q is no code; with --legend its name would do", part)
		case !found:
			return nil, fmt.Errorf("the class %q is not in the legend %s (%s)", part, j.legend.Source, strings.Join(names, ", "))
		}
	}
	return out, nil
}

// ready checks the raster and prepares the way from its cells to longitude and latitude on WGS 84.
func (j *patchJob) ready(c *cli.Command, r *reporter) error {
	if err := j.src.needCRS(); err != nil {
		return err
	}
	h := j.src.Header()
	if h.Type.Floating() {
		return fmt.Errorf("%s: its cells are floating-point numbers, so they are measurements: put them into classes first, with verdex reclassify", j.src.path)
	}
	g := h.Grid
	wgs84, err := earth.Lookup(4326)
	if err != nil {
		return err
	}
	w, s, e, n, _ := g.GeographicBounds()
	shift, note, err := earth.NewShift(g.CRS, wgs84, (w+e)/2, (s+n)/2)
	if err != nil {
		return fmt.Errorf("%s: %w", j.src.path, err)
	}
	if note != "" {
		r.note(note)
	}
	own := g.CRS.On(wgs84, shift)
	toDegrees := func(p [2]float64) ([2]float64, bool) {
		lon, lat, ok := own.ToGeographic(g.Point(p[0], p[1]))
		return [2]float64{lon * 180 / math.Pi, lat * 180 / math.Pi}, ok
	}
	// GeoJSON wants shells counter-clockwise. Those of patches run clockwise where rows count downwards, and a CRS can be a mirror image of the ground.
	j.request.Source, j.request.Reversed, j.toDegrees = j.src, (g.DY < 0) != g.CRS.Mirrored(), toDegrees
	a, _ := toDegrees([2]float64{float64(g.Width) / 2, float64(g.Height) / 2})
	b, _ := toDegrees([2]float64{float64(g.Width)/2 + 1, float64(g.Height)/2 + 1})
	size := math.Max(1e-9, math.Min(math.Abs(a[0]-b[0]), math.Abs(a[1]-b[1])))
	lattice := max(10000/(size*111000), float64(max(g.Width, g.Height))/256, 1) // cells: 10 km, and at most 256 × 256
	j.tolerance = earth.Tolerance{Longest: 512, Absolute: size / 1000, Straight: 1e-9, Bend: earth.NewBend(toDegrees, lattice)}
	return j.place(c.String("at"), g, wgs84, shift)
}

// place finds the cell of --at.
func (j *patchJob) place(text string, g raster.Grid, wgs84 *earth.CRS, shift *earth.Shift) error {
	if text == "" {
		return nil
	}
	a, b, ok := strings.Cut(text, ",")
	lon, err1 := finite(a)
	lat, err2 := finite(b)
	if !ok || err1 != nil || err2 != nil || math.Abs(lat) > 90 || math.Abs(lon) > 360 {
		return usage("--at %q is not of the form LON,LAT in degrees, such as 12.52,58.31", text)
	}
	x, y, ok := g.CRS.On(wgs84, shift).FromGeographic(lon*math.Pi/180, lat*math.Pi/180)
	col, row := g.Cell(x, y)
	if !ok || col < 0 || row < 0 || col >= float64(g.Width) || row >= float64(g.Height) {
		return fmt.Errorf("%s: the place %s lies outside it; --at takes the longitude first", j.src.path, text)
	}
	j.request.At = &[2]int{int(col), int(row)}
	return nil
}

// write writes one feature.
func (j *patchJob) write(f *featureWriter, p *patch.Patch) error {
	if f.features > 0 {
		f.text(",")
	}
	f.features++
	name := ""
	if class, ok := j.legend.Find(int(p.Class)); ok {
		name = class.Name
	}
	f.text(fmt.Sprintf("\n"+`{"type":"Feature","properties":{"patch_id":%d,"class_code":%v,"class_name":%s,"cells":%d,"area":%s,"unit":%s`,
		p.ID, p.Class, quote(name), p.Cells, strconv.FormatFloat(p.Area/j.unit.M2, 'f', -1, 64), quote(j.unit.Name)))
	for _, s := range j.set {
		f.text("," + quote(s[0]) + ":" + quote(s[1]))
	}
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
		return j.ring(f, points)
	})
	f.text(shut + "}}")
	return err
}

// ring writes a ring in degrees, as it is read: it may be too long to be held. Straight borders of cells are curves in
// degrees; they get points so that they stay within a thousandth of a cell, where the nine decimals written show it.
func (j *patchJob) ring(f *featureWriter, points iter.Seq[[2]int32]) error {
	tracer := earth.NewTracer(j.toDegrees, j.tolerance)
	corners := patch.Corners(points)
	if j.smooth {
		corners = patch.Smooth(points)
	}
	var first [2]float64
	var room [][2]float64
	begun := false
	to := func(q [2]float64) error {
		traced, ok := tracer.To(room[:0], q)
		if room = traced; !ok {
			return fmt.Errorf("%s: a patch reaches ground where %v is not defined", j.src.path, j.request.Source.Header().Grid.CRS)
		}
		return f.positions(traced, !begun)
	}
	f.text("[")
	for q := range corners {
		if err := to(q); err != nil {
			return err
		}
		if !begun {
			first, begun = q, true
		}
	}
	if err := to(first); err != nil {
		return err
	}
	f.text("]")
	return nil
}

// featureWriter writes the text of features.
type featureWriter struct {
	w        io.Writer
	b        []byte
	features int
}

func (f *featureWriter) text(s string) { f.b = append(f.b, s...) }

// positions writes points, the first of a ring without a comma before it.
func (f *featureWriter) positions(list [][2]float64, first bool) error {
	for i, q := range list {
		if i > 0 || !first {
			f.b = append(f.b, ',')
		}
		f.b = geojson.AppendPosition(f.b, q)
	}
	if len(f.b) < 1<<16 {
		return nil
	}
	return f.flush()
}

func (f *featureWriter) flush() error {
	_, err := f.w.Write(f.b)
	f.b = f.b[:0]
	return err
}

func quote(s string) string {
	b, _ := json.Marshal(s) // a string always has a JSON form
	return string(b)
}
