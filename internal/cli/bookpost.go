package cli

import (
	"context"
	"fmt"
	"path/filepath"
	"strings"
	"sync"

	"github.com/urfave/cli/v3"

	vectors "github.com/verdex-land/verdex/core/vector/open"
	"github.com/verdex-land/verdex/core/zone"
	"github.com/verdex-land/verdex/internal/book"
	"github.com/verdex-land/verdex/internal/output"
)

// entryFlags say who posts, what, and how.
func entryFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "account", Usage: "`NAME` of the account in the book"},
		&cli.StringFlag{Name: "zone-set", Usage: "`NAME` of the set of zones; without it that of the file of zones, or of the account"},
		&cli.StringFlag{Name: "author", Usage: "`WHO` posts; without it $VERDEX_AUTHOR, or the user of the system"},
		&cli.StringFlag{Name: "note", Usage: "`TEXT` about the posting"},
		&cli.BoolFlag{Name: "supersede", Usage: "take the place of other content of the same account, epoch and zone set, which stays in the history"},
		waitFlag(),
	}
}

func waitFlag() cli.Flag {
	return &cli.DurationFlag{Name: "wait", Value: book.DefaultWait, Usage: "`TIME` to wait for others who write to the book"}
}

// postFlags are those of commands whose outcome can be posted.
func postFlags() []cli.Flag {
	return append([]cli.Flag{&cli.StringFlag{Name: "post", Usage: "enter the outcome in a `BOOK`: a file, or postgres://…"}}, entryFlags()...)
}

// openBook opens a book and tells when that has brought it up to date.
func openBook(ctx context.Context, c *cli.Command, where string, write bool, r *reporter) (*book.Book, error) {
	if c.Duration("wait") < 0 {
		return nil, usage("--wait %v: give a time such as 30s", c.Duration("wait"))
	}
	b, err := book.Open(ctx, where, book.Options{Wait: c.Duration("wait"), Program: c.Root().Version, Write: write})
	if err == nil && b.Migrated != "" {
		r.note(b.Migrated)
	}
	return b, err
}

// checkPost finds out before the work whether its outcome can be posted.
func checkPost(ctx context.Context, c *cli.Command) error {
	where := c.String("post")
	if where == "" {
		for _, f := range entryFlags() {
			if name := f.Names()[0]; c.String(name) != "" || c.Bool(name) {
				return usage("--%s is for posting: name a book with --post", name)
			}
		}
		return nil
	}
	if strings.TrimSpace(c.String("account")) == "" {
		return usage("--post needs --account, the name of the account in the book")
	}
	if c.Name == "measure" && c.String("epoch") == "" {
		return usage("--post needs --epoch, the label of the date that the extents are of")
	}
	b, err := openBook(ctx, c, where, true, newReporter(c))
	if err != nil {
		return err
	}
	return b.Close()
}

// postTo has what a command has made entered in the book of --post, when everything else is in its place.
func postTo(ctx context.Context, c *cli.Command, made func() []*book.Posting, r *reporter) {
	where := c.String("post")
	if where == "" {
		return
	}
	filesOf(ctx).post = func() error {
		b, err := openBook(ctx, c, where, true, r)
		if err != nil {
			return err
		}
		defer b.Close()
		return enter(ctx, c, b, made(), r)
	}
}

// postings are those that a command makes, once, under the names that its options give.
func postings(c *cli.Command, make func() []*book.Posting) func() []*book.Posting {
	return sync.OnceValue(func() []*book.Posting {
		list := make()
		for _, p := range list {
			p.Account = strings.TrimSpace(c.String("account"))
			p.Legend.Name = legendName(c)
			p.ZoneSet.Name = zoneSetName(c)
		}
		return list
	})
}

// legendName is the name of the legend of a command.
func legendName(c *cli.Command) string {
	path := c.String("legend")
	switch {
	case path == "":
		return ""
	case c.String("by") == "group":
		return baseName(path) + ", groups"
	}
	return baseName(path)
}

// zoneSetName is the name of the zones of a command.
func zoneSetName(c *cli.Command) string {
	switch zones := c.String("zones"); {
	case c.String("zone-set") != "":
		return c.String("zone-set")
	case zones == "":
		return "whole raster"
	case zone.IsText(zones):
		return zones
	default:
		path, layer := vectors.Split(zones)
		if layer != "" {
			return layer
		}
		return baseName(path)
	}
}

func baseName(path string) string {
	return strings.TrimSuffix(filepath.Base(path), filepath.Ext(path))
}

// enter posts to a book, in the name of whoever calls the command, and tells what became of each posting.
func enter(ctx context.Context, c *cli.Command, b *book.Book, list []*book.Posting, r *reporter) error {
	inputs, err := fingerprints(ctx, filesOf(ctx).Inputs(), r)
	if err != nil {
		return err
	}
	author, command := authorOf(c), parameters(c)
	for _, p := range list {
		if p.Account == "" {
			p.Account = strings.TrimSpace(c.String("account"))
		}
		if note := c.String("note"); note != "" {
			p.Note = note
		}
		p.Author, p.Command, p.Inputs = author, command, append(p.Inputs, inputs...)
	}
	outcomes, err := b.Post(ctx, list, c.Bool("supersede"))
	if err != nil {
		return err
	}
	for i, o := range outcomes {
		for _, text := range o.Notes {
			r.note(b.Name + ": " + text)
		}
		what := fmt.Sprintf("%s of account %s, %s", list[i].Kind, list[i].Account, list[i].Period())
		switch {
		case o.Rounding:
			r.note(fmt.Sprintf("%s: posting %d holds the %s with the same numbers to within rounding: nothing new is entered", b.Name, o.ID, what))
		case o.Already:
			r.note(fmt.Sprintf("%s: posting %d holds the same %s: nothing new is entered", b.Name, o.ID, what))
		case o.Superseded != 0:
			r.note(fmt.Sprintf("%s: posted as %d: the %s; posting %d is superseded and stays in the history", b.Name, o.ID, what, o.Superseded))
		default:
			r.note(fmt.Sprintf("%s: posted as %d: the %s", b.Name, o.ID, what))
		}
	}
	return nil
}

// fingerprints reads the inputs of a command once more for their checksums. They must be the files that they were when the command
// began.
func fingerprints(ctx context.Context, files []output.Input, r *reporter) (out []book.Input, err error) {
	tell, end := r.progress("fingerprints of the inputs")
	defer end()
	for i, f := range files {
		if f.Role == "" {
			continue
		}
		in, err := book.ReadInput(ctx, f.Role, f.Path)
		if err == nil {
			err = f.Changed()
		}
		if err != nil {
			return nil, err
		}
		out = append(out, in)
		if tell != nil {
			tell(i+1, len(files))
		}
	}
	return out, nil
}

func bookPost(ctx context.Context, c *cli.Command) error {
	if c.Args().Len() < 2 {
		return usage("book post needs a book and a table (verdex book post --help shows examples)")
	}
	if strings.TrimSpace(c.String("account")) == "" {
		return usage("book post needs --account, the name of the account in the book")
	}
	r := newReporter(c)
	var legend *book.Legend
	if path := c.String("legend"); path != "" {
		l, err := readLegend(c)
		if err != nil {
			return err
		}
		known := book.LegendOf(baseName(path), l)
		legend = &known
	}
	var list []*book.Posting
	for _, path := range c.Args().Slice()[1:] {
		made, notes, err := book.ReadTable(path, c.String("epoch"), legend)
		if err != nil {
			return err
		}
		r.notes(notes)
		for _, p := range made {
			p.ZoneSet.Name = c.String("zone-set")
		}
		list = append(list, made...)
	}
	b, err := openBook(ctx, c, c.Args().First(), true, r)
	if err != nil {
		return err
	}
	defer b.Close()
	return enter(ctx, c, b, list, r)
}
