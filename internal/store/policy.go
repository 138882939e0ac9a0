package store

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"github.com/jmoiron/sqlx"

	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/risk"
	"hylostat.example/internal/shop"
)

// SavePolicy serves a use case's Tx. A version that is there already stays as it is.
func (c Tx) SavePolicy(ctx context.Context, p shop.Published) error {
	_, err := c.tx.ExecContext(
		ctx,
		`INSERT OR IGNORE INTO policy (version, name, text, published, by, note) VALUES (?, ?, ?, ?, ?, ?)`,
		p.Version,
		p.Name,
		p.Text,
		millis(p.At),
		p.By,
		p.Note,
	)
	return err
}

// Policies serves a use case's Reader.
func (q queries) Policies(ctx context.Context) ([]shop.Published, error) {
	var rows []struct {
		Version   int    `db:"version"`
		Name      string `db:"name"`
		Text      []byte `db:"text"`
		Published int64  `db:"published"`
		By        string `db:"by"`
		Note      string `db:"note"`
	}
	if err := sqlx.SelectContext(
		ctx,
		q.q,
		&rows,
		`SELECT version, name, text, published, by, note FROM policy ORDER BY version DESC`,
	); err != nil {
		return nil, err
	}
	all := make([]shop.Published, len(rows))
	for i, r := range rows {
		all[i] = shop.Published{Version: r.Version, Name: r.Name, Text: r.Text, At: moment(r.Published), By: r.By, Note: r.Note}
	}
	return all, nil
}

// Outdated serves a use case's Reader.
func (q queries) Outdated(ctx context.Context, version int, after int64, limit int) ([]shop.Drive, error) {
	return q.drives(ctx, ` WHERE d.id > ? AND n.policy <> ? AND n.readings > 0 ORDER BY d.id LIMIT ?`, after, version, limit)
}

// Standing serves a use case's Tx.
func (c Tx) Standing(ctx context.Context, some []shop.Drive) (map[int64]bool, error) {
	if len(some) == 0 {
		return nil, nil
	}
	read := make(map[int64]*shop.Drive, len(some))
	first, last := some[0].ID, some[0].ID
	for i := range some {
		read[some[i].ID] = &some[i]
		first, last = min(first, some[i].ID), max(last, some[i].ID)
	}
	rows, err := c.tx.QueryContext(ctx, `
		SELECT d.id, d.duty, n.readings, n.last_at, n.verdict_seq, n.signed IS NOT NULL
		FROM drive d JOIN drive_now n ON n.drive = d.id WHERE d.id BETWEEN ? AND ?`, first, last)
	if err != nil {
		return nil, err
	}
	defer func() { _ = rows.Close() }()
	stands := make(map[int64]bool, len(some))
	for rows.Next() {
		var id, at int64
		var duty drive.Duty
		var readings, verdict int
		var signed bool
		if err := rows.Scan(&id, &duty, &readings, &at, &verdict, &signed); err != nil {
			return nil, err
		}
		if d := read[id]; d != nil {
			stands[id] = d.Duty == duty && d.Now.Readings == readings && millis(d.Now.LastAt) == at && d.Now.VerdictSeq == verdict &&
				(d.Now.Signed != nil) == signed
		}
	}
	return stands, rows.Err()
}

// SaveOutcome serves a use case's Tx.
func (c Tx) SaveOutcome(ctx context.Context, o shop.Outcome) error {
	body, err := encode(o)
	if err != nil {
		return err
	}
	_, err = c.tx.ExecContext(
		ctx,
		`INSERT OR REPLACE INTO outcome (drive, failed, at, body) VALUES (?, ?, ?, ?)`,
		o.Drive,
		o.Failed,
		millis(o.At),
		body,
	)
	return err
}

// SaveCalibration serves a use case's Tx.
func (c Tx) SaveCalibration(ctx context.Context, at time.Time, k risk.Calibration) error {
	body, err := encode(k)
	if err != nil {
		return err
	}
	_, err = c.tx.ExecContext(ctx, `INSERT OR REPLACE INTO calibration (at, body) VALUES (?, ?)`, millis(at), body)
	return err
}

// Calibration serves a use case's Reader.
func (q queries) Calibration(ctx context.Context) (risk.Calibration, error) {
	var k risk.Calibration
	var body string
	err := sqlx.GetContext(ctx, q.q, &body, `SELECT body FROM calibration ORDER BY at DESC LIMIT 1`)
	if errors.Is(err, sql.ErrNoRows) {
		return k, nil
	}
	if err != nil {
		return k, err
	}
	return k, decode(body, &k)
}

// Outcomes serves a use case's Reader.
func (q queries) Outcomes(ctx context.Context, driveID int64) ([]shop.Outcome, error) {
	var rows []struct {
		Drive int64  `db:"drive"`
		Body  string `db:"body"`
	}
	if err := sqlx.SelectContext(
		ctx,
		q.q,
		&rows,
		`SELECT drive, body FROM outcome WHERE ? IN (0, drive) ORDER BY drive`,
		driveID,
	); err != nil {
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
