package book

import (
	"context"
	"database/sql"
	"fmt"
	"math"
)

// rowsOf runs a query and hands each row over.
func (b *Book) rowsOf(ctx context.Context, q asker, each func(*sql.Rows) error, query string, args ...any) error {
	rows, err := q.QueryContext(ctx, b.sql(query), args...)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		if err := each(rows); err != nil {
			return err
		}
	}
	return rows.Err()
}

// since is a column that a book has from some schema on, or what stands for it in an older one.
func (b *Book) since(schema int, column, before string) string {
	if b.schema >= schema {
		return column
	}
	return before
}

// heads reads postings without their rows, in the order of posting.
func (b *Book) heads(ctx context.Context, q asker, where string, args ...any) (out []*Posting, err error) {
	err = b.rowsOf(ctx, q, func(r *sql.Rows) error {
		p := &Posting{}
		var replaces, successor sql.NullInt64
		var void sql.NullString
		out = append(out, p)
		err := r.Scan(&p.ID, &p.Account, &p.Kind, &p.From, &p.Epoch, &p.ZoneSet.ID, &p.ZoneSet.Name, &p.ZoneSet.Version, &p.Legend.ID, &p.Legend.Name, &p.Legend.Version,
			&p.Author, &p.At, &p.Note, &p.Program, &p.Command, &p.Unit, &p.RowCount, &p.Content, &replaces, &p.Checksum, &p.ChecksumVersion, &p.turn, &p.set, &successor, &void)
		p.Replaces, p.Successor, p.Void = replaces.Int64, successor.Int64, void.String
		return err
	}, `SELECT p.posting_id, p.account, p.kind, p.from_epoch, p.epoch, z.zone_set_id, z.name, z.version, l.legend_id, l.name, l.version,
  p.author, p.posted_at, p.note, p.program, p.parameters, p.unit, p.row_count, p.content_sha256, p.supersedes, p.checksum, `+b.since(4, "p.checksum_version, p.turn, p.zone_set", "1, 0, z.name")+`,
  (SELECT n.posting_id FROM posting n WHERE n.supersedes = p.posting_id),
  (SELECT j.why FROM journal j WHERE j.posting_id = p.posting_id AND j.event = 'void')
FROM posting p JOIN zone_set z ON z.zone_set_id = p.zone_set_id JOIN legend l ON l.legend_id = p.legend_id `+where+` ORDER BY p.posting_id`, args...)
	return out, err
}

// head reads one posting without its rows.
func (b *Book) head(ctx context.Context, q asker, id int64) (*Posting, error) {
	list, err := b.heads(ctx, q, "WHERE p.posting_id = ?", id)
	if err == nil && len(list) == 0 {
		err = fmt.Errorf("%s: there is no posting %d: verdex book history lists them all", b.Name, id)
	}
	if err != nil {
		return nil, err
	}
	return list[0], nil
}

// headsOf are those of an account, or of all accounts when it is "".
func (b *Book) headsOf(ctx context.Context, q asker, account string) ([]*Posting, error) {
	if account == "" {
		return b.heads(ctx, q, "")
	}
	return b.heads(ctx, q, "WHERE p.account = ?", account)
}

// currentOf is the posting that counts for the same account, kind, epochs and zone set; nil when there is none.
func (b *Book) currentOf(ctx context.Context, q asker, p *Posting) (*Posting, error) {
	list, err := b.heads(ctx, q, "WHERE p.account = ? AND p.kind = ? AND p.epoch = ? AND p.from_epoch = ? AND z.name = ?", p.Account, p.Kind, p.Epoch, p.From, p.ZoneSet.Name)
	if err != nil {
		return nil, err
	}
	for _, o := range list {
		if o.Current() {
			return o, nil
		}
	}
	return nil, nil
}

// zoneSet reads a version of a zone set.
func (b *Book) zoneSet(ctx context.Context, q asker, id int64) (s ZoneSet, err error) {
	s.ID = id
	if err := q.QueryRowContext(ctx, b.sql("SELECT name, version FROM zone_set WHERE zone_set_id = ?"), id).Scan(&s.Name, &s.Version); err != nil {
		return s, err
	}
	err = b.rowsOf(ctx, q, func(r *sql.Rows) error {
		var z Zone
		err := r.Scan(&z.ID, &z.Name, &z.WithinID, &z.WithinName)
		s.Zones = append(s.Zones, z)
		return err
	}, "SELECT zone_id, zone_name, within_id, within_name FROM zone WHERE zone_set_id = ? ORDER BY zone_no", id)
	return s, err
}

// legend reads a version of a legend.
func (b *Book) legend(ctx context.Context, q asker, id int64) (l Legend, err error) {
	l.ID = id
	if err := q.QueryRowContext(ctx, b.sql("SELECT name, version FROM legend WHERE legend_id = ?"), id).Scan(&l.Name, &l.Version); err != nil {
		return l, err
	}
	err = b.rowsOf(ctx, q, func(r *sql.Rows) error {
		var c Class
		err := r.Scan(&c.Code, &c.Name, &c.Color, &c.Group)
		l.Classes = append(l.Classes, c)
		return err
	}, "SELECT class_code, class_name, color, class_group FROM class WHERE legend_id = ? ORDER BY class_no", id)
	return l, err
}

// loadRows reads the zones, classes, inputs and rows of a posting.
func (b *Book) loadRows(ctx context.Context, q asker, p *Posting) (err error) {
	if p.ZoneSet, err = b.zoneSet(ctx, q, p.ZoneSet.ID); err != nil {
		return err
	}
	if p.Legend, err = b.legend(ctx, q, p.Legend.ID); err != nil {
		return err
	}
	p.Inputs, p.Extents, p.Moves = nil, nil, nil
	if n := min(p.RowCount, 1<<24); p.Kind == OfExtents && n > 0 {
		p.Extents = make([]Extent, 0, n)
	} else if n > 0 {
		p.Moves = make([]Move, 0, n)
	}
	err = b.rowsOf(ctx, q, func(r *sql.Rows) error {
		var in Input
		err := r.Scan(&in.Role, &in.Path, &in.Size, &in.Modified, &in.SHA256)
		p.Inputs = append(p.Inputs, in)
		return err
	}, "SELECT role, path, size, modified_at, sha256 FROM input WHERE posting_id = ? ORDER BY input_no", p.ID)
	if err != nil {
		return err
	}
	shared := sharedTexts{} // of a million rows
	err = b.rowsOf(ctx, q, func(r *sql.Rows) error {
		var e Extent
		var cells, nominal sql.NullFloat64
		var kind, code sql.RawBytes
		err := r.Scan(&e.Zone, &kind, &code, &e.M2, &cells, &nominal)
		e.Kind, e.Code = shared.of(kind), shared.of(code)
		e.Cells, e.Nominal = orNaN(cells), orNaN(nominal)
		p.Extents = append(p.Extents, e)
		return err
	}, "SELECT zone_no, kind, class_code, area_m2, cells, nominal_m2 FROM extent WHERE posting_id = ?", p.ID)
	if err != nil {
		return err
	}
	err = b.rowsOf(ctx, q, func(r *sql.Rows) error {
		var m Move
		var kind, from, to sql.RawBytes
		err := r.Scan(&m.Zone, &kind, &from, &to, &m.M2)
		m.Kind, m.From, m.To = shared.of(kind), shared.of(from), shared.of(to)
		p.Moves = append(p.Moves, m)
		return err
	}, "SELECT zone_no, kind, from_code, to_code, area_m2 FROM transition WHERE posting_id = ?", p.ID)
	if err != nil {
		return err
	}
	p.sort() // databases differ in the order of texts
	for _, e := range p.Extents {
		if e.Zone < 0 || e.Zone >= len(p.ZoneSet.Zones) {
			return errDamaged{p.ID}
		}
	}
	for _, m := range p.Moves {
		if m.Zone < 0 || m.Zone >= len(p.ZoneSet.Zones) {
			return errDamaged{p.ID}
		}
	}
	return nil
}

// sharedTexts are texts of which there are few: each is kept once.
type sharedTexts map[string]string

func (s sharedTexts) of(b []byte) string {
	text, ok := s[string(b)]
	if !ok {
		text = string(b)
		s[text] = text
	}
	return text
}

// errDamaged says that a posting has rows of zones that its zone set does not have.
type errDamaged struct{ posting int64 }

func (e errDamaged) Error() string {
	return fmt.Sprintf("posting %d has a row of a zone that its zone set does not have: the book is damaged, verdex book verify reports more", e.posting)
}

func orNaN(v sql.NullFloat64) float64 {
	if !v.Valid {
		return math.NaN()
	}
	return v.Float64
}

// read does work that reads in one transaction, so that what it reads belongs together.
func (b *Book) read(ctx context.Context, work func(q asker) error) error {
	if b.postgres {
		tx, err := b.db.BeginTx(ctx, &sql.TxOptions{Isolation: sql.LevelRepeatableRead, ReadOnly: true})
		if err != nil {
			return b.explain(err)
		}
		defer func() { _ = tx.Rollback() }()
		return b.explain(work(tx))
	}
	c, err := b.db.Conn(ctx)
	if err != nil {
		return b.explain(err)
	}
	defer c.Close()
	if _, err := c.ExecContext(ctx, "BEGIN DEFERRED"); err != nil { // the driver's own would take the write lock
		return b.explain(err)
	}
	defer func() { _, _ = c.ExecContext(context.WithoutCancel(ctx), "ROLLBACK") }()
	return b.explain(work(c))
}

// Postings are all postings without their rows, in the order of posting; of one account unless it is "".
func (b *Book) Postings(ctx context.Context, account string) (out List, err error) {
	err = b.read(ctx, func(q asker) (err error) {
		out, err = b.headsOf(ctx, q, account)
		return err
	})
	if err == nil && account != "" && len(out) == 0 {
		return nil, b.noAccount(ctx, account)
	}
	return out, err
}

// Current are the postings that count, with their rows: of an account, or of all when it is "".
func (b *Book) Current(ctx context.Context, account string) (out List, err error) {
	err = b.read(ctx, func(q asker) error {
		list, err := b.headsOf(ctx, q, account)
		if err != nil {
			return err
		}
		for _, p := range list {
			if p.Current() {
				if err := b.loadRows(ctx, q, p); err != nil {
					return err
				}
				out = append(out, p)
			}
		}
		return nil
	})
	if err == nil && account != "" && len(out) == 0 {
		return nil, b.noAccount(ctx, account)
	}
	return out, err
}

// Posting reads one posting with its rows.
func (b *Book) Posting(ctx context.Context, id int64) (p *Posting, err error) {
	err = b.read(ctx, func(q asker) error {
		if p, err = b.head(ctx, q, id); err != nil {
			return err
		}
		return b.loadRows(ctx, q, p)
	})
	return p, err
}

func (b *Book) noAccount(ctx context.Context, account string) error {
	list, err := b.Postings(ctx, "")
	if err != nil {
		return err
	}
	seen, text := map[string]bool{}, ""
	for _, p := range list {
		if p.Account == account {
			return fmt.Errorf("%s: all postings of account %q are void: verdex book history shows why", b.Name, account)
		}
		if !seen[p.Account] {
			if seen[p.Account] = true; len(seen) <= 10 {
				text += ", " + p.Account
			}
		}
	}
	if text == "" {
		return fmt.Errorf("%s: there is no account %q: the book is empty", b.Name, account)
	}
	return fmt.Errorf("%s: there is no account %q: the accounts are %s", b.Name, account, text[2:])
}
