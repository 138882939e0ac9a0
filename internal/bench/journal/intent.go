package journal

import (
	"context"
	"database/sql"
	"errors"

	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/surface"
	"hylostat.example/internal/sqlite"
)

// ErrUsed says that a release has begun a rework already.
var ErrUsed = errors.New("this release has begun a rework already")

// AddRework is AddRun for a run that writes: it uses its release up. ErrUsed when that was used before.
func (j *Journal) AddRework(ctx context.Context, r check.Run) error {
	return j.db.Write(ctx, func(tx *sqlite.Tx) error {
		done, err := tx.ExecContext(ctx, `INSERT OR IGNORE INTO used_release (nonce) VALUES (?)`, r.Rework.Release.Nonce)
		if err != nil {
			return err
		}
		if n, err := done.RowsAffected(); err != nil || n == 0 {
			return errors.Join(err, ErrUsed)
		}
		return j.addRun(ctx, tx, r)
	})
}

// Intend stores what is about to be written, in place of what was intended before.
func (j *Journal) Intend(ctx context.Context, run int64, step int, e surface.Extent) error {
	return j.db.Write(ctx, func(tx *sqlite.Tx) error {
		_, err := tx.ExecContext(
			ctx,
			`INSERT OR REPLACE INTO intent (run, step, lba, sectors) VALUES (?, ?, ?, ?)`,
			run,
			step,
			int64(e.LBA),
			int64(e.Sectors),
		)
		return err
	})
}

// Fulfil forgets an intent: it is done, and the drive keeps it.
func (j *Journal) Fulfil(ctx context.Context, run int64, step int) error {
	return j.db.Write(ctx, func(tx *sqlite.Tx) error {
		_, err := tx.ExecContext(ctx, `DELETE FROM intent WHERE run = ? AND step = ?`, run, step)
		return err
	})
}

// Intent gives what a step was about to write; not ok when there is nothing open.
func (j *Journal) Intent(ctx context.Context, run int64, step int) (e surface.Extent, ok bool, err error) {
	var row struct {
		LBA     int64 `db:"lba"`
		Sectors int64 `db:"sectors"`
	}
	err = j.db.Read.GetContext(ctx, &row, `SELECT lba, sectors FROM intent WHERE run = ? AND step = ?`, run, step)
	if errors.Is(err, sql.ErrNoRows) {
		return e, false, nil
	}
	return surface.Extent{LBA: uint64(row.LBA), Sectors: uint64(row.Sectors)}, err == nil, err
}
