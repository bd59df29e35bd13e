package book

import (
	"context"
	"database/sql"
	"fmt"
	"maps"
	"slices"
	"strings"
)

// verifySchema compares the tables, constraints, triggers and views of a book with those that it was made with: without them a row can be changed
// or doubled without anyone noticing, and a query can answer something else.
func (b *Book) verifySchema(ctx context.Context, q asker, damaged func(format string, args ...any)) error {
	have, err := b.schemaOf(ctx, q)
	if err != nil {
		return err
	}
	want, err := b.expectedSchema(ctx)
	if err != nil {
		return err
	}
	for _, name := range slices.Sorted(maps.Keys(want)) {
		switch text, ok := have[name]; {
		case !ok:
			damaged("the schema lacks the %s", name)
		case text != want[name]:
			damaged("the schema has the %s in another form", name)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(have)) {
		if _, ok := want[name]; !ok && strings.HasPrefix(name, "trigger ") { // tables, views and indexes of others may stand beside a book
			damaged("the schema has the %s, which Verdex did not make", name)
		}
	}
	return nil
}

// schemaOf is the schema of a book as the database knows it, by kind and name.
func (b *Book) schemaOf(ctx context.Context, q asker) (map[string]string, error) {
	out := map[string]string{}
	add := func(rows *sql.Rows) error {
		var kind, name, text string
		if err := rows.Scan(&kind, &name, &text); err != nil {
			return err
		}
		out[kind+" "+name] = strings.TrimSpace(out[kind+" "+name] + "\n" + text)
		return nil
	}
	if !b.postgres {
		return out, b.rowsOf(ctx, q, add, "SELECT type, name, COALESCE(sql, '') FROM sqlite_schema WHERE name NOT LIKE 'sqlite\\_%' ESCAPE '\\' ORDER BY name")
	}
	for _, query := range []string{
		// A trigger that is switched off is none.
		`SELECT 'trigger', tgname, CASE WHEN tgenabled = 'D' THEN 'off' ELSE 'on' END FROM pg_trigger WHERE NOT tgisinternal AND tgrelid::regclass::text = ANY(string_to_array('` + strings.Join(kept, ",") + `', ','))`,
		`SELECT 'function', proname, trim(prosrc) FROM pg_proc WHERE proname = 'refuse_change' AND pronamespace = (SELECT relnamespace FROM pg_class WHERE oid = 'posting'::regclass)`,
		`SELECT 'constraints of', r::text, count(*) FILTER (WHERE contype = 'p') || ' primary keys, ' || count(*) FILTER (WHERE contype = 'u') || ' unique, ' || count(*) FILTER (WHERE contype = 'c') || ' checks, ' || count(*) FILTER (WHERE contype = 'f') || ' references'
			FROM unnest(string_to_array('` + strings.Join(kept, ",") + `', ',')::regclass[]) AS r LEFT JOIN pg_constraint c ON c.conrelid = r AND c.convalidated GROUP BY r`,
		`SELECT 'index', c.relname, CASE WHEN i.indisunique THEN 'unique' ELSE '' END FROM pg_index i JOIN pg_class c ON c.oid = i.indexrelid WHERE c.relname IN ('posting_by_account', 'posting_by_superseded', 'journal_by_posting', 'posting_by_turn', 'posting_by_content') AND i.indisvalid`,
		`SELECT 'view', c.relname, '' FROM pg_class c WHERE c.relkind = 'v' AND c.relnamespace = (SELECT relnamespace FROM pg_class WHERE oid = 'posting'::regclass)`,
	} {
		if err := b.rowsOf(ctx, q, add, query); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// freshSchema is the schema of a new SQLite book.
func freshSchema(ctx context.Context) (map[string]string, error) {
	b := &Book{wait: DefaultWait}
	var err error
	if b.db, err = sql.Open("sqlite", ":memory:"); err != nil {
		return nil, err
	}
	defer b.db.Close()
	b.db.SetMaxOpenConns(1)
	if err := b.begin(ctx); err != nil {
		return nil, err
	}
	return b.schemaOf(ctx, b.db)
}

// expectedSchema is that of a new book of the same database. Of a PostgreSQL book it is made from the statements that make one.
func (b *Book) expectedSchema(ctx context.Context) (map[string]string, error) {
	if !b.postgres {
		return freshSchema(ctx)
	}
	out := map[string]string{"function refuse_change": "BEGIN RAISE EXCEPTION 'a book is only ever added to'; END", "index posting_by_account": "", "index posting_by_superseded": "unique", "index journal_by_posting": "",
		"index posting_by_turn": "unique", "index posting_by_content": ""}
	for _, statement := range strings.Split(tables, ";\n") {
		rest, ok := strings.CutPrefix(strings.TrimSpace(statement), "CREATE TABLE ")
		if !ok {
			continue
		}
		name, _, _ := strings.Cut(rest, " ")
		if !slices.Contains(kept, name) {
			continue
		}
		out["trigger keep_"+name] = "on"
		out["constraints of "+name] = fmt.Sprintf("%d primary keys, %d unique, %d checks, %d references", strings.Count(rest, "PRIMARY KEY"), strings.Count(rest, "UNIQUE ("), strings.Count(rest, "CHECK ("), strings.Count(rest, " REFERENCES "))
	}
	for view := range comments {
		out["view "+view] = ""
	}
	return out, nil
}
