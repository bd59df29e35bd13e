package cli

import (
	"encoding/json"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/verdex-land/verdex/core/job"
	"github.com/verdex-land/verdex/core/option"
	"github.com/verdex-land/verdex/core/text"
	"github.com/verdex-land/verdex/internal/book"
	"github.com/verdex-land/verdex/internal/plan"
)

// postings finds the postings of the number in the book of a plan: of one account, or of all when it is "".
func (x *explainer) postings(p *plan.Plan, account string) error {
	if p.Book == "" {
		return nil
	}
	if _, err := os.Stat(p.Book); err != nil && !book.IsPostgres(p.Book) {
		return nil
	}
	b, err := x.openBook(p.Book, false, waitOf(x.o))
	if err != nil {
		return err
	}
	defer b.Close()
	of := x.out.Explanation
	return x.entries(b, account, of.ZoneID, of.ZoneName, of.FromEpoch, of.Epoch)
}

// entries finds the postings with a number: of one account, or of all when it is "".
func (x *explainer) entries(b *book.Book, account, zoneID, zoneName, from, epoch string) error {
	heads, err := b.Postings(x.ctx, account)
	if err != nil {
		return err
	}
	areas := map[int64]float64{}
	for _, head := range heads {
		if head.Epoch != epoch || (head.Kind == book.OfChange) != (x.o.FromClass != "") || head.From != from && from != "" {
			continue
		}
		p, err := b.Posting(x.ctx, head.ID)
		if err != nil {
			return err
		}
		z := slices.IndexFunc(p.ZoneSet.Zones, func(z book.Zone) bool { return z.ID == zoneID })
		if z < 0 {
			z = slices.IndexFunc(p.ZoneSet.Zones, func(z book.Zone) bool { return z.Name == zoneName && zoneName != "" })
		}
		if z < 0 {
			continue
		}
		m2, found := postedArea(p, z, x.o)
		if !found {
			continue
		}
		unit, per := p.Unit, unitSize(p.Unit)
		areas[p.ID] = m2 / per
		state, why := p.State()
		if why != "" {
			state += ": " + why
		}
		one := explainedPost{ID: p.ID, Account: p.Account, Author: p.Author, At: p.At, State: state, Note: p.Note, Unit: unit, Area: m2 / per, Supersedes: p.Replaces}
		if before, ok := areas[p.Replaces]; ok && p.Replaces != 0 {
			one.Before = &before
			k := slices.IndexFunc(heads, func(h *book.Posting) bool { return h.ID == p.Replaces })
			if old, err := b.Posting(x.ctx, heads[k].ID); err == nil {
				one.Changed = changedSince(old, p)
			}
		}
		for _, in := range p.Inputs {
			one.Inputs = append(one.Inputs, fmt.Sprintf("%s: %s (SHA-256 %.12s…)", in.Role, in.Path, in.SHA256))
		}
		x.out.Postings = append(x.out.Postings, one)
	}
	return nil
}

// changedSince lists how what a posting was made of differs from what the one was made of that it supersedes.
func changedSince(old, now *book.Posting) (out []string) {
	before := map[string]string{}
	for _, in := range old.Inputs {
		before[in.Role+": "+filepath.Base(in.Path)] = in.SHA256
	}
	for _, in := range now.Inputs {
		name := in.Role + ": " + filepath.Base(in.Path)
		switch sum, ok := before[name]; {
		case !ok:
			out = append(out, name+" is another file")
		case sum != in.SHA256:
			out = append(out, name+" has other content")
		}
		delete(before, name)
	}
	for _, name := range slices.Sorted(maps.Keys(before)) {
		out = append(out, name+" is no longer used")
	}
	a, b := optionsIn(old.Command), optionsIn(now.Command)
	for _, name := range slices.Sorted(maps.Keys(b)) {
		if v, ok := a[name]; !ok {
			out = append(out, fmt.Sprintf("%s is %v now", name, b[name]))
		} else if fmt.Sprint(v) != fmt.Sprint(b[name]) {
			out = append(out, fmt.Sprintf("%s is %v now, and was %v", name, b[name], v))
		}
	}
	for _, name := range slices.Sorted(maps.Keys(a)) {
		if _, ok := b[name]; !ok {
			out = append(out, fmt.Sprintf("%s is no longer %v", name, a[name]))
		}
	}
	if old.Program != now.Program {
		out = append(out, fmt.Sprintf("verdex %s instead of %s", now.Program, old.Program))
	}
	return out
}

// optionsIn are the options of a command of a posting that decide about its numbers.
func optionsIn(command string) map[string]any {
	var record struct{ Options map[string]any }
	if json.Unmarshal([]byte(command), &record) != nil {
		return nil
	}
	for _, name := range []string{"account", "author", "note", "post", "supersede", "wait", "zone-set", "control", "bound", "ignore", "strict", "checks", "attach", "layout", "digits"} {
		delete(record.Options, name)
	}
	return record.Options
}

// postedArea is the area in m² that a posting has for what is asked for.
func postedArea(p *book.Posting, zone int, o *explainOptions) (m2 float64, found bool) {
	is := func(code, asked string) bool {
		if code == asked {
			return true
		}
		k := slices.IndexFunc(p.Legend.Classes, func(c book.Class) bool { return c.Code == code })
		return k >= 0 && p.Legend.Classes[k].Name == asked
	}
	for _, e := range p.Extents {
		if e.Zone == zone && (e.Kind == "class" && is(e.Code, o.Class) || e.Kind == "nodata" && strings.EqualFold(o.Class, "nodata")) {
			m2, found = m2+e.M2, true
		}
	}
	for _, m := range p.Moves {
		if m.Zone == zone && m.From != "" && m.To != "" && is(m.From, o.FromClass) && is(m.To, o.ToClass) {
			m2, found = m2+m.M2, true
		}
	}
	return m2, found
}

// book explains a number of a book: by its postings, and by measuring again where the inputs of the one that counts are as they were.
func (x *explainer) book(where, account string) error {
	b, err := x.openBook(where, false, waitOf(x.o))
	if err != nil {
		return err
	}
	defer b.Close()
	epoch := x.o.Epoch
	if epoch == "" {
		return usage("name the epoch with --epoch: a book has several")
	}
	if x.o.Zone == "" {
		return usage("name the zone with --zone")
	}
	if err := x.entries(b, account, x.o.Zone, x.o.Zone, x.o.Since, epoch); err != nil {
		return err
	}
	if len(x.out.Postings) == 0 {
		return fmt.Errorf("%s: no posting has that number: verdex book list %s shows what there is", x.o.From[0], where)
	}
	for _, one := range slices.Backward(x.out.Postings) {
		if one.State != "current" {
			continue
		}
		p, err := b.Posting(x.ctx, one.ID)
		if err != nil {
			return err
		}
		x.out.MadeBy = commandLine(p.Command)
		return x.again(p, one)
	}
	return nil
}

// again measures once more what a posting was made of, where its inputs are as they were.
func (x *explainer) again(p *book.Posting, one explainedPost) error {
	for _, in := range p.Inputs {
		if now := x.inputNow(in); now != "as it was" {
			x.out.Notes = append(x.out.Notes, fmt.Sprintf("%s: %s, so the number cannot be measured again", in.Path, now))
			return nil
		}
	}
	options, command, ok := optionsOfPosting(p)
	if !ok {
		x.out.Notes = append(x.out.Notes, fmt.Sprintf("posting %d was made of tables, so there are no cells to explain: verdex explain of the table or of its plan does", p.ID))
		return nil
	}
	var err error
	switch o := options.(type) {
	case *measureOptions:
		x.out.Explanation, _, err = job.ExplainExtent(x.ctx, x.env(nil), o.MeasureOptions, x.o.Zone, x.o.Class)
	case *changeOptions:
		if o.Steady > 0 {
			x.out.Notes = append(x.out.Notes, fmt.Sprintf("posting %d was made with --steady %d, and cells are explained as the maps have them", p.ID, o.Steady))
			return nil
		}
		x.out.Explanation, _, err = job.ExplainTransition(x.ctx, x.env(nil), o.ChangeOptions, x.transitionOf(p.From, p.Epoch))
	default:
		return nil
	}
	if err != nil {
		x.out.Notes = append(x.out.Notes, command+": "+messageOf(err))
		return nil
	}
	if got := x.out.Explanation; got.Unit == one.Unit && !near(got.Area, one.Area) {
		x.out.Notes = append(x.out.Notes, fmt.Sprintf("measured again it is %s %s, and posting %d has %s", text.Number(got.Area, 4), got.Unit, p.ID, text.Number(one.Area, 4)))
	}
	return nil
}

func near(a, b float64) bool {
	d := a - b
	return d <= 1e-9*max(1, a, b) && -d <= 1e-9*max(1, a, b)
}

// optionsOfPosting are the options of the command that a posting records.
func optionsOfPosting(p *book.Posting) (options any, command string, ok bool) {
	var record struct {
		Command   string
		Arguments []string
		Options   map[string]any
	}
	if json.Unmarshal([]byte(p.Command), &record) != nil {
		return nil, "", false
	}
	switch record.Command {
	case "measure":
		options = new(measureOptions)
	case "change":
		options = new(changeOptions)
	default:
		return nil, record.Command, false
	}
	option.Fill(options)
	place := func(path string) string { // as it was opened, wherever the program is run now
		for _, in := range p.Inputs {
			if strings.HasSuffix(filepath.ToSlash(in.Path), "/"+strings.TrimPrefix(filepath.ToSlash(path), "./")) {
				return in.Path
			}
		}
		return path
	}
	for _, o := range option.Of(options) {
		if o.Argument != "" {
			if o.Argument != "-" {
				var list []string
				for _, a := range record.Arguments {
					list = append(list, place(a))
				}
				o.Set(options, list)
			}
			continue
		}
		switch v := record.Options[o.Name].(type) {
		case string:
			if o.Input != "" {
				v = place(v)
			}
			if o.Type.Kind().String() == "string" {
				o.Set(options, v)
			}
		case bool:
			o.Set(options, v)
		case []any:
			var list []string
			for _, one := range v {
				text := fmt.Sprint(one)
				if label, rest, ok := strings.Cut(text, "="); ok && o.Input != "" {
					text = label + "=" + place(rest)
				}
				list = append(list, text)
			}
			o.Set(options, list)
		}
	}
	return options, record.Command, true
}
