package cli

import (
	"fmt"
	"strings"

	"github.com/verdex-land/verdex/core/area"
	"github.com/verdex-land/verdex/core/files"

	"github.com/mattn/go-runewidth"

	"github.com/verdex-land/verdex/core/job"
	"github.com/verdex-land/verdex/core/text"
	"github.com/verdex-land/verdex/internal/book"
	"github.com/verdex-land/verdex/internal/model"
	"github.com/verdex-land/verdex/internal/sheets"
	"github.com/verdex-land/verdex/internal/table"
)

// paintTexts draws a grid of texts to the left, each column as wide as it needs up to 40, and the last one as it is.
func paintTexts(g *grid) {
	widths := make([]int, len(g.head))
	names := runewidth.StringWidth(g.name)
	for i, h := range g.head {
		widths[i] = runewidth.StringWidth(h)
	}
	for _, r := range g.rows {
		names = max(names, runewidth.StringWidth(r.name))
		for i, t := range r.cells {
			if i < len(widths)-1 { // the last one needs no end
				widths[i] = max(widths[i], min(40, runewidth.StringWidth(t)))
			}
		}
	}
	line := func(name string, cells []string) string {
		out := left(name, names)
		for i, t := range cells {
			if out += "  "; i == len(cells)-1 {
				out += t
			} else {
				out += left(t, widths[i])
			}
		}
		return out
	}
	g.c.line(g.c.dim(line(g.name, g.head)))
	for _, r := range g.rows {
		text := line(r.name, r.cells)
		if r.dim {
			text = g.c.dim(text)
		}
		g.c.line(text)
	}
}

type bookShowOptions struct {
	Args  []string `arg:"BOOK ACCOUNT" in:"-"`
	Table string   `opt:"table" choose:",extents,transitions" help:"which <table>: only the rows of extents, or of transitions, as measure and change write them"`
	job.UnitOption
	waitOption
	tableOptions `group:"output"`
}

func bookShow(s *session, o *bookShowOptions) error {
	out, err := o.destination()
	if err != nil {
		return err
	}
	unit, err := area.Find(o.Unit)
	if err != nil {
		return usageError{err}
	}
	return s.withBook(o.Args, false, o.Wait, 1, 1, "a book and the name of an account", func(b *book.Book) error {
		name := o.Args[1]
		list, err := b.Current(s.ctx, name)
		if err != nil {
			return err
		}
		if out.format != "table" {
			t, err := s.accountTable(list, o.Table, unit, b.Name, name)
			if err != nil {
				return err
			}
			out.sheets = func() []*table.Sheet {
				return append(sheets.Accounts(list, unit, true), sheets.Postings(list, commandLine))
			}
			return s.write(out, t)
		}
		c := s.canvas()
		c.line(c.bold(name), c.dim("  an account of "+b.Name))
		c.line()
		g := &grid{c: c, name: "posting", head: []string{"kind", "epoch", "zone set", "legend", "posted (UTC)", "by", "note"}}
		for _, p := range list {
			g.add(fmt.Sprint(p.ID), []string{p.Kind, p.Period(), p.ZoneSet.Label(), p.Legend.Label(),
				timeText(p.At), p.Author, p.Note}, false, false)
		}
		paintTexts(g)
		sets := list.ZoneSets()
		for _, set := range sets {
			if len(sets) > 1 {
				c.line()
				c.line(c.bold("Zone set " + set))
			}
			if err := paintSet(c, list.OnSet(set), o.Table, unit); err != nil {
				return err
			}
		}
		return c.flush()
	})
}

// timeText is the time of a posting for people.
func timeText(at string) string { return strings.TrimSuffix(strings.Replace(at, "T", " ", 1), "Z") }

// accountTable is the one table of an account that is wanted.
func (s *session) accountTable(list book.List, only string, unit area.Unit, where, name string) (*model.Table, error) {
	extents, change := list.OfKind(book.OfExtents), list.OfKind(book.OfChange)
	if sets := list.ZoneSets(); len(sets) > 1 {
		return nil, fmt.Errorf("%s: account %s has several zone sets (%s), whose rows do not go into one table: write a package with verdex book export --package", where, name, strings.Join(sets, ", "))
	}
	switch {
	case only == "extents" || only == "" && len(change) == 0:
		if len(extents) == 0 {
			return nil, fmt.Errorf("%s: account %s has no extents", where, name)
		}
		return extents.Extents(unit), nil
	case only == "transitions" || len(extents) == 0:
		if len(change) == 0 {
			return nil, fmt.Errorf("%s: account %s has no change", where, name)
		}
		return change.Transitions(unit), nil
	}
	s.Note(fmt.Sprintf("%s: account %s has transitions, too: --table transitions", where, name))
	return extents.Extents(unit), nil
}

// paintSet draws the postings of an account on one zone set.
func paintSet(c *canvas, list book.List, only string, unit area.Unit) error {
	t := &job.Terms{Unit: unit, Legend: list.Legend()}
	if list.HasClasses(book.OfExtents) && only != "transitions" {
		e, err := list.ReadExtents(t.Legend)
		if err != nil {
			return err
		}
		c.line()
		if len(e.Epochs) > 1 {
			err = paintSeries(c, e, t)
		} else {
			err = paintClasses(c, e, t, -1)
		}
		if err != nil {
			return err
		}
	}
	if list.HasClasses(book.OfChange) && only != "extents" {
		m, err := list.ReadMoves(t.Legend)
		if err != nil {
			return err
		}
		c.line()
		if only == "transitions" {
			return paintSquares(c, model.SquaresOfMoves(m, unit), t, nil)
		}
		return paintExtent(c, &job.ExtentAccounts{List: m.Statements(nil), Classes: m.Classes, Terms: t}, false)
	}
	return nil
}

type bookPostingOptions struct {
	Args        []string `arg:"BOOK N" in:"-"`
	CheckInputs bool     `opt:"check-inputs" help:"read the inputs again and compare their checksums; status 3 when one has changed or is gone"`
	waitOption
}

func bookPosting(s *session, o *bookPostingOptions) error {
	return s.withBook(o.Args, false, o.Wait, 1, 1, "a book and the number of a posting", func(b *book.Book) error {
		id, err := posting(o.Args[1])
		if err != nil {
			return err
		}
		p, err := b.Posting(s.ctx, id)
		if err != nil {
			return err
		}
		c := s.canvas()
		c.line(c.bold(fmt.Sprintf("posting %d", p.ID)), c.dim("  "+b.Name))
		paintFacts(c, postingFacts(p))
		bad := s.paintInputs(c, p, o.CheckInputs)
		if err := c.flush(); err != nil {
			return err
		}
		switch {
		case bad == 1:
			s.Warn(fmt.Sprintf("1 input of posting %d is not as it was: its numbers cannot be made again from it", p.ID))
		case bad > 1:
			s.Warn(fmt.Sprintf("%d inputs of posting %d are not as they were: its numbers cannot be made again from them", bad, p.ID))
		}
		if bad > 0 {
			return errStrict
		}
		return nil
	})
}

// postingFacts are what is known of a posting.
func postingFacts(p *book.Posting) []job.Fact {
	state, why := p.State()
	switch state {
	case "void":
		state += ": " + why
	case "superseded":
		state = fmt.Sprintf("superseded by posting %d", p.Successor)
	}
	facts := []job.Fact{{Key: "account", Value: fmt.Sprintf("%s, %s %s", p.Account, p.Kind, p.Period())}, {Key: "state", Value: state},
		{Key: "zone set", Value: fmt.Sprintf("%s, version %d, %s", p.ZoneSet.Name, p.ZoneSet.Version, text.Count(len(p.ZoneSet.Zones), "zone"))},
		{Key: "legend", Value: fmt.Sprintf("%s, version %d, %s", p.Legend.Name, p.Legend.Version, text.Count(len(p.Legend.Classes), "class"))},
		{Key: "rows", Value: fmt.Sprintf("%s, posted in %s", text.Number(float64(p.RowCount), 0), p.Unit)}, {Key: "author", Value: p.Author}, {Key: "posted", Value: timeText(p.At) + " UTC"}}
	if p.Replaces != 0 {
		facts = append(facts, job.Fact{Key: "supersedes", Value: fmt.Sprintf("posting %d", p.Replaces)})
	}
	if p.Note != "" {
		facts = append(facts, job.Fact{Key: "note", Value: p.Note})
	}
	return append(facts, job.Fact{Key: "program", Value: "verdex " + p.Program}, job.Fact{Key: "command", Value: commandLine(p.Command)}, job.Fact{Key: "content", Value: "SHA-256 " + p.Content})
}

// paintInputs draws the inputs of a posting, and with check whether they are still the files that they were. It returns how many are not.
func (s *session) paintInputs(c *canvas, p *book.Posting, check bool) (bad int) {
	if len(p.Inputs) == 0 {
		return 0
	}
	c.line()
	g := &grid{c: c, name: "input", head: []string{"bytes", "changed (UTC)", "SHA-256"}}
	if check {
		g.head = append(g.head, "now")
	}
	g.head = append(g.head, "file")
	for _, in := range p.Inputs {
		cells := []string{text.Number(float64(in.Size), 0), strings.SplitN(timeText(in.Modified), ".", 2)[0], in.SHA256[:min(12, len(in.SHA256))] + "…"}
		if check {
			now := s.inputNow(in)
			if now != "as it was" {
				bad++
			}
			cells = append(cells, now)
		}
		g.add(in.Role, append(cells, in.Path), false, false)
	}
	paintTexts(g)
	return bad
}

// inputNow says whether an input is still the file that it was.
func (s *session) inputNow(in book.Input) string {
	if files.IsURL(in.Path) {
		switch f, err := s.system.Open(in.Path); {
		case err != nil:
			return "not here"
		case f.Validator() != in.Modified || f.Size() != in.Size:
			return "other content"
		}
		return "as it was"
	}
	now, err := book.ReadInput(s.ctx, in.Role, in.Path)
	switch {
	case err != nil:
		return "not here"
	case now.SHA256 != in.SHA256:
		return "other content"
	}
	return "as it was"
}
