package store

import (
	"context"

	"github.com/jmoiron/sqlx"

	"hylostat.example/internal/shop"
)

// SavePolicy implements shop.Tx. A version that is there already stays as it is.
func (c change) SavePolicy(ctx context.Context, p shop.Published) error {
	_, err := c.tx.ExecContext(ctx, `INSERT OR IGNORE INTO policy (version, name, text, published, by, note) VALUES (?, ?, ?, ?, ?, ?)`, p.Version, p.Name, p.Text, millis(p.At), p.By, p.Note)
	return err
}

// Policies implements shop.Reader.
func (q queries) Policies(ctx context.Context) ([]shop.Published, error) {
	var rows []struct {
		Version   int    `db:"version"`
		Name      string `db:"name"`
		Text      []byte `db:"text"`
		Published int64  `db:"published"`
		By        string `db:"by"`
		Note      string `db:"note"`
	}
	if err := sqlx.SelectContext(ctx, q.q, &rows, `SELECT version, name, text, published, by, note FROM policy ORDER BY version DESC`); err != nil {
		return nil, err
	}
	all := make([]shop.Published, len(rows))
	for i, r := range rows {
		all[i] = shop.Published{Version: r.Version, Name: r.Name, Text: r.Text, At: moment(r.Published), By: r.By, Note: r.Note}
	}
	return all, nil
}

// Outdated implements shop.Reader.
func (q queries) Outdated(ctx context.Context, version int, after int64, limit int) ([]shop.Drive, error) {
	return q.drives(ctx, ` WHERE d.id > ? AND n.policy <> ? AND n.readings > 0 ORDER BY d.id LIMIT ?`, after, version, limit)
}

// Stands implements shop.Tx.
func (c change) Stands(ctx context.Context, d shop.Drive) (stands bool, err error) {
	err = c.tx.GetContext(ctx, &stands, `
		SELECT EXISTS (SELECT 1 FROM drive d JOIN drive_now n ON n.drive = d.id
		WHERE d.id = ? AND d.duty = ? AND n.readings = ? AND n.last_at = ? AND n.verdict_seq = ? AND (n.signed IS NULL) = ?)`,
		d.ID, d.Duty, d.Now.Readings, millis(d.Now.LastAt), d.Now.VerdictSeq, d.Now.Signed == nil)
	return stands, err
}

// SaveOutcome implements shop.Tx.
func (c change) SaveOutcome(ctx context.Context, o shop.Outcome) error {
	body, err := encode(o)
	if err != nil {
		return err
	}
	_, err = c.tx.ExecContext(ctx, `INSERT OR REPLACE INTO outcome (drive, failed, at, body) VALUES (?, ?, ?, ?)`, o.Drive, o.Failed, millis(o.At), body)
	return err
}

// Outcomes implements shop.Reader.
func (q queries) Outcomes(ctx context.Context, driveID int64) ([]shop.Outcome, error) {
	var rows []struct {
		Drive int64  `db:"drive"`
		Body  string `db:"body"`
	}
	if err := sqlx.SelectContext(ctx, q.q, &rows, `SELECT drive, body FROM outcome WHERE ? IN (0, drive) ORDER BY drive`, driveID); err != nil {
		return nil, err
	}
	all := make([]shop.Outcome, len(rows))
	for i, r := range rows {
		if err := decode(r.Body, &all[i]); err != nil {
			return nil, err
		}
		all[i].Drive = r.Drive
	}
	return all, nil
}
