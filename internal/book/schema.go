package book

import (
	"context"
	"crypto/rand"
	"database/sql"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/verdex-land/verdex/core/fault"
	"github.com/verdex-land/verdex/core/text"
	"github.com/verdex-land/verdex/internal/output"
)

// migrations bring a book from one schema to the next; the n-th leads to schema n+1. Both databases take the same text,
// in which $ stands at the end of tables that SQLite keeps in the order of their key. A migration that
// has been released is never changed: a change is a further one.
var migrations = []string{tables, views, nullCodes, turns}

// Schema is the schema that this program writes.
var Schema = len(migrations)

// tables are what is kept. Nothing in them but the one row of book is ever changed: guards (see guard) refuse it.
const tables = `
CREATE TABLE book (book_id TEXT NOT NULL, schema_version BIGINT NOT NULL, created_at TEXT NOT NULL, program TEXT NOT NULL);

CREATE TABLE legend (legend_id BIGINT PRIMARY KEY, name TEXT NOT NULL, version BIGINT NOT NULL, sha256 TEXT NOT NULL,
  UNIQUE (name, version), UNIQUE (name, sha256));
CREATE TABLE class (legend_id BIGINT NOT NULL REFERENCES legend, class_no BIGINT NOT NULL, class_code TEXT NOT NULL, class_name TEXT NOT NULL,
  color TEXT NOT NULL, class_group TEXT NOT NULL, PRIMARY KEY (legend_id, class_no), UNIQUE (legend_id, class_code)) $;

CREATE TABLE zone_set (zone_set_id BIGINT PRIMARY KEY, name TEXT NOT NULL, version BIGINT NOT NULL, sha256 TEXT NOT NULL,
  UNIQUE (name, version), UNIQUE (name, sha256));
CREATE TABLE zone (zone_set_id BIGINT NOT NULL REFERENCES zone_set, zone_no BIGINT NOT NULL, zone_id TEXT NOT NULL, zone_name TEXT NOT NULL,
  within_id TEXT NOT NULL, within_name TEXT NOT NULL, PRIMARY KEY (zone_set_id, zone_no), UNIQUE (zone_set_id, zone_id)) $;

CREATE TABLE posting (posting_id BIGINT PRIMARY KEY, account TEXT NOT NULL, kind TEXT NOT NULL CHECK (kind IN ('extents', 'change')),
  from_epoch TEXT NOT NULL, epoch TEXT NOT NULL, zone_set_id BIGINT NOT NULL REFERENCES zone_set, legend_id BIGINT NOT NULL REFERENCES legend,
  author TEXT NOT NULL, posted_at TEXT NOT NULL, note TEXT NOT NULL, program TEXT NOT NULL, parameters TEXT NOT NULL, unit TEXT NOT NULL,
  row_count BIGINT NOT NULL, content_sha256 TEXT NOT NULL, supersedes BIGINT REFERENCES posting, checksum TEXT NOT NULL);
CREATE INDEX posting_by_account ON posting (account, kind, epoch);
CREATE UNIQUE INDEX posting_by_superseded ON posting (supersedes);
CREATE TABLE input (posting_id BIGINT NOT NULL REFERENCES posting, input_no BIGINT NOT NULL, role TEXT NOT NULL, path TEXT NOT NULL,
  size BIGINT NOT NULL, modified_at TEXT NOT NULL, sha256 TEXT NOT NULL, PRIMARY KEY (posting_id, input_no)) $;

CREATE TABLE extent (posting_id BIGINT NOT NULL REFERENCES posting, zone_no BIGINT NOT NULL, kind TEXT NOT NULL CHECK (kind IN ('class', 'nodata', 'unlisted', 'outside')),
  class_code TEXT NOT NULL, area_m2 DOUBLE PRECISION NOT NULL, cells DOUBLE PRECISION, nominal_m2 DOUBLE PRECISION,
  PRIMARY KEY (posting_id, zone_no, kind, class_code)) $;
CREATE TABLE transition (posting_id BIGINT NOT NULL REFERENCES posting, zone_no BIGINT NOT NULL, kind TEXT NOT NULL CHECK (kind IN ('ground', 'outside')),
  from_code TEXT NOT NULL, to_code TEXT NOT NULL, area_m2 DOUBLE PRECISION NOT NULL,
  PRIMARY KEY (posting_id, zone_no, kind, from_code, to_code)) $;

CREATE TABLE journal (event_no BIGINT PRIMARY KEY, event TEXT NOT NULL CHECK (event IN ('post', 'void')), posting_id BIGINT NOT NULL REFERENCES posting,
  author TEXT NOT NULL, happened_at TEXT NOT NULL, why TEXT NOT NULL, checksum TEXT NOT NULL, chain TEXT NOT NULL);
CREATE INDEX journal_by_posting ON journal (posting_id);
`

// kept are the tables that are only ever added to.
var kept = []string{"legend", "class", "zone_set", "zone", "posting", "input", "extent", "transition", "journal"}

// views are for people who come with SQL.
const views = `
CREATE VIEW current_postings AS
SELECT p.posting_id, p.account, p.kind, p.from_epoch, p.epoch, z.name AS zone_set, z.version AS zone_set_version, l.name AS legend, l.version AS legend_version,
  p.author, p.posted_at, p.note, p.zone_set_id, p.legend_id
FROM posting p JOIN zone_set z ON z.zone_set_id = p.zone_set_id JOIN legend l ON l.legend_id = p.legend_id
WHERE NOT EXISTS (SELECT 1 FROM journal j WHERE j.posting_id = p.posting_id AND j.event = 'void')
  AND NOT EXISTS (SELECT 1 FROM posting n WHERE n.supersedes = p.posting_id);

CREATE VIEW current_extents AS
SELECT p.account, p.epoch, p.zone_set, z.zone_id, z.zone_name, e.kind, e.class_code,
  CASE e.kind WHEN 'class' THEN c.class_name WHEN 'nodata' THEN 'no data' WHEN 'outside' THEN 'outside the raster' ELSE 'not in the legend' END AS class_name,
  e.area_m2, e.area_m2 / 10000.0 AS area_ha, p.posting_id
FROM current_postings p
JOIN extent e ON e.posting_id = p.posting_id
JOIN zone z ON z.zone_set_id = p.zone_set_id AND z.zone_no = e.zone_no
LEFT JOIN class c ON c.legend_id = p.legend_id AND c.class_code = e.class_code AND e.kind = 'class'
WHERE p.kind = 'extents';

CREATE VIEW compositions AS
SELECT account, epoch, zone_set, zone_id, zone_name, class_code, class_name, area_ha,
  100.0 * area_m2 / NULLIF(SUM(area_m2) OVER (PARTITION BY posting_id, zone_id), 0) AS pct_of_zone,
  CASE WHEN kind = 'class' THEN 100.0 * area_m2 / NULLIF(SUM(CASE WHEN kind = 'class' THEN area_m2 ELSE 0 END) OVER (PARTITION BY posting_id, zone_id), 0) END AS pct_of_classified,
  kind
FROM current_extents;

CREATE VIEW change_matrices AS
SELECT p.account, p.from_epoch, p.epoch AS to_epoch, p.zone_set, z.zone_id, z.zone_name, t.kind,
  t.from_code, COALESCE(f.class_name, CASE t.kind WHEN 'outside' THEN 'outside' ELSE 'not mapped' END) AS from_name,
  t.to_code, COALESCE(g.class_name, CASE t.kind WHEN 'outside' THEN 'outside' ELSE 'not mapped' END) AS to_name,
  t.area_m2, t.area_m2 / 10000.0 AS area_ha, p.posting_id
FROM current_postings p
JOIN transition t ON t.posting_id = p.posting_id
JOIN zone z ON z.zone_set_id = p.zone_set_id AND z.zone_no = t.zone_no
LEFT JOIN class f ON f.legend_id = p.legend_id AND f.class_code = t.from_code
LEFT JOIN class g ON g.legend_id = p.legend_id AND g.class_code = t.to_code
WHERE p.kind = 'change';

CREATE VIEW extent_accounts AS
SELECT account, from_epoch, to_epoch, zone_set, zone_id, zone_name, class_code, MAX(class_name) AS class_name,
  SUM(opening) / 10000.0 AS opening_ha, SUM(additions) / 10000.0 AS additions_ha, SUM(reductions) / 10000.0 AS reductions_ha,
  (SUM(additions) - SUM(reductions)) / 10000.0 AS net_change_ha, SUM(closing) / 10000.0 AS closing_ha
FROM (
  SELECT account, from_epoch, to_epoch, zone_set, zone_id, zone_name, posting_id, from_code AS class_code, from_name AS class_name,
    area_m2 AS opening, 0.0 AS additions, CASE WHEN from_code = to_code THEN 0.0 ELSE area_m2 END AS reductions, 0.0 AS closing
  FROM change_matrices WHERE from_code <> '' AND to_code <> ''
  UNION ALL
  SELECT account, from_epoch, to_epoch, zone_set, zone_id, zone_name, posting_id, to_code, to_name,
    0.0, CASE WHEN from_code = to_code THEN 0.0 ELSE area_m2 END, 0.0, area_m2
  FROM change_matrices WHERE from_code <> '' AND to_code <> ''
) AS sides
GROUP BY account, from_epoch, to_epoch, zone_set, zone_id, zone_name, posting_id, class_code;
`

// nullCodes gives rows without a code NULL in the views, as all tables have it.
const nullCodes = `
CREATE VIEW current_extents AS
SELECT p.account, p.epoch, p.zone_set, z.zone_id, z.zone_name, e.kind, NULLIF(e.class_code, '') AS class_code,
  CASE e.kind WHEN 'class' THEN c.class_name WHEN 'nodata' THEN 'no data' WHEN 'outside' THEN 'outside the raster' ELSE 'not in the legend' END AS class_name,
  e.area_m2, e.area_m2 / 10000.0 AS area_ha, p.posting_id
FROM current_postings p
JOIN extent e ON e.posting_id = p.posting_id
JOIN zone z ON z.zone_set_id = p.zone_set_id AND z.zone_no = e.zone_no
LEFT JOIN class c ON c.legend_id = p.legend_id AND c.class_code = e.class_code AND e.kind = 'class'
WHERE p.kind = 'extents';

CREATE VIEW change_matrices AS
SELECT p.account, p.from_epoch, p.epoch AS to_epoch, p.zone_set, z.zone_id, z.zone_name, t.kind,
  NULLIF(t.from_code, '') AS from_code, COALESCE(f.class_name, CASE t.kind WHEN 'outside' THEN 'outside' ELSE 'not mapped' END) AS from_name,
  NULLIF(t.to_code, '') AS to_code, COALESCE(g.class_name, CASE t.kind WHEN 'outside' THEN 'outside' ELSE 'not mapped' END) AS to_name,
  t.area_m2, t.area_m2 / 10000.0 AS area_ha, p.posting_id
FROM current_postings p
JOIN transition t ON t.posting_id = p.posting_id
JOIN zone z ON z.zone_set_id = p.zone_set_id AND z.zone_no = t.zone_no
LEFT JOIN class f ON f.legend_id = p.legend_id AND f.class_code = t.from_code
LEFT JOIN class g ON g.legend_id = p.legend_id AND g.class_code = t.to_code
WHERE p.kind = 'change';
`

// turns make it a constraint that one posting counts for each account, kind, epochs and zone set: the one with the greatest turn, unless it is
// void. Two that are posted at once would have the same turn, which the index refuses. What a view adds up is grouped by account, so that a
// query for one account reads no other.
const turns = `
ALTER TABLE posting ADD COLUMN zone_set TEXT NOT NULL DEFAULT '';
ALTER TABLE posting ADD COLUMN turn BIGINT NOT NULL DEFAULT 0;
ALTER TABLE posting ADD COLUMN checksum_version BIGINT NOT NULL DEFAULT 1;
ALTER TABLE journal ADD COLUMN checksum_version BIGINT NOT NULL DEFAULT 1;
UPDATE posting SET zone_set = (SELECT z.name FROM zone_set z WHERE z.zone_set_id = posting.zone_set_id);
UPDATE posting SET turn = t.n FROM (
  SELECT p.posting_id, ROW_NUMBER() OVER (PARTITION BY p.account, p.kind, p.from_epoch, p.epoch, p.zone_set ORDER BY
    CASE WHEN EXISTS (SELECT 1 FROM journal j WHERE j.posting_id = p.posting_id AND j.event = 'void') OR EXISTS (SELECT 1 FROM posting n WHERE n.supersedes = p.posting_id) THEN 0 ELSE 1 END,
    p.posting_id) AS n
  FROM posting p) AS t
WHERE t.posting_id = posting.posting_id;
CREATE UNIQUE INDEX posting_by_turn ON posting (account, kind, from_epoch, epoch, zone_set, turn);
CREATE INDEX posting_by_content ON posting (content_sha256);

CREATE VIEW current_postings AS
SELECT p.posting_id, p.account, p.kind, p.from_epoch, p.epoch, p.zone_set, z.version AS zone_set_version, l.name AS legend, l.version AS legend_version,
  p.author, p.posted_at, p.note, p.zone_set_id, p.legend_id
FROM posting p JOIN zone_set z ON z.zone_set_id = p.zone_set_id JOIN legend l ON l.legend_id = p.legend_id
WHERE NOT EXISTS (SELECT 1 FROM journal j WHERE j.posting_id = p.posting_id AND j.event = 'void')
  AND NOT EXISTS (SELECT 1 FROM posting n WHERE n.account = p.account AND n.kind = p.kind AND n.from_epoch = p.from_epoch AND n.epoch = p.epoch
    AND n.zone_set = p.zone_set AND n.turn > p.turn);

$compositions;
`

// The compositions of one account are asked for in a book of many. Each database answers fast in its own way only: SQLite where sums are
// grouped by account beside the rows, PostgreSQL where they are windows over the rows.
const groupedCompositions = `
CREATE VIEW compositions AS
SELECT p.account, p.epoch, p.zone_set, z.zone_id, z.zone_name, NULLIF(e.class_code, '') AS class_code,
  CASE e.kind WHEN 'class' THEN c.class_name WHEN 'nodata' THEN 'no data' WHEN 'outside' THEN 'outside the raster' ELSE 'not in the legend' END AS class_name,
  e.area_m2 / 10000.0 AS area_ha, 100.0 * e.area_m2 / NULLIF(s.whole_m2, 0) AS pct_of_zone,
  CASE WHEN e.kind = 'class' THEN 100.0 * e.area_m2 / NULLIF(s.classified_m2, 0) END AS pct_of_classified, e.kind
FROM current_postings p
JOIN extent e ON e.posting_id = p.posting_id
JOIN (SELECT q.account, x.posting_id, x.zone_no, SUM(x.area_m2) AS whole_m2, SUM(CASE WHEN x.kind = 'class' THEN x.area_m2 ELSE 0 END) AS classified_m2
  FROM posting q JOIN extent x ON x.posting_id = q.posting_id GROUP BY q.account, x.posting_id, x.zone_no) s
  ON s.account = p.account AND s.posting_id = e.posting_id AND s.zone_no = e.zone_no
JOIN zone z ON z.zone_set_id = p.zone_set_id AND z.zone_no = e.zone_no
LEFT JOIN class c ON c.legend_id = p.legend_id AND c.class_code = e.class_code AND e.kind = 'class'
WHERE p.kind = 'extents'`

const windowedCompositions = `
CREATE VIEW compositions AS
SELECT account, epoch, zone_set, zone_id, zone_name, class_code, class_name, area_ha,
  100.0 * area_m2 / NULLIF(SUM(area_m2) OVER (PARTITION BY account, epoch, zone_set, zone_id), 0) AS pct_of_zone,
  CASE WHEN kind = 'class' THEN 100.0 * area_m2 / NULLIF(SUM(CASE WHEN kind = 'class' THEN area_m2 ELSE 0 END) OVER (PARTITION BY account, epoch, zone_set, zone_id), 0) END AS pct_of_classified,
  kind
FROM current_extents`

// columnComments explain columns of views and tables; PostgreSQL keeps them.
var columnComments = map[string]string{
	"current_extents.epoch":          "Label of the epoch, such as a year.",
	"current_extents.kind":           "class, nodata, unlisted (values of no class) or outside (beyond the raster).",
	"current_extents.class_code":     "Code of the class; NULL for ground of no class.",
	"current_extents.area_m2":        "True area on the ellipsoid in square metres.",
	"current_extents.area_ha":        "True area on the ellipsoid in hectares.",
	"compositions.pct_of_zone":       "Percent of the area of the zone.",
	"compositions.pct_of_classified": "Percent of the ground of the zone that has a class.",
	"change_matrices.from_code":      "Class at the first epoch; NULL for ground that it does not map.",
	"change_matrices.to_code":        "Class at the second epoch; NULL for ground that it does not map.",
	"change_matrices.area_ha":        "True area in hectares that went from one class to the other, or stayed.",
	"extent_accounts.opening_ha":     "Extent at the first epoch on the ground that both epochs map, in hectares.",
	"extent_accounts.additions_ha":   "Ground that became the class between the epochs, in hectares.",
	"extent_accounts.reductions_ha":  "Ground that was the class and became another one, in hectares.",
	"extent_accounts.net_change_ha":  "Additions less reductions, in hectares.",
	"extent_accounts.closing_ha":     "Extent at the second epoch on the ground that both epochs map, in hectares.",
	"posting.turn":                   "Of the postings of one account, kind, epochs and zone set that with the greatest turn counts, unless it is void.",
	"posting.content_sha256":         "Checksum of the rows with their zones and classes.",
	"posting.checksum":               "Checksum of the head and the inputs, computed as checksum_version says.",
	"posting.supersedes":             "The posting that this one corrects; NULL for none.",
	"input.sha256":                   "SHA-256 of the file that was read.",
	"extent.cells":                   "Cells, cut ones by their share; NULL where they are not known.",
	"extent.nominal_m2":              "Cells times the nominal size of a cell, in square metres.",
	"journal.chain":                  "Checksum of this event and all before it; the last one is the fingerprint of the book.",
}

// comments explain the views; PostgreSQL keeps them with the views.
var comments = map[string]string{
	"current_postings": "The postings that count: neither superseded by a later one nor void.",
	"current_extents":  "Area of each class (kind class), of ground without data (nodata), with values of no class (unlisted) and outside the raster, in each zone at each epoch.",
	"compositions":     "Extents in percent: of the zone, and of what is classified in it.",
	"change_matrices":  "Area that each zone has in one class at one epoch and in another at the next; codes are empty for ground that an epoch does not map.",
	"extent_accounts":  "opening + additions - reductions = closing, for each class on the ground that both epochs map, in hectares.",
}

// guards are statements that make a database refuse changes to what is kept.
func (b *Book) guards() []string {
	if !b.postgres {
		var out []string
		for _, t := range kept {
			for _, act := range []string{"UPDATE", "DELETE"} {
				out = append(out, fmt.Sprintf("CREATE TRIGGER keep_%s_%s BEFORE %s ON %s BEGIN SELECT RAISE(ABORT, 'a book is only ever added to'); END", t, strings.ToLower(act), act, t))
			}
		}
		return out
	}
	out := []string{"CREATE FUNCTION refuse_change() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN RAISE EXCEPTION 'a book is only ever added to'; END $$"}
	for _, t := range kept {
		out = append(out, fmt.Sprintf("CREATE TRIGGER keep_%s BEFORE UPDATE OR DELETE OR TRUNCATE ON %s FOR EACH STATEMENT EXECUTE FUNCTION refuse_change()", t, t))
	}
	return out
}

// step takes a book from schema n to n+1.
func (b *Book) step(ctx context.Context, tx *sql.Tx, n int) error {
	text := migrations[n]
	if b.postgres {
		text = strings.NewReplacer(") $;", ");", "$compositions", windowedCompositions[1:]).Replace(text)
	} else {
		text = strings.NewReplacer(") $;", ") WITHOUT ROWID;", "$compositions", groupedCompositions[1:]).Replace(text)
	}
	statements := strings.Split(strings.TrimSpace(text), ";\n")
	switch n {
	case 0:
		statements = append(statements, b.guards()...)
	case 1:
		if b.postgres {
			for view, text := range comments {
				statements = append(statements, fmt.Sprintf("COMMENT ON VIEW %s IS '%s'", view, text))
			}
		}
	default:
		statements = b.revised(statements)
	}
	for _, s := range statements {
		if s = strings.TrimSuffix(strings.TrimSpace(s), ";"); s == "" {
			continue
		}
		if !b.postgres { // a view keeps what stands in it
			for view, text := range comments {
				s = strings.Replace(s, "CREATE VIEW "+view+" AS\n", "CREATE VIEW "+view+" AS -- "+text+"\n", 1)
			}
		}
		if _, err := tx.ExecContext(ctx, s); err != nil {
			return err
		}
	}
	return nil
}

// revised are the statements of a migration of a book that is there: views are replaced, which in PostgreSQL keeps the rights that were
// given to them, and rows may be completed although nothing else may change them.
func (b *Book) revised(statements []string) (out []string) {
	for _, s := range statements {
		words := strings.Fields(s)
		switch {
		case strings.HasPrefix(s, "UPDATE posting") && b.postgres:
			out = append(out, "ALTER TABLE posting DISABLE TRIGGER keep_posting", s, "ALTER TABLE posting ENABLE TRIGGER keep_posting")
		case strings.HasPrefix(s, "UPDATE posting"):
			guard := slices.IndexFunc(b.guards(), func(g string) bool { return strings.HasPrefix(g, "CREATE TRIGGER keep_posting_update ") })
			out = append(out, "DROP TRIGGER keep_posting_update", s, b.guards()[guard])
		case len(words) > 2 && words[0] == "CREATE" && words[1] == "VIEW" && b.postgres:
			out = append(out, strings.Replace(s, "CREATE VIEW", "CREATE OR REPLACE VIEW", 1))
		case len(words) > 2 && words[0] == "CREATE" && words[1] == "VIEW":
			out = append(out, "DROP VIEW "+words[2], s)
		default:
			out = append(out, s)
		}
	}
	return out
}

// Create makes a new book. A file or schema that exists is refused.
func Create(ctx context.Context, where string, o Options) error {
	if IsPostgres(where) {
		return createSchema(ctx, where, o)
	}
	if info, err := os.Stat(where); err == nil {
		if info.IsDir() {
			return fmt.Errorf("%s: it is a folder: name a file in it", where)
		}
		return fmt.Errorf("%s: it exists already: choose another name", where)
	}
	f, err := os.CreateTemp(filepath.Dir(where), ".verdex-"+o.Mark+"*")
	if err != nil {
		return fmt.Errorf("%s: its folder cannot be written to (%w): choose another place", where, fault.Reason(err))
	}
	f.Close()
	defer os.Remove(f.Name())
	b := &Book{Name: where, wait: DefaultWait, program: o.Program}
	if b.db, err = openSQLite(f.Name(), "rwc", b.wait, cacheToWrite); err != nil {
		return err
	}
	_, err = b.db.ExecContext(ctx, fmt.Sprintf("PRAGMA page_size = 8192; PRAGMA application_id = %d", application))
	if err == nil {
		err = b.begin(ctx)
	}
	if e := b.db.Close(); err == nil {
		err = e
	}
	if err == nil {
		err = os.Chmod(f.Name(), 0o644)
	}
	if err != nil {
		return b.explain(err)
	}
	if err := output.LinkNew(f.Name(), where); err != nil {
		if errors.Is(err, os.ErrExist) {
			return fmt.Errorf("%s: it exists already: choose another name", where)
		}
		return fmt.Errorf("%s: it could not be made (%w): choose another place", where, fault.Reason(err))
	}
	return nil
}

// comment explains the columns of a book of the newest schema, where the database keeps comments.
func (b *Book) comment(ctx context.Context, tx *sql.Tx) error {
	if !b.postgres || Schema < 4 {
		return nil
	}
	for column, text := range columnComments {
		if _, err := tx.ExecContext(ctx, fmt.Sprintf("COMMENT ON COLUMN %s IS '%s'", column, text)); err != nil {
			return err
		}
	}
	return nil
}

// begin makes the tables of an empty database.
func (b *Book) begin(ctx context.Context) error {
	tx, err := b.db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback() }() // without effect after Commit
	for n := range migrations {
		if err := b.step(ctx, tx, n); err != nil {
			return err
		}
	}
	if err := b.comment(ctx, tx); err != nil {
		return err
	}
	id := make([]byte, 16)
	if _, err := rand.Read(id); err != nil {
		return err
	}
	if _, err := tx.ExecContext(ctx, b.sql("INSERT INTO book (book_id, schema_version, created_at, program) VALUES (?, ?, ?, ?)"), hex.EncodeToString(id), Schema, now(), b.program); err != nil {
		return err
	}
	return tx.Commit()
}

// createSchema makes a book in a PostgreSQL database.
func createSchema(ctx context.Context, where string, o Options) error {
	b := &Book{Name: NameOf(where), wait: DefaultWait, program: o.Program, postgres: true}
	if err := b.connect(ctx, where); err != nil {
		return err
	}
	defer b.Close()
	var schema string
	var taken bool
	err := b.db.QueryRowContext(ctx, "SELECT trim('\"' from current_setting('search_path'))").Scan(&schema)
	if err == nil {
		err = b.db.QueryRowContext(ctx, "SELECT to_regclass('posting') IS NOT NULL").Scan(&taken)
	}
	if err != nil {
		return b.explain(err)
	}
	if taken {
		return fmt.Errorf("%s: there is a book already: use it, or add ?search_path=NAME to the address for one in another schema", b.Name)
	}
	if _, err = b.db.ExecContext(ctx, `CREATE SCHEMA IF NOT EXISTS "`+strings.ReplaceAll(schema, `"`, `""`)+`"`); err == nil {
		err = b.begin(ctx)
	}
	return b.explain(err)
}

// checkSchema finds the schema of a book, and refuses one that is newer than this program, or older when it is to be written to.
func (b *Book) checkSchema(ctx context.Context, write bool) error {
	if b.postgres {
		if err := b.findSchema(ctx); err != nil {
			return err
		}
	}
	var found []string
	if err := b.rowsOf(ctx, b.db, func(r *sql.Rows) error {
		var version sql.NullString
		err := r.Scan(&version)
		found = append(found, version.String)
		return err
	}, "SELECT schema_version FROM book"); err != nil {
		return b.explain(err)
	}
	if len(found) != 1 {
		return fmt.Errorf("%s: its table book has %s, and a book has one: it is damaged, restore it from a backup", b.Name, text.Count(len(found), "row"))
	}
	var err error
	if b.schema, err = strconv.Atoi(found[0]); err != nil || b.schema < 1 {
		return fmt.Errorf("%s: its schema has the version %q, which no book has: it is damaged, restore it from a backup", b.Name, found[0])
	}
	switch {
	case b.schema > Schema:
		return fmt.Errorf("%s: the book has schema %d, which is newer than this program knows (%d): use a newer Verdex", b.Name, b.schema, Schema)
	case b.schema < Schema && write:
		return fmt.Errorf("%s: the book has the older schema %d and can only be read: bring it up to date with verdex book migrate", b.Name, b.schema)
	}
	return nil
}

// findSchema refuses a database without a book, or with one that must not be used.
func (b *Book) findSchema(ctx context.Context) error {
	var there bool
	if err := b.db.QueryRowContext(ctx, "SELECT to_regclass('book') IS NOT NULL").Scan(&there); err != nil {
		return b.explain(err)
	}
	if there {
		return nil
	}
	var schema, role string
	err := b.db.QueryRowContext(ctx, `SELECT n.nspname, current_user FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
		WHERE c.relname = 'posting' AND n.nspname = trim('"' from current_setting('search_path')) AND NOT has_schema_privilege(n.oid, 'USAGE')`).Scan(&schema, &role)
	if err == nil {
		return fmt.Errorf("%s: there is a book, but %s may not use it: ask its owner for GRANT USAGE ON SCHEMA %s and GRANT SELECT ON ALL TABLES IN SCHEMA %s, and to post for INSERT too", b.Name, role, schema, schema)
	}
	return fmt.Errorf("%s: there is no book in the database: make one with verdex book create", b.Name)
}

// migrate brings a book up to date. The backup is made under the lock under which the tables are changed, so that nothing that is
// posted meanwhile is missing in it.
func (b *Book) migrate(ctx context.Context, where string) (note string, err error) {
	have := b.schema
	if have == Schema {
		return fmt.Sprintf("%s: the book has schema %d, which is up to date", b.Name, have), nil
	}
	backup := ""
	err = b.write(ctx, func(tx *txn) error {
		if err := tx.QueryRowContext(ctx, "SELECT schema_version FROM book").Scan(&have); err != nil {
			return err
		}
		if have == Schema {
			return errAlready // someone else has done it
		}
		if backup, err = b.backup(ctx, tx, where, have); err != nil {
			return err
		}
		for n := have; n < Schema; n++ {
			if err := b.step(ctx, tx.Tx, n); err != nil {
				return err
			}
		}
		if err := b.comment(ctx, tx.Tx); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, b.sql("UPDATE book SET schema_version = ?"), Schema)
		return err
	})
	switch {
	case err != nil && backup != "" && !b.postgres:
		os.Remove(backup)
	case err == nil && backup == "":
		note = fmt.Sprintf("%s: the book has schema %d, which is up to date", b.Name, Schema)
	case err == nil:
		note = fmt.Sprintf("%s: the book had schema %d and has %d now; a backup of it as it was is in %s", b.Name, have, Schema, backup)
	}
	b.schema = Schema
	return note, err
}

// backup copies a book as it is, under the lock of a transaction: a file beside it, or tables in a schema of their own.
func (b *Book) backup(ctx context.Context, tx *txn, where string, have int) (string, error) {
	stamp := time.Now().UTC().Format("20060102150405.000000000")
	if b.postgres {
		name := fmt.Sprintf("verdex_schema%d_%s", have, strings.ReplaceAll(stamp, ".", "_"))
		if _, err := tx.ExecContext(ctx, "CREATE SCHEMA "+name); err != nil {
			return "", err
		}
		for _, t := range append([]string{"book"}, kept...) {
			if _, err := tx.ExecContext(ctx, fmt.Sprintf("CREATE TABLE %s.%s AS TABLE %s", name, t, t)); err != nil {
				return "", err
			}
		}
		return "the schema " + name, nil
	}
	name := fmt.Sprintf("%s.schema%d-%s", where, have, stamp)
	return name, copyFile(where, name) // nobody else can write to it, and this transaction has not yet
}

// copyFile copies a file to a new one.
func copyFile(from, to string) error {
	in, err := os.Open(from)
	if err != nil {
		return fault.Opening(from, err)
	}
	defer in.Close()
	out, err := os.OpenFile(to, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if err != nil {
		return fmt.Errorf("%s: the backup cannot be written (%w): make room there, or ask for the right to write", to, fault.Reason(err))
	}
	_, err = io.Copy(out, in)
	if err == nil {
		err = out.Sync()
	}
	if e := out.Close(); err == nil {
		err = e
	}
	if err != nil {
		os.Remove(to)
		return fmt.Errorf("%s: the backup could not be written (%w): make room there", to, fault.Reason(err))
	}
	return nil
}

func now() string { return time.Now().UTC().Format(time.RFC3339) }
