package store

import (
	"context"
	"database/sql"
	"fmt"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"

	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/shop"
)

// SaveIntake serves a use case's Tx.
func (c Tx) SaveIntake(ctx context.Context, i *shop.Intake) error {
	owner := sql.NullInt64{Int64: i.Drive, Valid: i.Drive != 0}
	if i.ID == 0 {
		res, err := c.tx.ExecContext(
			ctx,
			`INSERT INTO intake (drive, bench, bay, at, body) VALUES (?, ?, ?, ?, '{}')`,
			owner,
			i.Bay.Bench,
			i.Bay.Number,
			millis(i.At),
		)
		if err != nil {
			return err
		}
		if i.ID, err = res.LastInsertId(); err != nil {
			return err
		}
	}
	body, err := encode(i)
	if err != nil {
		return err
	}
	_, err = c.tx.ExecContext(ctx, `UPDATE intake SET drive = ?, bench = ?, bay = ?, lot = ?, open = ?, body = ? WHERE id = ?`,
		owner, i.Bay.Bench, i.Bay.Number, sql.NullInt64{Int64: i.Lot, Valid: i.Lot != 0}, i.Handover == nil, body, i.ID)
	if err != nil || i.Drive == 0 {
		return err
	}
	return c.index(ctx, i.Drive)
}

// Intakes serves a use case's Reader: the open one first, which is not the newest when its drive named itself late; then newest first.
func (q queries) Intakes(ctx context.Context, driveID int64) ([]shop.Intake, error) {
	return bodies[shop.Intake](ctx, q.q, `SELECT body FROM intake WHERE drive = ? ORDER BY open DESC, id DESC`, driveID)
}

// IntakesOf serves a use case's Reader.
func (q queries) IntakesOf(ctx context.Context, s shop.IntakeQuery) ([]shop.Intake, error) {
	where, args := []string{"1"}, []any(nil)
	if s.Lot != 0 {
		where, args = append(where, "lot = ?"), append(args, s.Lot)
	}
	if s.Ticket != "" {
		where, args = append(where, "body ->> '$.Ticket' = ?"), append(args, s.Ticket)
	}
	if s.Customer != "" {
		where, args = append(where, "body ->> '$.Customer' = ?"), append(args, s.Customer)
	}
	if s.Open {
		where = append(where, "open = 1")
	}
	if s.Before > 0 {
		where, args = append(where, "id < ?"), append(args, s.Before)
	}
	if s.Limit <= 0 {
		s.Limit = 1000
	}
	return bodies[shop.Intake](
		ctx,
		q.q,
		`SELECT body FROM intake WHERE `+strings.Join(where, " AND ")+` ORDER BY id DESC LIMIT ?`,
		append(args, s.Limit)...)
}

// IntakeByID serves a use case's Reader.
func (q queries) IntakeByID(ctx context.Context, id int64) (shop.Intake, error) {
	return one[shop.Intake](
		ctx,
		q,
		&shop.NotFound{What: fmt.Sprintf("there is no intake %d", id), Advice: "List the intakes."},
		`SELECT body FROM intake WHERE id = ?`,
		id,
	)
}

// WaitingIn serves a use case's Reader: the newest open intake that waits in a bay for a drive to name itself.
func (q queries) WaitingIn(ctx context.Context, bay drive.Bay) (shop.Intake, error) {
	return one[shop.Intake](
		ctx,
		q,
		&shop.NotFound{What: "no intake for " + bay.Words(), Advice: "Take the drive in."},
		`SELECT body FROM intake WHERE bench = ? AND bay = ? AND open = 1 AND drive IS NULL ORDER BY id DESC LIMIT 1`,
		bay.Bench,
		bay.Number,
	)
}

// SaveLot serves a use case's Tx.
func (c Tx) SaveLot(ctx context.Context, l *shop.Lot) error {
	if l.ID == 0 {
		res, err := c.tx.ExecContext(ctx, `INSERT INTO lot (open, body) VALUES (0, '{}')`)
		if err != nil {
			return err
		}
		if l.ID, err = res.LastInsertId(); err != nil {
			return err
		}
	}
	body, err := encode(l)
	if err != nil {
		return err
	}
	_, err = c.tx.ExecContext(ctx, `UPDATE lot SET open = ?, body = ? WHERE id = ?`, l.Open(), body, l.ID)
	return err
}

// Lots serves a use case's Reader.
func (q queries) Lots(ctx context.Context) ([]shop.Lot, error) {
	return bodies[shop.Lot](ctx, q.q, `SELECT body FROM lot ORDER BY id DESC LIMIT 1000`)
}

// Lot serves a use case's Reader.
func (q queries) Lot(ctx context.Context, id int64) (shop.Lot, error) {
	return one[shop.Lot](
		ctx,
		q,
		&shop.NotFound{What: fmt.Sprintf("there is no lot %d", id), Advice: "List the lots."},
		`SELECT body FROM lot WHERE id = ?`,
		id,
	)
}

// LotOpen serves a use case's Reader: the lot that drives are taken in on as they come.
func (q queries) LotOpen(ctx context.Context) (shop.Lot, error) {
	return one[shop.Lot](ctx, q, &shop.NotFound{What: "no lot is open", Advice: "Open one."}, `SELECT body FROM lot WHERE open = 1`)
}

// one selects one JSON body; none is the error when there is none.
func one[T any](ctx context.Context, q queries, none error, query string, args ...any) (found T, err error) {
	all, err := bodies[T](ctx, q.q, query, args...)
	if err == nil && len(all) == 0 {
		err = none
	}
	if err != nil {
		return found, err
	}
	return all[0], nil
}

// SaveAnswered serves a use case's Tx.
func (c Tx) SaveAnswered(ctx context.Context, bay drive.Bay, at time.Time) error {
	_, err := c.tx.ExecContext(ctx, `INSERT OR REPLACE INTO answered (bench, bay, at) VALUES (?, ?, ?)`, bay.Bench, bay.Number, millis(at))
	return err
}

// AnsweredSince serves a use case's Reader.
func (q queries) AnsweredSince(ctx context.Context, bay drive.Bay, at time.Time) (answered bool, err error) {
	err = sqlx.GetContext(
		ctx,
		q.q,
		&answered,
		`SELECT EXISTS (SELECT 1 FROM answered WHERE bench = ? AND bay = ? AND at > ?)`,
		bay.Bench,
		bay.Number,
		millis(at),
	)
	return answered, err
}
