package book

import (
	"context"
	"fmt"
	"strings"
)

// Merged is what a merge has brought.
type Merged struct {
	Postings, Voids int // taken over
	Known           int // postings that the book had already
	GaveWay         []int64
}

// Merge takes all postings of another book over with their history: authors, times and inputs stay, numbers are given anew. A posting that
// the book has already is recognised. Where both books hold other content for the same account, kind, epochs and zone set, the merge is
// refused with ErrConflict, or the posting of this book is superseded if supersede is set.
func (b *Book) Merge(ctx context.Context, other *Book, author string, supersede bool) (m Merged, err error) {
	err = b.write(ctx, func(tx *txn) error {
		m = Merged{}
		return other.read(ctx, func(q asker) error {
			theirs, err := other.heads(ctx, q, "")
			if err != nil {
				return err
			}
			number := map[int64]int64{} // of theirs: in this book
			for _, p := range theirs {
				if err := other.loadRows(ctx, q, p); err != nil {
					return err
				}
				id, fresh, err := b.take(ctx, tx, p, number, author, other.Name)
				if err != nil {
					return err
				}
				number[p.ID] = id
				if fresh {
					m.Postings++
				} else {
					m.Known++
				}
				p.Extents, p.Moves, p.ZoneSet.Zones, p.Legend.Classes = nil, nil, nil, nil
			}
			for _, p := range theirs {
				if p.Void == "" {
					continue
				}
				mine, err := b.head(ctx, tx, number[p.ID])
				if err != nil {
					return err
				}
				if mine.Current() {
					m.Voids++
					if err := b.void(ctx, tx, mine, author, p.Void); err != nil {
						return err
					}
				}
			}
			if err := b.settle(ctx, tx, author, other.Name, supersede, &m); err != nil {
				return err
			}
			if m.Postings+m.Voids == 0 {
				return errAlready
			}
			return nil
		})
	})
	return m, err
}

// take takes over one posting of another book, unless this one has it, and gives its number here.
func (b *Book) take(ctx context.Context, tx *txn, p *Posting, number map[int64]int64, author, from string) (id int64, fresh bool, err error) {
	mine, err := b.heads(ctx, tx, "WHERE p.content_sha256 = ?", p.Content)
	if err != nil {
		return 0, false, err
	}
	for _, o := range mine {
		same := o.Author == p.Author && o.At == p.At && o.Note == p.Note && o.Program == p.Program && o.Command == p.Command
		if same || o.Current() && p.Current() {
			return o.ID, false, nil
		}
	}
	n := *p
	if n.Replaces = number[p.Replaces]; n.Replaces != 0 {
		before, err := b.head(ctx, tx, n.Replaces)
		if err != nil {
			return 0, false, err
		}
		if before.Successor != 0 {
			n.Replaces = 0 // another posting has taken its place here
		}
	}
	if _, err := b.versions(ctx, tx, &n); err != nil {
		return 0, false, err
	}
	err = b.put(ctx, tx, &n, p.Current(), event{what: "post", author: author, at: now(), why: "merged from " + from})
	return n.ID, true, err
}

// settle sees to it that one posting counts for each account, kind, epochs and zone set.
func (b *Book) settle(ctx context.Context, tx *txn, author, from string, supersede bool, m *Merged) error {
	list, err := b.heads(ctx, tx, "")
	if err != nil {
		return err
	}
	type key struct{ account, kind, from, epoch, set string }
	counts := map[key][]*Posting{}
	var order []key
	for _, p := range list {
		if !p.Current() {
			continue
		}
		k := key{p.Account, p.Kind, p.From, p.Epoch, p.ZoneSet.Name}
		if counts[k] == nil {
			order = append(order, k)
		}
		counts[k] = append(counts[k], p)
	}
	var conflicts []string
	for _, k := range order {
		of := counts[k]
		if len(of) < 2 {
			continue
		}
		if !supersede {
			conflicts = append(conflicts, fmt.Sprintf("%s (posting %d)", of[0].what(), of[0].ID))
			continue
		}
		last := of[len(of)-1]
		for _, p := range of[:len(of)-1] {
			m.GaveWay = append(m.GaveWay, p.ID)
			// No number: the reason goes along into other books, where postings have others.
			if err := b.void(ctx, tx, p, author, fmt.Sprintf("superseded by what %s posted at %s, merged from %s", last.Author, last.At, from)); err != nil {
				return err
			}
		}
	}
	if len(conflicts) > 0 {
		return fmt.Errorf("%s: %w by %s: %s: settle which one is right, or let those of %s supersede with --supersede", b.Name, ErrConflict, from, strings.Join(conflicts, "; "), from)
	}
	return nil
}
