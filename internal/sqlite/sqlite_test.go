package sqlite

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var tables = fstest.MapFS{"00001_one.sql": {Data: []byte("-- +goose Up\nCREATE TABLE one (x INTEGER) STRICT;\n")}}

func TestAFolderWithSignsInItsNameIsNoTrouble(t *testing.T) {
	db, err := Open(t.Context(), filepath.Join(t.TempDir(), "a b?c#d%", "x.db"), tables)
	require.NoError(t, err)
	require.NoError(t, db.Write(t.Context(), func(tx *Tx) error {
		_, err := tx.ExecContext(context.Background(), `INSERT INTO one VALUES (1)`)
		return err
	}))
	var n int
	require.NoError(t, db.Read.GetContext(t.Context(), &n, `SELECT COUNT(*) FROM one`))
	assert.Equal(t, 1, n)
	_, err = db.Read.db.Exec(`INSERT INTO one VALUES (2)`)
	assert.Error(t, err, "readers cannot write")
	require.NoError(t, db.Close())
}

func TestWhatIsNoDatabaseIsLeftAlone(t *testing.T) {
	path := filepath.Join(t.TempDir(), "x.db")
	content := []byte("this is a letter to a customer, and longer than a header of a database would be, by far, so that nobody mistakes it")
	require.NoError(t, os.WriteFile(path, content, 0o600))
	_, err := Open(t.Context(), path, tables)
	require.ErrorContains(t, err, "is not a whole database")
	after, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, content, after)
}

func TestANewerDatabaseIsRefusedByName(t *testing.T) {
	path := filepath.Join(t.TempDir(), "x.db")
	newer := fstest.MapFS{
		"00001_one.sql": tables["00001_one.sql"],
		"00002_two.sql": {Data: []byte("-- +goose Up\nCREATE TABLE two (x INTEGER) STRICT;\n")},
	}
	db, err := Open(t.Context(), path, newer)
	require.NoError(t, err)
	require.NoError(t, db.Close())
	_, err = Open(t.Context(), path, tables)
	var refused *NewerError
	require.ErrorAs(t, err, &refused)
	assert.EqualValues(t, 2, refused.Database)
	assert.Contains(t, err.Error(), "Start the newer program; nothing was changed")
}

func TestAFullDiskIsSaidAndWhatWasStoredStays(t *testing.T) {
	path := filepath.Join(t.TempDir(), "x.db")
	db, err := Open(t.Context(), path, tables)
	require.NoError(t, err)
	t.Cleanup(func() { _ = db.Close() })
	_, err = db.write.Exec(`PRAGMA max_page_count = 8`) // the database's own idea of a full disk
	require.NoError(t, err)
	insert := func(tx *Tx) error {
		_, err := tx.ExecContext(
			context.Background(),
			`INSERT INTO one SELECT value FROM (WITH RECURSIVE n(value) AS (SELECT 1 UNION ALL SELECT value + 1 FROM n LIMIT 20000)
			  SELECT value FROM n)`,
		)
		return err
	}
	err = db.Write(t.Context(), insert)
	var full *FullError
	require.ErrorAs(t, err, &full)
	assert.Contains(t, err.Error(), "Nothing stored is lost; make room")
	_, err = db.write.Exec(`PRAGMA max_page_count = 100000`)
	require.NoError(t, err)
	assert.NoError(t, db.Write(t.Context(), insert), "with room again, it goes on")
}

// Statements are kept ready between transactions, and a rolled-back or failed one spoils none of them.
// A transaction that is rolled back under its statement leaves a connection nobody ends, and that keeps the log.
func TestADatabaseIsWholeOnceItIsClosed(t *testing.T) {
	path := filepath.Join(t.TempDir(), "x.db")
	db, err := Open(t.Context(), path, tables)
	require.NoError(t, err)
	for n := range 200 {
		ctx, cancel := context.WithCancel(t.Context())
		time.AfterFunc(time.Duration(n%20)*50*time.Microsecond, cancel) // whoever asked goes in the middle
		err := db.Write(ctx, func(tx *Tx) error {
			for range 200 {
				if _, err := tx.ExecContext(ctx, `INSERT INTO one VALUES (1)`); err != nil {
					return err
				}
			}
			return nil
		})
		cancel()
		if err != nil {
			require.ErrorIs(t, err, context.Canceled)
		}
	}
	require.NoError(t, db.Close())
	assert.NoFileExists(t, path+"-wal")
}

func TestStatementsAreKeptReady(t *testing.T) {
	db, err := Open(t.Context(), filepath.Join(t.TempDir(), "x.db"), tables)
	require.NoError(t, err)
	defer db.Close()
	insert := func(x any) error {
		return db.Write(t.Context(), func(tx *Tx) error {
			_, err := tx.ExecContext(t.Context(), `INSERT INTO one VALUES (?)`, x)
			return err
		})
	}
	require.NoError(t, insert(1))
	require.Error(t, insert("a text in a column of numbers"))
	require.NoError(t, insert(2))
	assert.Len(t, db.ready.kept, 1)
	for i := range mostPrepared + 50 { // more texts than are kept
		var n int
		require.NoError(t, db.Read.GetContext(t.Context(), &n, fmt.Sprintf(`SELECT COUNT(*) FROM one WHERE x <> %d`, i+10)))
		require.Equal(t, 2, n)
	}
	assert.Len(t, db.Read.kept, mostPrepared)
}

func TestWhatWasInADatabaseIsNotReplacedByNothing(t *testing.T) {
	kept := How{Kept: true}
	open := func(path string, how How) error {
		db, err := OpenHow(t.Context(), path, tables, how)
		if err != nil {
			return err
		}
		return db.Close()
	}
	fresh := func() string { return filepath.Join(t.TempDir(), "x.db") }

	path := fresh()
	require.ErrorAs(t, open(path, kept), new(*MissingError))
	require.NoFileExists(t, path)
	require.NoError(t, os.WriteFile(path, nil, 0o600))
	require.ErrorContains(t, open(path, kept), "is empty")
	require.NoError(t, open(path, How{}), "one is made")
	require.NoError(t, open(path, kept))
	info, err := os.Stat(path)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())

	// Copied while it is in use, with its log and without
	db, err := OpenHow(t.Context(), path, tables, kept)
	require.NoError(t, err)
	require.NoError(t, db.Write(t.Context(), func(tx *Tx) error {
		_, err := tx.ExecContext(t.Context(), `INSERT INTO one VALUES (7)`)
		return err
	}))
	with, without, alone := fresh(), fresh(), fresh()
	for to, from := range map[string]string{
		with: path, with + "-wal": path + "-wal", without: path, alone + "-wal": path + "-wal",
	} {
		b, err := os.ReadFile(from)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(to, b, 0o644))
	}
	require.NoError(t, db.Close())
	require.NoError(t, open(path, kept), "it was closed: there is no log")
	require.ErrorAs(t, open(without, kept), new(*LogLostError))
	require.ErrorAs(t, open(without, How{}), new(*LogLostError))
	require.ErrorContains(t, open(alone, How{}), "its write-ahead log is there")
	require.NoError(t, open(without, How{Kept: true, WithoutLog: true}))
	require.NoError(t, open(without, kept), "it is told once")
	db, err = OpenHow(t.Context(), with, tables, kept)
	require.NoError(t, err)
	defer db.Close()
	var n int
	require.NoError(t, db.Read.GetContext(t.Context(), &n, `SELECT x FROM one`))
	assert.Equal(t, 7, n)
	info, err = os.Stat(with)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm(), "what others could read, they cannot any more")
}
