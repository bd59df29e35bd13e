package book

import (
	"cmp"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"

	"github.com/verdex-land/verdex/core/text"
)

// Report is what Verify found.
type Report struct {
	Postings, Events, Rows int
	Fingerprint            string   // of all that the book holds: the chain of the last event
	Damage                 []string // what has been changed, added or removed behind the book's back
	Imbalance              []string // what does not balance
}

// Verify recomputes every checksum and balance. Known is a fingerprint from an earlier time, which the book must still contain, or "".
func (b *Book) Verify(ctx context.Context, known string) (*Report, error) {
	r := &Report{}
	damaged := func(format string, args ...any) { r.Damage = append(r.Damage, fmt.Sprintf(format, args...)) }
	err := b.read(ctx, func(q asker) error {
		if !b.postgres {
			if err := b.rowsOf(ctx, q, func(rows *sql.Rows) error {
				var text string
				err := rows.Scan(&text)
				if err == nil && text != "ok" {
					damaged("the file: %s", text)
				}
				return err
			}, "PRAGMA integrity_check(20)"); err != nil {
				return err
			}
		}
		if b.schema < Schema {
			return fmt.Errorf("%s: the book has the older schema %d: bring it up to date with verdex book migrate, which keeps a backup, and verify that", b.Name, b.schema)
		}
		if err := b.verifySchema(ctx, q, damaged); err != nil {
			return err
		}
		if err := b.verifyVersions(ctx, q, damaged); err != nil {
			return err
		}
		list, err := b.heads(ctx, q, "")
		if err != nil {
			return err
		}
		var stored int
		if err := q.QueryRowContext(ctx, "SELECT COUNT(*) FROM posting").Scan(&stored); err != nil {
			return err
		}
		if stored != len(list) {
			damaged("the zone set or the legend is missing of %s", text.Count(stored-len(list), "posting"))
		}
		r.Postings = len(list)
		sums := map[int64]string{}
		slices.SortStableFunc(list, func(a, b *Posting) int { return strings.Compare(a.Account, b.Account) })
		var of *sides // of the account at hand
		for i, p := range list {
			if i == 0 || p.Account != list[i-1].Account {
				r.Imbalance = append(r.Imbalance, of.compare()...)
				of = newSides()
			}
			var damage errDamaged
			switch err := b.loadRows(ctx, q, p); {
			case errors.As(err, &damage):
				damaged("%v", err)
				sums[p.ID] = p.Checksum
				continue
			case err != nil:
				return err
			}
			r.Rows += len(p.Extents) + len(p.Moves)
			sums[p.ID] = p.Checksum
			for _, text := range p.faults() {
				damaged("posting %d (%s): %s", p.ID, p.what(), text)
			}
			if p.Current() {
				of.add(p)
			}
			p.Extents, p.Moves = nil, nil
		}
		if err := b.verifyJournal(ctx, q, r, sums, known, damaged); err != nil {
			return err
		}
		for _, table := range []string{"input", "extent", "transition"} {
			var n int
			if err := q.QueryRowContext(ctx, "SELECT COUNT(*) FROM "+table+" t WHERE NOT EXISTS (SELECT 1 FROM posting p WHERE p.posting_id = t.posting_id)").Scan(&n); err != nil {
				return err
			}
			if n > 0 {
				damaged("the table %s has %s of no posting", table, text.Count(n, "row"))
			}
		}
		r.Imbalance = append(r.Imbalance, of.compare()...)
		return nil
	})
	return r, err
}

// faults are what is wrong with a posting as it was read.
func (p *Posting) faults() (out []string) {
	if p.ChecksumVersion < 1 || p.ChecksumVersion > checksumVersion {
		return []string{fmt.Sprintf("its checksum is of version %d, which this program does not know: use a newer Verdex", p.ChecksumVersion)}
	}
	if n := len(p.Extents) + len(p.Moves); n != p.RowCount {
		out = append(out, fmt.Sprintf("it has %d rows, but %d were posted", n, p.RowCount))
	}
	if p.digest(p.ZoneSet.digest(), p.Legend.digest()) != p.Content {
		out = append(out, "its rows, zones or classes are not those that were posted")
	}
	if p.seal() != p.Checksum {
		out = append(out, "its head or its inputs are not those that were posted")
	}
	if p.set != p.ZoneSet.Name {
		out = append(out, fmt.Sprintf("it names the zone set %q, and is about %q", p.set, p.ZoneSet.Name))
	}
	return out
}

// verifyVersions recomputes the checksums of legends and zone sets.
func (b *Book) verifyVersions(ctx context.Context, q asker, damaged func(string, ...any)) error {
	for _, table := range []string{"zone_set", "legend"} {
		sums := map[int64]string{}
		err := b.rowsOf(ctx, q, func(r *sql.Rows) error {
			var id int64
			var sum string
			err := r.Scan(&id, &sum)
			sums[id] = sum
			return err
		}, "SELECT "+table+"_id, sha256 FROM "+table)
		if err != nil {
			return err
		}
		for id, want := range sums {
			var got, name string
			if table == "legend" {
				l, err := b.legend(ctx, q, id)
				if err != nil {
					return err
				}
				got, name = l.digest(), fmt.Sprintf("the legend %s, version %d,", l.Name, l.Version)
			} else {
				z, err := b.zoneSet(ctx, q, id)
				if err != nil {
					return err
				}
				got, name = z.digest(), fmt.Sprintf("the zone set %s, version %d,", z.Name, z.Version)
			}
			if got != want {
				damaged("%s is not as it was posted", name)
			}
		}
	}
	return nil
}

// verifyJournal follows the chain of events, which names each posting once.
func (b *Book) verifyJournal(ctx context.Context, q asker, r *Report, sums map[int64]string, known string, damaged func(string, ...any)) error {
	before, posted, seen := "", map[int64]bool{}, known == ""
	head, err := b.headDigest(ctx, q)
	if err != nil {
		return err
	}
	err = b.rowsOf(ctx, q, func(rows *sql.Rows) error {
		var e event
		if err := rows.Scan(&e.number, &e.what, &e.posting, &e.author, &e.at, &e.why, &e.checksum, &e.chain, &e.version); err != nil {
			return err
		}
		r.Events++
		switch sum, ok := sums[e.posting]; {
		case !ok:
			damaged("posting %d is missing: event %d of the journal records it", e.posting, e.number)
		case sum != e.checksum:
			damaged("posting %d is not the one that event %d of the journal records", e.posting, e.number)
		}
		if e.number != int64(r.Events) || e.version < 1 || e.version > checksumVersion || e.link(before, head) != e.chain {
			damaged("event %d of the journal does not follow from the one before it: events, or the row of the table book, were changed, added or removed", e.number)
		}
		if e.what == "post" {
			posted[e.posting] = true
		}
		before, seen = e.chain, seen || e.chain == known
		return nil
	}, "SELECT event_no, event, posting_id, author, happened_at, why, checksum, chain, checksum_version FROM journal ORDER BY event_no")
	if err != nil {
		return err
	}
	for id := range sums {
		if !posted[id] {
			damaged("posting %d is not in the journal", id)
		}
	}
	if !seen {
		damaged("the book does not contain the state with the fingerprint %s: what was posted since has been removed or rewritten, or it is another book", known)
	}
	r.Fingerprint = before
	return nil
}

// sides are the areas that one epoch has of a class in a zone, according to different postings of an account. There may be a million: texts
// are numbered, and a side has 32 bytes.
type sides struct {
	list    []side
	what    []string // by posting, in the order of posting
	number  map[string]int32
	numbers []string
}

// side is the area of a class in a zone at an epoch, or of the whole zone, according to a posting.
type side struct {
	set, zone, code, epoch int32 // by number; code is 0 for the whole, which is compared over all epochs (epoch -1)
	posting                int32
	m2                     float64
}

func newSides() *sides {
	s := &sides{number: map[string]int32{}}
	s.of("") // is 0
	return s
}

// of numbers a text.
func (s *sides) of(text string) int32 {
	n, ok := s.number[text]
	if !ok {
		n = int32(len(s.numbers))
		s.number[text], s.numbers = n, append(s.numbers, text)
	}
	return n
}

// add adds the areas of a posting: the extents of an epoch, or those that a change has of both.
func (s *sides) add(p *Posting) {
	posting := int32(len(s.what))
	s.what = append(s.what, fmt.Sprintf("%s (posting %d)", p.what(), p.ID))
	set, from, epoch := s.of("set "+p.ZoneSet.Name), s.of("epoch "+p.From), s.of("epoch "+p.Epoch)
	codes := map[string]int32{}
	code := func(c string) int32 {
		n, ok := codes[c]
		if !ok {
			n = s.of("class " + c)
			codes[c] = n
		}
		return n
	}
	// Rows lie together by zone.
	at := map[[2]int32]int{} // of a zone: places by code and epoch
	zone, last := int32(0), -1
	put := func(k int, epoch, code int32, m2 float64) {
		if k != last {
			zone, last = s.of("zone "+p.ZoneSet.Zones[k].ID), k
			clear(at)
		}
		if code == 0 {
			epoch = -1 - epoch
		}
		i, ok := at[[2]int32{code, epoch}]
		if !ok {
			i = len(s.list)
			at[[2]int32{code, epoch}] = i
			s.list = append(s.list, side{set, zone, code, epoch, posting, 0})
		}
		s.list[i].m2 += m2
	}
	for _, e := range p.Extents {
		if e.Kind == "class" {
			put(e.Zone, epoch, code(e.Code), e.M2)
		}
		put(e.Zone, epoch, 0, e.M2) // the whole zone
	}
	for _, m := range p.Moves {
		if m.Kind == "ground" {
			if m.From != "" {
				put(m.Zone, from, code(m.From), m.M2)
			}
			if m.To != "" {
				put(m.Zone, epoch, code(m.To), m.M2)
			}
		}
		put(m.Zone, from, 0, m.M2)
		put(m.Zone, epoch, 0, m.M2)
	}
}

// compare finds where postings of one account, epoch and zone set do not agree to a millionth of the zone: the extents with the
// change, or a change with the one that follows it. Wholes are compared over all epochs.
func (s *sides) compare() (out []string) {
	if s == nil {
		return nil
	}
	whole := func(i side) bool { return i.code == 0 }
	slices.SortFunc(s.list, func(a, b side) int { // sides of one thing lie together, the whole of a zone first
		return cmp.Or(cmp.Compare(a.set, b.set), cmp.Compare(a.zone, b.zone), cmp.Compare(a.code, b.code), cmp.Compare(max(-1, a.epoch), max(-1, b.epoch)),
			cmp.Compare(a.posting, b.posting), -cmp.Compare(a.epoch, b.epoch))
	})
	found := map[[2]int32]int{}
	at := map[[2]int32]int{}
	var first side
	area := 0.0 // of the zone
	for i, k := range s.list {
		before := side{posting: -1}
		if i > 0 {
			before = s.list[i-1]
		}
		if whole(k) && (i == 0 || before.set != k.set || before.zone != k.zone) {
			area = k.m2
		}
		if i == 0 || before.set != k.set || before.zone != k.zone || before.code != k.code || max(-1, before.epoch) != max(-1, k.epoch) {
			first = k
			continue
		}
		d := k.m2 - first.m2
		if first.posting == k.posting || math.Abs(d) <= 1e-6*area {
			continue
		}
		pair := [2]int32{first.posting, k.posting}
		if found[pair]++; found[pair] > 1 {
			continue
		}
		what := "the whole"
		if !whole(k) {
			what = s.numbers[k.code] + " in " + strings.TrimPrefix(s.numbers[k.epoch], "epoch ")
		}
		at[pair] = len(out)
		out = append(out, fmt.Sprintf("%s and %s do not agree: %s of %s differs by %.6g ha", s.what[pair[0]], s.what[pair[1]], what, s.numbers[k.zone], d/1e4))
	}
	for pair, i := range at {
		if n := found[pair]; n > 1 {
			out[i] += ", and " + text.Count(n-1, "more number")
		}
	}
	return out
}

// Fingerprint is that of the book's last event, "" for an empty book.
func (b *Book) Fingerprint(ctx context.Context) (text string, err error) {
	err = b.db.QueryRowContext(ctx, "SELECT chain FROM journal ORDER BY event_no DESC LIMIT 1").Scan(&text)
	if errors.Is(err, sql.ErrNoRows) {
		return "", nil
	}
	return text, b.explain(err)
}
