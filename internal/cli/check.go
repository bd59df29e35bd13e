package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/core/check"
	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/fault"
	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/job"
	"github.com/verdex-land/verdex/core/option"
	"github.com/verdex-land/verdex/core/tally"
	"github.com/verdex-land/verdex/core/text"
	"github.com/verdex-land/verdex/internal/book"
	"github.com/verdex-land/verdex/internal/output"
	"github.com/verdex-land/verdex/internal/plan"
)

type checkOptions struct {
	Plan []string `arg:"PLAN" in:"plan"`
	strictOption
}

func checkCommand() *cli.Command {
	return command(cli.Command{
		Name:  "check",
		Usage: "test a plan without measuring",
		Description: `Finds everything that is wrong with a plan and can be known without measuring, all at once, each with the place in the file
and what to do: files that are missing, fields that zones do not have, rasters that do not lie on one grid, values that a crosswalk
does not list in a sample of blocks, zones outside the rasters, outputs that exist.

  verdex check plan.yaml`,
	}, checkPlan)
}

func checkPlan(s *session, o *checkOptions) error {
	p, record, err := s.openPlan(o.Plan)
	if record != nil {
		return usage("%s: it is the record of a run, and verdex run %s does it again: name the plan itself", o.Plan[0], o.Plan[0])
	}
	var problems plan.Problems
	if err != nil && !errors.As(err, &problems) {
		return err
	}
	if err == nil {
		k := &planCheck{session: s, plan: p}
		if err := k.all(); err != nil {
			return err
		}
		problems = k.problems
	}
	if err := s.ctx.Err(); err != nil {
		return err
	}
	return s.showProblems(p, o, problems)
}

// mostShown is how many problems are shown.
const mostShown = 40

// showProblems lists problems with the lines in which they stand.
func (s *session) showProblems(p *plan.Plan, o *checkOptions, problems plan.Problems) error {
	c := s.canvas()
	wrong, warnings := 0, 0
	lines, err := s.system.ReadFile(o.Plan[0])
	if err != nil {
		return err
	}
	for i, k := range problems {
		if i == mostShown {
			c.line(fmt.Sprintf("and %d more", len(problems)-i))
			c.line()
		}
		what := c.bold("problem")
		if k.Warning {
			what = "warning"
			warnings++
		} else {
			wrong++
		}
		if i >= mostShown {
			continue
		}
		at := k.Path
		if k.Line > 0 {
			at = fmt.Sprintf("%s:%d:%d", k.Path, k.Line, k.Column)
		}
		c.line(c.bold(at) + "  " + what)
		for _, l := range strings.Split(wrapped(k.Text, c.width-4), "\n") {
			c.line("    " + l)
		}
		if excerpt, column := k.Excerpt(lines, c.width-8); excerpt != "" {
			number := fmt.Sprintf("%5d", k.Line)
			c.whole(c.dim(number+" │ ") + strings.ReplaceAll(excerpt, "\t", " "))
			c.whole(c.dim("      │ ") + strings.Repeat(" ", max(0, column-1)) + c.bold("^"))
		}
		c.line()
	}
	switch {
	case wrong > 0:
		c.line(text.Count(wrong, "problem"), also(warnings))
	default:
		sets := "the whole raster as the one zone"
		if n := len(p.Zones); n > 0 {
			sets = text.Count(n, "set") + " of zones"
		}
		outputs := 0
		for _, step := range p.Steps {
			if !step.Hidden {
				outputs++
			}
		}
		c.line(o.Plan[0], ": nothing is wrong", also(warnings), ". ", text.Count(outputs, "output"), " of ", text.Count(len(p.Epochs), "epoch"), " and ", sets, ": ",
			c.bold("verdex run "+o.Plan[0]), " makes them")
	}
	if err := c.flush(); err != nil {
		return err
	}
	switch {
	case wrong > 0:
		return errSilent
	case warnings > 0 && o.Strict:
		return errStrict
	}
	return nil
}

func also(warnings int) string {
	if warnings == 0 {
		return ""
	}
	return ", and " + text.Count(warnings, "warning")
}

// errSilent is the error of a command that has shown what is wrong.
var errSilent = errors.New("")

// planCheck is a plan while it is checked.
type planCheck struct {
	*session
	plan     *plan.Plan
	problems plan.Problems
}

func (k *planCheck) add(step *plan.Step, err error, warning bool) {
	option := ""
	var f *fault.Error
	if errors.As(err, &f) {
		option = f.Option
	}
	one := k.plan.ProblemOf(step, err, option)
	one.Warning = warning
	for _, p := range k.problems {
		if errors.Is(err, os.ErrNotExist) && p.Line == one.Line && p.Line > 0 { // reported as missing
			return
		}
		if p.Text == one.Text || p.Line == one.Line && p.Column == one.Column && strings.Contains(one.Text, p.Text) {
			return
		}
	}
	k.problems = k.problems.Add(one)
}

func (k *planCheck) all() error {
	k.problems = k.plan.Missing()
	store, err := plan.OpenExisting(k.plan.CacheDir)
	if err != nil {
		return err
	}
	k.legends()
	k.zones()
	for _, step := range k.plan.Steps {
		if err := k.ctx.Err(); err != nil {
			return err
		}
		k.outputs(step, store)
		k.dry(step)
	}
	k.values()
	return nil
}

// zones reads the sets of zones, whatever is wrong with the rasters.
func (k *planCheck) zones() {
	ids, wrong := zoneIDs(k.ctx, k.plan)
	for step, err := range wrong {
		k.add(step, err, false)
	}
	for _, step := range k.plan.Steps {
		path := given[string](step.Options, "control")
		if path == "" {
			continue
		}
		for _, text := range strayTotals(k.plan, path, ids) {
			k.add(step, errors.New(text), false)
		}
		break
	}
}

// zoneIDs are the ids of all zones of a plan, and what is wrong with a step's zones.
func zoneIDs(ctx context.Context, p *plan.Plan) (ids map[string]bool, wrong map[*plan.Step]error) {
	ids, wrong = map[string]bool{}, map[*plan.Step]error{}
	seen := map[string]bool{}
	for _, step := range p.Steps {
		var o job.ZoneOptions
		switch of := step.Options.(type) {
		case *measureOptions:
			o = of.ZoneOptions
		case *changeOptions:
			o = of.ZoneOptions
		default:
			continue
		}
		if seen[o.Zones+" "+step.Zones] {
			continue
		}
		seen[o.Zones+" "+step.Zones] = true
		if o.Zones == "" {
			ids["all"] = true
			continue
		}
		list, err := job.ProbeZones(ctx, job.Env{Files: p.From, Maker: plan.Maker{Plan: p}}, o)
		if err != nil {
			wrong[step] = err
		}
		for _, id := range list {
			ids[id] = true
		}
	}
	return ids, wrong
}

// strayTotals finds control totals that are about no zone and no epoch of a plan: nothing would be compared with them.
func strayTotals(p *plan.Plan, path string, ids map[string]bool) (out []string) {
	controls, _, err := check.ReadControls(p.From, path)
	if err != nil {
		return nil // reported by the steps
	}
	var labels []string
	for _, e := range p.Epochs {
		labels = append(labels, e.Label)
	}
	for _, c := range controls {
		if c.Zone != "" && !ids[c.Zone] {
			out = append(out, fmt.Sprintf("%s: a total is about the zone %s, which no set of zones has: correct its zone_id", path, c.Zone))
		}
		if c.Epoch != "" && !slices.Contains(labels, c.Epoch) {
			out = append(out, fmt.Sprintf("%s: a total is about the epoch %s, and the epochs are %s: correct its epoch", path, c.Epoch, strings.Join(labels, ", ")))
		}
	}
	return out
}

// legends reads the legends for classes without a colour.
func (k *planCheck) legends() {
	seen := map[string]bool{}
	for _, step := range k.plan.Steps {
		path := given[string](step.Options, "legend")
		if path == "" || seen[path] {
			continue
		}
		seen[path] = true
		l, err := cover.ReadLegend(k.system, path)
		if err != nil {
			if _, e := os.Stat(path); e == nil {
				k.add(step, err, false)
			}
			continue
		}
		if n := len(l.Shaded); n > 0 {
			k.add(step, fmt.Errorf("%s: %s no colour (%s), so the program chooses: fill in the column color", path, have(n, "class"), text.List(l.Shaded, 5)), true)
		}
	}
}

// have is a number of things that have something.
func have(n int, what string) string {
	if n == 1 {
		return "1 " + what + " has"
	}
	return text.Count(n, what) + " have"
}

// outputs finds outputs that exist and that the plan has not written.
func (k *planCheck) outputs(step *plan.Step, store *plan.Store) {
	if step.Hidden {
		return
	}
	for _, w := range step.Writes() {
		info, err := os.Stat(w)
		if err != nil || store != nil && store.Wrote(w) || given[bool](step.Options, "force") {
			continue
		}
		if info.IsDir() && given[string](step.Options, "package") == w {
			continue
		}
		k.add(step, fmt.Errorf("%s: it exists already, and this plan has not written it, or it was changed since: choose another name, move it away, or run the plan with --force", w), false)
	}
}

// errDry ends a step before it measures.
var errDry = errors.New("measuring is not for a check")

// dryCounter ends a step that wants to measure, and notes zones that lie beyond the raster.
type dryCounter struct{ outside *[]string }

func (d dryCounter) Count(_ context.Context, requests []tally.Keyed) ([]*tally.Tally, []error) {
	var wholly, partly []string
	for i, o := range requests[0].Placement.Outlines {
		switch z := requests[0].Zones.Zones[i]; {
		case len(o.Rings) == 0:
			wholly = append(wholly, z.ID)
		case o.Outside > o.Area*check.Defaults["inside"]/100:
			partly = append(partly, fmt.Sprintf("%s (%.1f %%)", z.ID, o.Outside/o.Area*100))
		}
	}
	source := requests[0].Zones.Source
	if n := len(wholly); n == 1 {
		*d.outside = append(*d.outside, fmt.Sprintf("%s: 1 zone lies wholly outside the raster: %s", source, wholly[0]))
	} else if n > 1 {
		*d.outside = append(*d.outside, fmt.Sprintf("%s: %s lie wholly outside the raster: %s", source, text.Count(n, "zone"), text.List(wholly, 5)))
	}
	if n := len(partly); n == 1 {
		*d.outside = append(*d.outside, fmt.Sprintf("%s: 1 zone lies partly outside the raster: %s", source, partly[0]))
	} else if n > 1 {
		*d.outside = append(*d.outside, fmt.Sprintf("%s: %s lie partly outside the raster: %s", source, text.Count(n, "zone"), text.List(partly, 5)))
	}
	errs := make([]error, len(requests))
	for i := range errs {
		errs[i] = errDry
	}
	return make([]*tally.Tally, len(requests)), errs
}

func (dryCounter) Digest(path string) (string, error) {
	if files.IsURL(path) { // opening it finds out
		return path, nil
	}
	_, err := os.Stat(path)
	return path, err
}

// dry does what a step does before it measures: it opens its files, and finds out how they fit together.
func (k *planCheck) dry(step *plan.Step) {
	switch step.Command {
	case "measure", "change", "account accuracy":
	default:
		return
	}
	if len(step.Needs) > 0 || given[string](step.Options, "class-field") != "" { // nothing is measured of polygons, but all is read
		return
	}
	options := plan.Clone(step.Options)
	if b := step.Posts(); b != "" && b == k.plan.Book && !book.IsPostgres(b) {
		if _, err := os.Stat(b); err != nil { // a run makes it
			for _, o := range option.Of(options) {
				switch o.Name {
				case "post", "account", "zone-set", "author", "note":
					o.Set(options, "")
				case "supersede":
					o.Set(options, false)
				}
			}
		}
	}
	log := &reporter{w: io.Discard, run: &reporter{w: io.Discard, quiet: true}}
	s := &session{reporter: log, commandFiles: &commandFiles{Job: output.New(k.ctx, &output.Temporaries{})}, ctx: k.ctx, system: k.system, remote: k.remote, name: step.Command,
		options: options, stdout: io.Discard, version: k.version, threads: k.threads}
	var outside []string
	s.plan = &planned{counter: dryCounter{&outside}, maker: plan.Maker{Plan: k.plan}, owns: func(string) bool { return true }}
	defer s.Discard()
	do := commandOf(newRoot(k.version, io.Discard, io.Discard), step.Command)
	err := do(s, s.options)
	if err != nil && !errors.Is(err, errDry) && k.ctx.Err() == nil {
		k.add(step, err, false)
	}
	for _, w := range append(log.said.warnings, outside...) {
		k.add(step, errors.New(w), true)
	}
}

// values looks for values that a crosswalk or a legend does not know, in a sample of blocks of each epoch.
func (k *planCheck) values() {
	seen := map[string]bool{}
	for _, step := range k.plan.Steps {
		m, ok := step.Options.(*measureOptions)
		if !ok || m.Rules != "" || m.ClassField != "" || m.Legend == "" && m.Crosswalk == "" || len(m.Covers) == 0 {
			continue
		}
		key := strings.Join(m.Covers, "\n") + "\n" + m.Crosswalk + "\n" + m.Legend
		if seen[key] {
			continue
		}
		seen[key] = true
		env := job.Env{Threads: k.threads, Files: k.system, Maker: plan.Maker{Plan: k.plan}}
		probe, err := job.ProbeCover(k.ctx, env, job.ProbeOptions{Covers: m.Covers, Crosswalk: m.Crosswalk, RasterOptions: m.RasterOptions, OverrideOption: m.OverrideOption, LegendOption: m.LegendOption})
		if err != nil {
			continue // reported above
		}
		where := "it holds"
		if !probe.All {
			where = fmt.Sprintf("%s of it hold", text.Count(probe.Blocks, "block"))
		}
		if n := len(probe.NoLine); n > 0 {
			k.add(step, fmt.Errorf("%s: the crosswalk has no line for %s, which %s %s: add lines for them, or one for else", m.Crosswalk, valuesText(probe.NoLine), probe.Name, strings.TrimPrefix(where, "it ")), false)
		}
		if n := len(probe.Unlisted); n > 0 {
			k.add(step, fmt.Errorf("%s: %s %s, which %s does not list, so they are counted as unlisted: add classes, or a crosswalk", probe.Name, where, valuesText(probe.Unlisted), m.Legend), true)
		}
	}
}

// wrapped breaks a text between words into lines of a width.
func wrapped(text string, width int) string { return (&reporter{width: width}).wrap(text, 0) }

func valuesText(values []float64) string {
	var list []string
	for _, v := range values {
		list = append(list, cover.ValueText(v))
	}
	if len(list) == 1 {
		return "the value " + list[0]
	}
	return "the values " + text.List(list, 12)
}

// commandOf is what a command does.
func commandOf(root *cli.Command, name string) func(*session, any) error {
	for _, word := range strings.Fields(name) {
		root = root.Command(word)
	}
	return root.Metadata[doKey].(func(*session, any) error)
}
