package cli

import (
	"context"
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/core/account"
	"github.com/verdex-land/verdex/core/vector"
	"github.com/verdex-land/verdex/core/vector/geopackage"
	vectors "github.com/verdex-land/verdex/core/vector/open"
	"github.com/verdex-land/verdex/internal/output"
	"github.com/verdex-land/verdex/internal/table"
)

func outputFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "out", Usage: "write to `FILE` instead of standard output; its ending (.csv, .json, .jsonl, .md, .html, .xlsx, .parquet, .gpkg) chooses the format"},
		&cli.StringFlag{Name: "format", Usage: "`table`, " + table.Formats},
		&cli.BoolFlag{Name: "force", Usage: "replace an output that exists"},
		&cli.IntFlag{Name: "digits", Value: -1, Usage: "decimals of numbers in files; -1 is full precision"},
	}
}

// destination is where a table goes.
type destination struct {
	path, format string
	digits       int
	stdout       io.Writer
	c            *cli.Command
	// For a spreadsheet: its sheets, unless it is the table as a list; and what the checks found.
	sheets func() []*table.Sheet
	checks []account.Check
}

// chooseOutput settles the output before any work is done, so that a wrong one costs nothing.
func chooseOutput(c *cli.Command) (*destination, error) {
	o := &destination{path: c.String("out"), format: c.String("format"), digits: c.Int("digits"), stdout: c.Root().Writer, c: c}
	if o.digits < -1 || o.digits > 15 {
		return nil, usage("--digits %d: give -1 (full precision) or 0 to 15", o.digits)
	}
	known, binary := table.Known(o.format)
	switch {
	case o.format == "" || known && !binary:
	case known:
		if o.path == "" {
			return nil, usage("--format %s is not for the terminal: name a file with --out", o.format)
		}
	case o.format == "table":
		if o.path != "" {
			return nil, usage("--format table is for reading on the terminal: choose %s for --out", table.Formats)
		}
	default:
		return nil, usage("--format %s is not known: choose table, %s", o.format, table.Formats)
	}
	if o.path == "" {
		if o.format == "" {
			o.format = "table"
		}
		return o, nil
	}
	if o.format == "" {
		var err error
		path, _ := vectors.SplitOutput(o.path)
		if o.format, err = table.FormatOf(path); err != nil {
			return nil, usageError{err}
		}
	}
	return o, nil
}

// destinationOf is the one that an option names.
func destinationOf(c *cli.Command, flag string) (*destination, error) {
	if flag == "out" {
		return chooseOutput(c)
	}
	o := &destination{path: c.String(flag), digits: -1, c: c}
	var err error
	if o.format, err = table.FormatOf(o.path); err != nil {
		return nil, usage("--%s %w", flag, err)
	}
	return o, nil
}

// metadataEnding is that of the file which describes a CSV, beside it, by the W3C's "CSV on the Web".
const metadataEnding = "-metadata.json"

// hasMetadata reports whether a description goes beside the file: beside a CSV that is no pipe.
func (o *destination) hasMetadata() bool {
	info, err := os.Stat(o.path)
	return o.format == "csv" && (err != nil || info.Mode().IsRegular())
}

// write hands a table over: a file is staged, standard output is written to when everything else is in its place.
func (o *destination) write(ctx context.Context, t *table.Table) error {
	collect(100) // a table may have a million rows, and most of what is made for them is garbage at once
	t.Digits = o.digits
	t.Stop = ctx.Err
	if o.path == "" {
		then(ctx, func() error { return t.Write(o.stdout, o.format) })
		return nil
	}
	f := filesOf(ctx)
	switch o.format {
	case "csv":
		err := f.Write(o.path, func(w io.Writer) error { return t.Write(w, "csv") })
		if err != nil || !o.hasMetadata() {
			return err
		}
		return f.Write(o.path+metadataEnding, func(w io.Writer) error { return t.Metadata(w, filepath.Base(o.path)) })
	case "gpkg":
		if path, layer := vectors.SplitOutput(o.path); layer != "" {
			t.Name = layer
			o.path = path
		}
		return makeGeoPackage(f, o.path, t.Layer())
	case "xlsx":
		return f.Write(o.path, o.workbook(t, f.Inputs()).Write)
	}
	return f.Write(o.path, func(w io.Writer) error { return t.Write(w, o.format) })
}

// makeGeoPackage stages a GeoPackage, with the other layers of the file that it replaces.
func makeGeoPackage(f *commandFiles, path string, l *vector.Layer) error {
	return f.Make(path, func(name string) error {
		if old := f.Old(path); old != "" {
			if there := geopackage.Contents(old); len(there) > 1 || len(there) == 1 && !geopackage.Has(there, geopackage.TableName(l)) {
				if err := os.Remove(name); err != nil {
					return err
				}
				if err := geopackage.Copy(old, name); err != nil {
					return err
				}
			}
		}
		err := geopackage.Write(name, l)
		if err != nil && (strings.Contains(err.Error(), "disk I/O error") || strings.Contains(err.Error(), "disk is full")) { // what SQLite says of it
			return output.Refused(errors.New("the disk is full or refuses to be written to"))
		}
		return err
	})
}

// workbook is a table as a spreadsheet: its sheets, what the checks found, and what it was made from.
func (o *destination) workbook(t *table.Table, inputs []output.Input) *table.Workbook {
	b := &table.Workbook{Title: t.Title, Author: "verdex " + o.c.Root().Version}
	if o.sheets != nil {
		b.Sheets = o.sheets()
	} else {
		b.Sheets = []*table.Sheet{t.Sheet()}
	}
	if o.checks != nil {
		b.Sheets = append(b.Sheets, checksTable(o.checks).Sheet())
	}
	b.Sheets = append(b.Sheets, provenanceSheet(o.c, inputs))
	return b
}
