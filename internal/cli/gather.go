package cli

import (
	"path/filepath"
	"reflect"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/option"
	"github.com/verdex-land/verdex/internal/output"
)

// gatherOptions are those of gather.
type gatherOptions struct {
	Parts        []string `arg:"PART..." in:"part"`
	Watch        bool     `opt:"watch" help:"wait until all parts are there"`
	tableOptions `group:"output"`
}

func gatherCommand() *cli.Command {
	return command(cli.Command{
		Name:  "gather",
		Usage: "parts of a job into what one run makes",
		Description: `Adds up the parts that measure, change or run have written with --part, and does the rest of their job: the table, the checks, the
posting and whatever else its options say. The outcome is that of one run, bit for bit. Parts that are missing, doubled, damaged, of another
version of the program or of another job are named, and nothing is made of them. The inputs are opened again, in the same folder, but no cells are read
(but for a map of change).

  for i in 1 2 3 4; do verdex measure cover.tif --zones wards.geojson --zone-id code --part $i/4 --out part-$i; done
  verdex gather part-* --out extents.csv
  verdex gather "parts/*" --watch --out extents.csv`,
	}, runGather)
}

func runGather(s *session, o *gatherOptions) error {
	if len(o.Parts) == 0 {
		return usage("no part is named: name the files that measure or change has written with --part")
	}
	find := func() (out []string, err error) {
		for _, p := range o.Parts {
			found := []string{p}
			if !files.Exists(files.Disk, p) {
				if found, err = filepath.Glob(p); err != nil {
					return nil, usage("the pattern %q is not valid (%w)", p, err)
				}
				if len(found) == 0 && !o.Watch {
					found = []string{p} // reading it says what is wrong
				}
			}
			for _, f := range found {
				if !strings.HasPrefix(filepath.Base(f), output.Prefix) && !slices.Contains(out, f) { // not one that is being written
					out = append(out, f)
				}
			}
		}
		return out, nil
	}
	parts, err := s.readParts(find, o.Watch)
	if err != nil {
		return err
	}
	if err := checkParts(parts, "verdex "+s.version); err != nil {
		return err
	}
	root := newRoot(s.version, s.stdout, s.w)
	c := root.Command(parts[0].Command)
	options := reflect.New(reflect.TypeOf(c.Metadata[optionsKey]).Elem()).Interface()
	option.Fill(options)
	if err := setOptions(options, parts[0].Options); err != nil {
		return err
	}
	if parts[0].Command == "run" {
		if o.Out != "" || o.Format != "" {
			return usage("--out and --format are not for the parts of a plan, which says where its outputs go")
		}
		of := options.(*runOptions)
		if err := s.gatherPlan(parts, of); err != nil {
			return err
		}
		of.Force = o.Force
	}
	for _, own := range option.Of(o) { // where the table goes is for all parts together
		if own.Argument != "" || !partOptions[own.Name] {
			continue
		}
		for _, its := range option.Of(options) {
			if its.Name == own.Name && its.Argument == "" {
				its.Set(options, own.Get(o))
			}
		}
	}
	temporaries, ok := s.ctx.Value(temporariesKey{}).(*output.Temporaries)
	if !ok {
		temporaries = &output.Temporaries{}
	}
	job := &session{reporter: s.reporter, commandFiles: &commandFiles{Job: output.New(s.ctx, temporaries)}, ctx: s.ctx, system: s.system, remote: s.remote, name: parts[0].Command, options: options,
		stdout: s.stdout, version: s.version, threads: s.threads, color: s.color}
	if parts[0].Command != "run" {
		job.counter = &gatherCounter{parts: parts}
	}
	job.commandFiles.Stdout = s.commandFiles.Stdout
	do := commandOf(root, parts[0].Command)
	return job.withFiles(func(s *session) error {
		if parts[0].Command != "run" { // a plan is measured again where an input was changed
			if err := s.sameInputsAsParts(parts[0]); err != nil {
				return err
			}
		}
		return do(s, options)
	})
}
