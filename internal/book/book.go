// Package book keeps accounts: extents and transitions that are posted once and never changed, with who posted them, when and
// from which inputs.
//
// A book is a SQLite file or a PostgreSQL database; both have the schema of schema.go and are spoken to by the same
// statements. Whoever writes holds the one write lock of the book for one transaction (write), so that what is read
// before an entry still holds when it is made. Every posting carries a checksum of its rows and head, and the journal
// chains the checksums of all events; [Book.Verify] recomputes them.
package book

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"net"
	"net/url"
	"os"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/stdlib"
	sqlite "modernc.org/sqlite"
	lib "modernc.org/sqlite/lib"

	"github.com/verdex-land/verdex/core/fault"
	"github.com/verdex-land/verdex/core/vector/geopackage"
)

// Book is an open book.
type Book struct {
	Name     string // the file, or the address of the database without its password
	db       *sql.DB
	postgres bool
	wait     time.Duration
	program  string
	readOnly bool // the file cannot be written
	schema   int
}

// Options are how a book is opened.
type Options struct {
	Wait    time.Duration // for others who write; 0 for DefaultWait
	Program string        // version of the program, for what is posted
	Write   bool          // something is to be posted
	Mark    string        // begins the name of a book that is being made, behind .verdex-
	migrate bool          // an older schema may be written to
}

// DefaultWait is how long a book waits for others who write.
const DefaultWait = 30 * time.Second

// IsPostgres reports whether a place is the address of a PostgreSQL database.
func IsPostgres(where string) bool {
	return strings.HasPrefix(where, "postgres://") || strings.HasPrefix(where, "postgresql://")
}

// IsBook reports whether a place is a book: the address of a database, or a file that is a book.
func IsBook(where string) bool {
	if IsPostgres(where) {
		return true
	}
	id, err := applicationID(where)
	return err == nil && id == application
}

// NameOf is how messages name a place: without the password of an address.
func NameOf(where string) string {
	if !IsPostgres(where) {
		return where
	}
	u, err := url.Parse(where)
	if err != nil {
		return "the PostgreSQL database"
	}
	u.RawQuery = "" // may hold a password too
	if u.User != nil {
		u.User = url.User(u.User.Username())
	}
	return u.String()
}

// application marks the SQLite files that are books ("VRDX").
const application = 0x56524458

// errNoSQLite says that a file is no SQLite database.
var errNoSQLite = errors.New("it is not an SQLite file, and so not a book")

func applicationID(path string) (uint32, error) {
	if info, err := os.Stat(path); err == nil && !info.Mode().IsRegular() {
		return 0, errNoSQLite // what is read of a pipe is gone
	}
	f, err := os.Open(path)
	if err != nil {
		return 0, err
	}
	defer f.Close()
	var head [100]byte
	if _, err := io.ReadFull(f, head[:]); err != nil || string(head[:16]) != "SQLite format 3\x00" {
		return 0, errNoSQLite
	}
	return uint32(head[68])<<24 | uint32(head[69])<<16 | uint32(head[70])<<8 | uint32(head[71]), nil
}

// Open opens a book. One of an older schema can be read as it is; to write to it, it must be migrated.
func Open(ctx context.Context, where string, o Options) (*Book, error) {
	b := &Book{Name: NameOf(where), wait: o.Wait, program: o.Program, postgres: IsPostgres(where)}
	if b.wait == 0 {
		b.wait = DefaultWait
	}
	var err error
	if b.postgres {
		err = b.connect(ctx, where)
	} else {
		err = b.openFile(where, o.Write)
	}
	if err != nil {
		return nil, err
	}
	if err := b.checkSchema(ctx, o.Write && !o.migrate); err != nil {
		b.Close()
		return nil, err
	}
	return b, nil
}

// Migrate brings a book of an older schema up to date, after a backup, and says what it has done.
func Migrate(ctx context.Context, where string, o Options) (note string, err error) {
	o.Write, o.migrate = true, true
	b, err := Open(ctx, where, o)
	if err != nil {
		return "", err
	}
	defer b.Close()
	return b.migrate(ctx, where)
}

// openFile opens a SQLite file that is a book.
func (b *Book) openFile(path string, write bool) error {
	info, err := os.Stat(path)
	switch {
	case errors.Is(err, os.ErrNotExist):
		return fmt.Errorf("%s: there is no such book: check the path, or make one with verdex book create %s", path, path)
	case err != nil:
		return fault.Opening(path, err)
	case info.IsDir():
		return fmt.Errorf("%s: it is a folder: name the file of a book", path)
	}
	switch id, err := applicationID(path); {
	case errors.Is(err, errNoSQLite):
		return fmt.Errorf("%s: %w: name a book, or make one with verdex book create", path, err)
	case err != nil:
		return fault.Opening(path, err)
	case id != application:
		return fmt.Errorf("%s: it is the SQLite file of another application, not a book: name a book, or make one with verdex book create", path)
	}
	mode := "rw"
	if f, err := os.OpenFile(path, os.O_RDWR, 0); err != nil {
		if write {
			return fmt.Errorf("%s: the book cannot be written to (%w): ask for permission to write, or post to a book of your own and merge it", path, fault.Reason(err))
		}
		mode, b.readOnly = "ro", true
	} else {
		f.Close()
	}
	cache := cacheToRead
	if write {
		cache = cacheToWrite
	}
	b.db, err = openSQLite(path, mode, b.wait, cache)
	return err
}

// How many KiB of pages SQLite keeps: rows that are read in their order need few.
const (
	cacheToRead  = 4 << 10
	cacheToWrite = 64 << 10
)

// openSQLite opens a file such that a transaction takes the write lock when it begins, and waits for it. Commits are
// synchronous and use a rollback journal: a book is one file whenever nobody writes.
func openSQLite(path, mode string, wait time.Duration, cache int) (*sql.DB, error) {
	q := url.Values{"mode": {mode}, "_txlock": {"immediate"},
		"_pragma": {fmt.Sprintf("busy_timeout(%d)", wait.Milliseconds()), "foreign_keys(1)", "synchronous(FULL)", fmt.Sprintf("cache_size(-%d)", cache)}}
	db, err := sql.Open("sqlite", geopackage.Address(path, q.Encode()))
	if err == nil {
		db.SetMaxOpenConns(1)
	}
	return db, err
}

// schemaOf is the PostgreSQL schema that holds the tables of a book: verdex, unless the address says search_path=….
func schemaOf(c *pgx.ConnConfig) string {
	if s := c.RuntimeParams["search_path"]; s != "" {
		return s
	}
	return "verdex"
}

// connect connects to a PostgreSQL database.
func (b *Book) connect(ctx context.Context, where string) error {
	config, err := pgx.ParseConfig(where)
	if err != nil { // its text may hold the address
		return fmt.Errorf("%s: the address is not understood: write postgres://USER@HOST:PORT/DATABASE", b.Name)
	}
	if config.ConnectTimeout == 0 {
		config.ConnectTimeout = min(b.wait, 10*time.Second)
	}
	config.RuntimeParams["search_path"] = pgx.Identifier{schemaOf(config)}.Sanitize()
	config.RuntimeParams["application_name"] = "verdex"
	b.db = stdlib.OpenDB(*config)
	b.db.SetMaxOpenConns(1)
	if err := b.db.PingContext(ctx); err != nil {
		b.db.Close()
		return b.explain(err)
	}
	return nil
}

// Close closes the book.
func (b *Book) Close() error { return b.db.Close() }

// sql turns the ? of a statement into what the database takes. No statement has a ? elsewhere.
func (b *Book) sql(text string) string {
	if !b.postgres {
		return text
	}
	var out strings.Builder
	n := 0
	for _, r := range text {
		if r == '?' {
			n++
			fmt.Fprintf(&out, "$%d", n)
			continue
		}
		out.WriteRune(r)
	}
	return out.String()
}

// txn is a transaction and its connection.
type txn struct {
	*sql.Tx
	conn *sql.Conn
}

// asker is a transaction or the book's database.
type asker interface {
	QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error)
	QueryRowContext(ctx context.Context, query string, args ...any) *sql.Row
}

// errAlready stops a transaction in which there is nothing to write.
var errAlready = errors.New("nothing to write")

// write does work in a transaction that holds the write lock of the book: all of it or nothing.
func (b *Book) write(ctx context.Context, work func(*txn) error) (err error) {
	if b.readOnly {
		return fmt.Errorf("%s: the book cannot be written to", b.Name)
	}
	conn, err := b.db.Conn(ctx)
	if err != nil {
		return b.explain(err)
	}
	defer conn.Close()
	begun, err := conn.BeginTx(ctx, nil)
	if err != nil {
		return b.explain(err)
	}
	tx := &txn{begun, conn}
	done := false
	defer func() { // also where something panics: the connection would wait for the end of the transaction
		if !done {
			_ = tx.Rollback() // the first error counts
		}
	}()
	if b.postgres {
		_, err := tx.ExecContext(ctx, fmt.Sprintf("SET LOCAL lock_timeout = %d", b.wait.Milliseconds()))
		if err == nil {
			// a lock that whoever may read and add can take; those of tables ask for more rights
			_, err = tx.ExecContext(ctx, "SELECT pg_advisory_xact_lock($1, hashtext(current_schema()))", application)
		}
		if err != nil {
			return b.explain(err)
		}
	}
	if err := work(tx); err != nil {
		if errors.Is(err, errAlready) {
			done = true
			return tx.Rollback()
		}
		return b.explain(err)
	}
	done = true
	if err := tx.Commit(); err != nil {
		err = b.explain(err)
		return fmt.Errorf("%w (it is not known whether the last step was taken: run the command again; what is in the book already is recognised)", err)
	}
	return nil
}

// explain says in our words what a database says of itself. Other errors stay as they are.
func (b *Book) explain(err error) error {
	var lite *sqlite.Error
	var pg *pgconn.PgError
	var connect *pgconn.ConnectError
	var network *net.OpError
	switch {
	case err == nil || errors.Is(err, context.Canceled):
		return err
	case errors.As(err, &lite):
		switch lite.Code() & 0xff {
		case lib.SQLITE_BUSY, lib.SQLITE_LOCKED:
			return b.busy()
		case lib.SQLITE_READONLY, lib.SQLITE_CANTOPEN:
			return fmt.Errorf("%s: the book or its folder cannot be written to: ask for permission to write, or copy the book to a folder of your own", b.Name)
		case lib.SQLITE_FULL:
			return fmt.Errorf("%s: the disk is full, and nothing was entered: make room, and run the command again", b.Name)
		case lib.SQLITE_CORRUPT, lib.SQLITE_NOTADB:
			return fmt.Errorf("%s: the file is damaged (%s): restore it from a backup", b.Name, lite.Error())
		case lib.SQLITE_IOERR:
			return fmt.Errorf("%s: the file could not be read or written (%s), and nothing was entered", b.Name, lite.Error())
		}
		return fmt.Errorf("%s: %w", b.Name, err)
	case errors.As(err, &connect):
		return fmt.Errorf("%s: no connection (%s): check the address, that the server is running, and that you may connect", b.Name, reasonOf(connect.Unwrap()))
	case errors.As(err, &pg):
		switch {
		case pg.Code == "55P03":
			return b.busy()
		case pg.Code == "42501":
			return fmt.Errorf("%s: the server does not allow it (%s): ask its administrator for permission", b.Name, pg.Message)
		case strings.HasPrefix(pg.Code, "57P"):
			return b.gone(pg.Message)
		case strings.HasPrefix(pg.Code, "53"):
			return fmt.Errorf("%s: the disk of the server is full (%s), and nothing was entered", b.Name, pg.Message)
		}
		return fmt.Errorf("%s: the server says: %s", b.Name, pg.Message)
	case errors.As(err, &network), errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF), errors.Is(err, net.ErrClosed), strings.Contains(err.Error(), "conn closed"):
		return b.gone(reasonOf(err))
	}
	return err
}

func (b *Book) busy() error {
	return fmt.Errorf("%s: others have kept the book busy for more than %v: try again, or wait longer with --wait", b.Name, b.wait)
}

func (b *Book) gone(why string) error {
	return fmt.Errorf("%s: the server went away (%s), and nothing was entered: run the command again when it is back", b.Name, why)
}

// reasonOf is the innermost text of an error of a connection, which holds no password.
func reasonOf(err error) string {
	var pg *pgconn.PgError
	if errors.As(err, &pg) {
		return pg.Message
	}
	for {
		next := errors.Unwrap(err)
		if next == nil {
			return err.Error()
		}
		err = next
	}
}
