package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/verdex-land/verdex/core/vector/tables"

	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/core/check"
	"github.com/verdex-land/verdex/core/decimal"
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

// tableRow is what a table says.
type tableRow struct {
	Epoch     string  `json:"epoch"`
	FromEpoch string  `json:"from_epoch,omitempty"`
	Zone      string  `json:"zone"`
	Class     string  `json:"class"`
	Area      float64 `json:"area"`
	Unit      string  `json:"unit"`
	zoneID    string
	rounding  float64 // what the area may be off by for its digits
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
			one.Skip = "edges"
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
	o.Skip = "speckle"
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

// recorded explains a number of a table that a run has written. The table is read first, so that the number that is explained is compared with it.
func (x *explainer) recorded(where string, r *plan.Record, step plan.Done, f plan.File, path string) error {
	if err := x.findRow(path); err != nil {
		return err
	}
	changed, err := x.changedSince(where, step, f, path)
	if err != nil {
		return err
	}
	p, err := plan.Parse(x.system, plan.At(where, r.PlanPath), []byte(r.Plan), planCommands(newRoot(x.version, x.stdout, x.w)))
	if err != nil {
		return planError(err)
	}
	for _, s := range p.Steps {
		if s.Name == step.Name && x.o.Zones == "" {
			x.o.Zones = s.Zones
		}
	}
	row := x.out.Row
	x.o.Zone = row.zoneID
	if x.o.Epoch = row.Epoch; row.FromEpoch != "" && x.o.FromClass != "" {
		x.o.Since = row.FromEpoch
	}
	if err := x.plan(p); err != nil {
		if len(changed) > 0 {
			err = fmt.Errorf("%w (changed since the run that wrote %s: %s)", err, path, text.List(changed, 10))
		}
		return err
	}
	x.out.MadeBy = fmt.Sprintf("%s, by %s, %s, %s", where, r.Program, step.Name, r.Ended.Format("2006-01-02 15:04 UTC"))
	x.compare(path, changed)
	return nil
}

// changedSince are the files that are no longer what they were when a step was done: what it wrote, what it read, and what was not there.
func (x *explainer) changedSince(where string, step plan.Done, wrote plan.File, path string) (out []string, err error) {
	now, _, err := plan.DigestOf(path)
	if err != nil {
		return nil, err
	}
	if now != wrote.Digest {
		out = append(out, path)
	}
	for _, in := range step.Inputs {
		file := plan.At(where, in.Path)
		if files.IsURL(file) {
			if x.otherState(file, in) != "" {
				out = append(out, file)
			}
			continue
		}
		if now, _, err := plan.DigestOf(file); err != nil || now != in.Digest {
			out = append(out, file)
		}
	}
	for _, name := range step.Absent {
		if file := plan.At(where, name); files.Exists(files.Disk, file) {
			out = append(out, file)
		}
	}
	return out, nil
}

// compare says whether the number that was explained is that of the table, and what has changed if it is not.
func (x *explainer) compare(path string, changed []string) {
	row, of := x.out.Row, x.out.Explanation
	what := "nothing that the record of the run names has changed, so another program or another processor may have made it"
	if len(changed) > 0 {
		what = "since the run that wrote it, " + text.List(changed, 10) + map[bool]string{true: " has", false: " have"}[len(changed) == 1] + " changed"
	}
	now, then := of.Area*unitSize(of.Unit), row.Area*unitSize(row.Unit)
	switch {
	case math.Abs(now-then) > row.rounding*unitSize(row.Unit)+1e-9*math.Abs(then):
		note := fmt.Sprintf("%s has %s, and what is explained here is what is measured now, %s: %s", path, amount(row.Area, row.Unit), amount(of.Area, of.Unit), what)
		x.out.Notes = append(x.out.Notes, note)
		x.Warn(note)
	case len(changed) > 0:
		x.out.Notes = append(x.out.Notes, what+"; the number is the same")
	}
}

// rowOf shows what a table says by itself.
func (x *explainer) rowOf(path string) error {
	if x.o.FromClass != "" {
		return fmt.Errorf("%s: no record of a run lies beside it, so nothing says what its transitions were made of: name the plan or the book", path)
	}
	if err := x.findRow(path); err != nil {
		return err
	}
	x.out.Notes = append(x.out.Notes, path+": no record of a run lies beside it, so nothing says what it was made of: verdex run leaves one")
	return nil
}

// findRow finds the one row of a table of extents, of change or of transitions that is asked for.
func (x *explainer) findRow(path string) error {
	var found []tableRow
	var wrong error
	var zones, epochs []string // of the table
	add := func(to *[]string, name string) {
		if name != "" && !slices.Contains(*to, name) {
			*to = append(*to, name)
		}
	}
	_, err := tables.Each(x.system, path, []string{"zone_id", "unit"}, nil, func(r rows.Row) error {
		row, ok, err := x.rowAsked(r)
		if err != nil {
			wrong = fmt.Errorf("%s: line %d: %w", path, r.Line, err)
			return wrong
		}
		add(&zones, r.Cell["zone_id"])
		add(&zones, r.Cell["zone_name"])
		for _, name := range []string{"epoch", "from_epoch", "to_epoch"} {
			add(&epochs, r.Cell[name])
		}
		if ok {
			found = append(found, row)
		}
		return nil
	})
	if wrong != nil {
		return wrong
	}
	if err != nil {
		return fmt.Errorf("%w: name a table of extents, of change or of transitions", err)
	}
	differ := func(of func(tableRow) string) (out []string) {
		for _, r := range found {
			if v := of(r); !slices.Contains(out, v) {
				out = append(out, v)
			}
		}
		return out
	}
	switch {
	case len(found) == 0 && x.o.Zone != "" && !slices.Contains(zones, x.o.Zone):
		return usage("%s: no row is about zone %s: it has %s", path, x.o.Zone, text.List(zones, 20))
	case len(found) == 0 && x.o.Epoch != "" && !slices.Contains(epochs, x.o.Epoch):
		return usage("%s: no row is about the epoch %s: it has %s", path, x.o.Epoch, text.List(epochs, 20))
	case len(found) == 0 && x.o.FromClass != "":
		return fmt.Errorf("%s: no row has a transition from %s to %s there", path, x.o.FromClass, x.o.ToClass)
	case len(found) == 0:
		return fmt.Errorf("%s: no row is about the class %s there", path, x.o.Class)
	case len(found) == 1:
		x.out.Row = &found[0]
		return nil
	}
	if ids := differ(func(r tableRow) string { return r.zoneID }); len(ids) > 1 {
		return usage("%s: several zones have such a row: name one by its id with --zone: %s", path, text.List(ids, 20))
	}
	if labels := differ(func(r tableRow) string { return r.Epoch }); len(labels) > 1 {
		return usage("%s: several epochs have such a row: name one with --epoch: %s", path, text.List(labels, 20))
	}
	if labels := differ(func(r tableRow) string { return r.FromEpoch }); len(labels) > 1 && x.o.FromClass != "" {
		return usage("%s: several pairs of epochs have such a row: name the earlier one with --since: %s", path, text.List(labels, 20))
	}
	x.out.Row = &found[len(found)-1]
	return nil
}

// rowAsked is what a row says of what is asked for, if it is about that.
func (x *explainer) rowAsked(r rows.Row) (row tableRow, ok bool, err error) {
	is := func(asked string, of ...string) bool { return slices.Contains(of, asked) }
	c := r.Cell
	if x.o.Zone != "" && !is(x.o.Zone, c["zone_id"], c["zone_name"]) {
		return row, false, nil
	}
	number, class := "area", strings.TrimSpace(c["class_code"]+" "+c["class_name"])
	row = tableRow{Epoch: c["epoch"], Zone: strings.TrimSpace(c["zone_id"] + " " + c["zone_name"]), Unit: c["unit"], zoneID: c["zone_id"]}
	if x.o.FromClass != "" {
		class = c["from_name"] + " to " + c["to_name"]
		ok = is(x.o.FromClass, c["from_code"], c["from_name"]) && is(x.o.ToClass, c["to_code"], c["to_name"])
	} else {
		ok = is(x.o.Class, c["class_code"], c["class_name"], c["kind"])
	}
	if c["to_epoch"] != "" {
		row.FromEpoch, row.Epoch = c["from_epoch"], c["to_epoch"]
		if x.o.FromClass == "" { // of change: the extent at either end
			if number = "closing"; x.o.Epoch == c["from_epoch"] {
				number, row.FromEpoch, row.Epoch = "opening", "", c["from_epoch"]
			}
		}
	}
	if row.Class = class; !ok || x.o.Epoch != "" && row.Epoch != x.o.Epoch || x.o.Since != "" && row.FromEpoch != x.o.Since {
		return row, false, nil
	}
	cell, there := c[number]
	if !there {
		return row, false, fmt.Errorf("it has no column %q", number)
	}
	if row.Area, err = decimal.Finite(cell); err != nil {
		return row, false, fmt.Errorf("the %s %q is not a number", number, cell)
	}
	if _, decimals, ok := strings.Cut(cell, "."); ok {
		row.rounding = math.Pow10(-len(decimals)) / 2
	} else {
		row.rounding = 0.5
	}
	return row, true, nil
}
