package journal

import (
	"context"
	"fmt"

	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/protocol"
	"hylostat.example/internal/sqlite"
)

// BayRow is what is kept of a bay.
type BayRow struct {
	Number   int           `db:"number"`
	Address  drive.Address `db:"address"`
	Said     bool          `db:"said"`
	Attempts int           `db:"attempts"`
	Label    string        `db:"label"`
	Position int           `db:"position"`
	Hidden   bool          `db:"hidden"`
}

const bayColumns = `number, address, said, attempts, label, position, hidden`

// Bays lists the bays by number.
func (j *Journal) Bays(ctx context.Context) (all []BayRow, err error) {
	err = j.db.Read.SelectContext(ctx, &all, `SELECT `+bayColumns+` FROM bay ORDER BY number`)
	return all, err
}

// AddBay gives a new address the next number.
func (j *Journal) AddBay(ctx context.Context, a drive.Address) (b BayRow, err error) {
	err = j.db.Write(ctx, func(tx *sqlite.Tx) error {
		return tx.GetContext(
			ctx,
			&b,
			`INSERT INTO bay (number, address) SELECT COALESCE(MAX(number), 0) + 1, ? FROM bay RETURNING `+bayColumns,
			a,
		)
	})
	return b, err
}

// SetBay stores what people make of a bay. The bay that had the number gets the old one.
func (j *Journal) SetBay(ctx context.Context, number int, s protocol.BaySetting) error {
	return j.db.Write(ctx, func(tx *sqlite.Tx) error {
		if s.Number != number { // numbers are unique: the other one steps aside first
			for _, step := range [][2]int{{s.Number, 0}, {number, s.Number}, {0, number}} {
				if _, err := tx.ExecContext(ctx, `UPDATE bay SET number = ? WHERE number = ?`, step[1], step[0]); err != nil {
					return err
				}
			}
		}
		_, err := tx.ExecContext(ctx, `UPDATE bay SET label = ?, hidden = ? WHERE number = ?`, s.Label, s.Hidden, s.Number)
		return err
	})
}

// Arrange stores in which order bays are shown. Bays that are not named follow, by number.
func (j *Journal) Arrange(ctx context.Context, numbers []int) error {
	return j.db.Write(ctx, func(tx *sqlite.Tx) error {
		if _, err := tx.ExecContext(ctx, `UPDATE bay SET position = 0`); err != nil {
			return err
		}
		for i, n := range numbers {
			if _, err := tx.ExecContext(ctx, `UPDATE bay SET position = ? WHERE number = ?`, i+1, n); err != nil {
				return fmt.Errorf("bay %d: %w", n, err)
			}
		}
		return nil
	})
}

// SaidBay stores whether a person says there is a drive, and the attempts that found nothing.
func (j *Journal) SaidBay(ctx context.Context, number int, said bool, attempts int) error {
	return j.db.Write(ctx, func(tx *sqlite.Tx) error {
		_, err := tx.ExecContext(ctx, `UPDATE bay SET said = ?, attempts = ? WHERE number = ?`, said, attempts, number)
		return err
	})
}
