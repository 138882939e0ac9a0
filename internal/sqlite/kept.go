package sqlite

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io/fs"
	"os"
)

// MissingError says that a database is not there, or that nothing is in it.
type MissingError struct {
	Path    string
	Empty   bool // the file is there
	WithLog bool // its write-ahead log is there
}

func (e *MissingError) Error() string {
	return e.What() + ". Put a backup in its place; nothing was changed"
}

// What tells what is missing, without what to do.
func (e *MissingError) What() string {
	what := e.Path + " is missing"
	if e.Empty {
		what = e.Path + " is empty"
	}
	if e.WithLog {
		what += ", and its write-ahead log is there: the file was lost, or moved without it"
	}
	return what
}

// LogLostError says that a database was in use when it was last heard of, and what was written last is not with it.
type LogLostError struct{ Path string }

func (e *LogLostError) Error() string {
	return fmt.Sprintf(
		"%s was copied or left while it was in use, and its write-ahead log %s-wal, which holds what was written last, is not with it. "+
			"Bring that file back; nothing was changed", e.Path, e.Path,
	)
}

// The words for PRAGMA user_version: whether a database is in use. SQLite keeps it in the header.
const (
	atRest = 0
	inUse  = 1
)

// versionAt is where the header holds it, big-endian (The SQLite Database File Format, 1.3).
const versionAt = 60

// mark writes into the file itself, and not its log alone, whether it is in use.
func (db *DB) mark(ctx context.Context, as int) error {
	for _, query := range []string{fmt.Sprintf(`PRAGMA user_version = %d`, as), `PRAGMA wal_checkpoint(TRUNCATE)`} {
		if _, err := db.write.ExecContext(ctx, query); err != nil {
			return db.explain("noting that it is in use", err)
		}
	}
	return nil
}

// prepareFile refuses a file that lacks what was in it, makes one that nobody else can read where there is none, and takes the others'
// permission to read from one that is there.
func prepareFile(path string, how How) error {
	size, logged, err := sizes(path)
	switch {
	case err != nil:
		return fmt.Errorf("looking at %s: %w", path, err)
	case size <= 0 && (how.Kept || logged > 0):
		return &MissingError{Path: path, Empty: size == 0, WithLog: logged > 0}
	case size < 0:
		f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600)
		if err != nil {
			return fmt.Errorf("making %s: %w. Check the folder's owner and mode", path, err)
		}
		return f.Close()
	case size > 0 && logged < 0 && !how.WithoutLog:
		used, err := wasInUse(path)
		if err != nil {
			return fmt.Errorf("reading the header of %s: %w", path, err)
		}
		if used {
			return &LogLostError{path}
		}
	}
	for _, file := range []string{path, path + "-wal", path + "-shm"} {
		if info, err := os.Stat(file); err == nil && info.Mode().Perm()&0o077 != 0 {
			_ = os.Chmod(file, info.Mode().Perm()&0o700) // of another owner: whoever gave it to us knows
		}
	}
	return nil
}

// sizes gives the lengths of a database and its write-ahead log; -1: there is none.
func sizes(path string) (size, logged int64, err error) {
	of := func(path string) (int64, error) {
		info, err := os.Stat(path)
		if errors.Is(err, fs.ErrNotExist) {
			return -1, nil
		}
		if err != nil {
			return 0, err
		}
		return info.Size(), nil
	}
	if size, err = of(path); err == nil {
		logged, err = of(path + "-wal")
	}
	return size, logged, err
}

func wasInUse(path string) (bool, error) {
	f, err := os.Open(path)
	if err != nil {
		return false, err
	}
	defer func() { _ = f.Close() }()
	var version [4]byte
	if _, err := f.ReadAt(version[:], versionAt); err != nil {
		return false, nil // shorter than a header: it is no database, and that is told where it is opened
	}
	head := make([]byte, 16)
	if _, err := f.ReadAt(head, 0); err != nil || string(head) != "SQLite format 3\x00" {
		return false, nil //nolint:nilerr // as above
	}
	return binary.BigEndian.Uint32(version[:]) == inUse, nil
}
