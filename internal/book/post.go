package book

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"math"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/stdlib"
)

// Outcome is what became of a posting.
type Outcome struct {
	ID         int64
	Already    bool     // the book had the same content; ID is of that posting
	Rounding   bool     // the same to within rounding
	Superseded int64    // the posting that it took the place of, 0 for none
	Notes      []string // new versions of the zone set and the legend, and how they differ from the ones before
}

// ErrConflict says that a book holds other content for the same account, epoch and zone set.
var ErrConflict = errors.New("other content is posted there")

// Post enters postings, all or none. What the book holds already is recognised and not entered again; where it holds other content for the
// same account, kind, epochs and zone set, that is superseded if supersede says so, and otherwise an error that wraps ErrConflict.
func (b *Book) Post(ctx context.Context, list []*Posting, supersede bool) ([]Outcome, error) {
	for _, p := range list {
		if err := p.check(); err != nil {
			return nil, err
		}
		p.sort()
	}
	var out []Outcome
	err := b.write(ctx, func(tx *txn) error {
		out = nil
		fresh := false
		for _, p := range list {
			o, err := b.enter(ctx, tx, p, supersede)
			if err != nil {
				return err
			}
			out = append(out, o)
			fresh = fresh || !o.Already
		}
		if !fresh {
			return errAlready
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	return out, nil
}

// enter enters one posting.
func (b *Book) enter(ctx context.Context, tx *txn, p *Posting, supersede bool) (o Outcome, err error) {
	if err := b.adopt(ctx, tx, p); err != nil {
		return o, err
	}
	p.Content = p.digest(p.ZoneSet.digest(), p.Legend.digest())
	p.RowCount = len(p.Extents) + len(p.Moves)
	old, err := b.currentOf(ctx, tx, p)
	if err != nil {
		return o, err
	}
	if old != nil {
		same := old.Content == p.Content
		if !same {
			if err := b.loadRows(ctx, tx, old); err != nil {
				return o, err
			}
			same = p.alike(old)
			o.Rounding = same
		}
		if same {
			o.ID, o.Already = old.ID, true
			return o, nil
		}
		if !supersede {
			return o, fmt.Errorf("%s: %w: posting %d by %s of %s holds %s%s: correct it with --supersede, or post to another account",
				b.Name, ErrConflict, old.ID, old.Author, old.At, p.what(), Summary(Compare(old, p)))
		}
		p.Replaces, o.Superseded = old.ID, old.ID
	}
	if o.Notes, err = b.versions(ctx, tx, p); err != nil {
		return o, err
	}
	if p.At == "" {
		p.At = now()
	}
	if p.Program == "" {
		p.Program = b.program
	}
	err = b.put(ctx, tx, p, true, event{what: "post", author: p.Author, at: p.At})
	o.ID = p.ID
	return o, err
}

// checksumVersion says how checksums are computed; a book keeps it with each. See digest.
const checksumVersion = 2

// put gives a posting its number and checksum, and writes it and its event. A posting that counts has the last turn of its account, kind,
// epochs and zone set; one that counted only once, in another book, has a turn before all.
func (b *Book) put(ctx context.Context, tx *txn, p *Posting, counts bool, e event) error {
	if err := tx.QueryRowContext(ctx, "SELECT COALESCE(MAX(posting_id), 0) + 1 FROM posting").Scan(&p.ID); err != nil {
		return err
	}
	place := "COALESCE(MIN(turn), 1) - 1"
	if counts {
		place = "COALESCE(MAX(turn), 0) + 1"
	}
	err := tx.QueryRowContext(ctx, b.sql("SELECT "+place+" FROM posting WHERE account = ? AND kind = ? AND from_epoch = ? AND epoch = ? AND zone_set = ?"),
		p.Account, p.Kind, p.From, p.Epoch, p.ZoneSet.Name).Scan(&p.turn)
	if err != nil {
		return err
	}
	for _, v := range []struct {
		table   string
		id      int64
		version *int
	}{{"zone_set", p.ZoneSet.ID, &p.ZoneSet.Version}, {"legend", p.Legend.ID, &p.Legend.Version}} {
		if err := tx.QueryRowContext(ctx, b.sql("SELECT version FROM "+v.table+" WHERE "+v.table+"_id = ?"), v.id).Scan(v.version); err != nil {
			return err
		}
	}
	p.set, p.ChecksumVersion = p.ZoneSet.Name, checksumVersion
	p.Checksum = p.seal()
	var replaces any
	if p.Replaces != 0 {
		replaces = p.Replaces
	}
	_, err = tx.ExecContext(ctx, b.sql(`INSERT INTO posting (posting_id, account, kind, from_epoch, epoch, zone_set_id, legend_id, author, posted_at, note, program,
  parameters, unit, row_count, content_sha256, supersedes, checksum, zone_set, turn, checksum_version) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`),
		p.ID, p.Account, p.Kind, p.From, p.Epoch, p.ZoneSet.ID, p.Legend.ID, p.Author, p.At, p.Note, p.Program, p.Command, p.Unit, p.RowCount, p.Content, replaces, p.Checksum,
		p.set, p.turn, p.ChecksumVersion)
	if err != nil {
		return err
	}
	err = b.putMany(ctx, tx, "input", []string{"posting_id", "input_no", "role", "path", "size", "modified_at", "sha256"}, len(p.Inputs), func(i int) []any {
		in := p.Inputs[i]
		return []any{p.ID, i, in.Role, in.Path, in.Size, in.Modified, in.SHA256}
	})
	if err != nil {
		return err
	}
	err = b.putMany(ctx, tx, "extent", []string{"posting_id", "zone_no", "kind", "class_code", "area_m2", "cells", "nominal_m2"}, len(p.Extents), func(i int) []any {
		e := &p.Extents[i]
		return []any{p.ID, e.Zone, e.Kind, e.Code, e.M2, orNull(e.Cells), orNull(e.Nominal)}
	})
	if err != nil {
		return err
	}
	err = b.putMany(ctx, tx, "transition", []string{"posting_id", "zone_no", "kind", "from_code", "to_code", "area_m2"}, len(p.Moves), func(i int) []any {
		m := &p.Moves[i]
		return []any{p.ID, m.Zone, m.Kind, m.From, m.To, m.M2}
	})
	if err != nil {
		return err
	}
	e.posting, e.checksum = p.ID, p.Checksum
	return b.record(ctx, tx, e)
}

// record adds an event to the journal.
func (b *Book) record(ctx context.Context, tx *txn, e event) error {
	var before string
	err := tx.QueryRowContext(ctx, "SELECT event_no, chain FROM journal ORDER BY event_no DESC LIMIT 1").Scan(&e.number, &before)
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return err
	}
	e.number++
	e.version = 1
	if b.schema >= 4 {
		e.version = checksumVersion
	}
	head, err := b.headDigest(ctx, tx)
	if err != nil {
		return err
	}
	e.chain = e.link(before, head)
	columns, values := "event_no, event, posting_id, author, happened_at, why, checksum, chain", []any{e.number, e.what, e.posting, e.author, e.at, e.why, e.checksum, e.chain}
	if b.schema >= 4 {
		columns, values = columns+", checksum_version", append(values, e.version)
	}
	_, err = tx.ExecContext(ctx, b.sql("INSERT INTO journal ("+columns+") VALUES (?"+strings.Repeat(", ?", len(values)-1)+")"), values...)
	return err
}

// headDigest is the digest of what a book is: the one row of its table book, but for the version of its schema, which a migration changes.
func (b *Book) headDigest(ctx context.Context, q asker) (string, error) {
	d := newDigest("book")
	err := b.rowsOf(ctx, q, func(r *sql.Rows) error {
		var id, created, program string
		err := r.Scan(&id, &created, &program)
		d.add(id, created, program)
		return err
	}, "SELECT book_id, created_at, program FROM book")
	return d.sum(), err
}

// rounding is the part of a zone by which numbers that are the same may differ after having gone through another unit.
const rounding = 1e-11

// alike reports whether the rows of two postings say the same to within rounding.
func (p *Posting) alike(o *Posting) bool {
	if p.Legend.digest() != o.Legend.digest() || p.ZoneSet.digest() != o.ZoneSet.digest() || len(p.Extents) != len(o.Extents) || len(p.Moves) != len(o.Moves) {
		return false
	}
	whole := make([]float64, len(p.ZoneSet.Zones))
	for _, e := range p.Extents {
		whole[e.Zone] += math.Abs(e.M2)
	}
	for _, m := range p.Moves {
		whole[m.Zone] += math.Abs(m.M2)
	}
	near := func(zone int, a, c float64) bool { return math.Abs(a-c) <= rounding*whole[zone] }
	for i, e := range p.Extents {
		f := o.Extents[i]
		if e.Zone != f.Zone || e.Kind != f.Kind || e.Code != f.Code || !near(e.Zone, e.M2, f.M2) {
			return false
		}
	}
	for i, m := range p.Moves {
		n := o.Moves[i]
		if m.Zone != n.Zone || m.Kind != n.Kind || m.From != n.From || m.To != n.To || !near(m.Zone, m.M2, n.M2) {
			return false
		}
	}
	return true
}

// Void declares a posting void. Its rows stay in the book; a posting that it superseded stays superseded.
func (b *Book) Void(ctx context.Context, id int64, author, why string) (*Posting, error) {
	if strings.TrimSpace(why) == "" {
		return nil, errors.New("a posting is declared void for a reason: give it")
	}
	var p *Posting
	err := b.write(ctx, func(tx *txn) error {
		var err error
		if p, err = b.head(ctx, tx, id); err != nil {
			return err
		}
		switch {
		case p.Void != "":
			return fmt.Errorf("%s: posting %d is void already (%s)", b.Name, id, p.Void)
		case p.Successor != 0:
			return fmt.Errorf("%s: posting %d is superseded by posting %d, and no longer counts: void that one if it is wrong", b.Name, id, p.Successor)
		}
		return b.void(ctx, tx, p, author, why)
	})
	return p, err
}

// void enters in the journal that a posting is void.
func (b *Book) void(ctx context.Context, tx *txn, p *Posting, author, why string) error {
	return b.record(ctx, tx, event{what: "void", posting: p.ID, author: author, at: now(), why: why, checksum: p.Checksum})
}

func orNull(v float64) any {
	if math.IsNaN(v) {
		return nil
	}
	return v
}

// putMany inserts n rows: by COPY into PostgreSQL, many in a statement into SQLite.
func (b *Book) putMany(ctx context.Context, tx *txn, table string, columns []string, n int, row func(i int) []any) error {
	if n == 0 {
		return nil
	}
	if b.postgres && n > 50 {
		return b.copyIn(ctx, tx, table, columns, n, row)
	}
	const atOnce = 120
	group := "(?" + strings.Repeat(", ?", len(columns)-1) + ")"
	head := "INSERT INTO " + table + " (" + strings.Join(columns, ", ") + ") VALUES "
	var many *sql.Stmt
	args := make([]any, 0, atOnce*len(columns))
	for i := 0; i < n; {
		take := min(atOnce, n-i)
		args = args[:0]
		for k := range take {
			args = append(args, row(i+k)...)
		}
		i += take
		if take < atOnce {
			if _, err := tx.ExecContext(ctx, b.sql(head+group+strings.Repeat(", "+group, take-1)), args...); err != nil {
				return err
			}
			continue
		}
		if many == nil {
			var err error
			if many, err = tx.PrepareContext(ctx, b.sql(head+group+strings.Repeat(", "+group, atOnce-1))); err != nil {
				return err
			}
			defer many.Close()
		}
		if _, err := many.ExecContext(ctx, args...); err != nil {
			return err
		}
	}
	return nil
}

// copyIn streams rows into a table of PostgreSQL, over the connection of the transaction.
func (b *Book) copyIn(ctx context.Context, tx *txn, table string, columns []string, n int, row func(i int) []any) error {
	return tx.conn.Raw(func(driver any) error {
		_, err := driver.(*stdlib.Conn).Conn().CopyFrom(ctx, pgx.Identifier{table}, columns, pgx.CopyFromSlice(n, func(i int) ([]any, error) { return row(i), nil }))
		return err
	})
}
