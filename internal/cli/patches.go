package cli

import (
	"encoding/json"
	"fmt"
	"io"
	"iter"
	"math"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/core/fault"
	"github.com/verdex-land/verdex/core/job"
	"github.com/verdex-land/verdex/core/patch"
	"github.com/verdex-land/verdex/core/text"
	"github.com/verdex-land/verdex/core/vector/geojson"
)

// patchOptions are those of patches.
type patchOptions struct {
	job.PatchOptions
	Out string `opt:"out" out:"patches" help:"GeoJSON <FILE> to write"`
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
	if ext := strings.ToLower(filepath.Ext(o.Out)); ext != ".geojson" && ext != ".json" {
		return usage("--out %s: patches are written as GeoJSON: end the name with .geojson", o.Out)
	}
	p, err := job.FindPatches(s.ctx, s.env(), o.PatchOptions)
	if err != nil {
		return err
	}
	defer p.Close()
	found, small, sum := 0, 0, 0.0
	err = s.Write(o.Out, func(w io.Writer) (err error) {
		f := &patchWriter{w: w, of: p}
		f.text(`{"type":"FeatureCollection","features":[`)
		small, err = p.Find(s.ctx, filepath.Dir(o.Out), func(x *patch.Patch) error {
			found++
			sum += x.Area / p.Unit.M2
			return f.patch(x)
		})
		if err != nil {
			return err
		}
		f.text("\n]}\n")
		return f.flush()
	})
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

// are is a number of things with the verb: "1 zone is", "5 zones are".
func are(n int, noun string) string {
	if n == 1 {
		return text.Count(n, noun) + " is"
	}
	return text.Count(n, noun) + " are"
}

// patchWriter writes patches as GeoJSON, as they are found.
type patchWriter struct {
	w        io.Writer
	of       *job.Patches
	b        []byte
	features int
}

func (f *patchWriter) text(s string) { f.b = append(f.b, s...) }

// patch writes one patch.
func (f *patchWriter) patch(p *patch.Patch) error {
	if f.features > 0 {
		f.text(",")
	}
	f.features++
	name := ""
	if class, ok := f.of.Legend.Find(int(p.Class)); ok {
		name = class.Name
	}
	f.text(fmt.Sprintf("\n"+`{"type":"Feature","properties":{"patch_id":%d,"class_code":%v,"class_name":%s,"cells":%d,"area":%s,"unit":%s`,
		p.ID, p.Class, quote(name), p.Cells, strconv.FormatFloat(p.Area/f.of.Unit.M2, 'f', -1, 64), quote(f.of.Unit.Name)))
	for _, s := range f.of.Set {
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
		return f.ring(points)
	})
	f.text(shut + "}}")
	return err
}

// ring writes a ring in degrees, as it is read: it may be too long to be held.
func (f *patchWriter) ring(points iter.Seq[[2]int32]) error {
	tracer := f.of.Tracer()
	corners := patch.Corners(points)
	if f.of.Smooth {
		corners = patch.Smooth(points)
	}
	var first [2]float64
	var room [][2]float64
	begun := false
	to := func(q [2]float64) error {
		traced, ok := tracer.To(room[:0], q)
		if room = traced; !ok {
			return fault.Errorf("%s: a patch reaches ground where %v is not defined", f.of.Name, f.of.CRS).Do("check that its CRS is right")
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

// positions writes points, the first of a ring without a comma before it.
func (f *patchWriter) positions(list [][2]float64, first bool) error {
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

func (f *patchWriter) flush() error {
	_, err := f.w.Write(f.b)
	f.b = f.b[:0]
	return err
}

func quote(s string) string {
	b, _ := json.Marshal(s) // a string always has a JSON form
	return string(b)
}
