package cli

import (
	"cmp"
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/verdex-land/verdex/core/check"
	"github.com/verdex-land/verdex/core/files"

	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/job"
	"github.com/verdex-land/verdex/core/raster/geotiff"
	"github.com/verdex-land/verdex/core/text"
	"github.com/verdex-land/verdex/core/vector"
	"github.com/verdex-land/verdex/core/vector/geopackage"
	vectors "github.com/verdex-land/verdex/core/vector/open"
	"github.com/verdex-land/verdex/internal/book"
	"github.com/verdex-land/verdex/internal/model"
	"github.com/verdex-land/verdex/internal/output"
	"github.com/verdex-land/verdex/internal/plan"
	"github.com/verdex-land/verdex/internal/table"
)

// forceOption allows outputs to be replaced.
type forceOption struct {
	Force bool `opt:"force" help:"replace an output that exists"`
}

// tableOptions say where a table goes.
type tableOptions struct {
	Out    string `opt:"out" out:"table" help:"write to <FILE> instead of standard output; its ending (.csv, .json, .jsonl, .md, .html, .xlsx, .parquet, .gpkg) chooses the format"`
	Format string `opt:"format" choose:",table,csv,json,jsonl,md,html,xlsx,parquet,gpkg" help:"<table>, csv, json, jsonl, md, html, xlsx, parquet or gpkg"`
	forceOption
	Digits int `opt:"digits" default:"-1" least:"-1" most:"15" help:"<decimals> of numbers in files; -1 is full precision"`
}

// destination is where a table goes.
type destination struct {
	path, format string
	digits       int
	// For a spreadsheet: its sheets, unless it is the table as a list; and what the checks found.
	sheets func() []*table.Sheet
	checks []check.Check
}

// destination settles the output before any work is done, so that a wrong one costs nothing.
func (o tableOptions) destination() (*destination, error) {
	d := &destination{path: o.Out, format: o.Format, digits: o.Digits}
	_, binary := table.Known(d.format)
	switch {
	case binary && d.path == "":
		return nil, usage("--format %s is not for the terminal: name a file with --out", d.format)
	case d.format == "table" && d.path != "":
		return nil, usage("--format table is for reading on the terminal: choose %s for --out", table.Formats)
	case d.format != "":
		return d, nil
	case d.path == "":
		d.format = "table"
		return d, nil
	}
	path, _ := vectors.SplitOutput(d.path)
	var err error
	if d.format, err = table.FormatOf(named(path, "table", ".csv")); err != nil {
		return nil, usageError{err}
	}
	return d, nil
}

// destinationOf is the one that an option names.
func (s *session) destinationOf(flag, path string) (*destination, error) {
	if flag == "out" {
		return tableOptions{Out: path, Format: given[string](s.options, "format"), Digits: given[int](s.options, "digits")}.destination()
	}
	format, err := table.FormatOf(named(path, "table", ".csv"))
	if err != nil {
		return nil, usage("--%s %w", flag, err)
	}
	return &destination{path: path, format: format, digits: -1}, nil
}

// metadataEnding is that of the file which describes a CSV, beside it, by the W3C's "CSV on the Web".
const metadataEnding = "-metadata.json"

// hasMetadata reports whether a description goes beside the file: beside a CSV that is not a pipe.
func (d *destination) hasMetadata() bool {
	info, err := os.Stat(d.path)
	return d.format == "csv" && !output.IsStandard(d.path) && (err != nil || info.Mode().IsRegular())
}

// write hands a table over: a file is staged, standard output is written to when everything else is in its place.
func (s *session) write(d *destination, m *model.Table) error {
	t := &table.Writer{Table: m, Digits: d.digits, Stop: s.ctx.Err}
	if d.path == "" {
		s.then(func() error { return t.Write(s.stdout, d.format) })
		return nil
	}
	switch d.format {
	case "csv":
		err := s.Write(d.path, func(w io.Writer) error { return t.Write(w, "csv") })
		if err != nil || !d.hasMetadata() {
			return err
		}
		return s.Write(d.path+metadataEnding, func(w io.Writer) error { return t.Metadata(w, filepath.Base(d.path)) })
	case "gpkg":
		path, name := vectors.SplitOutput(d.path)
		if name == "" {
			path, name = d.path, cmp.Or(m.Name, "rows")
		}
		at, err := s.changeTime()
		if err != nil {
			return err
		}
		return s.makeGeoPackage(path, name, func(file string) error { return geopackage.WriteTable(file, name, t.Fields(), t.Values(), at) })
	case "xlsx":
		b, err := s.workbook(d, t)
		if err != nil {
			return err
		}
		return s.Write(d.path, b.Write)
	}
	return s.Write(d.path, func(w io.Writer) error { return t.Write(w, d.format) })
}

// changeTime is when a GeoPackage says that its content changed: now, when the step of a plan began, or the seconds since 1970 in SOURCE_DATE_EPOCH, with which the same content makes the same file.
func (s *session) changeTime() (time.Time, error) {
	text := os.Getenv("SOURCE_DATE_EPOCH")
	switch {
	case text == "" && s.plan != nil:
		return s.plan.begun, nil
	case text == "":
		return time.Now(), nil
	}
	seconds, err := strconv.ParseInt(text, 10, 64)
	if err != nil || seconds < 0 || seconds > 1<<37 {
		return time.Time{}, usage("SOURCE_DATE_EPOCH is %q: give it the seconds since 1970, or unset it", text)
	}
	return time.Unix(seconds, 0), nil
}

// makeGeoPackage stages a GeoPackage, with the other layers of the file that it replaces.
func (s *session) makeGeoPackage(path, layer string, write func(file string) error) error {
	return s.Make(path, func(name string) error {
		if old := s.Old(path); old != "" {
			if there := geopackage.Contents(old); len(there) > 1 || len(there) == 1 && !geopackage.Has(there, layer) {
				if err := os.Remove(name); err != nil {
					return err
				}
				if err := geopackage.Copy(old, name); err != nil {
					return err
				}
			}
		}
		err := write(name)
		if err != nil && (strings.Contains(err.Error(), "disk I/O error") || strings.Contains(err.Error(), "disk is full")) { // what SQLite says of it
			return output.Refused(errors.New("the disk is full or refuses to be written to"))
		}
		return err
	})
}

// workbook is a table as a spreadsheet: its sheets, what the checks found, and what it was made from.
func (s *session) workbook(d *destination, t *table.Writer) (*table.Workbook, error) {
	b := &table.Workbook{Title: t.Title, Author: "verdex " + s.version}
	if d.sheets != nil {
		b.Sheets = d.sheets()
	}
	// The rows as they are in every other format, for programs, and to be read back.
	if list := t.Sheet(); d.sheets == nil || list.Fits() {
		b.Sheets = append(b.Sheets, list)
	} else {
		s.Note(fmt.Sprintf("%s: the sheet of all rows is left out, since a spreadsheet takes %s of them: write .csv or .parquet for programs", d.path, text.Count(table.MaxRows, "row")))
	}
	if d.checks != nil {
		b.Sheets = append(b.Sheets, (&table.Writer{Table: model.Checks(d.checks), Digits: -1}).Sheet())
	}
	made, err := s.provenance(filepath.Dir(d.path))
	if err != nil {
		return nil, err
	}
	b.Sheets = append(b.Sheets, made)
	return b, nil
}

// inputOf takes the measures of an input: of a file of the web its size, its validator and the digest of what was read.
func (s *session) inputOf(ctx context.Context, in output.Input) (book.Input, error) {
	if files.IsURL(in.Path) {
		state, _ := s.remote.State(in.Path)
		return book.Input{Role: in.Role, Path: in.Path, Size: state.Size, Modified: state.Validator, SHA256: state.Read}, nil
	}
	out, err := book.ReadInput(ctx, in.Role, in.Path)
	if err == nil {
		err = in.Changed()
	}
	return out, err
}

// digested is the size of the largest inputs whose digest is in a workbook.
const digested = 256 << 20

// provenance lists what a workbook was made from, with files as they are named in its folder.
func (s *session) provenance(dir string) (*table.Sheet, error) {
	sheet := &table.Sheet{Name: "Provenance", FreezeRows: 1}
	head := table.Style{Head: true}
	sheet.Add(table.Text("what", head), table.Text("value", head), table.Text("size in bytes", head), table.Text("SHA-256", head))
	line := func(what, value string) {
		sheet.Add(table.Text(what, table.Style{}), table.Text(value, table.Style{}))
	}
	line("program", "verdex "+s.version)
	line("command", s.parametersFrom(dir))
	line("areas", "true areas on the ellipsoid of the CRS; cells that an outline cuts count by their share")
	for _, in := range s.Inputs() {
		if in.Role == "" {
			continue
		}
		digest := "" // reading a large file again only for that would take longer than the work
		size := in.Size()
		if size <= digested {
			f, err := s.inputOf(s.ctx, in)
			if err != nil {
				return nil, err
			}
			size, digest = f.Size, f.SHA256
		}
		sheet.Add(table.Text(in.Role, table.Style{}), table.Text(plan.Relative(dir, in.Path), table.Style{}), table.Cell{Value: int(size)}, table.Text(digest, table.Style{}))
	}
	return sheet, nil
}

// rasterOptions say how a raster is written.
type rasterOptions struct {
	forceOption
	savePlanOption
	Compress    string `opt:"compress" choose:"deflate,zstd,none" help:"<deflate>, zstd or none"`
	NoOverviews bool   `opt:"no-overviews" help:"write no reduced copies"`
}

// rasterOutput names the raster that is written.
type rasterOutput struct {
	Out string `opt:"out" out:"raster" help:"GeoTIFF <FILE> to write"`
	rasterOptions
}

// needOut refuses a command that writes a file without the name of one.
func needOut(s *session, out string) error {
	if out == "" {
		return usage("%s needs --out, the file to write", s.name)
	}
	return nil
}

// writeRaster stages a raster, and notes what was written.
func (s *session) writeRaster(path string, r *job.Raster, o rasterOptions) error {
	to := geotiff.Options{NoOverviews: o.NoOverviews, Threads: s.threads, SpillDir: folderOf(path), Values: r.Values, Describe: r.Describe}
	switch o.Compress {
	case "zstd":
		to.Compression = geotiff.Zstandard
	case "none":
		to.Compression = geotiff.Uncompressed
	}
	tell, end := s.Progress("writing")
	to.Progress = tell
	err := s.Write(path, func(w io.Writer) error { return geotiff.Write(s.ctx, w, r.Source, to) })
	end()
	if err != nil {
		return err
	}
	h := r.Header()
	nodata := "no nodata value"
	if h.NoData != nil {
		nodata = fmt.Sprintf("nodata %v", *h.NoData)
	}
	s.noteThen(fmt.Sprintf("%s: %s × %s cells of %s, %s, %v", path, text.Number(float64(h.Grid.Width), 0), text.Number(float64(h.Grid.Height), 0), h.Type, nodata, h.Grid.CRS))
	r.Done()
	return nil
}

// writeLegend stages the classes of a legend.
func (s *session) writeLegend(path string, classes []cover.Class) error {
	return s.Write(path, func(w io.Writer) error {
		rows := [][]string{{"code", "name", "color", "group"}}
		for _, c := range classes {
			rows = append(rows, []string{strconv.Itoa(c.Code), text.Guard(c.Name), text.Guard(c.Color.String()), text.Guard(c.Group)})
		}
		return csv.NewWriter(w).WriteAll(rows)
	})
}

// featuresOutput names the file of features that is written.
type featuresOutput struct {
	Out string `opt:"out" out:"features" help:"<FILE> to write: .geojson, .geojsonl, .gpkg, .shp or .parquet"`
	forceOption
	savePlanOption
}

// writeFeatures stages features as a file whose ending chooses the format, and notes how many and where.
func (s *session) writeFeatures(where string, l *vector.Layer) error {
	if err := s.stageFeatures(where, l); err != nil {
		return err
	}
	s.noteThen(where + ": " + text.Count(len(l.Features), "feature"))
	return nil
}

func (s *session) stageFeatures(where string, l *vector.Layer) error {
	path, layer := vectors.SplitOutput(where)
	if layer != "" {
		l.Name = layer
	}
	if l.Name == "" {
		l.Name = baseName(path)
	}
	ending := endingOf(path, ".geojson")
	if ending == ".gpkg" {
		at, err := s.changeTime()
		if err != nil {
			return err
		}
		if err := s.makeGeoPackage(path, geopackage.TableName(l), func(file string) error { return geopackage.Write(file, l, at) }); err != nil {
			return err
		}
	} else {
		parts, notes, err := vectors.Parts(named(path, "features", ".geojson"), l)
		if err != nil {
			return err
		}
		for _, p := range parts {
			if isStream(path) {
				p.Path = path
			}
			if err := s.Write(p.Path, p.Write); err != nil {
				return err
			}
		}
		s.notes(notes)
	}
	return nil
}

func baseName(path string) string {
	return strings.TrimSuffix(filepath.Base(path), filepath.Ext(path))
}
