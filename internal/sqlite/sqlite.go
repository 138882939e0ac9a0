// Package sqlite opens a SQLite database the way this house uses it: one writer, a pool of read-only connections, WAL,
// full synchronisation, and SQL migrations applied on opening. Start with Open.
package sqlite

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net/url"
	"os"
	"path/filepath"
	"runtime"
	"sync/atomic"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"
	"modernc.org/sqlite"
	lib "modernc.org/sqlite/lib"
)

// DB is an open database.
type DB struct {
	path  string
	write *sqlx.DB
	ready *prepared // statements of the writer
	gates []Gate
	Read  Pool // read-only connections; any number of goroutines

	truncate func(context.Context) error // empties the log in place of Truncate; nil: nobody else does
	examined bool                        // all its pages were looked through when it was opened
	damage   atomic.Pointer[DamagedError]
}

// Gate stands at every statement and every commit: what fails there fails as on a broken or a full disk. Whoever asks what is left after
// a failure or a crash hands one in.
type Gate interface {
	Statement(query string) error
	Before() error // the commit
	After()
}

// How is how a database is opened. The zero How makes one where there is none.
type How struct {
	Kept       bool // there is one: a missing or an empty file is refused
	WithoutLog bool // go on although its write-ahead log was lost
	// For how long its pages are looked through before anything is done with it; 0: not at all. The rest is left to Examine.
	Examined time.Duration
	Gates    []Gate
}

// Open opens the database at path, creating it when missing, and brings its tables up to date with the SQL files of
// migrations. It refuses a database that a newer version has written.
func Open(ctx context.Context, path string, migrations fs.FS, gates ...Gate) (*DB, error) {
	return OpenHow(ctx, path, migrations, How{Gates: gates})
}

// OpenHow is Open in one of the ways. It returns *MissingError, *LogLostError, *DamagedError or *NewerError for a file that is not opened;
// nothing was changed then.
func OpenHow(ctx context.Context, path string, migrations fs.FS, how How) (*DB, error) {
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return nil, fmt.Errorf("making the folder for %s: %w", path, err)
	}
	if err := prepareFile(path, how); err != nil {
		return nil, err
	}
	examined := how.Examined == 0
	if !examined {
		var err error
		if examined, err = examineBriefly(ctx, path, how.Examined); err != nil {
			return nil, err
		}
	}
	write, err := connect(path, "rwc", url.Values{"_txlock": {"immediate"}})
	if err != nil {
		return nil, err
	}
	write.SetMaxOpenConns(1)
	db := &DB{path: path, write: write, ready: prepare(write, how.Gates), gates: how.Gates, examined: examined}
	if err := db.migrate(ctx, migrations); err != nil {
		return nil, errors.Join(err, write.Close())
	}
	if err := db.mark(ctx, inUse); err != nil {
		return nil, errors.Join(err, write.Close())
	}
	read, err := connect(path, "ro", nil)
	if err != nil {
		return nil, errors.Join(err, write.Close())
	}
	db.Read = Pool{prepare(read, how.Gates)}
	db.Read.SetMaxOpenConns(max(4, runtime.NumCPU()))
	return db, nil
}

func connect(path, mode string, more url.Values) (*sqlx.DB, error) {
	q := url.Values{
		"mode":    {mode},
		"_pragma": {"busy_timeout(5000)", "foreign_keys(1)", "synchronous(FULL)", "cache_size(-8000)", "secure_delete(1)"},
	}
	if mode == "rwc" {
		q["_pragma"] = append(q["_pragma"], "journal_mode(WAL)")
	}
	for k, v := range more {
		q[k] = v
	}
	db, err := sqlx.Open("sqlite", (&url.URL{Scheme: "file", Opaque: (&url.URL{Path: path}).EscapedPath(), RawQuery: q.Encode()}).String())
	if err != nil {
		return nil, fmt.Errorf("opening %s: %w", path, err)
	}
	return db, nil
}

// NewerError says that a newer version of the product wrote the database.
type NewerError struct {
	Path             string
	Database, Wanted int64
}

func (e *NewerError) Error() string {
	return fmt.Sprintf(
		"%s was written by a newer version of Hylostat (its tables have version %d, this program knows %d). Start the newer "+
			"program; nothing was changed",
		e.Path,
		e.Database,
		e.Wanted,
	)
}

func (db *DB) migrate(ctx context.Context, migrations fs.FS) error {
	p, err := goose.NewProvider(goose.DialectSQLite3, db.write.DB, migrations, goose.WithSlog(slog.New(slog.DiscardHandler)))
	if err != nil {
		return fmt.Errorf("reading the migrations for %s: %w", db.path, err)
	}
	have, err := p.GetDBVersion(ctx)
	if err != nil {
		return db.explain("reading its version", err)
	}
	sources := p.ListSources()
	if newest := sources[len(sources)-1].Version; have > newest {
		return &NewerError{db.path, have, newest}
	}
	if _, err := p.Up(ctx); err != nil {
		return db.explain("bringing its tables up to date", err)
	}
	return nil
}

// Write runs f in the one writing transaction. Everything f did is kept, or nothing. Whoever asks may go while it waits for its turn
// or between two statements; a transaction that was rolled back under a statement would leave the connection open for ever.
func (db *DB) Write(ctx context.Context, f func(tx *Tx) error) error {
	tx := &Tx{kept: db.ready}
	if err := db.transact(ctx, tx, f); err != nil {
		return err
	}
	for _, query := range tx.missed {
		if _, err := db.ready.get(ctx, query); err != nil { // the next one finds it unprepared again
			break
		}
	}
	for _, g := range db.gates {
		g.After()
	}
	return nil
}

func (db *DB) transact(ctx context.Context, tx *Tx, f func(tx *Tx) error) error {
	if err := db.Damaged(); err != nil {
		return err
	}
	one, err := db.write.Connx(ctx)
	if err != nil {
		return db.explain("beginning to write", err)
	}
	defer func() { _ = one.Close() }()
	began, err := one.BeginTxx(context.WithoutCancel(ctx), nil)
	if err != nil {
		return db.explain("beginning to write", err)
	}
	defer func() { _ = began.Rollback() }()
	tx.tx = began
	if err := f(tx); err != nil {
		return db.explain("writing", err)
	}
	for _, g := range db.gates {
		if err := g.Before(); err != nil {
			return db.explain("keeping what was written", err)
		}
	}
	if err := began.Commit(); err != nil {
		return db.explain("keeping what was written", err)
	}
	return nil
}

// TruncateBy has somebody else empty the write-ahead log, who holds on to it.
func (db *DB) TruncateBy(f func(context.Context) error) { db.truncate = f }

// Truncate empties the write-ahead log: what it still holds of earlier pages is gone.
func (db *DB) Truncate(ctx context.Context) error {
	if db.truncate != nil {
		return db.truncate(ctx)
	}
	if _, err := db.write.ExecContext(ctx, `PRAGMA wal_checkpoint(TRUNCATE)`); err != nil {
		return db.explain("emptying its log", err)
	}
	return nil
}

// FullError says that there is no room left for the database. What was already stored is whole.
type FullError struct {
	Path string
	Err  error
}

func (e *FullError) Error() string {
	return fmt.Sprintf("%s: no room left on its disk. Nothing stored is lost; make room, then try again", e.Path)
}

func (e *FullError) Unwrap() error { return e.Err }

// explain turns the driver's errors into ones that say what to do.
func (db *DB) explain(doing string, err error) error {
	if known, ok := errors.AsType[*sqlite.Error](err); ok {
		switch known.Code() & 0xFF {
		case lib.SQLITE_FULL, lib.SQLITE_IOERR:
			return &FullError{db.path, err}
		case lib.SQLITE_CORRUPT:
			damaged := &DamagedError{db.path, err.Error()}
			db.damage.Store(damaged)
			return damaged
		case lib.SQLITE_NOTADB:
			return fmt.Errorf("%s is not a whole database (%w). Put a backup in its place; it was not touched", db.path, err)
		case lib.SQLITE_READONLY, lib.SQLITE_CANTOPEN:
			return fmt.Errorf("%s cannot be written (%w). Check the folder's owner and mode", db.path, err)
		}
	}
	return fmt.Errorf("%s: %s: %w", filepath.Base(db.path), doing, err)
}

// Close closes all connections, and empties the write-ahead log.
func (db *DB) Close() error {
	err := db.Read.Close()
	_ = db.mark(context.Background(), atRest) // else the next one to open it wants its log, and finds it
	return errors.Join(err, db.write.Close())
}
