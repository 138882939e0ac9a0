package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"

	"github.com/jmoiron/sqlx"

	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/surface"
	"hylostat.example/internal/shop"
)

// AddSweep serves a use case's Tx.
func (c Tx) AddSweep(ctx context.Context, s shop.Sweep, d check.Found) error {
	body, err := encode(s.Standing)
	if err != nil {
		return err
	}
	var packed [3][]byte
	for i, v := range []any{d.Slow, d.Heat, d.Blocks} {
		b, err := json.Marshal(v)
		if err != nil {
			return err
		}
		packed[i] = c.Compress(b)
	}
	done, err := c.tx.ExecContext(
		ctx,
		`
		INSERT OR IGNORE INTO sweep (run, step, drive, kind, began, ended, hours, missed, body, slow, heat, ribbon) VALUES (?, ?, ?,
		  ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
		s.Run,
		s.Step,
		s.Drive,
		s.Kind,
		millis(s.Began),
		millis(s.Ended),
		sql.NullFloat64{Float64: s.Hours, Valid: s.Hours >= 0},
		s.Missed,
		body,
		packed[0],
		packed[1],
		packed[2],
	)
	if err != nil {
		return err
	}
	if n, err := done.RowsAffected(); err != nil || n == 0 {
		return err
	}
	for _, r := range d.Ranges {
		if _, err := c.tx.ExecContext(
			ctx,
			`INSERT INTO sweep_range (run, step, lba, sectors, cause) VALUES (?, ?, ?, ?, ?)`,
			s.Run,
			s.Step,
			int64(r.LBA),
			int64(r.Sectors),
			r.Cause,
		); err != nil {
			return err
		}
	}
	return nil
}

// Sweeps serves a use case's Reader.
func (q queries) Sweeps(ctx context.Context, s shop.SweepQuery) ([]shop.Sweep, error) {
	var rows []struct {
		Run    int64           `db:"run"`
		Step   int             `db:"step"`
		Drive  int64           `db:"drive"`
		Kind   check.StepKind  `db:"kind"`
		Began  int64           `db:"began"`
		Ended  int64           `db:"ended"`
		Hours  sql.NullFloat64 `db:"hours"`
		Missed uint64          `db:"missed"`
		Body   string          `db:"body"`
	}
	by, id := "drive", s.Drive
	if s.Run != 0 {
		by, id = "run", s.Run
	}
	err := sqlx.SelectContext(
		ctx,
		q.q,
		&rows,
		`SELECT run, step, drive, kind, began, ended, hours, missed, body FROM sweep WHERE `+by+` = ? ORDER BY ended DESC, run DESC,
		  step DESC`,
		id,
	)
	if err != nil {
		return nil, err
	}
	all := make([]shop.Sweep, len(rows))
	for i, r := range rows {
		all[i] = shop.Sweep{
			Sweep: check.Sweep{Run: r.Run, Step: r.Step, Kind: r.Kind, Began: moment(r.Began), Ended: moment(r.Ended), Missed: r.Missed},
			Drive: r.Drive, Hours: -1,
		}
		if r.Hours.Valid {
			all[i].Hours = r.Hours.Float64
		}
		if err := decode(r.Body, &all[i].Standing); err != nil {
			return nil, err
		}
	}
	return all, nil
}

// SweepDetail serves a use case's Reader.
func (q queries) SweepDetail(ctx context.Context, run int64, step int) (d check.Found, err error) {
	var row struct {
		Slow   []byte `db:"slow"`
		Heat   []byte `db:"heat"`
		Ribbon []byte `db:"ribbon"`
	}
	if err := sqlx.GetContext(ctx, q.q, &row, `SELECT slow, heat, ribbon FROM sweep WHERE run = ? AND step = ?`, run, step); err != nil {
		return d, fmt.Errorf("the sweep of run %d: %w", run, err)
	}
	for _, part := range []struct {
		packed []byte
		into   any
	}{{row.Slow, &d.Slow}, {row.Heat, &d.Heat}, {row.Ribbon, &d.Blocks}} {
		b, err := q.Expand(part.packed)
		if err == nil {
			err = json.Unmarshal(b, part.into)
		}
		if err != nil {
			return d, fmt.Errorf("the sweep of run %d: %w", run, err)
		}
	}
	var ranges []struct {
		LBA     int64         `db:"lba"`
		Sectors int64         `db:"sectors"`
		Cause   surface.Cause `db:"cause"`
	}
	err = sqlx.SelectContext(
		ctx,
		q.q,
		&ranges,
		`SELECT lba, sectors, cause FROM sweep_range WHERE run = ? AND step = ? ORDER BY lba`,
		run,
		step,
	)
	for _, r := range ranges {
		d.Ranges = append(d.Ranges, surface.Range{Extent: surface.Extent{LBA: uint64(r.LBA), Sectors: uint64(r.Sectors)}, Cause: r.Cause})
	}
	return d, err
}
