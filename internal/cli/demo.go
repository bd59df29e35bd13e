package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/core/fault"
	"github.com/verdex-land/verdex/internal/book"
	"github.com/verdex-land/verdex/internal/demo"
	"github.com/verdex-land/verdex/internal/output"
)

func demoCommand() *cli.Command {
	c := command(cli.Command{
		Name:  "demo",
		Usage: "write the sample data, and do the whole job on it",
		Description: `Writes the sample world (an invented river basin in 2004, 2012 and 2020, with wards and
catchments) into a folder, verdex-demo by default, with a plan of the whole job, and runs the plan and
commands that turn it into answers, showing each before it runs.

  verdex demo
  verdex demo --files-only /tmp/orrin
  verdex demo serve`,
	}, runDemo)
	c.Commands = []*cli.Command{serveCommand()}
	return c
}

type serveOptions struct {
	Port int `opt:"port" default:"8790" least:"0" most:"65535" help:"<NUMBER> of the port; 0 takes one that is free"`
}

func serveCommand() *cli.Command {
	return command(cli.Command{
		Name:  "serve",
		Usage: "serve the sample data to this machine, until it is interrupted",
		Description: `Serves the sample world on the loopback address, as servers of such data do: files by ranges, a STAC catalog, and an OGC API - Features
collection. It is for trying how data that lie elsewhere are read.

  verdex demo serve
  verdex look http://127.0.0.1:8790/files/cover_2020.tif`,
	}, runServe)
}

func runServe(s *session, o *serveOptions) error {
	listener, err := net.Listen("tcp", net.JoinHostPort("127.0.0.1", strconv.Itoa(o.Port)))
	if err != nil {
		return fmt.Errorf("the port %d cannot be used (%w): choose another one with --port", o.Port, fault.Reason(err))
	}
	server := &http.Server{Handler: demo.Handler(), ReadHeaderTimeout: 10 * time.Second}
	stop := context.AfterFunc(s.ctx, func() { server.Close() })
	defer stop()
	out := s.canvas()
	base := "http://" + listener.Addr().String()
	for _, l := range [][2]string{{"files", base + "/files/"}, {"STAC catalog", base + "/stac"}, {"zones", base + "/features/collections/wards"}} {
		out.line(left(l[0], 14), l[1])
	}
	out.line()
	out.line("Interrupt it to end it.")
	if err := out.flush(); err != nil {
		return err
	}
	if err := server.Serve(listener); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	return nil
}

type demoOptions struct {
	Args      []string `arg:"[FOLDER]"`
	FilesOnly bool     `opt:"files-only" help:"write the files and run nothing"`
	Force     bool     `opt:"force" help:"replace files that have other content"`
}

// demoJob is what the demo runs; DIR stands for the folder.
var demoJob = []struct{ why, command string }{
	{"What is in the map of 2020?", "look DIR/cover_2020.tif --legend DIR/legend.csv"},
	{"2012 comes in four overlapping tiles. What is the 0 along their border?", "look DIR/cover_2012_a.tif"},
	{"The whole job is stated in one file. Is anything wrong with it?", "check DIR/orrin.yaml"},
	{"Do all of it: three epochs in three sets of zones, in one pass over each map:", "run DIR/orrin.yaml"},
	{"Again: what did not change is not made again:", "run DIR/orrin.yaml --only matrix"},
	{"Where does one number come from?", "explain DIR/orrin.yaml --zone W3 --class Wetland --epoch 2020"},
	{"Each step is a command that can be typed. How much of each class does each ward hold?", "measure DIR/cover_2020.tif --zones DIR/wards.geojson --zone-id code --legend DIR/legend.csv --epoch 2020"},
	{"What changed in the wards, and does it balance?", "change --epoch 2004=DIR/cover_2004.tif --epoch 2020=DIR/cover_2020.tif --crosswalk 2004=DIR/codes_2004.csv --zones DIR/wards.geojson --zone-id code --legend DIR/legend.csv"},
	{"An extent account, with additions and reductions that are managed or not:", "account extent DIR/results/matrix.csv --legend DIR/legend.csv --flows DIR/flows.csv"},
	{"How accurate is the map of 2020? A survey of 410 points answers:", "account accuracy DIR/samples_2020.csv --cover DIR/cover_2020.tif --legend DIR/legend.csv"},
	{"The book remembers who posted what, when, and from which inputs. Does all of it add up?", "book list DIR/orrin.book"},
	{"", "book verify DIR/orrin.book"},
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
	out := s.canvas()
	out.line("The basin of the Orrin Firth, an invented place, is in ", out.bold(dir), ": ", strings.Join(demo.Files(), ", "), ".")
	if o.FilesOnly {
		return out.flush()
	}
	if err := out.flush(); err != nil {
		return err
	}
	number := 0
	for _, step := range demoJob {
		if step.why != "" {
			number++
			out.line()
			out.line(out.bold(fmt.Sprintf("%d. %s", number, step.why)))
		}
		out.whole(out.dim("$ verdex " + strings.ReplaceAll(step.command, "DIR", dir)))
		if err := out.flush(); err != nil {
			return err
		}
		args := []string{"verdex"}
		if s.quiet {
			args = append(args, "--quiet")
		}
		if s.color != "" {
			args = append(args, "--color", s.color)
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
	out.line(out.bold("Where to look"))
	for _, l := range [][2]string{{"orrin.yaml", "the plan, which uses every section that a plan can have"}, {"results", "its tables, a map of change, a spreadsheet, wards with their areas, a package to publish"},
		{"results/orrin.record.json", "the record of the run: inputs, options, outputs, checks"}, {"orrin.book", "the book, with all postings"}} {
		out.line("  ", left(filepath.Join(dir, filepath.FromSlash(l[0])), len(dir)+30), l[1])
	}
	return out.flush()
}
