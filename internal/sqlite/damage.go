package sqlite

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"
	"modernc.org/sqlite"
	lib "modernc.org/sqlite/lib"
)

// DamagedError says that a database is damaged: what is read from it may lack rows, without an error.
type DamagedError struct {
	Path  string
	Found string // the first thing that is wrong
}

func (e *DamagedError) Error() string {
	return fmt.Sprintf("%s, damaged: %s; nothing is read from it or written to it", e.Path, e.Found)
}

// isDamage reports whether an error of the driver says that a database is damaged.
func isDamage(err error) bool {
	known, ok := errors.AsType[*sqlite.Error](err)
	return ok && known.Code()&0xFF == lib.SQLITE_CORRUPT
}

// Damage reports whether an error says that a database is damaged.
func Damage(err error) bool {
	_, ok := errors.AsType[*DamagedError](err)
	return ok || isDamage(err)
}

// Reader opens a database for reading alone, beside whoever else has it open; end closes it and leaves no file behind.
func Reader(path string) (db *sqlx.DB, end func(), err error) {
	_, logged, err := sizes(path)
	if err != nil {
		return nil, nil, fmt.Errorf("looking at %s: %w", path, err)
	}
	if db, err = connect(path, "ro", nil); err != nil {
		return nil, nil, err
	}
	return db, func() {
		_ = db.Close()
		if _, now, err := sizes(path); err == nil && logged < 0 && now == 0 { // whoever only reads makes an empty log, too, and leaves it
			_ = os.Remove(path + "-wal")
			_ = os.Remove(path + "-shm")
		}
	}, nil
}

// examine looks through a database's pages on a connection of its own: whether each is where it belongs and holds what it should (PRAGMA
// quick_check). It writes nothing. all is false when there was no time for all of them.
func examine(ctx context.Context, path string) (all bool, err error) {
	db, end, err := Reader(path)
	if err != nil {
		return false, err
	}
	defer end()
	var found string
	err = db.GetContext(ctx, &found, `PRAGMA quick_check(1)`)
	switch {
	case isDamage(err):
		return true, &DamagedError{path, err.Error()}
	case ctx.Err() != nil:
		return false, nil
	case err != nil: // told by whoever opens it
		return false, nil
	case found != "ok":
		_, first, _ := strings.Cut(found, "\n") // below a line of stars with the database's name
		return true, &DamagedError{path, cmp.Or(first, found)}
	}
	return true, nil
}

// examineBriefly is examine for so long.
func examineBriefly(ctx context.Context, path string, within time.Duration) (all bool, err error) {
	brief, end := context.WithTimeout(ctx, within)
	defer end()
	return examine(brief, path)
}

// Examine looks through the pages that there was no time for when the database was opened, until the context ends. What it finds is
// Damaged from then on.
func (db *DB) Examine(ctx context.Context) error {
	if db.examined {
		return nil
	}
	_, err := examine(ctx, db.path)
	if damaged, ok := errors.AsType[*DamagedError](err); ok {
		db.damage.Store(damaged)
	}
	return err
}

// Damaged gives the *DamagedError that is known of the database; nil: none is.
func (db *DB) Damaged() error {
	if damaged := db.damage.Load(); damaged != nil {
		return damaged
	}
	return nil
}
