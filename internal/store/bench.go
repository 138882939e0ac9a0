package store

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/jmoiron/sqlx"

	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/protocol"
	"hylostat.example/internal/shop"
)

// NewRun serves a use case's Tx.
func (c Tx) NewRun(ctx context.Context) (id int64, err error) {
	res, err := c.tx.ExecContext(ctx, `INSERT INTO run_number DEFAULT VALUES`)
	if err != nil {
		return 0, err
	}
	if id, err = res.LastInsertId(); err != nil {
		return 0, err
	}
	_, err = c.tx.ExecContext(ctx, `DELETE FROM run_number`)
	return id, err
}

// SaveRun serves a use case's Tx. It is a projection: the bench's journal is the authority.
func (c Tx) SaveRun(ctx context.Context, r check.Run) error {
	body, err := encode(r)
	if err != nil {
		return err
	}
	done, err := c.tx.ExecContext(ctx, `
		INSERT INTO run (id, bench, model, serial, done, body) VALUES (?, ?, ?, ?, ?, ?)
		ON CONFLICT (id) DO UPDATE SET done = excluded.done, body = excluded.body WHERE bench = excluded.bench
		  AND model = excluded.model AND serial = excluded.serial`,
		r.ID, r.Bay.Bench, r.Key.Model, r.Key.Serial, r.State == check.Done, body)
	if err != nil {
		return err
	}
	if n, err := done.RowsAffected(); err != nil || n == 0 {
		return errors.Join(
			err,
			&shop.Conflict{
				What:   fmt.Sprintf("run %d is recorded as another one's: its number was given twice", r.ID),
				Advice: "Look at both with run show; the record stays as it is.",
			},
		)
	}
	return nil
}

// Runs serves a use case's Reader.
func (q queries) Runs(ctx context.Context, s shop.RunQuery) ([]check.Run, error) {
	where, args := []string{"1"}, []any(nil)
	if s.Drive != (drive.Key{}) {
		where, args = append(where, "serial = ? AND model = ?"), append(args, s.Drive.Serial, s.Drive.Model)
	}
	if s.Open {
		where = append(where, "done = 0")
	}
	if s.Before > 0 {
		where, args = append(where, "id < ?"), append(args, s.Before)
	}
	if s.Reworks {
		where, args = append(where, "body ->> 'kind' IN (?, ?, ?)"), append(args, check.Mend, check.Renew, check.Overwrite)
	}
	if s.Limit <= 0 || s.Limit > 1000 {
		s.Limit = 1000
	}
	return bodies[check.Run](
		ctx,
		q.q,
		`SELECT body FROM run WHERE `+strings.Join(where, " AND ")+` ORDER BY id DESC LIMIT ?`,
		append(args, s.Limit)...)
}

// Run serves a use case's Reader.
func (q queries) Run(ctx context.Context, id int64) (r check.Run, err error) {
	all, err := bodies[check.Run](ctx, q.q, `SELECT body FROM run WHERE id = ?`, id)
	if err == nil && len(all) == 0 {
		err = &shop.NotFound{What: fmt.Sprintf("there is no run %d", id), Advice: "List the runs."}
	}
	if err != nil {
		return r, err
	}
	return all[0], nil
}

// SaveBay serves a use case's Tx.
func (c Tx) SaveBay(ctx context.Context, b protocol.Bay) error {
	body, err := encode(b)
	if err != nil {
		return err
	}
	// A place has one number: what stood under another one is this bay by its old number.
	if _, err := c.tx.ExecContext(
		ctx,
		`DELETE FROM bay WHERE +bench = ? AND number <> ? AND ? <> '' AND body ->> '$.address' = ?`, // + has it found by its address
		b.ID.Bench,
		b.ID.Number,
		b.Address,
		b.Address,
	); err != nil {
		return err
	}
	_, err = c.tx.ExecContext(
		ctx,
		`INSERT OR REPLACE INTO bay (bench, number, connection, model, serial, body) VALUES (?, ?, ?, ?, ?, ?)`,
		b.ID.Bench,
		b.ID.Number,
		b.Connection,
		b.Key.Model,
		b.Key.Serial,
		body,
	)
	return err
}

// Bays serves a use case's Reader.
func (q queries) Bays(ctx context.Context) ([]protocol.Bay, error) {
	return bodies[protocol.Bay](ctx, q.q, `SELECT body FROM bay ORDER BY bench, COALESCE(NULLIF(body ->> '$.position', 0), 10000), number`)
}

// BaysAbout serves a use case's Reader.
func (q queries) BaysAbout(ctx context.Context, id drive.Bay, key drive.Key) ([]protocol.Bay, error) {
	return bodies[protocol.Bay](
		ctx, q.q, `SELECT body FROM bay WHERE bench = ? AND number = ?
		UNION SELECT body FROM bay WHERE serial = ? AND model = ? AND serial <> ''`,
		id.Bench, id.Number, key.Serial, key.Model,
	)
}

// AddEvent serves a use case's Tx. Only the newest facts are kept: they tell listeners what to look at, not what was.
func (c Tx) AddEvent(ctx context.Context, e *shop.Event) error {
	res, err := c.tx.ExecContext(ctx, `INSERT INTO event (body) VALUES ('{}')`)
	if err != nil {
		return err
	}
	if e.Seq, err = res.LastInsertId(); err != nil {
		return err
	}
	body, err := encode(e)
	if err != nil {
		return err
	}
	if _, err = c.tx.ExecContext(ctx, `UPDATE event SET body = ? WHERE seq = ?`, body, e.Seq); err != nil {
		return err
	}
	if e.Seq%1000 == 0 {
		_, err = c.tx.ExecContext(ctx, `DELETE FROM event WHERE seq <= ?`, e.Seq-10_000)
	}
	return err
}

// Events serves a use case's Reader.
func (q queries) Events(ctx context.Context, after int64, limit int) ([]shop.Event, error) {
	return bodies[shop.Event](ctx, q.q, `SELECT body FROM event WHERE seq > ? ORDER BY seq LIMIT ?`, after, limit)
}

// LastEvent serves a use case's Reader.
func (q queries) LastEvent(ctx context.Context) (seq int64, err error) {
	err = sqlx.GetContext(ctx, q.q, &seq, `SELECT COALESCE(MAX(seq), 0) FROM event`)
	return seq, err
}
