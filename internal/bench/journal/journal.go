// Package journal is a bench's own memory: its bays, its runs and the reports nobody has acknowledged. It is the authority
// on runs; a run is stored here before the thing it intends is done. Start with Open.
package journal

import (
	"context"
	"database/sql"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"time"

	"hylostat.example/internal/core/check"
	"hylostat.example/internal/protocol"
	"hylostat.example/internal/sqlite"
)

//go:embed migrations/*.sql
var migrations embed.FS

// Journal is the open journal.
type Journal struct {
	db   *sqlite.DB
	pack *sqlite.Compressor
}

// Examine looks through what there was no time for when it was opened; Damaged tells what was found. See sqlite.DB.
func (j *Journal) Examine(ctx context.Context) error { return j.db.Examine(ctx) }

// Damaged gives the *sqlite.DamagedError that is known; nil: none is.
func (j *Journal) Damaged() error { return j.db.Damaged() }

// Open opens or creates the journal at path.
func Open(ctx context.Context, path string, gates ...sqlite.Gate) (*Journal, error) {
	return OpenHow(ctx, path, sqlite.How{Gates: gates})
}

// OpenHow is Open in one of the ways of sqlite.
func OpenHow(ctx context.Context, path string, how sqlite.How) (*Journal, error) {
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return nil, err
	}
	db, err := sqlite.OpenHow(ctx, path, files, how)
	if err != nil {
		return nil, err
	}
	return &Journal{db, sqlite.NewCompressor()}, nil
}

// Close closes the journal.
func (j *Journal) Close() error { return j.db.Close() }

// Adapter gives what is remembered of an adapter, 0 when nothing is.
func (j *Journal) Adapter(ctx context.Context, id string) (passes uint8, err error) {
	err = j.db.Read.GetContext(ctx, &passes, `SELECT COALESCE((SELECT passes FROM adapter WHERE id = ?), 0)`, id)
	return passes, err
}

// SaveAdapter remembers what an adapter passes.
func (j *Journal) SaveAdapter(ctx context.Context, id string, passes uint8) error {
	return j.db.Write(ctx, func(tx *sqlite.Tx) error {
		_, err := tx.ExecContext(ctx, `INSERT OR REPLACE INTO adapter (id, passes) VALUES (?, ?)`, id, passes)
		return err
	})
}

// ErrKnown says that a run's number is taken.
var ErrKnown = errors.New("the journal has a run of this number already")

// AddRun stores a new run under the number the shop gave it, together with its first report. ErrKnown when there is one already.
func (j *Journal) AddRun(ctx context.Context, r check.Run) error {
	return j.db.Write(ctx, func(tx *sqlite.Tx) error { return j.addRun(ctx, tx, r) })
}

func (j *Journal) addRun(ctx context.Context, tx *sqlite.Tx, r check.Run) error {
	done, err := tx.ExecContext(ctx, `INSERT OR IGNORE INTO run (id, done, body) VALUES (?, 0, '{}')`, r.ID)
	if err != nil {
		return err
	}
	if n, err := done.RowsAffected(); err != nil || n == 0 {
		return errors.Join(err, ErrKnown)
	}
	return j.saveRun(ctx, tx, r)
}

// SaveRun stores a run as it stands and the report of it, at once; before it those of sweeps of its that end with it.
func (j *Journal) SaveRun(ctx context.Context, r check.Run, ended ...check.Result) error {
	return j.db.Write(ctx, func(tx *sqlite.Tx) error {
		for _, s := range ended {
			if err := j.report(ctx, tx, protocol.Report{Sweep: &s}); err != nil {
				return err
			}
		}
		return j.saveRun(ctx, tx, r)
	})
}

func (j *Journal) saveRun(ctx context.Context, tx *sqlite.Tx, r check.Run) error {
	body, err := json.Marshal(r)
	if err != nil {
		return fmt.Errorf("run %d: %w", r.ID, err)
	}
	if _, err := tx.ExecContext(
		ctx,
		`UPDATE run SET done = ?, body = ? WHERE id = ?`,
		r.State == check.Done,
		string(body),
		r.ID,
	); err != nil {
		return err
	}
	if r.State == check.Done {
		for _, forget := range []string{
			`DELETE FROM sweep_mark WHERE run = ?`, `DELETE FROM sweep_block WHERE run = ?`, `DELETE FROM intent WHERE run = ?`,
		} {
			if _, err := tx.ExecContext(ctx, forget, r.ID); err != nil {
				return err
			}
		}
	}
	return j.report(ctx, tx, protocol.Report{Run: &r})
}

// RunOrdered gives the run that an order began, as it stands; not ok when it began none, or that is not known any more.
func (j *Journal) RunOrdered(ctx context.Context, run int64, order string) (r check.Run, ok bool, err error) {
	var body string
	if err := j.db.Read.GetContext(ctx, &body, `SELECT body FROM run WHERE id = ?`, run); err != nil {
		if errors.Is(err, sql.ErrNoRows) {
			err = nil
		}
		return r, false, err
	}
	if err := json.Unmarshal([]byte(body), &r); err != nil {
		return r, false, fmt.Errorf("run %d of the journal: %w", run, err)
	}
	return r, order != "" && r.Order == order, nil
}

// OpenRuns lists the runs that are not done.
func (j *Journal) OpenRuns(ctx context.Context) ([]check.Run, error) {
	var bodies []string
	if err := j.db.Read.SelectContext(ctx, &bodies, `SELECT body FROM run WHERE done = 0 ORDER BY id`); err != nil {
		return nil, err
	}
	all := make([]check.Run, 0, len(bodies))
	for _, b := range bodies {
		var r check.Run
		if err := json.Unmarshal([]byte(b), &r); err != nil {
			return nil, fmt.Errorf("a run of the journal: %w", err)
		}
		all = append(all, r)
	}
	return all, nil
}

// Report keeps a report until it is acknowledged.
func (j *Journal) Report(ctx context.Context, r protocol.Report) error {
	return j.db.Write(ctx, func(tx *sqlite.Tx) error { return j.report(ctx, tx, r) })
}

func (j *Journal) report(ctx context.Context, tx *sqlite.Tx, r protocol.Report) error {
	body, err := json.Marshal(r)
	if err != nil {
		return fmt.Errorf("a report: %w", err)
	}
	_, err = tx.ExecContext(ctx, `INSERT INTO outbox (body, packed) VALUES ('', ?)`, j.pack.Compress(body))
	return err
}

// keptFor is how long a report is kept after its acknowledgement.
const keptFor = 48 * time.Hour

// Reports gives the oldest reports that are not acknowledged.
func (j *Journal) Reports(ctx context.Context) ([]protocol.Report, error) {
	var rows []struct {
		Seq    int64  `db:"seq"`
		Body   []byte `db:"body"` // of a version before
		Packed []byte `db:"packed"`
	}
	if err := j.db.Read.SelectContext(
		ctx, &rows, `SELECT seq, body, packed FROM outbox WHERE acknowledged IS NULL ORDER BY seq LIMIT 64`,
	); err != nil {
		return nil, err
	}
	all := make([]protocol.Report, len(rows))
	for i, row := range rows {
		body, err := row.Body, error(nil)
		if row.Packed != nil {
			body, err = j.pack.Expand(row.Packed)
		}
		if err == nil {
			err = json.Unmarshal(body, &all[i])
		}
		if err != nil {
			return nil, fmt.Errorf("report %d of the journal: %w", row.Seq, err)
		}
		all[i].Seq = row.Seq
	}
	return all, nil
}

// Acknowledge notes that the reports up to seq are stored, and forgets those of which that was known 48 h before.
func (j *Journal) Acknowledge(ctx context.Context, seq int64, now time.Time) error {
	return j.db.Write(ctx, func(tx *sqlite.Tx) error {
		if _, err := tx.ExecContext(
			ctx, `UPDATE outbox SET acknowledged = ? WHERE acknowledged IS NULL AND seq <= ?`, now.UnixMilli(), seq,
		); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `DELETE FROM outbox WHERE acknowledged < ?`, now.Add(-keptFor).UnixMilli())
		return err
	})
}

// Resend takes the acknowledgement of the reports after seq back, as far as they are kept: they are told again.
func (j *Journal) Resend(ctx context.Context, after int64) error {
	return j.db.Write(ctx, func(tx *sqlite.Tx) error {
		_, err := tx.ExecContext(ctx, `UPDATE outbox SET acknowledged = NULL WHERE acknowledged IS NOT NULL AND seq > ?`, after)
		return err
	})
}
