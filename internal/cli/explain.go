package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/verdex-land/verdex/core/vector/tables"

	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/core/check"
	"github.com/verdex-land/verdex/core/fault"
	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/job"
	"github.com/verdex-land/verdex/core/rows"
	"github.com/verdex-land/verdex/core/text"
	vectors "github.com/verdex-land/verdex/core/vector/open"
	"github.com/verdex-land/verdex/internal/book"
	"github.com/verdex-land/verdex/internal/plan"
)

type explainOptions struct {
	From      []string `arg:"PLAN|BOOK|TABLE" in:"plan"`
	Zone      string   `opt:"zone" help:"the <ZONE>, by its id or its name; it may be left out where there is one only"`
	Class     string   `opt:"class" help:"the <CLASS>, by its code or its name, or nodata"`
	Epoch     string   `opt:"epoch" help:"the <LABEL> of the epoch; it may be left out where there is one only"`
	FromClass string   `opt:"from" help:"of a transition, the <CLASS> that the ground was"`
	ToClass   string   `opt:"to" help:"of a transition, the <CLASS> that it became"`
	Since     string   `opt:"since" help:"of a transition, the <LABEL> of the earlier epoch; the first one by default"`
	Zones     string   `opt:"zones" help:"the <SET> of zones of the plan, where several have the zone"`
	Format    string   `opt:"format" choose:"text,json" help:"<text> for reading, or json"`
	waitOption
}

func explainCommand() *cli.Command {
	return command(cli.Command{
		Name:  "explain",
		Usage: "where one number comes from",
		Description: `Says of the extent of a class in a zone what it is made of: the cells and the shares of those that the outline cuts, how large they
truly are, the source values and crosswalk lines with how much each, the blocks that hold the zone, what the other way of cutting edges
gives, what other epochs have, its checks, and its postings. It measures the zone once more for that.

  verdex explain plan.yaml --zone W3 --class Wetland --epoch 2012
  verdex explain orrin.book --zone W3 --class 2 --epoch 2012
  verdex explain results/extents_2012.csv --zone W3 --class Wetland
  verdex explain plan.yaml --zone W3 --from Pasture --to Woodland`,
	}, runExplain)
}

// explained is all that is known of a number.
type explained struct {
	Source      string           `json:"source"`
	MadeBy      string           `json:"made_by,omitempty"`
	Explanation *job.Explanation `json:"explanation,omitempty"`
	Row         *tableRow        `json:"row,omitempty"`
	Checks      []explainedCheck `json:"checks"`
	Postings    []explainedPost  `json:"postings"`
	Notes       []string         `json:"notes"`
}

type tableRow struct {
	Epoch string  `json:"epoch"`
	Zone  string  `json:"zone"`
	Class string  `json:"class"`
	Area  float64 `json:"area"`
	Unit  string  `json:"unit"`
}

type explainedCheck struct {
	Name    string   `json:"name"`
	Outcome string   `json:"outcome"`
	Found   []string `json:"found,omitempty"` // about the zone
}

type explainedPost struct {
	ID         int64    `json:"posting"`
	Account    string   `json:"account"`
	Author     string   `json:"author"`
	At         string   `json:"at"`
	State      string   `json:"state"`
	Note       string   `json:"note,omitempty"`
	Unit       string   `json:"unit"`
	Area       float64  `json:"area"`
	Supersedes int64    `json:"supersedes,omitempty"`
	Before     *float64 `json:"area_before,omitempty"` // of the posting that it superseded
	Changed    []string `json:"changed_since,omitempty"`
	Inputs     []string `json:"inputs"`
}

func runExplain(s *session, o *explainOptions) error {
	if len(o.From) != 1 {
		return usage("explain takes one plan, book or table, and %s", text.Given(len(o.From)))
	}
	if (o.Class == "") == (o.FromClass == "" && o.ToClass == "") || (o.FromClass == "") != (o.ToClass == "") {
		return usage("name a class with --class, or a transition with --from and --to")
	}
	x := &explainer{session: s, o: o, out: &explained{Source: o.From[0]}}
	where, account := vectors.Split(o.From[0])
	ext := strings.ToLower(filepath.Ext(o.From[0]))
	var err error
	switch {
	case book.IsBook(where):
		err = x.book(where, account)
	case ext == ".yaml" || ext == ".yml" || plan.IsRecord(o.From[0]):
		p, _, e := s.openPlan(o.From)
		if e != nil {
			return planError(e)
		}
		err = x.plan(p)
	default:
		err = x.table(o.From[0])
	}
	if err != nil {
		return err
	}
	if o.Format == "json" {
		e := json.NewEncoder(s.stdout)
		e.SetIndent("", "  ")
		e.SetEscapeHTML(false)
		return e.Encode(x.out)
	}
	return paintExplained(s.canvas(), x.out)
}

// explainer finds out where a number comes from.
type explainer struct {
	*session
	o   *explainOptions
	out *explained
}

// env is an environment in which a plan's layers and zones are known, and what was measured before is reused.
func (x *explainer) env(p *plan.Plan) job.Env {
	env := job.Env{Threads: x.threads, Files: x.system}
	if p == nil {
		return env
	}
	env.Maker, env.Counter = plan.Maker{Plan: p}, keptBy(p, x.system, x.threads)
	return env
}

// keptBy is a counter that takes what runs of a plan have kept; nil when there has been none.
func keptBy(p *plan.Plan, from files.System, threads int) job.Counter {
	if store, err := plan.OpenExisting(p.CacheDir); err == nil && store != nil {
		store.From = from
		return &plan.Counter{Store: store, Threads: threads}
	}
	return nil
}

// zoneSets are the sets of zones of a plan, or the one that is named; nil stands for the whole raster.
func zoneSets(p *plan.Plan, name string) ([]*plan.ZoneSet, error) {
	if name == "" && len(p.Zones) == 0 {
		return []*plan.ZoneSet{nil}, nil
	}
	sets := slices.DeleteFunc(slices.Clone(p.Zones), func(z *plan.ZoneSet) bool { return name != "" && z.Name != name })
	if len(sets) == 0 {
		var names []string
		for _, z := range p.Zones {
			names = append(names, z.Name)
		}
		return nil, usage("--zones %s is not a set of zones of %s (%s)", name, p.Path, text.List(names, 20))
	}
	return sets, nil
}

// plan explains a number of a plan.
func (x *explainer) plan(p *plan.Plan) error {
	sets, err := zoneSets(p, x.o.Zones)
	if err != nil {
		return err
	}
	var last error
	for _, z := range sets {
		var err error
		if x.o.FromClass != "" {
			err = x.transition(p, z)
		} else {
			err = x.extent(p, z)
		}
		var f *fault.Error
		if err != nil && errors.As(err, &f) && f.Option == "zone" { // perhaps it is one of another set
			last = err
			continue
		}
		return err
	}
	return last
}

// epochOf is the epoch that is asked for.
func (x *explainer) epochOf(p *plan.Plan) (*plan.Epoch, error) {
	var labels []string
	for _, e := range p.Epochs {
		if e.Label == x.o.Epoch || x.o.Epoch == "" && len(p.Epochs) == 1 {
			return e, nil
		}
		labels = append(labels, e.Label)
	}
	if x.o.Epoch == "" {
		return nil, usage("name the epoch with --epoch: %s", strings.Join(labels, ", "))
	}
	return nil, usage("--epoch %s is not an epoch of %s: choose one of %s", x.o.Epoch, p.Path, strings.Join(labels, ", "))
}

// extent explains the extent of a class.
func (x *explainer) extent(p *plan.Plan, z *plan.ZoneSet) error {
	e, err := x.epochOf(p)
	if err != nil {
		return err
	}
	step := p.StepOf(z, e)
	o := step.Options.(*measureOptions)
	if x.out.Explanation, _, err = job.ExplainExtent(x.ctx, x.env(p), o.MeasureOptions, x.o.Zone, x.o.Class); err != nil {
		return err
	}
	of := x.out.Explanation
	x.out.MadeBy = p.Path + ", " + step.Name
	for _, other := range p.Epochs {
		one := *p.StepOf(z, other).Options.(*measureOptions)
		if other != e { // what is only for comparison need not be checked twice
			one.Ignore = append(slices.Clone(one.Ignore), "edges")
		}
		r, err := job.Measure(x.ctx, x.env(p), one.MeasureOptions)
		if err != nil {
			x.out.Notes = append(x.out.Notes, other.Label+": "+messageOf(err))
			continue
		}
		if other == e {
			x.checks(r.Checks, of.ZoneID)
			continue
		}
		for _, sum := range r.Zones {
			for _, row := range sum.Rows() {
				if sum.ID == of.ZoneID && row.Code == of.ClassCode && row.Name == of.ClassName {
					of.Others = append(of.Others, job.OtherArea{Epoch: other.Label, Area: row.Area})
				}
			}
		}
	}
	return x.postings(p, given[string](step.Options, "account"))
}

// checks notes what checks found about a zone.
func (x *explainer) checks(checks []check.Check, zoneID string) {
	for _, c := range checks {
		one := explainedCheck{Name: c.Name, Outcome: c.Outcome.String()}
		if c.Outcome == check.FallsShort {
			for _, f := range c.Findings {
				if f.ZoneID == zoneID || f.ZoneID == "" {
					one.Found = append(one.Found, f.Text)
				}
			}
			if len(one.Found) == 0 { // elsewhere only
				one.Outcome = "holds here"
			}
		}
		x.out.Checks = append(x.out.Checks, one)
	}
}

// transitionOf is the transition that is asked for, between two epochs.
func (x *explainer) transitionOf(since, epoch string) job.ZoneTransition {
	return job.ZoneTransition{Zone: x.o.Zone, From: x.o.FromClass, To: x.o.ToClass, FromEpoch: since, ToEpoch: epoch}
}

// transition explains the ground that was one class and became another.
func (x *explainer) transition(p *plan.Plan, z *plan.ZoneSet) error {
	if len(p.Epochs) < 2 {
		return usage("%s has %s, and a transition takes two", p.Path, text.Count(len(p.Epochs), "epoch"))
	}
	step := p.ChangeOf(z)
	o := step.Options.(*changeOptions)
	var err error
	x.out.Explanation, _, err = job.ExplainTransition(x.ctx, x.env(p), o.ChangeOptions, x.transitionOf(x.o.Since, x.o.Epoch))
	if err != nil {
		return err
	}
	of := x.out.Explanation
	x.out.MadeBy = p.Path
	o.Ignore = append(slices.Clone(o.Ignore), "speckle")
	r, err := job.Change(x.ctx, x.env(p), o.ChangeOptions)
	if err != nil {
		return err
	}
	defer r.Close()
	x.checks(r.Checks, of.ZoneID)
	for _, pair := range r.Pairs {
		if pair.Epochs == [2]string{of.FromEpoch, of.Epoch} {
			continue
		}
		for _, zone := range pair.Zones {
			if zone.ID != of.ZoneID {
				continue
			}
			area := 0.0
			for _, t := range zone.Transitions {
				if a, b := int(t.From), int(t.To); a < len(r.Legend.Classes) && b < len(r.Legend.Classes) && r.Legend.Classes[a].ID() == of.FromCode && r.Legend.Classes[b].ID() == of.ClassCode {
					area += pair.Area(t.Extent)
				}
			}
			of.Others = append(of.Others, job.OtherArea{FromEpoch: pair.Epochs[0], Epoch: pair.Epochs[1], Area: area})
		}
	}
	return x.postings(p, "")
}

// table explains a number of a table: by the plan that made it where its record lies beside it, and otherwise by what the table says.
func (x *explainer) table(path string) error {
	list, err := os.ReadDir(filepath.Dir(path))
	if err != nil {
		return fault.Opening(path, err)
	}
	if _, err := os.Stat(path); err != nil {
		return fault.Opening(path, err)
	}
	for _, e := range list {
		where := filepath.Join(filepath.Dir(path), e.Name())
		if !strings.HasSuffix(e.Name(), ".json") || !plan.IsRecord(where) {
			continue
		}
		r, err := plan.ReadRecord(where)
		if err != nil {
			continue
		}
		for _, step := range r.Steps {
			for _, f := range step.Outputs {
				if plan.SamePath(plan.At(where, f.Path), path) {
					return x.recorded(where, r, step, f, path)
				}
			}
		}
	}
	return x.rowOf(path)
}

// recorded explains a number of a table that a run has written.
func (x *explainer) recorded(where string, r *plan.Record, step plan.Done, f plan.File, path string) error {
	if now, _, err := plan.DigestOf(path); err != nil {
		return err
	} else if now != f.Digest {
		x.out.Notes = append(x.out.Notes, path+": it was changed since the run that wrote it, so its number may be another one")
	}
	p, err := plan.Parse(x.system, plan.At(where, r.PlanPath), []byte(r.Plan), planCommands(newRoot(x.version, x.stdout, x.w)))
	if err != nil {
		return planError(err)
	}
	for _, s := range p.Steps {
		if s.Name == step.Name {
			if x.o.Zones == "" {
				x.o.Zones = s.Zones
			}
			if x.o.Epoch == "" {
				x.o.Epoch = s.Epoch
			}
		}
	}
	if err := x.plan(p); err != nil {
		return err
	}
	x.out.MadeBy = fmt.Sprintf("%s, by %s, %s, %s", where, r.Program, step.Name, r.Ended.Format("2006-01-02 15:04 UTC"))
	return nil
}

// rowOf shows what a table says by itself.
func (x *explainer) rowOf(path string) error {
	if x.o.FromClass != "" {
		return fmt.Errorf("%s: no record of a run lies beside it, so nothing says what its transitions were made of: name the plan or the book", path)
	}
	found := false
	_, err := tables.Each(x.system, path, []string{"zone_id", "class_code", "area", "unit"}, []string{"epoch", "zone_name", "class_name"}, func(r rows.Row) error {
		is := func(asked string, of ...string) bool { return slices.Contains(of, asked) }
		if x.o.Zone != "" && !is(x.o.Zone, r.Cell["zone_id"], r.Cell["zone_name"]) || !is(x.o.Class, r.Cell["class_code"], r.Cell["class_name"]) {
			return nil
		}
		area := 0.0
		if _, err := fmt.Sscan(r.Cell["area"], &area); err != nil {
			return fmt.Errorf("%s: line %d: the area %q is not a number", path, r.Line, r.Cell["area"])
		}
		if x.o.Epoch != "" && r.Cell["epoch"] != x.o.Epoch {
			return nil
		}
		if found {
			return usage("%s: several rows are about that class: name the zone with --zone and the epoch with --epoch", path)
		}
		found = true
		x.out.Row = &tableRow{r.Cell["epoch"], strings.TrimSpace(r.Cell["zone_id"] + " " + r.Cell["zone_name"]), strings.TrimSpace(r.Cell["class_code"] + " " + r.Cell["class_name"]), area, r.Cell["unit"]}
		return nil
	})

	if err != nil {
		return err
	}
	if !found {
		return fmt.Errorf("%s: no row is about zone %s and class %s: check both", path, x.o.Zone, x.o.Class)
	}
	x.out.Notes = append(x.out.Notes, path+": no record of a run lies beside it, so nothing says what it was made of: verdex run leaves one")
	return nil
}
