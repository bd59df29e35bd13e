package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/core/account"
	"github.com/verdex-land/verdex/internal/book"
	"github.com/verdex-land/verdex/internal/table"
)

func bookCommand() *cli.Command {
	unit := &cli.StringFlag{Name: "unit", Value: "ha", Usage: "`ha`, m2, km2, acre or mi2"}
	wait := []cli.Flag{waitFlag()}
	lists := slices.Concat(wait, outputFlags())
	tables := slices.Concat([]cli.Flag{unit}, lists)
	one := func(name, args, what, description string, action cli.ActionFunc, flags []cli.Flag) *cli.Command {
		return &cli.Command{Name: name, Usage: what, ArgsUsage: args, Description: description, Flags: flags, Action: action}
	}
	who := []cli.Flag{&cli.StringFlag{Name: "author", Usage: "`WHO` does it; without it $VERDEX_AUTHOR, or the user of the system"}, waitFlag()}
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
			one("create", "BOOK", "make an empty book", `  verdex book create orrin.book
  verdex book create postgres://ines@server/land`, bookCreate, nil),
			one("post", "BOOK TABLE...", "enter tables of measure and change", `Enters tables of measure (layout long) and of change --table matrix: all of them or none. What the book holds
already is recognised; where it holds other content for the same account, epoch and zone set, nothing is entered unless --supersede says so.

  verdex book post orrin.book extents_2020.csv --account wards --note "second interpretation" --supersede`, bookPost, slices.Concat([]cli.Flag{
				&cli.StringFlag{Name: "legend", Usage: "CSV `FILE` of the classes; without it those of the account or of the tables"},
				&cli.StringFlag{Name: "epoch", Usage: "`LABEL` of the date, for tables whose column epoch is empty"}}, entryFlags())),
			one("list", "BOOK", "the accounts of a book", `  verdex book list orrin.book`, bookList, lists),
			one("show", "BOOK ACCOUNT", "one account: its extents over the epochs, and its extent accounts", `  verdex book show orrin.book wards
  verdex book show orrin.book wards --table extents --format csv`, bookShow, slices.Concat([]cli.Flag{
				&cli.StringFlag{Name: "table", Usage: "only the rows of `extents` or transitions, as measure and change write them"}}, tables)),
			one("posting", "BOOK N", "all that is known of one posting: author, command, inputs and their checksums", `Tells who made a posting, how, and from which inputs. With --check-inputs the files are read again: are they still the ones that it was made from?

  verdex book posting orrin.book 4 --check-inputs`, bookPosting, slices.Concat(wait, []cli.Flag{
				&cli.BoolFlag{Name: "check-inputs", Usage: "read the inputs again and compare their checksums; status 3 when one has changed or is gone"}})),
			one("history", "BOOK [ACCOUNT]", "every posting, with those that are superseded or void", `  verdex book history orrin.book wards`, bookHistory, lists),
			one("diff", "BOOK A B", "which numbers moved between two postings", `  verdex book diff orrin.book 3 7`, bookDiff, tables),
			one("verify", "BOOK", "recompute every checksum and balance", `Recomputes every checksum and every balance, and ends with status 3 when something does not hold. The fingerprint that it
tells stands for all that the book holds: note it down, and ask later with --fingerprint whether the book still contains that.

  verdex book verify orrin.book --fingerprint 5a0c…`, bookVerify, slices.Concat([]cli.Flag{
				&cli.StringFlag{Name: "fingerprint", Usage: "`FINGERPRINT` from an earlier time, which the book must still contain"}}, wait)),
			one("void", "BOOK POSTING", "declare a posting void", `  verdex book void orrin.book 7 --why "wrong map sheet"`, bookVoid, slices.Concat([]cli.Flag{
				&cli.StringFlag{Name: "why", Usage: "the `REASON`, which is needed"}}, who)),
			exportCommand(tables),
			one("import", "BOOK FROM", "post what another book or a published package holds", `Posts the accounts that count in another book, or in a folder that book export --package has written, in your name.

  verdex book import orrin.book firth-2020/`, bookImport, slices.Concat([]cli.Flag{
				&cli.StringFlag{Name: "account", Usage: "only this `ACCOUNT`"},
				&cli.StringFlag{Name: "note", Usage: "`TEXT` about the postings"},
				&cli.BoolFlag{Name: "supersede", Usage: "take the place of other content of the same account, epoch and zone set"}}, who)),
			one("merge", "BOOK OTHER...", "take over all postings of other books with their history", `Authors, times and inputs stay as they are; what the book has already is recognised.

  verdex book merge orrin.book field-team.book`, bookMerge, slices.Concat([]cli.Flag{
				&cli.BoolFlag{Name: "supersede", Usage: "where both books have an account, epoch and zone set, that of the other counts"}}, who)),
		},
	}
}

func bookCreate(ctx context.Context, c *cli.Command) error {
	if c.Args().Len() != 1 {
		return usage("book create needs the name of the book: a file, or postgres://…")
	}
	where := c.Args().First()
	if err := book.Create(ctx, where, book.Options{Program: c.Root().Version}); err != nil {
		return err
	}
	newReporter(c).note(book.NameOf(where) + ": the book is made")
	return nil
}

// withBook does work on the book that a command names first, with at least as many arguments after it.
func withBook(ctx context.Context, c *cli.Command, write bool, least, most int, what string, work func(*book.Book, *reporter) error) error {
	if n := c.Args().Len() - 1; n < least || n > most {
		return usage("book %s needs %s (verdex book %s --help shows examples)", c.Name, what, c.Name)
	}
	r := newReporter(c)
	b, err := openBook(ctx, c, c.Args().First(), write, r)
	if err != nil {
		return err
	}
	defer b.Close()
	return work(b, r)
}

// posting reads the number of a posting.
func posting(text string) (int64, error) {
	id, err := strconv.ParseInt(text, 10, 64)
	if err != nil || id < 1 {
		return 0, usage("%q is no number of a posting: verdex book history tells them all", text)
	}
	return id, nil
}

func bookList(ctx context.Context, c *cli.Command) error {
	out, err := chooseOutput(c)
	if err != nil {
		return err
	}
	return withBook(ctx, c, false, 0, 0, "a book", func(b *book.Book, _ *reporter) error { return listBook(ctx, b, out) })
}

// listBook tells the accounts of a book.
func listBook(ctx context.Context, b *book.Book, out *destination) error {
	all, err := b.Postings(ctx, "")
	if err != nil {
		return err
	}
	t := &table.Table{Name: "accounts", Title: "Accounts of " + b.Name, Columns: []string{"account", "kind", "zone_set", "epochs", "legend", "postings", "rows", "author", "posted_at"}}
	type key struct{ account, kind, set string }
	var order []key
	of := map[key][]*book.Posting{}
	for _, p := range all {
		k := key{p.Account, p.Kind, p.ZoneSet.Name}
		if of[k] == nil {
			order = append(order, k)
		}
		of[k] = append(of[k], p)
	}
	slices.SortStableFunc(order, func(a, b key) int { return strings.Compare(a.account, b.account) })
	g := &grid{c: newCanvas(out.stdout), name: "account", head: []string{"zone set", "epochs", "legend", "postings", "rows", "last posted", "by"}}
	for _, k := range order {
		var epochs []string
		rows := 0
		last := of[k][len(of[k])-1]
		for _, p := range of[k] {
			if p.Current() {
				epochs = append(epochs, p.Period())
				rows += p.RowCount
				last = p
			}
		}
		slices.Sort(epochs)
		shown := strings.Join(epochs, ", ")
		if shown == "" {
			shown = "none that counts"
		}
		legend := last.Legend.Label()
		t.Rows = append(t.Rows, []any{k.account, k.kind, k.set, strings.Join(epochs, ", "), legend, len(of[k]), rows, last.Author, last.At})
		g.add(k.account+", "+k.kind, []string{k.set, shown, legend, fmt.Sprint(len(of[k])), group(float64(rows), 0), timeText(last.At), last.Author}, false, false)
	}
	return out.list(ctx, t, g, b.Name, fmt.Sprintf("a book with %d posting(s)", len(all)))
}

// list hands a list over: as a table, or drawn under a headline.
func (o *destination) list(ctx context.Context, t *table.Table, g *grid, name, about string) error {
	if o.format != "table" {
		return o.write(ctx, t)
	}
	g.c.line(g.c.bold(name), g.c.dim("  "+about))
	if len(g.rows) > 0 {
		g.c.line()
		paintTexts(g)
	}
	return g.c.flush()
}

func bookHistory(ctx context.Context, c *cli.Command) error {
	out, err := chooseOutput(c)
	if err != nil {
		return err
	}
	return withBook(ctx, c, false, 0, 1, "a book, and perhaps an account of it", func(b *book.Book, r *reporter) error {
		all, err := b.Postings(ctx, c.Args().Get(1))
		if err != nil {
			return err
		}
		t := &table.Table{Name: "history", Title: "Postings of " + b.Name, Columns: []string{"posting_id", "account", "kind", "from_epoch", "epoch", "zone_set", "legend", "rows", "author", "posted_at",
			"state", "state_note", "note", "program", "parameters", "content_sha256"}}
		g := &grid{c: newCanvas(out.stdout), name: "posting", head: []string{"account", "epoch", "zone set", "posted (UTC)", "by", "state", "note"}}
		for _, p := range all {
			state, why := "current", ""
			switch {
			case p.Void != "":
				state, why = "void", p.Void
			case p.Successor != 0:
				state, why = "superseded", fmt.Sprintf("by %d", p.Successor)
			}
			t.Rows = append(t.Rows, []any{int(p.ID), p.Account, p.Kind, p.From, p.Epoch, p.ZoneSet.Name, p.Legend.Name, p.RowCount, p.Author, p.At, state, why, p.Note, p.Program, p.Command, p.Content})
			g.add(fmt.Sprint(p.ID), []string{p.Account + ", " + p.Kind, p.Period(), p.ZoneSet.Label(),
				timeText(p.At), p.Author, strings.TrimSpace(state + " " + why), p.Note}, false, state != "current")
		}
		return out.list(ctx, t, g, b.Name, fmt.Sprintf("%d posting(s)", len(all)))
	})
}

func bookDiff(ctx context.Context, c *cli.Command) error {
	out, err := chooseOutput(c)
	if err != nil {
		return err
	}
	unit, err := account.FindUnit(c.String("unit"))
	if err != nil {
		return usageError{err}
	}
	return withBook(ctx, c, false, 2, 2, "a book and the numbers of two postings", func(b *book.Book, r *reporter) error {
		var two [2]*book.Posting
		for i := range two {
			id, err := posting(c.Args().Get(i + 1))
			if err != nil {
				return err
			}
			if two[i], err = b.Posting(ctx, id); err != nil {
				return err
			}
		}
		if two[0].Kind != two[1].Kind {
			return fmt.Errorf("%s: posting %d is of %s and posting %d of %s: two of a kind can be compared", b.Name, two[0].ID, two[0].Kind, two[1].ID, two[1].Kind)
		}
		moved := book.Compare(two[0], two[1])
		t := &table.Table{Name: "diff", Title: fmt.Sprintf("From posting %d to %d", two[0].ID, two[1].ID), Columns: []string{"zone_id", "zone_name", "kind", "from_code", "to_code", "class_name", "before", "after", "difference", "unit"}}
		g := &grid{c: newCanvas(out.stdout), name: "zone and class", head: []string{fmt.Sprintf("posting %d", two[0].ID), fmt.Sprintf("posting %d", two[1].ID), "difference", "%"}}
		most := 0.0
		for _, m := range moved {
			most = math.Max(most, math.Max(m.Before, m.After)/unit.M2)
		}
		decimals := decimalsFor(most)
		for _, m := range moved {
			a, z, d := m.Before/unit.M2, m.After/unit.M2, (m.After-m.Before)/unit.M2
			t.Rows = append(t.Rows, []any{m.Zone.ID, m.Zone.Name, m.Kind, m.From, m.To, m.Name, a, z, d, unit.Name})
			text := func(v float64) string {
				if math.IsNaN(v) {
					return "no row"
				}
				return group(v, decimals)
			}
			change, pct := "", ""
			if !math.IsNaN(d) {
				change = signed(d, decimals)
				if d != 0 && strings.Trim(change, "+−0.") == "" {
					change = fmt.Sprintf("%+.3g", d)
				}
				if a != 0 {
					pct = signed(d/a*100, 3)
				}
			}
			g.add(title(m.Zone.ID, m.Zone.Name)+"  "+m.Name, []string{text(a), text(z), change, pct}, false, false)
		}
		if out.format != "table" {
			return out.write(ctx, t)
		}
		g.c.line(g.c.bold(fmt.Sprintf("%s, %s of account %s in %s", b.Name, two[0].Kind, two[0].Account, unit.Label)))
		for _, p := range two {
			g.c.line(g.c.dim(fmt.Sprintf("posting %d  %s, %s, by %s, %s  %s", p.ID, p.Period(), p.ZoneSet.Name, p.Author, p.At, p.Note)))
		}
		g.c.line()
		if len(moved) == 0 {
			g.c.line("No number differs.")
		} else {
			g.paint()
		}
		return g.c.flush()
	})
}

func bookVerify(ctx context.Context, c *cli.Command) error {
	return withBook(ctx, c, false, 0, 0, "a book", func(b *book.Book, r *reporter) error {
		report, err := b.Verify(ctx, c.String("fingerprint"))
		if err != nil {
			return err
		}
		for _, d := range report.Damage {
			r.warn("damaged: " + d)
		}
		for _, d := range report.Imbalance {
			r.warn(d)
		}
		out := newCanvas(c.Root().Writer)
		found := "every checksum and every balance holds"
		if n, m := len(report.Damage), len(report.Imbalance); n+m > 0 {
			found = fmt.Sprintf("%d damage(s), %d balance(s) that do not hold", n, m)
		}
		out.line(out.bold(b.Name), fmt.Sprintf("  %d posting(s), %d event(s), %s row(s): %s", report.Postings, report.Events, group(float64(report.Rows), 0), found))
		if report.Fingerprint != "" {
			out.line("fingerprint  ", report.Fingerprint)
		}
		if err := out.flush(); err != nil {
			return err
		}
		if len(report.Damage)+len(report.Imbalance) > 0 {
			return errStrict
		}
		return nil
	})
}

func bookVoid(ctx context.Context, c *cli.Command) error {
	if strings.TrimSpace(c.String("why")) == "" {
		return usage("book void needs --why, the reason")
	}
	return withBook(ctx, c, true, 1, 1, "a book and the number of a posting", func(b *book.Book, r *reporter) error {
		id, err := posting(c.Args().Get(1))
		if err != nil {
			return err
		}
		p, err := b.Void(ctx, id, authorOf(c), c.String("why"))
		if err != nil {
			return err
		}
		r.note(fmt.Sprintf("%s: posting %d, the %s of account %s for %s, is void; it stays in the history", b.Name, id, p.Kind, p.Account, p.Period()))
		if p.Replaces != 0 {
			r.note(fmt.Sprintf("posting %d, which it superseded, does not count again by that: post its content once more if it should", p.Replaces))
		}
		return nil
	})
}

func bookMerge(ctx context.Context, c *cli.Command) error {
	return withBook(ctx, c, true, 1, 1<<20, "a book and others to take over", func(b *book.Book, r *reporter) error {
		for _, where := range c.Args().Slice()[1:] {
			if where == c.Args().First() {
				return usage("%s is to be merged with itself", book.NameOf(where))
			}
			other, err := openBook(ctx, c, where, false, r)
			if err != nil {
				return err
			}
			m, err := b.Merge(ctx, other, authorOf(c), c.Bool("supersede"))
			other.Close()
			if err != nil {
				return err
			}
			text := fmt.Sprintf("%s: %d posting(s) taken over from %s, %d known already", b.Name, m.Postings, other.Name, m.Known)
			if m.Voids > 0 {
				text += fmt.Sprintf(", %d declared void as there", m.Voids)
			}
			for i, id := range m.GaveWay {
				text += []string{"; gave way: ", ", "}[min(i, 1)] + fmt.Sprint(id)
			}
			r.note(text)
		}
		return nil
	})
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
