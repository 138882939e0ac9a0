package sqlite

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"os"

	"github.com/jmoiron/sqlx"
	"modernc.org/sqlite"
)

// Pair is a database and where its copy goes, a file that is not there yet.
type Pair struct{ From, To string }

// copyAtOnce is how many pages are copied before it is looked whether somebody wants the copying to end.
const copyAtOnce = 2048

// Copy copies databases as they stood at one moment, whoever else has them open. For that moment nobody writes to any of
// them. They are locked in the order they are named in: whoever writes to two of them at once does so in that order. The
// copies are whole by themselves, each without a log, and on the disk.
func Copy(ctx context.Context, all []Pair) error {
	readers := make([]*sqlx.Conn, len(all))
	for i, p := range all {
		db, end, err := Reader(p.From)
		if err != nil {
			return err
		}
		defer end()
		if readers[i], err = db.Connx(ctx); err != nil {
			return fmt.Errorf("opening %s: %w", p.From, err)
		}
		defer func() { _ = readers[i].Close() }()
	}
	if err := atOnce(ctx, all, readers); err != nil {
		return err
	}
	for i, p := range all {
		if err := copyOne(ctx, readers[i], p.To); err != nil {
			return fmt.Errorf("copying %s: %w", p.From, err)
		}
	}
	return nil
}

// atOnce has readers stand at one moment.
func atOnce(ctx context.Context, all []Pair, readers []*sqlx.Conn) (err error) {
	// Whoever is the last to close a database that he may write to ends its log. The readers, who cannot, are there until after that.
	for _, p := range all {
		db, wrong := connect(p.From, "rw", nil)
		if wrong != nil {
			return wrong
		}
		defer func() { err = errors.Join(err, db.Close()) }()
		one, wrong := db.Connx(ctx)
		if wrong != nil {
			return fmt.Errorf("opening %s: %w", p.From, wrong)
		}
		defer func() { err = errors.Join(err, one.Close()) }()
		if _, wrong := one.ExecContext(ctx, `BEGIN IMMEDIATE`); wrong != nil {
			return fmt.Errorf("waiting until nobody writes to %s: %w", p.From, wrong)
		}
		defer func() {
			_, wrong := one.ExecContext(context.WithoutCancel(ctx), `ROLLBACK`)
			err = errors.Join(err, wrong)
		}()
	}
	for i, p := range all {
		for _, query := range []string{`BEGIN`, `SELECT 1 FROM sqlite_schema`} { // it stands where it first reads
			if _, err := readers[i].ExecContext(ctx, query); err != nil {
				return fmt.Errorf("reading %s: %w", p.From, err)
			}
		}
	}
	return nil
}

func copyOne(ctx context.Context, from *sqlx.Conn, to string) error {
	f, err := os.OpenFile(to, os.O_CREATE|os.O_EXCL|os.O_RDWR, 0o600)
	if err != nil {
		return err
	}
	if err := f.Close(); err != nil {
		return err
	}
	uri := (&url.URL{Scheme: "file", Opaque: (&url.URL{Path: to}).EscapedPath()}).String()
	if err := from.Raw(func(driver any) error {
		b, err := driver.(interface {
			NewBackup(uri string) (*sqlite.Backup, error)
		}).NewBackup(uri)
		if err != nil {
			return err
		}
		for more := true; more && err == nil; {
			if more, err = b.Step(copyAtOnce); err == nil {
				err = ctx.Err()
			}
		}
		return errors.Join(err, b.Finish())
	}); err != nil {
		return err
	}
	return MarkAtRest(to)
}

// MarkAtRest notes in a database that nobody has open that it is whole without a log: it was copied from one that was in use.
func MarkAtRest(path string) error {
	f, err := os.OpenFile(path, os.O_WRONLY, 0)
	if err != nil {
		return err
	}
	_, err = f.WriteAt([]byte{0, 0, 0, atRest}, versionAt)
	return errors.Join(err, f.Sync(), f.Close())
}

// ExamineFile looks through all pages of a database, be it in use. The error is a *DamagedError for what is wrong in it.
func ExamineFile(ctx context.Context, path string) error {
	all, err := examine(ctx, path)
	if err == nil && !all {
		err = errors.Join(fmt.Errorf("%s could not be looked through: it is no database, or there was no time", path), ctx.Err())
	}
	return err
}

// References looks whether the rows of a database refer to rows that are there. The error is a *DamagedError for one that does not.
func References(ctx context.Context, path string) error {
	db, end, err := Reader(path)
	if err != nil {
		return err
	}
	defer end()
	var orphans []struct {
		Table  string `db:"table"`
		Parent string `db:"parent"`
	}
	if err := db.SelectContext(ctx, &orphans, `SELECT "table", parent FROM pragma_foreign_key_check LIMIT 1`); err != nil {
		return fmt.Errorf("looking for rows without their counterparts in %s: %w", path, err)
	}
	if len(orphans) > 0 {
		o := orphans[0]
		return &DamagedError{path, fmt.Sprintf("a row of %s refers to one of %s that is not there", o.Table, o.Parent)}
	}
	return nil
}
