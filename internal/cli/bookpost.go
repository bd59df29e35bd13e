package cli

import (
	"context"
	"fmt"
	"strings"
	"sync"
	"time"

	vectors "github.com/verdex-land/verdex/core/vector/open"
	"github.com/verdex-land/verdex/core/zone"
	"github.com/verdex-land/verdex/internal/book"
)

// waitOption is how long a command waits for a book.
type waitOption struct {
	Wait time.Duration `opt:"wait" default:"30s" help:"<TIME> to wait for others to finish writing to the book"`
}

// waitOf is how long a command waits for a book.
func waitOf(options any) time.Duration {
	if w := given[time.Duration](options, "wait"); w > 0 {
		return w
	}
	return book.DefaultWait
}

// authorOption is who writes to a book.
type authorOption struct {
	Author string `opt:"author" help:"<WHO> writes to the book; without it $VERDEX_AUTHOR, or the user of the system"`
}

// entryOptions say who posts, what, and how.
type entryOptions struct {
	Account string `opt:"account" help:"<NAME> of the account in the book"`
	ZoneSet string `opt:"zone-set" help:"<NAME> of the set of zones; without it that of the file of zones, or of the account"`
	authorOption
	Note      string `opt:"note" help:"<TEXT> about the posting"`
	Supersede bool   `opt:"supersede" help:"supersede other content of the same account, epoch and zone set, which stays in the history"`
	waitOption
}

// postOptions are those of commands whose outcome can be posted.
type postOptions struct {
	Post string `opt:"post" in:"-" help:"enter the outcome in a <BOOK>: a file, or postgres://…"`
	entryOptions
}

// openBook opens a book.
func (s *session) openBook(where string, write bool, wait time.Duration) (*book.Book, error) {
	if wait < 0 {
		return nil, usage("--wait %v: give a time such as 30s", wait)
	}
	return book.Open(s.ctx, where, book.Options{Wait: wait, Program: s.version, Write: write})
}

// checkPost finds out before the work whether its outcome can be posted. The epoch is "" where it is missing.
func (s *session) checkPost(o *postOptions, epoch string) error {
	if o.Post == "" {
		for _, f := range []struct {
			name  string
			given bool
		}{{"account", o.Account != ""}, {"zone-set", o.ZoneSet != ""}, {"author", o.Author != ""}, {"note", o.Note != ""}, {"supersede", o.Supersede}} {
			if f.given {
				return usage("--%s is for posting: name a book with --post", f.name)
			}
		}
		return nil
	}
	if strings.TrimSpace(o.Account) == "" {
		return usage("--post needs --account, the name of the account in the book")
	}
	if epoch == "" {
		return usage("--post needs --epoch, the label of the date that the extents are of")
	}
	b, err := s.openBook(o.Post, true, o.Wait)
	if err != nil {
		return err
	}
	return b.Close()
}

// postTo has what a command has made entered in a book, when everything else is in its place.
func (s *session) postTo(o *postOptions, made func() []*book.Posting) {
	if o.Post == "" {
		return
	}
	s.post = func() error {
		b, err := s.openBook(o.Post, true, o.Wait)
		if err != nil {
			return err
		}
		defer b.Close()
		return s.enter(b, made(), o.entryOptions)
	}
}

// postings are those that a command makes, once, under the names that its options give.
func (s *session) postings(o postOptions, make func() []*book.Posting) func() []*book.Posting {
	return sync.OnceValue(func() []*book.Posting {
		list := make()
		for _, p := range list {
			p.Account = strings.TrimSpace(o.Account)
			p.Legend.Name = legendName(given[string](s.options, "legend"), given[string](s.options, "by"))
			p.ZoneSet.Name = zoneSetName(o.ZoneSet, given[string](s.options, "zones"))
		}
		return list
	})
}

// legendName is the name of a legend in a book.
func legendName(path, by string) string {
	switch {
	case path == "":
		return ""
	case by == "group":
		return baseName(path) + ", groups"
	}
	return baseName(path)
}

// zoneSetName is the name of zones in a book: the one that is given, or that of their file.
func zoneSetName(name, zones string) string {
	switch {
	case name != "":
		return name
	case zones == "":
		return "whole raster"
	case zone.IsText(zones):
		return zones
	}
	path, layer := vectors.Split(zones)
	if layer != "" {
		return layer
	}
	return baseName(path)
}

// enter posts to a book, in the name of whoever calls the command, and notes what became of each posting.
func (s *session) enter(b *book.Book, list []*book.Posting, o entryOptions) error {
	inputs, err := s.fingerprints(s.ctx)
	if err != nil {
		return err
	}
	author, command := authorOf(o.Author), s.parameters()
	for _, p := range list {
		if p.Account == "" {
			p.Account = strings.TrimSpace(o.Account)
		}
		if o.Note != "" {
			p.Note = o.Note
		}
		p.Author, p.Command, p.Inputs = author, command, append(p.Inputs, inputs...)
	}
	outcomes, err := b.Post(s.ctx, list, o.Supersede)
	if err != nil {
		return err
	}
	for i, outcome := range outcomes {
		if s.plan != nil {
			s.plan.posted = append(s.plan.posted, outcome.ID)
		}
		for _, text := range outcome.Notes {
			s.Note(b.Name + ": " + text)
		}
		what := fmt.Sprintf("%s of account %s, %s", list[i].Kind, list[i].Account, list[i].Period())
		switch {
		case outcome.Rounding:
			s.Note(fmt.Sprintf("%s: posting %d holds the %s with the same numbers to within rounding, so nothing new is entered", b.Name, outcome.ID, what))
		case outcome.Already:
			s.Note(fmt.Sprintf("%s: posting %d holds the same %s, so nothing new is entered", b.Name, outcome.ID, what))
		case outcome.Superseded != 0:
			s.Note(fmt.Sprintf("%s: posted as %d: the %s; posting %d is superseded and stays in the history", b.Name, outcome.ID, what, outcome.Superseded))
		default:
			s.Note(fmt.Sprintf("%s: posted as %d: the %s", b.Name, outcome.ID, what))
		}
	}
	return nil
}

// fingerprints reads the inputs of a command once more for their checksums. They must be the files that they were when the command
// began.
func (s *session) fingerprints(ctx context.Context) (out []book.Input, err error) {
	inputs := s.Inputs()
	tell, end := s.Progress("fingerprints of the inputs")
	defer end()
	for i, f := range inputs {
		if f.Role == "" {
			continue
		}
		in, err := s.inputOf(ctx, f)
		if err != nil {
			return nil, err
		}
		out = append(out, in)
		if tell != nil {
			tell(i+1, len(inputs))
		}
	}
	return out, nil
}

type bookPostOptions struct {
	Args   []string `arg:"BOOK TABLE..." in:"-,table"`
	Legend string   `opt:"legend" in:"legend" help:"CSV <FILE> of the classes; without it those of the account or of the tables"`
	Epoch  string   `opt:"epoch" help:"<LABEL> of the date, for tables whose column epoch is empty"`
	entryOptions
}

func bookPost(s *session, o *bookPostOptions) error {
	if len(o.Args) < 2 {
		return usage("book post needs a book and a table (verdex book post --help shows examples)")
	}
	if strings.TrimSpace(o.Account) == "" {
		return usage("book post needs --account, the name of the account in the book")
	}
	legend, err := s.bookLegend(o.Legend)
	if err != nil {
		return err
	}
	var list []*book.Posting
	for _, path := range o.Args[1:] {
		made, notes, err := book.ReadTable(s.system, path, o.Epoch, legend)
		if err != nil {
			return err
		}
		s.notes(notes)
		for _, p := range made {
			p.ZoneSet.Name = o.ZoneSet
		}
		list = append(list, made...)
	}
	b, err := s.openBook(o.Args[0], true, o.Wait)
	if err != nil {
		return err
	}
	defer b.Close()
	return s.enter(b, list, o.entryOptions)
}
