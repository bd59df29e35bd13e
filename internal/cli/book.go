package cli

import (
	"encoding/json"
	"fmt"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/verdex-land/verdex/core/area"

	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/job"
	"github.com/verdex-land/verdex/core/text"
	"github.com/verdex-land/verdex/internal/book"
)

func bookCommand() *cli.Command {
	return &cli.Command{
		Name:  "book",
		Usage: "post to and read the shared tables",
		Description: `A book keeps accounts for years: who posted what, when, and from which inputs. It is a file, or a
PostgreSQL database that a team shares (postgres://USER@HOST/DATABASE; a password is best left to ~/.pgpass). Nothing in it is ever
changed or deleted: a correction supersedes, a mistake is declared void, and both stay in the history.

  verdex book create orrin.book
  verdex book post orrin.book extents.csv matrix.csv --account wards --legend legend.csv
  verdex measure cover.tif --zones wards.gpkg --epoch 2020 --post orrin.book --account wards
  verdex book list orrin.book
  verdex book show orrin.book wards
  verdex book export orrin.book wards --out wards.xlsx
  verdex book verify orrin.book`,
		Commands: []*cli.Command{
			command(cli.Command{Name: "create", Usage: "make an empty book", Description: `  verdex book create orrin.book
  verdex book create postgres://ines@server/land`}, bookCreate),
			command(cli.Command{Name: "post", Usage: "enter tables of measure and change",
				Description: `Enters tables of measure (layout long) and of change --table matrix: all of them or none. What the book holds
already is recognised; where it holds other content for the same account, epoch and zone set, nothing is entered unless --supersede allows it.

  verdex book post orrin.book extents_2020.csv --account wards --note "second interpretation" --supersede`}, bookPost),
			command(cli.Command{Name: "list", Usage: "the accounts of a book", Description: `  verdex book list orrin.book`}, bookList),
			command(cli.Command{Name: "show", Usage: "one account: its extents over the epochs, and its extent accounts", Description: `  verdex book show orrin.book wards
  verdex book show orrin.book wards --table extents --format csv`}, bookShow),
			command(cli.Command{Name: "posting", Usage: "all that is known of one posting: author, command, inputs and their checksums",
				Description: `Shows who made a posting, how, and from which inputs. With --check-inputs the files are read again: are they still the ones that it was made from?

  verdex book posting orrin.book 4 --check-inputs`}, bookPosting),
			command(cli.Command{Name: "history", Usage: "every posting, with those that are superseded or void", Description: `  verdex book history orrin.book wards`}, bookHistory),
			command(cli.Command{Name: "diff", Usage: "which numbers differ between two postings", Description: `  verdex book diff orrin.book 3 7`}, bookDiff),
			command(cli.Command{Name: "verify", Usage: "recompute every checksum and balance",
				Description: `Recomputes every checksum and every balance, and ends with status 3 when something does not hold. The fingerprint that it
prints stands for all that the book holds: note it down, and ask later with --fingerprint whether the book still contains that.

  verdex book verify orrin.book --fingerprint 5a0c…`}, bookVerify),
			command(cli.Command{Name: "void", Usage: "declare a posting void", Description: `  verdex book void orrin.book 7 --why "wrong map sheet"`}, bookVoid),
			exportCommand(),
			command(cli.Command{Name: "import", Usage: "post what another book or a published package holds",
				Description: `Posts the accounts that count in another book, or in a folder that book export --package has written, in your name.

  verdex book import orrin.book firth-2020/`}, bookImport),
			command(cli.Command{Name: "merge", Usage: "take over all postings of other books with their history",
				Description: `Authors, times and inputs stay as they are; what the book has already is recognised.

  verdex book merge orrin.book field-team.book`}, bookMerge),
			command(cli.Command{Name: "migrate", Usage: "bring a book of an older version up to date",
				Description: `Changes the tables of a book that an older Verdex made to those of this one, after a backup. All other commands read such a book as it is
or refuse it; none changes it.

  verdex book migrate orrin.book`}, bookMigrate),
		},
	}
}

// oneBook names a book.
type oneBook struct {
	Args []string `arg:"BOOK" in:"-"`
	waitOption
}

// createOptions names a book that is made, which waits for nobody.
type createOptions struct {
	Args []string `arg:"BOOK"`
}

func bookCreate(s *session, o *createOptions) error {
	if len(o.Args) != 1 {
		return usage("book create needs the name of the book: a file, or postgres://…")
	}
	if err := book.Create(s.ctx, o.Args[0], book.Options{Program: s.version}); err != nil {
		return err
	}
	s.Note(book.NameOf(o.Args[0]) + ": the book is made")
	return nil
}

// withBook does work on the book that a command names first, with at least and at most as many arguments after it.
func (s *session) withBook(args []string, write bool, wait time.Duration, least, most int, what string, work func(*book.Book) error) error {
	if n := len(args) - 1; n < least || n > most {
		return usage("%s needs %s (verdex %s --help shows examples)", s.name, what, s.name)
	}
	b, err := s.openBook(args[0], write, wait)
	if err != nil {
		return err
	}
	defer b.Close()
	return work(b)
}

// bookLegend reads a legend as a book keeps it, nil for "".
func (s *session) bookLegend(path string) (*book.Legend, error) {
	if path == "" {
		return nil, nil
	}
	l, err := cover.ReadLegend(s.system, path)
	if err != nil {
		return nil, err
	}
	s.notes(l.Notes)
	known := book.LegendOf(baseName(path), l)
	return &known, nil
}

// posting reads the number of a posting.
func posting(number string) (int64, error) {
	id, err := strconv.ParseInt(number, 10, 64)
	if err != nil || id < 1 {
		return 0, usage("%q is not the number of a posting: verdex book history lists them", number)
	}
	return id, nil
}

type bookListOptions struct {
	oneBook
	tableOptions `group:"output"`
}

func bookList(s *session, o *bookListOptions) error {
	out, err := o.destination()
	if err != nil {
		return err
	}
	return s.withBook(o.Args, false, o.Wait, 0, 0, "a book", func(b *book.Book) error { return s.listBook(b, out) })
}

// listBook lists the accounts of a book.
func (s *session) listBook(b *book.Book, out *destination) error {
	all, err := b.Postings(s.ctx, "")
	if err != nil {
		return err
	}
	accounts := book.Summarise(all)
	if out.format != "table" {
		return s.write(out, book.AccountTable(b.Name, accounts))
	}
	g := &grid{c: s.canvas(), name: "account", head: []string{"zone set", "epochs", "legend", "postings", "rows", "last posted", "by"}}
	for _, a := range accounts {
		shown := strings.Join(a.Epochs, ", ")
		if shown == "" {
			shown = "none that counts"
		}
		g.add(a.Account+", "+a.Kind, []string{a.ZoneSet, shown, a.Last.Legend.Label(), fmt.Sprint(a.Postings), text.Number(float64(a.Rows), 0), timeText(a.Last.At), a.Last.Author}, false, false)
	}
	return g.list(b.Name, "a book with "+text.Count(len(all), "posting"))
}

// list draws a grid of texts under a headline.
func (g *grid) list(name, about string) error {
	g.c.line(g.c.bold(name), g.c.dim("  "+about))
	if len(g.rows) > 0 {
		g.c.line()
		paintTexts(g)
	}
	return g.c.flush()
}

type bookHistoryOptions struct {
	Args []string `arg:"BOOK [ACCOUNT]" in:"-"`
	waitOption
	tableOptions `group:"output"`
}

func bookHistory(s *session, o *bookHistoryOptions) error {
	out, err := o.destination()
	if err != nil {
		return err
	}
	return s.withBook(o.Args, false, o.Wait, 0, 1, "a book, and perhaps an account of it", func(b *book.Book) error {
		account := ""
		if len(o.Args) > 1 {
			account = o.Args[1]
		}
		all, err := b.Postings(s.ctx, account)
		if err != nil {
			return err
		}
		if out.format != "table" {
			return s.write(out, book.HistoryTable(b.Name, all))
		}
		g := &grid{c: s.canvas(), name: "posting", head: []string{"account", "epoch", "zone set", "posted (UTC)", "by", "state", "note"}}
		for _, p := range all {
			state, why := p.State()
			g.add(fmt.Sprint(p.ID), []string{p.Account + ", " + p.Kind, p.Period(), p.ZoneSet.Label(),
				timeText(p.At), p.Author, strings.TrimSpace(state + " " + why), p.Note}, false, state != "current")
		}
		return g.list(b.Name, text.Count(len(all), "posting"))
	})
}

type bookDiffOptions struct {
	Args []string `arg:"BOOK A B" in:"-"`
	job.UnitOption
	waitOption
	tableOptions `group:"output"`
}

func bookDiff(s *session, o *bookDiffOptions) error {
	out, err := o.destination()
	if err != nil {
		return err
	}
	unit, err := area.Find(o.Unit)
	if err != nil {
		return usageError{err}
	}
	return s.withBook(o.Args, false, o.Wait, 2, 2, "a book and the numbers of two postings", func(b *book.Book) error {
		var two [2]*book.Posting
		for i := range two {
			id, err := posting(o.Args[i+1])
			if err != nil {
				return err
			}
			if two[i], err = b.Posting(s.ctx, id); err != nil {
				return err
			}
		}
		if two[0].Kind != two[1].Kind {
			return fmt.Errorf("%s: posting %d is of %s and posting %d of %s: name two of one kind", b.Name, two[0].ID, two[0].Kind, two[1].ID, two[1].Kind)
		}
		moved := book.Compare(two[0], two[1])
		if out.format != "table" {
			return s.write(out, book.DiffTable(two, moved, unit))
		}
		return paintDiff(s.canvas(), b.Name, two, moved, unit)
	})
}

// paintDiff draws which numbers differ between two postings.
func paintDiff(c *canvas, name string, two [2]*book.Posting, moved []book.Moved, unit area.Unit) error {
	g := &grid{c: c, name: "zone and class", head: []string{fmt.Sprintf("posting %d", two[0].ID), fmt.Sprintf("posting %d", two[1].ID), "difference", "%"}}
	most := 0.0
	for _, m := range moved {
		most = math.Max(most, math.Max(m.Before, m.After)/unit.M2)
	}
	decimals := text.Decimals(most)
	for _, m := range moved {
		a, z, d := m.Before/unit.M2, m.After/unit.M2, (m.After-m.Before)/unit.M2
		number := func(v float64) string {
			if math.IsNaN(v) {
				return "no row"
			}
			return text.Number(v, decimals)
		}
		change, pct := "", ""
		if !math.IsNaN(d) {
			change = text.Signed(d, decimals)
			if d != 0 && strings.Trim(change, "+−0.") == "" {
				change = fmt.Sprintf("%+.3g", d)
			}
			if a != 0 {
				pct = text.Signed(d/a*100, 3)
			}
		}
		g.add(title(cover.Named{ID: m.Zone.ID, Name: m.Zone.Name})+"  "+m.Name, []string{number(a), number(z), change, pct}, false, false)
	}
	c.line(c.bold(fmt.Sprintf("%s, %s of account %s in %s", name, two[0].Kind, two[0].Account, unit.Label)))
	for _, p := range two {
		c.line(c.dim(fmt.Sprintf("posting %d  %s, %s, by %s, %s  %s", p.ID, p.Period(), p.ZoneSet.Name, p.Author, p.At, p.Note)))
	}
	c.line()
	if len(moved) == 0 {
		c.line("No number differs.")
	} else {
		g.paint()
	}
	return c.flush()
}

type bookVerifyOptions struct {
	oneBook
	Fingerprint string `opt:"fingerprint" help:"<FINGERPRINT> from an earlier time, which the book must still contain"`
}

func bookVerify(s *session, o *bookVerifyOptions) error {
	return s.withBook(o.Args, false, o.Wait, 0, 0, "a book", func(b *book.Book) error {
		report, err := b.Verify(s.ctx, o.Fingerprint)
		if err != nil {
			return err
		}
		for _, d := range report.Damage {
			s.Warn("damaged: " + d)
		}
		s.warnings(report.Imbalance)
		out := s.canvas()
		found := "every checksum and every balance holds"
		damage, imbalance := len(report.Damage), len(report.Imbalance)
		if damage+imbalance > 0 {
			found = fmt.Sprintf("%s, %s", text.Count(damage, "damaged place"), text.Count(imbalance, "balance that does not hold"))
			if imbalance != 1 {
				found = fmt.Sprintf("%s, %d balances that do not hold", text.Count(damage, "damaged place"), imbalance)
			}
		}
		out.line(out.bold(b.Name), fmt.Sprintf("  %s, %s, %s: %s", text.Count(report.Postings, "posting"), text.Count(report.Events, "event"), text.Count(int(report.Rows), "row"), found))
		if report.Fingerprint != "" {
			out.line("fingerprint  ", report.Fingerprint)
		}
		if err := out.flush(); err != nil {
			return err
		}
		if damage+imbalance > 0 {
			return errStrict
		}
		return nil
	})
}

type bookVoidOptions struct {
	Args []string `arg:"BOOK POSTING" in:"-"`
	Why  string   `opt:"why" help:"the <REASON>, which is needed"`
	authorOption
	waitOption
}

func bookVoid(s *session, o *bookVoidOptions) error {
	if strings.TrimSpace(o.Why) == "" {
		return usage("book void needs --why, the reason")
	}
	return s.withBook(o.Args, true, o.Wait, 1, 1, "a book and the number of a posting", func(b *book.Book) error {
		id, err := posting(o.Args[1])
		if err != nil {
			return err
		}
		p, err := b.Void(s.ctx, id, authorOf(o.Author), o.Why)
		if err != nil {
			return err
		}
		s.Note(fmt.Sprintf("%s: posting %d, the %s of account %s for %s, is void; it stays in the history", b.Name, id, p.Kind, p.Account, p.Period()))
		if p.Replaces != 0 {
			s.Note(fmt.Sprintf("posting %d, which it superseded, does not count again because of that: post its content once more if it should", p.Replaces))
		}
		return nil
	})
}

type bookMergeOptions struct {
	Args      []string `arg:"BOOK OTHER..." in:"-,book"`
	Supersede bool     `opt:"supersede" help:"where both books have an account, epoch and zone set, that of the other counts"`
	authorOption
	waitOption
}

func bookMerge(s *session, o *bookMergeOptions) error {
	return s.withBook(o.Args, true, o.Wait, 1, 1<<20, "a book and others to take over", func(b *book.Book) error {
		for _, where := range o.Args[1:] {
			if where == o.Args[0] {
				return usage("%s cannot be merged with itself", book.NameOf(where))
			}
			other, err := s.openBook(where, false, o.Wait)
			if err != nil {
				return err
			}
			m, err := b.Merge(s.ctx, other, authorOf(o.Author), o.Supersede)
			other.Close()
			if err != nil {
				return err
			}
			note := fmt.Sprintf("%s: %s taken over from %s, %d known already", b.Name, text.Count(m.Postings, "posting"), other.Name, m.Known)
			if m.Voids > 0 {
				note += fmt.Sprintf(", %d declared void as there", m.Voids)
			}
			for i, id := range m.GaveWay {
				note += []string{"; superseded: ", ", "}[min(i, 1)] + fmt.Sprint(id)
			}
			s.Note(note)
		}
		return nil
	})
}

func bookMigrate(s *session, o *oneBook) error {
	if len(o.Args) != 1 {
		return usage("book migrate needs a book")
	}
	note, err := book.Migrate(s.ctx, o.Args[0], book.Options{Wait: o.Wait, Program: s.version})
	if err == nil {
		s.Note(note)
	}
	return err
}

// commandLine is the command of a posting, its options in the order of the alphabet.
func commandLine(parameters string) string {
	var p struct {
		Command   string
		Arguments []string
		Options   map[string]any
	}
	if json.Unmarshal([]byte(parameters), &p) != nil || p.Command == "" {
		return ""
	}
	words := append(strings.Fields("verdex "+p.Command), p.Arguments...)
	for _, name := range slices.Sorted(maps.Keys(p.Options)) {
		switch v := p.Options[name].(type) {
		case bool:
			if v {
				words = append(words, "--"+name)
			}
		case []any:
			for _, one := range v {
				words = append(words, "--"+name, fmt.Sprint(one))
			}
		default:
			words = append(words, "--"+name, fmt.Sprint(v))
		}
	}
	for i, w := range words {
		if strings.ContainsAny(w, " *?;$&'") || w == "" {
			words[i] = `"` + w + `"`
		}
	}
	return strings.Join(words, " ")
}
