package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/mattn/go-runewidth"
	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/core/account"
	"github.com/verdex-land/verdex/internal/book"
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

func bookShow(ctx context.Context, c *cli.Command) error {
	out, err := chooseOutput(c)
	if err != nil {
		return err
	}
	unit, err := account.FindUnit(c.String("unit"))
	if err != nil {
		return usageError{err}
	}
	only := c.String("table")
	if !slices.Contains([]string{"", "extents", "transitions"}, only) {
		return usage("--table %s is not known: choose extents or transitions", only)
	}
	return withBook(ctx, c, false, 1, 1, "a book and the name of an account", func(b *book.Book, r *reporter) error {
		name := c.Args().Get(1)
		list, err := b.Current(ctx, name)
		if err != nil {
			return err
		}
		if out.format != "table" {
			t, err := accountTable(list, only, unit, b.Name, name, r)
			if err != nil {
				return err
			}
			out.sheets = func() []*table.Sheet { return append(accountSheets(list, unit), postingsSheet(list)) }
			return out.write(ctx, t)
		}
		cv := newCanvas(out.stdout)
		cv.line(cv.bold(name), cv.dim("  an account of "+b.Name))
		cv.line()
		g := &grid{c: cv, name: "posting", head: []string{"kind", "epoch", "zone set", "legend", "posted (UTC)", "by", "note"}}
		for _, p := range list {
			g.add(fmt.Sprint(p.ID), []string{p.Kind, p.Period(), p.ZoneSet.Label(), p.Legend.Label(),
				timeText(p.At), p.Author, p.Note}, false, false)
		}
		paintTexts(g)
		sets := zoneSets(list)
		for _, set := range sets {
			if len(sets) > 1 {
				cv.line()
				cv.line(cv.bold("Zone set " + set))
			}
			if err := showSet(cv, onSet(list, set), only, unit); err != nil {
				return err
			}
		}
		return cv.flush()
	})
}

// timeText is the time of a posting for people.
func timeText(at string) string { return strings.TrimSuffix(strings.Replace(at, "T", " ", 1), "Z") }

// zoneSets are the names of the zone sets of postings.
func zoneSets(list []*book.Posting) (out []string) {
	for _, p := range list {
		if !slices.Contains(out, p.ZoneSet.Name) {
			out = append(out, p.ZoneSet.Name)
		}
	}
	return out
}

// accountTable is the one table of an account that is wanted.
func accountTable(list []*book.Posting, only string, unit account.Unit, where, name string, r *reporter) (*table.Table, error) {
	extents, change := ofKind(list, book.OfExtents), ofKind(list, book.OfChange)
	if sets := zoneSets(list); len(sets) > 1 {
		return nil, fmt.Errorf("%s: account %s is of several zone sets (%s), whose rows do not go into one table: write a package with verdex book export --package", where, name, strings.Join(sets, ", "))
	}
	switch {
	case only == "extents" || only == "" && len(change) == 0:
		if len(extents) == 0 {
			return nil, fmt.Errorf("%s: account %s has no extents", where, name)
		}
		return extentsTable(extents, unit), nil
	case only == "transitions" || len(extents) == 0:
		if len(change) == 0 {
			return nil, fmt.Errorf("%s: account %s has no change", where, name)
		}
		return transitionsTable(change, unit), nil
	}
	r.note(fmt.Sprintf("%s: account %s has transitions too: --table transitions", where, name))
	return extentsTable(extents, unit), nil
}

// showSet draws the postings of an account on one zone set.
func showSet(c *canvas, list []*book.Posting, only string, unit account.Unit) error {
	s := &statement{unit: unit, legend: legendOf(list...)}
	read := readerOf(list)
	names := []string{list[0].Account}
	if hasClasses(list, book.OfExtents) && only != "transitions" {
		e, err := account.ReadExtents(names, read)
		if err != nil {
			return err
		}
		if e.Classes, err = account.Arrange(e.Classes, s.legend); err != nil {
			return err
		}
		c.line()
		if len(e.Epochs) > 1 {
			err = s.paintSeries(c, e.Series(), e)
		} else {
			err = s.paintClasses(c, e.Composition(), e)
		}
		if err != nil {
			return err
		}
	}
	if hasClasses(list, book.OfChange) && only != "extents" {
		m, err := account.ReadMoves(names, read)
		if err != nil {
			return err
		}
		if m.Classes, err = account.Arrange(m.Classes, s.legend); err != nil {
			return err
		}
		c.line()
		if only == "transitions" {
			return s.paintMoves(c, m)
		}
		return s.paintExtent(c, m.Statements(nil), m.Classes, "account")
	}
	return nil
}

func bookPosting(ctx context.Context, c *cli.Command) error {
	return withBook(ctx, c, false, 1, 1, "a book and the number of a posting", func(b *book.Book, r *reporter) error {
		id, err := posting(c.Args().Get(1))
		if err != nil {
			return err
		}
		p, err := b.Posting(ctx, id)
		if err != nil {
			return err
		}
		cv := newCanvas(c.Root().Writer)
		cv.line(cv.bold(fmt.Sprintf("posting %d", p.ID)), cv.dim("  "+b.Name))
		state := "current"
		switch {
		case p.Void != "":
			state = "void: " + p.Void
		case p.Successor != 0:
			state = fmt.Sprintf("superseded by posting %d", p.Successor)
		}
		facts := []fact{{"account", fmt.Sprintf("%s, %s %s", p.Account, p.Kind, p.Period())}, {"state", state},
			{"zone set", fmt.Sprintf("%s, version %d, %d zone(s)", p.ZoneSet.Name, p.ZoneSet.Version, len(p.ZoneSet.Zones))},
			{"legend", fmt.Sprintf("%s, version %d, %d class(es)", p.Legend.Name, p.Legend.Version, len(p.Legend.Classes))},
			{"rows", fmt.Sprintf("%s, posted in %s", group(float64(p.RowCount), 0), p.Unit)}, {"author", p.Author}, {"posted", timeText(p.At) + " UTC"}}
		if p.Replaces != 0 {
			facts = append(facts, fact{"supersedes", fmt.Sprintf("posting %d", p.Replaces)})
		}
		if p.Note != "" {
			facts = append(facts, fact{"note", p.Note})
		}
		facts = append(facts, fact{"program", "verdex " + p.Program}, fact{"command", commandLine(p.Command)}, fact{"content", "SHA-256 " + p.Content})
		paintFacts(cv, facts)
		bad := 0
		if len(p.Inputs) > 0 {
			cv.line()
			g := &grid{c: cv, name: "input", head: []string{"bytes", "changed (UTC)", "SHA-256"}}
			if c.Bool("check-inputs") {
				g.head = append(g.head, "now")
			}
			g.head = append(g.head, "file")
			for _, in := range p.Inputs {
				cells := []string{group(float64(in.Size), 0), strings.SplitN(timeText(in.Modified), ".", 2)[0], in.SHA256[:min(12, len(in.SHA256))] + "…"}
				if c.Bool("check-inputs") {
					now := inputNow(ctx, in)
					if now != "as it was" {
						bad++
					}
					cells = append(cells, now)
				}
				g.add(in.Role, append(cells, in.Path), false, false)
			}
			paintTexts(g)
		}
		if err := cv.flush(); err != nil {
			return err
		}
		if bad > 0 {
			r.warn(fmt.Sprintf("%d input(s) of posting %d are not there as they were: its numbers cannot be made again from them", bad, p.ID))
			return errStrict
		}
		return nil
	})
}

// inputNow says whether an input is still the file that it was.
func inputNow(ctx context.Context, in book.Input) string {
	now, err := book.ReadInput(ctx, in.Role, in.Path)
	switch {
	case err != nil:
		return "not here"
	case now.SHA256 != in.SHA256:
		return "another content"
	}
	return "as it was"
}

// postingsSheet tells of the postings that a workbook is of.
func postingsSheet(list []*book.Posting) *table.Sheet {
	s := &table.Sheet{Name: "Postings", FreezeRows: 1, Filter: true}
	var head []table.Cell
	for _, h := range []string{"posting", "account", "kind", "epoch", "zone set", "legend", "author", "posted (UTC)", "note", "input", "size", "last changed (UTC)", "SHA-256", "command"} {
		head = append(head, table.Text(h, table.Style{Head: true}))
	}
	s.Add(head...)
	for _, p := range list {
		inputs := p.Inputs
		if len(inputs) == 0 {
			inputs = []book.Input{{}}
		}
		for _, in := range inputs {
			line := []table.Cell{{Value: int(p.ID)}}
			for _, text := range []string{p.Account, p.Kind, p.Period(), p.ZoneSet.Label(), p.Legend.Label(), p.Author, p.At, p.Note, strings.TrimSpace(in.Role + " " + in.Path)} {
				line = append(line, table.Text(text, table.Style{}))
			}
			line = append(line, table.Cell{Value: int(in.Size)}, table.Text(in.Modified, table.Style{}), table.Text(in.SHA256, table.Style{}), table.Text(commandLine(p.Command), table.Style{}))
			s.Add(line...)
		}
	}
	return s
}
