package cli

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"syscall"

	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/core/account"
	"github.com/verdex-land/verdex/core/fault"
	"github.com/verdex-land/verdex/internal/table"
)

var outputFlags = []cli.Flag{
	&cli.StringFlag{Name: "out", Usage: "write to `FILE` instead of standard output; its ending (.csv, .json, .jsonl, .md, .html, .xlsx, .parquet, .gpkg) chooses the format"},
	&cli.StringFlag{Name: "format", Usage: "`table`, " + table.Formats},
	&cli.BoolFlag{Name: "force", Usage: "replace an output that exists"},
	&cli.IntFlag{Name: "digits", Value: -1, Usage: "decimals of numbers in files; -1 is full precision"},
}

// output is where results go.
type output struct {
	path, format string
	digits       int
	stdout       io.Writer
	c            *cli.Command
	// For a spreadsheet: its sheets, unless it is the table as a list; and what the checks found.
	sheets func() []*table.Sheet
	checks []account.Check
}

// chooseOutput settles the output before any work is done, so that a wrong one costs nothing.
func chooseOutput(c *cli.Command) (*output, error) {
	o := &output{path: c.String("out"), format: c.String("format"), digits: c.Int("digits"), stdout: c.Root().Writer, c: c}
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
		if o.format, err = table.FormatOf(o.path); err != nil {
			return nil, usageError{err}
		}
	}
	return o, o.checkNew(c.Bool("force"))
}

// checkNew refuses files that exist.
func (o *output) checkNew(force bool) error {
	if err := checkNew(o.path, force); err != nil || o.format != "csv" {
		return err
	}
	return checkNew(o.path+metadataEnding, force)
}

// metadataEnding is that of the file which describes a CSV, beside it, by the W3C's "CSV on the Web".
const metadataEnding = "-metadata.json"

// checkNew refuses an output that exists or whose folder cannot take it.
func checkNew(path string, force bool) error {
	if info, err := os.Stat(path); err == nil {
		if info.IsDir() {
			return fmt.Errorf("%s: it is a folder: name a file in it", path)
		}
		if !force {
			return fmt.Errorf("%s: it exists already: choose another name, or replace it with --force", path)
		}
	}
	f, err := os.CreateTemp(filepath.Dir(path), ".verdex-*")
	if err != nil {
		return fmt.Errorf("%s: its folder cannot be written to (%w): choose another place", path, fault.Reason(err))
	}
	f.Close()
	return os.Remove(f.Name())
}

// write hands a table over.
func (o *output) write(t *table.Table) error {
	collect(100) // a table may have a million rows, and most of what is made for them is garbage at once
	t.Digits = o.digits
	if o.path == "" {
		return t.Write(o.stdout, o.format)
	}
	switch o.format {
	case "csv":
		return writeFiles([]fileToWrite{
			{o.path, filled(func(w io.Writer) error { return t.Write(w, "csv") })},
			{o.path + metadataEnding, filled(func(w io.Writer) error { return t.Metadata(w, filepath.Base(o.path)) })},
		})
	case "gpkg":
		return writeFiles([]fileToWrite{{o.path, t.WriteGeoPackage}})
	case "xlsx":
		return writeFile(o.path, o.workbook(t).Write)
	}
	return writeFile(o.path, func(w io.Writer) error { return t.Write(w, o.format) })
}

// workbook is a table as a spreadsheet: its sheets, what the checks found, and what it was made from.
func (o *output) workbook(t *table.Table) *table.Workbook {
	b := &table.Workbook{Title: t.Title, Author: "verdex " + o.c.Root().Version}
	if o.sheets != nil {
		b.Sheets = o.sheets()
	} else {
		b.Sheets = []*table.Sheet{t.Sheet()}
	}
	if o.checks != nil {
		b.Sheets = append(b.Sheets, checksTable(o.checks).Sheet())
	}
	b.Sheets = append(b.Sheets, provenanceSheet(o.c))
	return b
}

// writeFile writes a file whole or not at all: into a temporary file beside it, which takes its
// name only when all is written.
func writeFile(path string, fill func(io.Writer) error) (err error) {
	f, err := os.CreateTemp(filepath.Dir(path), ".verdex-*")
	if err != nil {
		return fmt.Errorf("%s: its folder cannot be written to (%w): choose another place", path, fault.Reason(err))
	}
	marked := &markedWriter{w: f}
	defer func() {
		if err == nil {
			return
		}
		f.Close()
		os.Remove(f.Name())
		if marked.failed || errors.Is(err, syscall.ENOSPC) {
			err = fmt.Errorf("%s: it could not be written (%w), and nothing was left behind: make room there, or choose another place", path, fault.Reason(err))
		}
	}()
	b := bufio.NewWriterSize(marked, 1<<16)
	if err := fill(b); err != nil {
		return err
	}
	if err := b.Flush(); err != nil {
		return err
	}
	marked.failed = true // what fails from here on is the file's fault
	if err := f.Chmod(0o644); err != nil {
		return err
	}
	if err := f.Close(); err != nil {
		return err
	}
	return os.Rename(f.Name(), path)
}

// filled is a function that writes a file under a name, by one that fills it.
func filled(fill func(io.Writer) error) func(path string) error {
	return func(path string) error {
		f, err := os.Create(path)
		if err != nil {
			return err
		}
		b := bufio.NewWriterSize(f, 1<<16)
		if err = fill(b); err == nil {
			err = b.Flush()
		}
		if e := f.Close(); err == nil {
			err = e
		}
		return err
	}
}

// fileToWrite is a file and the function that writes it under another name.
type fileToWrite struct {
	path  string
	write func(path string) error
}

// writeFiles writes files that belong together, all or none: into temporary files beside them, which take their names
// only when all are written.
func writeFiles(files []fileToWrite) (err error) {
	var temporary []string
	defer func() {
		for _, t := range temporary { // those that have been renamed are gone
			os.Remove(t)
		}
	}()
	for _, file := range files {
		f, err := os.CreateTemp(filepath.Dir(file.path), ".verdex-*")
		if err != nil {
			return fmt.Errorf("%s: its folder cannot be written to (%w): choose another place", file.path, fault.Reason(err))
		}
		temporary = append(temporary, f.Name())
		f.Close()
		if err = file.write(f.Name()); err == nil {
			err = os.Chmod(f.Name(), 0o644)
		}
		if err != nil {
			return fmt.Errorf("%s: it could not be written (%w), and nothing was left behind: make room there, or choose another place", file.path, fault.Reason(err))
		}
	}
	for i, file := range files {
		if err := os.Rename(temporary[i], file.path); err != nil {
			return err
		}
	}
	return nil
}

// markedWriter remembers that writing failed, so that a message can tell it from a failure to make what is
// written.
type markedWriter struct {
	w      io.Writer
	failed bool
}

func (m *markedWriter) Write(b []byte) (int, error) {
	n, err := m.w.Write(b)
	m.failed = m.failed || err != nil
	return n, err
}
