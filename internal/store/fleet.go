package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"

	"github.com/jmoiron/sqlx"

	"hylostat.example/internal/shop/fleet"
	"hylostat.example/internal/sqlite"
)

var _ fleet.Register = (*Store)(nil)

// ShopID implements fleet.Register.
func (s *Store) ShopID(ctx context.Context) (id string, err error) {
	err = sqlx.GetContext(ctx, s.q, &id, `SELECT id FROM shop`)
	return id, err
}

// Bench implements fleet.Register.
func (s *Store) Bench(ctx context.Context, name string) (k fleet.Known, ok bool, err error) {
	var row struct {
		Name  string `db:"name"`
		ID    string `db:"id"`
		Taken int64  `db:"taken"`
	}
	err = sqlx.GetContext(ctx, s.q, &row, `SELECT name, id, taken FROM bench WHERE name = ?`, name)
	if errors.Is(err, sql.ErrNoRows) {
		return k, false, nil
	}
	return fleet.Known(row), err == nil, err
}

// HadBays implements fleet.Register.
func (s *Store) HadBays(ctx context.Context, name string) (had bool, err error) {
	err = sqlx.GetContext(ctx, s.q, &had, `SELECT EXISTS (SELECT 1 FROM bay WHERE bench = ?)`, name)
	return had, err
}

// JoinBench implements fleet.Register.
func (s *Store) JoinBench(ctx context.Context, k fleet.Known, run int64) error {
	return s.db.Write(ctx, func(tx *sqlite.Tx) error {
		if _, err := tx.ExecContext(
			ctx,
			`INSERT OR REPLACE INTO bench (name, id, taken) VALUES (?, ?, ?)`,
			k.Name,
			k.ID,
			k.Taken,
		); err != nil {
			return err
		}
		var last int64
		if err := tx.GetContext(
			ctx,
			&last,
			`SELECT COALESCE((SELECT seq FROM sqlite_sequence WHERE name = 'run_number'), 0)`,
		); err != nil ||
			last >= run {
			return err
		}
		if _, err := tx.ExecContext(ctx, `INSERT INTO run_number (id) VALUES (?)`, run); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `DELETE FROM run_number`)
		return err
	})
}

// BroughtBack implements fleet.Register.
func (s *Store) BroughtBack(ctx context.Context) (back bool, err error) {
	err = sqlx.GetContext(ctx, s.q, &back, `SELECT brought_back FROM shop`)
	return back, err
}

// SetBroughtBack implements fleet.Register.
func (s *Store) SetBroughtBack(ctx context.Context, back bool) error {
	return s.db.Write(ctx, func(tx *sqlite.Tx) error {
		_, err := tx.ExecContext(ctx, `UPDATE shop SET brought_back = ?`, back)
		return err
	})
}

// Taken serves a use case's Tx. Reports come in their order, so that the newest one's sequence tells of all before it.
func (c Tx) Taken(ctx context.Context, bench string, seq int64) (bool, error) {
	var taken int64
	if err := c.tx.GetContext(ctx, &taken, `SELECT taken FROM bench WHERE name = ?`, bench); err != nil {
		return false, fmt.Errorf("a report of bench %q, which has not joined: %w", bench, err)
	}
	if seq <= taken {
		return true, nil
	}
	_, err := c.tx.ExecContext(ctx, `UPDATE bench SET taken = ? WHERE name = ?`, seq, bench)
	return false, err
}
