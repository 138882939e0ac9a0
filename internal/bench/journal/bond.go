package journal

import (
	"context"
	"fmt"

	"github.com/jmoiron/sqlx"

	"hylostat.example/internal/protocol"
	"hylostat.example/internal/sqlite"
)

// next is the sequence the next report gets; the outbox never uses one twice.
const next = `COALESCE((SELECT seq FROM sqlite_sequence WHERE name = 'outbox'), 0) + 1`

// Bond tells where the bench belongs, and how far its reports and its runs are.
func (j *Journal) Bond(ctx context.Context) (protocol.Bond, error) { return bondOf(ctx, j.db.Read) }

func bondOf(ctx context.Context, db sqlx.QueryerContext) (b protocol.Bond, err error) {
	var row struct {
		Bench        string `db:"bench"`
		Shop         string `db:"shop"`
		Next         int64  `db:"next"`
		Acknowledged int64  `db:"acknowledged"`
		Forgotten    int64  `db:"forgotten"`
		Run          int64  `db:"run"`
	}
	err = sqlx.GetContext(
		ctx,
		db,
		&row,
		`SELECT bench, shop, `+next+` AS next,
		  COALESCE((SELECT MIN(seq) FROM outbox WHERE acknowledged IS NULL), `+next+`) - 1 AS acknowledged,
		  COALESCE((SELECT MIN(seq) FROM outbox), `+next+`) - 1 AS forgotten,
		  COALESCE((SELECT MAX(id) FROM run), 0) AS run FROM bond`,
	)
	return protocol.Bond(row), err
}

// Look tells the bond of a journal that may be in use, and changes nothing.
func Look(ctx context.Context, path string) (b protocol.Bond, err error) {
	db, end, err := sqlite.Reader(path)
	if err != nil {
		return b, err
	}
	defer end()
	if b, err = bondOf(ctx, db); err != nil {
		return b, fmt.Errorf("%s is no journal of a bench, or of an early version: start the program with it once (%w)", path, err)
	}
	return b, nil
}

// Bind keeps the shop the bench belongs to. Reports that are not acknowledged get sequences after that one, and so do all to come; those
// that are acknowledged are forgotten, since they have meant another shop, or others of its reports.
func (j *Journal) Bind(ctx context.Context, shop string, after int64) error {
	return j.db.Write(ctx, func(tx *sqlite.Tx) error {
		if _, err := tx.ExecContext(ctx, `UPDATE bond SET shop = ?`, shop); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM outbox WHERE acknowledged IS NOT NULL`); err != nil {
			return err
		}
		var first, last int64
		if err := tx.QueryRowxContext(ctx, `SELECT COALESCE(MIN(seq), 0), `+next+` - 1 FROM outbox`).Scan(&first, &last); err != nil {
			return err
		}
		if first > 0 && first <= after { // moved beyond the last, so that none meets another
			if _, err := tx.ExecContext(ctx, `UPDATE outbox SET seq = seq + ?`, max(after, last)-first+1); err != nil {
				return err
			}
			last += max(after, last) - first + 1
		}
		if last = max(last, after); last == 0 {
			return nil
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM sqlite_sequence WHERE name = 'outbox'`); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `INSERT INTO sqlite_sequence (name, seq) VALUES ('outbox', ?)`, last)
		return err
	})
}
