package journal

import (
	"context"
	"time"

	"hylostat.example/internal/sqlite"
)

// Consent is the shop's word that the release of a rework still holds, and how long that may be relied on.
type Consent struct{ Granted, Until time.Time }

// SaveConsent keeps a consent in place of the one before.
func (j *Journal) SaveConsent(ctx context.Context, run int64, c Consent) error {
	return j.db.Write(ctx, func(tx *sqlite.Tx) error {
		_, err := tx.ExecContext(
			ctx,
			`INSERT INTO consent (run, granted, until) VALUES (?, ?, ?)
			 ON CONFLICT (run) DO UPDATE SET granted = excluded.granted, until = excluded.until`,
			run, c.Granted.UnixMilli(), c.Until.UnixMilli(),
		)
		return err
	})
}

// Consents gives all consents, by run.
func (j *Journal) Consents(ctx context.Context) (map[int64]Consent, error) {
	var rows []struct {
		Run     int64 `db:"run"`
		Granted int64 `db:"granted"`
		Until   int64 `db:"until"`
	}
	if err := j.db.Read.SelectContext(ctx, &rows, `SELECT run, granted, until FROM consent`); err != nil {
		return nil, err
	}
	all := make(map[int64]Consent, len(rows))
	for _, r := range rows {
		all[r.Run] = Consent{time.UnixMilli(r.Granted), time.UnixMilli(r.Until)}
	}
	return all, nil
}
