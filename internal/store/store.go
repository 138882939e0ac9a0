// Package store keeps what the shop knows in SQLite. It serves the narrow stores of the use cases, see Storage; SQL stands next to the
// function that runs
// it, one file for each kind of thing. Start with Open.
package store

import (
	"context"
	"database/sql"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"sync"
	"time"

	jsonv2 "github.com/go-json-experiment/json"
	jsonv1 "github.com/go-json-experiment/json/v1"
	"github.com/jmoiron/sqlx"

	"hylostat.example/internal/shop"
	"hylostat.example/internal/sqlite"
)

//go:embed migrations/*.sql
var migrations embed.FS

// Store is the open database.
type Store struct {
	queries
	db    *sqlite.DB
	kinds sync.Map // kindKey to its number, of what is committed
}

// Examine looks through what there was no time for when it was opened; Damaged tells what was found. See sqlite.DB.
func (s *Store) Examine(ctx context.Context) error { return s.db.Examine(ctx) }

// Damaged gives the *sqlite.DamagedError that is known; nil: none is.
func (s *Store) Damaged() error { return s.db.Damaged() }

// Open opens or creates the shop's database at path.
func Open(ctx context.Context, path string, gates ...sqlite.Gate) (*Store, error) {
	return OpenHow(ctx, path, sqlite.How{Gates: gates})
}

// OpenHow is Open in one of the ways of sqlite.
func OpenHow(ctx context.Context, path string, how sqlite.How) (*Store, error) {
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return nil, err
	}
	db, err := sqlite.OpenHow(ctx, path, files, how)
	if err != nil {
		return nil, err
	}
	return &Store{queries: queries{db.Read, sqlite.NewCompressor(), &sync.Map{}, true}, db: db}, nil
}

// TruncateBy has somebody else empty the write-ahead log, see sqlite.DB. It is called before anything else is.
func (s *Store) TruncateBy(f func(context.Context) error) { s.db.TruncateBy(f) }

// Close closes the database.
func (s *Store) Close() error { return s.db.Close() }

// Size is the length of the database in bytes, without pages that are free.
func (s *Store) Size(ctx context.Context) (bytes int64, err error) {
	err = s.db.Read.GetContext(
		ctx,
		&bytes,
		`SELECT (SELECT page_count FROM pragma_page_count()) * (SELECT page_size FROM pragma_page_size()) - (SELECT freelist_count
		  FROM pragma_freelist_count()) * (SELECT page_size FROM pragma_page_size())`,
	)
	return bytes, err
}

// Scrub serves the desk: pages that SQLite has freed or rewritten hold zeros (secure_delete), the search index is written
// anew without what was replaced in it, and the write-ahead log is emptied.
func (s *Store) Scrub(ctx context.Context) error {
	if err := s.db.Write(ctx, func(tx *sqlite.Tx) error {
		_, err := tx.ExecContext(ctx, `INSERT INTO drive_text (drive_text) VALUES ('optimize')`)
		return err
	}); err != nil {
		return err
	}
	return s.db.Truncate(ctx)
}

// Write carries out f as one change: all of it is kept, or nothing.
func (s *Store) Write(ctx context.Context, f func(Tx) error) error {
	fresh := map[kindKey]int64{}
	err := s.db.Write(ctx, func(tx *sqlite.Tx) error {
		return f(Tx{queries{tx, s.Compressor, s.committed, false}, tx, &s.kinds, fresh, &last{}})
	})
	if err == nil {
		for key, id := range fresh {
			s.kinds.Store(key, id)
			if k, err := key.kind(); err == nil {
				s.committed.Store(id, k)
			}
		}
	}
	return err
}

// queries are the reading functions, on the pool or inside a transaction.
type queries struct {
	q sqlx.QueryerContext
	*sqlite.Compressor
	committed *sync.Map // kinds of leaves by id, once they are committed
	learns    bool      // what it reads is committed
}

// Tx is a transaction.
type Tx struct {
	queries
	tx    *sqlite.Tx
	kinds *sync.Map // of what is committed
	fresh map[kindKey]int64
	last  *last
}

func millis(t time.Time) int64 { return t.UnixMilli() }

func moment(ms int64) time.Time { return time.UnixMilli(ms).UTC() }

// encode writes a body; every type stored this way marshals.
func encode(v any) (string, error) {
	b, err := json.Marshal(v)
	return string(b), err
}

// decode reads a body. The options are those of the package that wrote it, which would take several times as long to read it.
func decode(body string, into any) error {
	if err := jsonv2.Unmarshal([]byte(body), into, jsonv1.DefaultOptionsV1()); err != nil {
		return fmt.Errorf("a stored body: %w", err)
	}
	return nil
}

// bodies selects rows of one JSON column.
func bodies[T any](ctx context.Context, q sqlx.QueryerContext, query string, args ...any) ([]T, error) {
	var rows []string
	if err := sqlx.SelectContext(ctx, q, &rows, query, args...); err != nil {
		return nil, err
	}
	all := make([]T, len(rows))
	for i, row := range rows {
		if err := decode(row, &all[i]); err != nil {
			return nil, err
		}
	}
	return all, nil
}

// missing turns "no rows" into the shop's word for it.
func missing(err error, what, do string) error {
	if errors.Is(err, sql.ErrNoRows) {
		return &shop.NotFound{What: what, Advice: do}
	}
	return err
}
