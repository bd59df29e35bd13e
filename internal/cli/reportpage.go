package cli

import (
	"fmt"
	"io"
	"math"
	"os"
	"path/filepath"
	"slices"

	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/core/change"
	"github.com/verdex-land/verdex/core/check"
	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/fault"
	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/job"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/text"
	vectors "github.com/verdex-land/verdex/core/vector/open"
	"github.com/verdex-land/verdex/internal/book"
	"github.com/verdex-land/verdex/internal/draw"
	"github.com/verdex-land/verdex/internal/plan"
	"github.com/verdex-land/verdex/internal/report"
	"github.com/verdex-land/verdex/internal/sheets"
)

type reportOptions struct {
	From   []string `arg:"PLAN|BOOK#ACCOUNT" in:"plan"`
	Zones  string   `opt:"zones" help:"the <SET> of zones of the plan; the first one by default"`
	Change string   `opt:"change" help:"of a book, the <ACCOUNT> with the transitions (of change --table matrix) in the same zones"`
	Title  string   `opt:"title" help:"<TEXT> above the report instead of the plan's title"`
	Out    string   `opt:"out" out:"report" help:"HTML <FILE> to write"`
	forceOption
	waitOption
}

func reportCommand() *cli.Command {
	return command(cli.Command{
		Name:  "report",
		Usage: "one page of a whole job: maps, tables, figures, checks, provenance",
		Description: `Writes one HTML file that needs nothing beside it and loads nothing: headline figures, maps with a slider between epochs, extents and
change as tables that sort and filter, figures, a section for each zone, checks, accuracy, and what everything was made from. What was
measured by a run of the plan is not measured again.

  verdex report plan.yaml --out report.html
  verdex report plan.yaml --zones catchments --out catchments.html
  verdex report orrin.book#wards --change "change of wards" --out wards.html`,
	}, runReport)
}

func runReport(s *session, o *reportOptions) error {
	if err := needOut(s, o.Out); err != nil {
		return err
	}
	if len(o.From) != 1 {
		return usage("report takes one plan or one account of a book, and %s", text.Given(len(o.From)))
	}
	within := *s
	within.reporter = &reporter{w: io.Discard, run: s.reporter} // notes stand in the report
	b := &reportBuilder{session: &within, maker: s.reporter, o: o, zones: map[string]int{}, out: &report.Report{Program: "Verdex " + s.version, Source: filepath.Base(o.From[0]), Title: o.Title}}
	where, _ := vectors.Split(o.From[0])
	var err error
	if book.IsBook(where) {
		if o.Zones != "" {
			return usage("--zones picks a set of zones of a plan, and %s is a book, whose accounts have their zones", o.From[0])
		}
		err = b.book()
	} else if o.Change != "" {
		return usage("--change names an account of a book, and %s is a plan, whose change is in the report by itself", o.From[0])
	} else {
		err = b.plan()
	}
	if err != nil {
		return err
	}
	if err := b.finish(); err != nil {
		return err
	}
	b.noted(within.said.notes)
	return s.Write(o.Out, func(w io.Writer) error { return report.Write(w, b.out) })
}

// reportBuilder fills a report.
type reportBuilder struct {
	*session
	maker   *reporter // takes what whoever makes the report has to mend
	o       *reportOptions
	out     *report.Report
	classes []cover.Named
	keys    []draw.Key        // of the classes
	zones   map[string]int    // places by id
	moves   []moved           // by pair of epochs
	traced  *change.Histories // nil for fewer than three epochs
	inputs  []job.Input
}

// moved is the ground of all zones from each class to each other between two epochs.
type moved struct {
	from, to string
	cells    [][]float64
	whole    bool // from the first epoch to the last
}

// classAt is the place of a class in the report, which takes it in.
func (b *reportBuilder) classAt(n cover.Named, c raster.Color) int {
	at := slices.Index(b.classes, n)
	if at < 0 {
		at = len(b.classes)
		b.classes = append(b.classes, n)
		b.keys = append(b.keys, draw.Key{Name: n.Name, Color: colorOf(c), Border: true})
		b.out.Classes = append(b.out.Classes, report.Class{ID: n.ID, Name: n.Name, Color: fmt.Sprintf("#%02x%02x%02x", c.R, c.G, c.B)})
	}
	return at
}

// legend takes in the classes of a legend, and returns their places.
func (b *reportBuilder) legend(l *cover.Legend) (at []int) {
	for i, c := range l.Classes {
		n := cover.Named{ID: c.ID(), Name: c.Name}
		at = append(at, b.classAt(n, sheets.ColorOf(l, i, n)))
	}
	return at
}

// plan fills the report from a plan.
func (b *reportBuilder) plan() error {
	p, _, err := b.openPlan(b.o.From)
	if err != nil {
		return planError(err)
	}
	sets, err := zoneSets(p, b.o.Zones)
	if err != nil {
		return err
	}
	set := sets[0]
	b.session.plan = &planned{counter: keptBy(p, b.system, b.threads), maker: plan.Maker{Plan: p}, owns: func(string) bool { return false }}
	if b.out.Title == "" {
		b.out.Title = p.Title
	}
	b.out.Contact, b.out.Licence, b.out.Plan, b.out.Explain = p.Contact, p.Licence, string(p.Text), "verdex explain "+filepath.Base(p.Path)
	if set != nil && len(p.Zones) > 1 {
		b.out.Explain += " --zones " + set.Name
	}
	for i, e := range p.Epochs {
		o := p.MeasureOf(set, e).Options.(*measureOptions).MeasureOptions
		r, err := job.Measure(b.ctx, b.env(), o)
		if err != nil {
			return fmt.Errorf("%s: %w", e.Label, err)
		}
		if err := b.fits(len(r.Zones), len(r.Legend.Classes)); err != nil {
			return err
		}
		b.measured(i, e.Label, r)
		if len(p.Epochs) == 1 {
			if err := b.oneMap(o); err != nil {
				return err
			}
		}
	}
	if len(p.Epochs) > 1 {
		if err := b.changed(p.ChangeOf(set).Options.(*changeOptions)); err != nil {
			return err
		}
	}
	for _, step := range p.Steps {
		if o, ok := step.Options.(*accuracyOptions); ok && b.out.Accuracy == nil {
			if err := b.accuracy(step.Epoch, o.AccuracyOptions); err != nil {
				return err
			}
		}
	}
	b.method(p)
	return b.provenance(p.Dir)
}

// What a page can show.
const (
	mostPageZones   = 5000
	mostPageClasses = 250
)

// fits refuses what no page can show.
func (b *reportBuilder) fits(zones, classes int) error {
	if zones > mostPageZones {
		return fault.Errorf("%s: it has %s zones, and a page shows %s at most: pick some with where, or take a set of larger zones", b.o.From[0], text.Number(float64(zones), 0), text.Number(mostPageZones, 0))
	}
	if classes > mostPageClasses {
		return fault.Errorf("%s: it has %s classes, and a page shows %d at most: put them into groups in the legend, and measure by group", b.o.From[0], text.Number(float64(classes), 0), mostPageClasses)
	}
	return nil
}

// measured takes in the extents of an epoch.
func (b *reportBuilder) measured(n int, label string, r *job.Measured) {
	b.out.Epochs = append(b.out.Epochs, label)
	b.out.Unit, b.out.UnitLabel = r.Unit.Name, r.Unit.Label
	b.legend(r.Legend)
	for i := range r.Zones {
		z := &r.Zones[i]
		if z.Larger {
			continue
		}
		zone := b.zoneAt(z.ID, z.Name, z.Area)
		row := make([]float64, len(b.classes))
		for _, part := range z.Rows() {
			if part.Kind == cover.Classified {
				k := b.classAt(cover.Named{ID: part.Code, Name: part.Name}, part.Color)
				for len(row) <= k {
					row = append(row, 0)
				}
				row[k] += part.Area
			}
		}
		b.setExtents(zone, n, row)
	}
	b.took(label+": ", r.Checks, r.Report)
}

// zoneAt is a zone of the report, which takes it in.
func (b *reportBuilder) zoneAt(id, name string, area float64) *report.Zone {
	at, known := b.zones[id]
	if !known {
		at = len(b.out.Zones)
		b.zones[id] = at
		b.out.Zones = append(b.out.Zones, report.Zone{ID: id, Name: name, Area: area})
	}
	return &b.out.Zones[at]
}

func (b *reportBuilder) setExtents(z *report.Zone, n int, row []float64) {
	for len(z.Extents) <= n {
		z.Extents = append(z.Extents, nil)
	}
	z.Extents[n] = row
}

// took takes in what a job has found besides.
func (b *reportBuilder) took(of string, checks []check.Check, r *job.Report) {
	for _, c := range checks {
		one := report.Check{Name: of + c.Name, Outcome: c.Outcome.String(), Text: c.Text}
		for i, f := range c.Findings {
			if i == 20 {
				one.Findings = append(one.Findings, fmt.Sprintf("and %d more", len(c.Findings)-i))
				break
			}
			one.Findings = append(one.Findings, f.Text)
		}
		b.out.Checks = append(b.out.Checks, one)
	}
	b.noted(append(slices.Clone(r.Notes), r.Warnings...))
	b.inputs = append(b.inputs, r.Inputs...)
}

// noted takes in notes, each once.
func (b *reportBuilder) noted(notes []string) {
	for _, n := range notes {
		if !slices.Contains(b.out.Notes, n) {
			b.out.Notes = append(b.out.Notes, n)
		}
	}
}

// changed takes in the change between the epochs, and their maps.
func (b *reportBuilder) changed(o *changeOptions) error {
	with := o.ChangeOptions
	with.Histories = len(o.Epochs) > 2
	r, err := b.compared(&with)
	if err != nil {
		return err
	}
	defer r.Close()
	b.traced = r.Traced
	b.took("change: ", r.Checks, r.Report)
	at := b.legend(r.Legend)
	for _, pair := range r.Pairs {
		m := moved{from: pair.Epochs[0], to: pair.Epochs[1], whole: pair.Whole || len(r.Pairs) == 1, cells: make([][]float64, len(b.classes))}
		for k := range m.cells {
			m.cells[k] = make([]float64, len(b.classes))
		}
		for _, z := range pair.Zones {
			for _, t := range z.Transitions {
				if int(t.From) < len(at) && int(t.To) < len(at) {
					m.cells[at[t.From]][at[t.To]] += pair.Area(t.Extent)
				}
			}
			if m.whole {
				b.onBoth(z.ID, func(add func(from, to int, area float64)) {
					for _, t := range z.Transitions {
						if int(t.From) < len(at) && int(t.To) < len(at) {
							add(at[t.From], at[t.To], pair.Area(t.Extent))
						}
					}
				})
			}
		}
		b.moves = append(b.moves, m)
	}
	set, place := r.Placed()
	plane := planeOf(place, -1, o.Zones == "")
	m, f := b.newMap(plane)
	for e := range r.Epochs {
		classes, err := b.epochClasses(r, e, f)
		if err != nil {
			return err
		}
		m.Classes = append(m.Classes, placesOf(classes, at))
	}
	b.zonesOn(m, areasOf(set, place, -1, o.Zones == ""), plane, func(i int) string { return set.Zones[i].ID })
	return b.drawDifference(r, o.Zones == "")
}

// onBoth gives a zone its extents on the ground that the first and the last epoch map, by the transitions there.
func (b *reportBuilder) onBoth(id string, each func(add func(from, to int, area float64))) {
	k, known := b.zones[id]
	if !known {
		return
	}
	z := &b.out.Zones[k]
	z.Opening, z.Closing = make([]float64, len(b.classes)), make([]float64, len(b.classes))
	each(func(from, to int, area float64) {
		z.Opening[from] += area
		z.Closing[to] += area
	})
}

// oneMap takes in the map of the only epoch.
func (b *reportBuilder) oneMap(o job.MeasureOptions) error {
	if o.Rules != "" || o.ClassField != "" {
		return nil // it is no raster by itself
	}
	r, err := job.ReadMap(b.ctx, b.env(), job.MapOptions{Covers: o.Covers, ZoneOptions: o.ZoneOptions, RasterOptions: o.RasterOptions, ListOption: o.ListOption,
		OverrideOption: o.OverrideOption, ClassOptions: o.ClassOptions, Crosswalk: o.Crosswalk, Epoch: o.Epoch})
	if err != nil {
		return err
	}
	defer r.Close()
	at := b.legend(r.Legend)
	plane := planeOf(r.Placement, -1, r.Whole)
	m, f := b.newMap(plane)
	samples, err := raster.Sample(b.ctx, r.Source, f, b.threads)
	if err != nil {
		return err
	}
	m.Classes = [][]uint8{placesOf(classesIn(samples, r.Coder, r.Legend), at)}
	b.zonesOn(m, areasOf(r.Zones, r.Placement, -1, r.Whole), plane, func(i int) string { return r.Zones.Zones[i].ID })
	return nil
}

// newMap is the map of the report, as large as a page is wide.
func (b *reportBuilder) newMap(p draw.Plane) (*report.Map, raster.Frame) {
	w, h := (p.Frame[2]-p.Frame[0])*p.MetresX, (p.Frame[3]-p.Frame[1])*p.MetresY
	scale := math.Min(1000/w, 800/h)
	m := &report.Map{Width: max(1, int(math.Round(w*scale))), Height: max(1, int(math.Round(h*scale)))}
	m.Scale = fmt.Sprintf("The frame is %s km wide in its middle; %s.", text.Number(w/1000, 1), p.CRS)
	b.out.Map = m
	return m, raster.Frame{X0: p.Frame[0], Y0: p.Frame[1], X1: p.Frame[2], Y1: p.Frame[3], Width: m.Width, Height: m.Height}
}

// placesOf are classes of a legend as the report has them, at their places there: 1 and more, and 0 for none.
func placesOf(classes, at []int) []uint8 {
	out := make([]uint8, len(classes))
	for i, k := range classes {
		if k >= 0 && at[k] < 254 {
			out[i] = uint8(at[k] + 1)
		}
	}
	return out
}

// zonesOn draws the outlines of the zones of the report on its map.
func (b *reportBuilder) zonesOn(m *report.Map, areas []draw.Area, p draw.Plane, id func(int) string) {
	m.Outlines = make([]string, len(b.out.Zones))
	m.Zones = make([]uint16, m.Width*m.Height)
	sx, sy := float64(m.Width)/(p.Frame[2]-p.Frame[0]), float64(m.Height)/(p.Frame[3]-p.Frame[1])
	for i, a := range areas {
		at, known := b.zones[id(i)]
		if !known { // a larger unit
			continue
		}
		var rings []draw.Ring
		for _, r := range a.Rings {
			ring := make(draw.Ring, len(r))
			for k, q := range r {
				ring[k] = [2]float64{(q[0] - p.Frame[0]) * sx, (q[1] - p.Frame[1]) * sy}
			}
			rings = append(rings, ring)
		}
		m.Outlines[at] = report.Path(rings)
		report.Fill(m.Zones, m.Width, m.Height, rings, uint16(at+1))
	}
	if len(areas) == 0 { // the whole raster is the zone
		for i := range m.Zones {
			m.Zones[i] = 1
		}
	}
}

// accuracy takes in how true a map is.
func (b *reportBuilder) accuracy(label string, o job.AccuracyOptions) error {
	a, err := job.Accuracy(b.ctx, b.env(), o)
	if err != nil {
		return err
	}
	out := &report.Accuracy{Epoch: label, Overall: fmt.Sprintf("%.1f ± %.1f %% of the area is right, by the reference samples.", a.Overall.Value*100, a.Overall.Half*100)}
	for i, c := range a.Classes {
		if a.Samples[i] == 0 && a.Adjusted[i].Value == 0 {
			continue
		}
		out.Rows = append(out.Rows, report.AccuracyRow{Class: c.Name, Samples: a.Samples[i], Users: a.Users[i].Value * 100, Producers: a.Producers[i].Value * 100,
			Mapped: a.Mapped[i] / a.Unit.M2, Adjusted: a.Adjusted[i].Value / a.Unit.M2, Plus95: a.Adjusted[i].Half / a.Unit.M2})
	}
	b.out.Accuracy = out
	return nil
}

// method says in plain words how a plan measures.
func (b *reportBuilder) method(p *plan.Plan) {
	b.out.Method = []string{
		"Every cell is measured by its true area on the ellipsoid of its CRS, not by its nominal size. A cell that an outline cuts counts for each side by the share that lies there, unless the plan says that edges go by the centres of cells.",
		"Percentages of classes are of the classified ground of a zone: nodata, values without a line in the legend and ground outside the raster are left out of them, and are stated by the checks.",
	}
	if len(p.Epochs) > 1 {
		b.out.Method = append(b.out.Method, "Change is counted cell by cell on ground that both epochs map, so that additions less reductions are the net change exactly. Extents of an epoch are of all ground that it maps, so that they may differ from opening and closing extents where an epoch has gaps.")
	}
	b.out.Method = append(b.out.Method, "What is said of all zones adds them up, which is right where they do not overlap. A map shows a sample of cells, one for each pixel; the numbers come from all of them.")
}

// provenance lists the files that were read.
func (b *reportBuilder) provenance(dir string) error {
	seen := map[string]bool{}
	for _, in := range b.inputs {
		if seen[in.Path] {
			continue
		}
		seen[in.Path] = true
		size, digest, err := b.stateOf(in.Path)
		if err != nil {
			return err
		}
		if digest != "" {
			b.out.Inputs = append(b.out.Inputs, report.Input{Role: in.Role, Path: plan.Relative(dir, in.Path), Size: text.Number(float64(size), 0) + " bytes", Digest: digest})
		}
	}
	return nil
}

// stateOf is the size of an input and what shows that it is the same: of a file of the web what its server says, otherwise the digest. What is
// no regular file, as a folder of tiles is not, has none.
func (b *reportBuilder) stateOf(path string) (size int64, digest string, err error) {
	if files.IsURL(path) {
		f, err := b.system.Open(path)
		if err != nil {
			return 0, "", err
		}
		defer f.Close()
		return f.Size(), f.Validator(), nil
	}
	info, err := os.Stat(path)
	if err != nil || !info.Mode().IsRegular() {
		return 0, "", nil
	}
	digest, err = b.digest(path)
	return info.Size(), digest, err
}

// digest is the BLAKE3 of a file, as a run of the plan has kept it when the file is the same.
func (b *reportBuilder) digest(path string) (string, error) {
	if counter := b.session.plan.counter; counter != nil {
		return counter.Digest(path)
	}
	digest, _, err := plan.DigestOf(path)
	return digest, err
}

// finish adds what is made of the numbers: sentences, the account, figures.
func (b *reportBuilder) finish() error {
	r := b.out
	if len(r.Epochs) == 0 || len(r.Zones) == 0 {
		return fault.Errorf("%s: there is nothing to report: it has no extents", b.o.From[0])
	}
	for i := range r.Zones { // classes may have come later, and a zone may be missing at an epoch
		z := &r.Zones[i]
		for n := range r.Epochs {
			missing := len(z.Extents) <= n || z.Extents[n] == nil
			if missing {
				b.setExtents(z, n, []float64{})
			}
			for len(z.Extents[n]) < len(b.classes) {
				if missing {
					z.Extents[n] = append(z.Extents[n], math.NaN())
				} else {
					z.Extents[n] = append(z.Extents[n], 0)
				}
			}
		}
	}
	if r.Title == "" {
		r.Title = "Report"
	}
	for _, m := range b.moves {
		if m.whole {
			b.account(m)
		}
	}
	b.sentences()
	return b.figures()
}
