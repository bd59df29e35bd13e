package cli

import (
	"bytes"
	"io"
	"path/filepath"
	"reflect"
	"slices"
	"strings"

	"github.com/verdex-land/verdex/core/check"
	"github.com/verdex-land/verdex/core/job"
	"github.com/verdex-land/verdex/core/option"
	"github.com/verdex-land/verdex/core/text"
	"github.com/verdex-land/verdex/internal/model"
	"github.com/verdex-land/verdex/internal/plan"
	"github.com/verdex-land/verdex/internal/table"
)

// A figure of a plan has the options that the plan has for its kind, and those that are given besides. The tables that it shows are made in memory; what a
// run of the plan has counted is not counted again.

// setOption picks zones of a plan, for figures that take none of a file.
type setOption struct {
	Set string `opt:"zones" help:"of a plan, the <SET> of zones; the first one by default"`
}

// figureOfPlan is a figure while it is made from a plan.
type figureOfPlan struct {
	*session
	plan *plan.Plan
	set  *plan.ZoneSet
}

// ofPlan is a session with the options that a plan has for a figure, where the command names a plan, and otherwise the one and the options that it is
// given.
func (s *session) ofPlan(options any) (*session, any, error) {
	var from []string
	asked := map[string]option.Option{}
	for _, o := range option.Of(options) {
		if o.Argument != "" {
			from = o.Texts(options)
		}
		asked[o.Name] = o
	}
	zones := given[string](options, "zones")
	at := slices.IndexFunc(from, func(path string) bool {
		ext := strings.ToLower(filepath.Ext(path))
		return ext == ".yaml" || ext == ".yml"
	})
	if at < 0 {
		if zones != "" && asked["zones"].Input == "" {
			return nil, nil, usage("--zones %s picks a set of zones of a plan, and no plan is given", zones)
		}
		if asked["epoch"].Type == reflect.TypeFor[[]string]() && len(from) > 0 {
			return nil, nil, usage("%s takes its rasters as --epoch LABEL=COVER, or one plan, and not %q", s.name, from[0])
		}
		return s, options, nil
	}
	if len(from) > 1 {
		return nil, nil, usage("%s takes one plan and nothing beside it, and %s", s.name, text.Given(len(from)))
	}
	if given[string](options, plan.SaveOption) != "" {
		return nil, nil, usage("--save-plan writes the plan of a figure, and this one has a plan: add an output with make: %s to %s", s.name, from[at])
	}
	p, _, err := s.openPlan(from)
	if err != nil {
		return nil, nil, planError(err)
	}
	sets, err := zoneSets(p, zones)
	if err != nil {
		return nil, nil, err
	}
	within := *s
	within.plan = &planned{counter: keptBy(p, s.system, s.threads), maker: plan.Maker{Plan: p}, owns: func(string) bool { return false }, tables: map[string][]byte{}}
	f := &figureOfPlan{session: &within, plan: p, set: sets[0]}
	taken := []string{"zones"}
	var epoch *plan.Epoch
	var labels []string
	switch s.name {
	case "draw map":
		taken = append(taken, "epoch")
		if epoch, err = f.epoch(given[string](options, "epoch")); err != nil {
			return nil, nil, err
		}
	case "draw pair", "draw difference":
		taken = append(taken, "epoch")
		if labels = given[[]string](options, "epoch"); len(labels) == 1 {
			return nil, nil, usage("%s compares two epochs of the plan: name another one with --epoch", s.name)
		}
		for _, l := range labels {
			if _, err := f.epoch(l); err != nil {
				return nil, nil, err
			}
		}
		if len(p.Epochs) < 2 {
			return nil, nil, usage("%s: %s compares two epochs, and the plan has %s", from[at], s.name, text.Count(len(p.Epochs), "epoch"))
		}
	}
	full := p.StepFor(s.name, f.set, epoch, labels...).Options
	for _, o := range asked {
		if o.Argument == "" && o.Given(options) && !slices.Contains(taken, o.Name) {
			o.Set(full, o.Get(options))
		}
	}
	for _, in := range inputsOf(full) {
		s.Read(in)
	}
	within.options = full
	if argument := plan.TablesOf(full); argument != nil {
		name := filepath.Base(p.Path)
		if within.plan.tables[name], err = f.table(given[string](options, "column")); err != nil {
			return nil, nil, err
		}
		argument.Set(full, []string{name})
	}
	return &within, full, nil
}

// epoch is an epoch of the plan, the last one for "".
func (f *figureOfPlan) epoch(label string) (*plan.Epoch, error) {
	var labels []string
	for _, e := range f.plan.Epochs {
		if e.Label == label {
			return e, nil
		}
		labels = append(labels, e.Label)
	}
	if len(labels) == 0 {
		return nil, usage("%s: the plan has no epochs, so that there is nothing to draw", f.plan.Path)
	}
	if label == "" {
		return f.plan.Epochs[len(labels)-1], nil
	}
	return nil, usage("--epoch %s is not an epoch of %s (%s)", label, f.plan.Path, text.List(labels, 20))
}

// table is the table that a figure shows, as CSV; column is the one that zones are shaded by.
func (f *figureOfPlan) table(column string) ([]byte, error) {
	if _, err := f.epoch(""); err != nil {
		return nil, err
	}
	quiet := *f.session // a figure does not repeat what a run says
	quiet.reporter = &reporter{w: io.Discard, run: f.reporter}
	f.session = &quiet
	var made *model.Table
	var err error
	switch {
	case f.name == "draw check":
		made, err = f.checks()
	case f.name == "draw histories" || f.name == "draw since":
		made, err = f.change(func(c *job.Changed) *model.Table { return model.HistoriesOf(c.Traced, 0) })
	case plan.TableOf(f.name) == "change":
		made, err = f.change(func(c *job.Changed) *model.Table { return model.TransitionsOf(c.Changes, c.Keep) })
	case f.name == "draw shade" && isChangeColumn(column):
		made, err = f.change(func(c *job.Changed) *model.Table { return model.ChangeOf(c.Changes) })
	default:
		return f.extents()
	}
	if err != nil {
		return nil, err
	}
	return csvOf(made)
}

// csvOf is a table as CSV, with all digits.
func csvOf(m *model.Table) ([]byte, error) {
	var b bytes.Buffer
	err := (&table.Writer{Table: m, Digits: -1}).Write(&b, "csv")
	return b.Bytes(), err
}

// isChangeColumn reports whether a column is one of tables of change and not one of tables of extents.
func isChangeColumn(name string) bool {
	of := func(kind string) bool {
		return slices.ContainsFunc(model.Kinds, func(k *model.Kind) bool {
			return k.Name == kind && slices.ContainsFunc(k.Columns, func(c model.Column) bool { return c.Name == name })
		})
	}
	return of("change") && !of("extents")
}

// byClass takes away what gathers classes before the figure does it by its own options.
func byClass(step *plan.Step) {
	for _, o := range option.Of(step.Options) {
		if o.Name == "by" {
			o.Set(step.Options, "class")
		}
	}
}

// extents are the extents of all epochs.
func (f *figureOfPlan) extents() ([]byte, error) {
	var out []byte
	for _, e := range f.plan.Epochs {
		step := f.plan.MeasureOf(f.set, e)
		if f.name != "draw shade" {
			byClass(step)
		}
		r, err := job.Measure(f.ctx, f.env(), step.Options.(*measureOptions).MeasureOptions)
		if err != nil {
			return nil, err
		}
		data, err := csvOf(model.ExtentsOf(r.Composition))
		if err != nil {
			return nil, err
		}
		if len(out) > 0 { // the same columns
			data = data[bytes.IndexByte(data, '\n')+1:]
		}
		out = append(out, data...)
	}
	return out, nil
}

// change is a table of the change between all epochs.
func (f *figureOfPlan) change(of func(*job.Changed) *model.Table) (*model.Table, error) {
	if len(f.plan.Epochs) < 2 {
		return nil, usage("%s: %s shows change, and the plan has one epoch", f.plan.Path, f.name)
	}
	step := f.plan.ChangeOf(f.set)
	if f.name != "draw shade" {
		byClass(step)
	}
	o := step.Options.(*changeOptions).ChangeOptions
	o.Histories = f.name == "draw histories" || f.name == "draw since"
	r, err := f.compared(&o)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	return of(r), nil
}

// checks are what the checks of all epochs, and of the change between them, have found.
func (f *figureOfPlan) checks() (*model.Table, error) {
	var all []check.Check
	for _, e := range f.plan.Epochs {
		r, err := job.Measure(f.ctx, f.env(), f.plan.MeasureOf(f.set, e).Options.(*measureOptions).MeasureOptions)
		if err != nil {
			return nil, err
		}
		for _, c := range r.Checks {
			for i := range c.Findings {
				if c.Findings[i].Epoch == "" {
					c.Findings[i].Epoch = e.Label
				}
			}
			all = append(all, c)
		}
	}
	if len(f.plan.Epochs) > 1 {
		r, err := job.Change(f.ctx, f.env(), f.plan.ChangeOf(f.set).Options.(*changeOptions).ChangeOptions)
		if err != nil {
			return nil, err
		}
		defer r.Close()
		all = append(all, r.Checks...)
	}
	return model.Checks(all), nil
}
