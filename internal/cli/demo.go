package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/internal/book"
	"github.com/verdex-land/verdex/internal/demo"
	"github.com/verdex-land/verdex/internal/output"
)

func demoCommand() *cli.Command {
	return command(cli.Command{
		Name:  "demo",
		Usage: "write the sample data, and do the whole job on it",
		Description: `Writes the sample world (an invented river basin in 2004, 2012 and 2020, with wards and
catchments) into a folder, verdex-demo by default, and runs the commands that turn it into answers,
showing each before it runs.

  verdex demo
  verdex demo --files-only /tmp/orrin`,
	}, runDemo)
}

type demoOptions struct {
	Args      []string `arg:"[FOLDER]"`
	FilesOnly bool     `opt:"files-only" help:"write the files and run nothing"`
	Force     bool     `opt:"force" help:"replace files that have other content"`
}

// demoJob is what the demo runs; DIR stands for the folder.
var demoJob = []struct{ why, command string }{
	{"What is in the map of 2020?", "look DIR/cover_2020.tif --legend DIR/legend.csv"},
	{"How much of each class does each ward hold?", "measure DIR/cover_2020.tif --zones DIR/wards.geojson --zone-id code --legend DIR/legend.csv --epoch 2020"},
	{"2004 has codes of its own; a crosswalk puts them into the classes. As a table for others:", "measure DIR/cover_2004.tif --zones DIR/catchments.geojson --zone-id id --legend DIR/legend.csv --crosswalk DIR/codes_2004.csv --epoch 2004 --out DIR/extents_2004.csv --force"},
	{"What changed in the wards, and does it balance?", "change --epoch 2004=DIR/cover_2004.tif --epoch 2020=DIR/cover_2020.tif --crosswalk 2004=DIR/codes_2004.csv --zones DIR/wards.geojson --zone-id code --legend DIR/legend.csv"},
	{"2012 comes in four overlapping tiles. What is the 0 along their border?", "look DIR/cover_2012_a.tif"},
	{"Named together the tiles are one raster, nothing is written in between:", "change --epoch 2012=DIR/cover_2012_?.tif --nodata 2012=0 --epoch 2020=DIR/cover_2020.tif --legend DIR/legend.csv"},
	{"All three epochs in one pass, from what to what in the whole basin, as a table:", "change --epoch 2004=DIR/cover_2004.tif --epoch 2012=DIR/cover_2012_?.tif --epoch 2020=DIR/cover_2020.tif --crosswalk 2004=DIR/codes_2004.csv --nodata 2012=0 --legend DIR/legend.csv --table matrix --out DIR/matrix.csv --force"},
	{"An extent account of that, with additions and reductions that are managed or not:", "account extent DIR/matrix.csv --legend DIR/legend.csv --flows DIR/flows.csv"},
	{"Which processes moved the ground?", "account flows DIR/matrix.csv --flows DIR/flows.csv"},
	{"How accurate is the map of 2020? A survey of 410 points answers:", "account accuracy DIR/samples_2020.csv --cover DIR/cover_2020.tif --legend DIR/legend.csv"},
	{"A book remembers who posted what, when, and from which inputs:", "book create DIR/orrin.book"},
	{"The tables made so far go in; the same again would be recognised:", "book post DIR/orrin.book DIR/matrix.csv --account basin --legend DIR/legend.csv"},
	{"", "book post DIR/orrin.book DIR/extents_2004.csv --account catchments --zone-set catchments --legend DIR/legend.csv"},
	{"What does the book hold, and does all of it add up?", "book list DIR/orrin.book"},
	{"", "book verify DIR/orrin.book"},
	{"As a spreadsheet whose sums and balances are formulas:", "book export DIR/orrin.book --out DIR/accounts.xlsx --force"},
}

// writeWorld writes the sample files, all or none. A file that is there with the same content stays.
func (s *session) writeWorld(dir string, force bool) error {
	if err := s.Folder(dir); err != nil {
		return err
	}
	for _, name := range demo.Files() {
		data, err := demo.File(name)
		if err != nil {
			return err
		}
		path := filepath.Join(dir, name)
		if old, err := os.ReadFile(path); err == nil {
			if string(old) == string(data) {
				continue
			}
			if !force {
				return fmt.Errorf("%s: it exists with other content: choose another folder, or replace it with --force", path)
			}
		}
		if err := s.Claim(path, output.Rules{Replace: force, Book: book.IsBook}); err != nil {
			return err
		}
		err = s.Write(path, func(w io.Writer) error {
			_, err := w.Write(data)
			return err
		})
		if err != nil {
			return err
		}
	}
	return s.commit()
}

func runDemo(s *session, o *demoOptions) error {
	if len(o.Args) > 1 {
		return usage("demo takes one folder, but %d were given", len(o.Args))
	}
	dir := "verdex-demo"
	if len(o.Args) == 1 {
		dir = o.Args[0]
	}
	if err := s.writeWorld(dir, o.Force); err != nil {
		return err
	}
	out := newCanvas(s.stdout)
	out.line("The basin of the Orrin Firth, an invented place, is in ", out.bold(dir), ": ", strings.Join(demo.Files(), ", "), ".")
	if o.FilesOnly {
		return out.flush()
	}
	if err := out.flush(); err != nil {
		return err
	}
	number := 0
	there := book.IsBook(filepath.Join(dir, "orrin.book"))
	for _, step := range demoJob {
		if there && strings.HasPrefix(step.command, "book create") {
			continue // what is posted again is recognised
		}
		if step.why != "" {
			number++
			out.line()
			out.line(out.bold(fmt.Sprintf("%d. %s", number, step.why)))
		}
		out.line(out.dim("$ verdex " + strings.ReplaceAll(step.command, "DIR", dir)))
		if err := out.flush(); err != nil {
			return err
		}
		args := []string{"verdex"}
		if s.quiet {
			args = append(args, "--quiet")
		}
		for _, a := range strings.Fields(step.command) {
			if rest, ok := strings.CutPrefix(a, "DIR/"); ok {
				a = filepath.Join(dir, rest)
			} else if label, rest, ok := strings.Cut(a, "=DIR/"); ok {
				a = label + "=" + filepath.Join(dir, rest)
			}
			args = append(args, a)
		}
		if err := newRoot(s.version, s.stdout, s.w).Run(context.WithValue(s.ctx, argumentsKey{}, args), args); err != nil {
			return err
		}
	}
	out.line()
	out.line("The tables are in ", out.bold(filepath.Join(dir, "extents_2004.csv")), " and ", out.bold(filepath.Join(dir, "matrix.csv")), ", the book is ",
		out.bold(filepath.Join(dir, "orrin.book")), ", and ", out.bold(filepath.Join(dir, "accounts.xlsx")), " is a spreadsheet of it.")
	return out.flush()
}
