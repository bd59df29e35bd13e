package cli

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/core/job"
	"github.com/verdex-land/verdex/core/text"
	"github.com/verdex-land/verdex/internal/book"
	"github.com/verdex-land/verdex/internal/output"
	"github.com/verdex-land/verdex/internal/plan"
)

func planCommand() *cli.Command {
	return &cli.Command{
		Name:  "plan",
		Usage: "write and read plans: new, show, schema, cache",
		Description: `A plan is a file that states a whole job: legend, zones, layers, epochs, checks and outputs. verdex check tests it, and
verdex run does it.

  verdex plan new maps              looks at the files in the folder maps and writes a plan for them
  verdex plan show maps/plan.yaml   the plan with all that it leaves out filled in`,
		Commands: []*cli.Command{newPlanCommand(), showPlanCommand(), schemaCommand(), cacheCommand()},
	}
}

type newPlanOptions struct {
	Folder []string `arg:"FOLDER"`
	forceOption
}

func newPlanCommand() *cli.Command {
	return command(cli.Command{
		Name:  "new",
		Usage: "look at the files in a folder and write a plan for them",
		Description: `Writes plan.yaml into the folder, with a legend and crosswalks to fill in where there are none, and the schema by which an editor
completes keys. Comments state what was found, and begin with DECIDE where something has to be decided.

  verdex plan new maps`,
	}, newPlan)
}

func newPlan(s *session, o *newPlanOptions) error {
	if len(o.Folder) != 1 {
		return usage("plan new takes one folder, and %s", text.Given(len(o.Folder)))
	}
	dir := o.Folder[0]
	if info, err := os.Stat(dir); err == nil && !info.IsDir() {
		return usage("%s: it is a file: name the folder with the data", dir)
	}
	draft, err := plan.NewDraft(s.ctx, job.Env{Threads: s.threads}, dir)
	if err != nil {
		return err
	}
	schema, err := plan.Schema(planCommands(newRoot(s.version, io.Discard, io.Discard)))
	if err != nil {
		return err
	}
	draft.Files = append(draft.Files, plan.DraftFile{Name: plan.SchemaName, Data: schema})
	for i, f := range draft.Files {
		path := filepath.Join(dir, f.Name)
		replace := o.Force && (i == 0 || f.Name == plan.SchemaName) || f.Name == plan.SchemaName && sameText(path, schema)
		if _, err := os.Stat(path); err == nil && i > 0 && f.Name != plan.SchemaName {
			s.Note(path + ": it exists and stays as it is")
			continue
		}
		if err := s.Claim(path, output.Rules{Replace: replace, Book: book.IsBook}); err != nil {
			return err
		}
		err := s.Write(path, func(w io.Writer) error { _, err := w.Write(f.Data); return err })
		if err != nil {
			return err
		}
	}
	if err := s.commit(); err != nil {
		return err
	}
	c := s.canvas()
	c.line(c.bold("What was found"))
	for _, l := range draft.Found {
		c.line("  " + l)
	}
	if len(draft.Decide) > 0 {
		c.line()
		c.line(c.bold("What has to be decided"), " (DECIDE in the plan)")
		for _, l := range draft.Decide {
			c.line("  " + l)
		}
	}
	c.line()
	c.line(c.bold("What was written"))
	for _, f := range draft.Files {
		c.line("  " + filepath.Join(dir, f.Name))
	}
	c.line()
	path := filepath.Join(dir, draft.Files[0].Name)
	c.line("Read the plan, then test it with ", c.bold("verdex check "+path), " and do it with ", c.bold("verdex run "+path)+".")
	return c.flush()
}

// sameText reports whether a file has a content.
func sameText(path string, data []byte) bool {
	old, err := os.ReadFile(path)
	return err == nil && string(old) == string(data)
}

type onePlan struct {
	Plan []string `arg:"PLAN" in:"plan"`
}

func showPlanCommand() *cli.Command {
	return command(cli.Command{
		Name:  "show",
		Usage: "a plan with all that it leaves out filled in",
		Description: `Shows each step with its command and all of its options, in the order in which a run does them.

  verdex plan show plan.yaml`,
	}, func(s *session, o *onePlan) error {
		p, _, err := s.openPlan(o.Plan)
		if err != nil {
			return planError(err)
		}
		b, err := p.YAML()
		if err != nil {
			return err
		}
		_, err = s.stdout.Write(b)
		return err
	})
}

type schemaOptions struct {
	Rest []string `arg:"-"` // it takes none
}

func schemaCommand() *cli.Command {
	return command(cli.Command{
		Name:  "schema",
		Usage: "the JSON Schema of plans",
		Description: `Prints the JSON Schema of plans, by which editors complete and test keys. A new plan names it in its first line.

  verdex plan schema > plan.schema.json`,
	}, func(s *session, o *schemaOptions) error {
		if len(o.Rest) > 0 {
			return usage("plan schema takes nothing, not %q", o.Rest[0])
		}
		b, err := plan.Schema(planCommands(newRoot(s.version, io.Discard, io.Discard)))
		if err != nil {
			return err
		}
		_, err = s.stdout.Write(b)
		return err
	})
}

type cacheOptions struct {
	Plan  []string `arg:"PLAN" in:"plan"`
	Empty bool     `opt:"empty" help:"remove what is kept"`
}

func cacheCommand() *cli.Command {
	return command(cli.Command{
		Name:  "cache",
		Usage: "what is kept between the runs of a plan",
		Description: `Shows how much the cache folder of a plan holds, or empties it. What is removed is measured again when it is needed; which outputs are
those of the plan is still known.

  verdex plan cache plan.yaml
  verdex plan cache plan.yaml --empty`,
	}, func(s *session, o *cacheOptions) error {
		p, _, err := s.openPlan(o.Plan)
		var problems plan.Problems
		if err != nil && (p == nil || !errors.As(err, &problems) || p.CacheDir == "") { // a plan that is wrong has a cache, too
			return planError(err)
		}
		store, err := plan.OpenExisting(p.CacheDir)
		if err != nil {
			return err
		}
		c := s.canvas()
		if store == nil {
			c.line(p.CacheDir, ": nothing is kept yet")
			return c.flush()
		}
		if o.Empty {
			if err := store.Lock(s.ctx, func() { s.Note(p.CacheDir + ": a run of the plan is at work; waiting until it has ended") }); err != nil {
				return err
			}
			err := store.Empty()
			if e := store.Close(); err == nil {
				err = e
			}
			if err != nil {
				return fmt.Errorf("%s: it could not be emptied (%w)", p.CacheDir, err)
			}
		}
		k := store.Contents()
		c.line(left("folder", 10), k.Dir)
		c.line(left("measured", 10), text.Count(k.Tallies, "tally"))
		c.line(left("steps", 10), text.Count(k.Steps, "step"))
		c.line(left("size", 10), size(k.Bytes), c.dim(" (at most "+size(p.CacheLimit)+" of tallies are kept)"))
		return c.flush()
	})
}

// savePlanOption names the plan of the command to write.
type savePlanOption struct {
	SavePlan string `opt:"save-plan" out:"plan" help:"write a plan that does the same to <FILE>, too"`
}

// savePlan stages the plan of a command, where it is asked for.
func (s *session) savePlan() error {
	path := given[string](s.options, plan.SaveOption)
	if path == "" {
		return nil
	}
	b, err := plan.Save(path, s.name, s.options)
	if err != nil {
		return err
	}
	return s.Write(path, func(w io.Writer) error { _, err := w.Write(b); return err })
}
