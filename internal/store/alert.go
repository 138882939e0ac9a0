package store

import (
	"context"
	"strings"

	"github.com/jmoiron/sqlx"

	"hylostat.example/internal/core/alert"
	"hylostat.example/internal/shop/watch"
)

// Alerts serves a use case's Reader.
func (q queries) Alerts(ctx context.Context, s watch.AlertQuery) ([]alert.Alert, error) {
	where, args := []string{"1"}, []any(nil)
	if s.Drive != 0 {
		where, args = append(where, "drive = ?"), append(args, s.Drive)
	}
	switch s.State {
	case "":
	case watch.Unsettled:
		where, args = append(where, "state IN (?, ?)"), append(args, alert.Open, alert.Taken)
	default:
		where, args = append(where, "state = ?"), append(args, s.State)
	}
	args = append(args, s.Limit)
	return q.alerts(ctx, strings.Join(where, " AND ")+` ORDER BY moved DESC, id DESC LIMIT ?`, args...)
}

// AlertByID serves a use case's Reader.
func (q queries) AlertByID(ctx context.Context, id int64) (alert.Alert, error) {
	all, err := q.alerts(ctx, `id = ?`, id)
	if err != nil || len(all) == 0 {
		return alert.Alert{}, err
	}
	return all[0], nil
}

// AlertOf serves a use case's Reader.
func (q queries) AlertOf(ctx context.Context, t alert.Thing) (alert.Alert, error) {
	all, err := q.alerts(ctx, `kind = ? AND drive = ? AND bench = ? AND name = ?`, t.Kind, t.Drive, t.Bench, t.Name)
	if err != nil || len(all) == 0 {
		return alert.Alert{}, err
	}
	return all[0], nil
}

func (q queries) alerts(ctx context.Context, which string, args ...any) ([]alert.Alert, error) {
	var rows []struct {
		ID   int64  `db:"id"`
		Body string `db:"body"`
	}
	if err := sqlx.SelectContext(ctx, q.q, &rows, `SELECT id, body FROM alert WHERE `+which, args...); err != nil {
		return nil, err
	}
	all := make([]alert.Alert, len(rows))
	for i, r := range rows {
		if err := decode(r.Body, &all[i]); err != nil {
			return nil, err
		}
		all[i].ID = r.ID
	}
	return all, nil
}

// Badges serves a use case's Reader.
func (q queries) Badges(ctx context.Context, drives []int64) (map[int64]watch.Badge, error) {
	all := map[int64]watch.Badge{}
	if len(drives) == 0 {
		return all, nil
	}
	query, args, err := sqlx.In(`SELECT drive, count(*) AS alerts, 0 AS known FROM alert WHERE drive IN (?) AND state IN (?) GROUP BY drive
		UNION ALL SELECT drive, 0, count(*) FROM accepted WHERE drive IN (?) GROUP BY drive`,
		drives, []alert.State{alert.Open, alert.Taken}, drives)
	if err != nil {
		return nil, err
	}
	var rows []struct {
		Drive  int64 `db:"drive"`
		Alerts int   `db:"alerts"`
		Known  int   `db:"known"`
	}
	if err := sqlx.SelectContext(ctx, q.q, &rows, query, args...); err != nil {
		return nil, err
	}
	for _, r := range rows {
		b := all[r.Drive]
		all[r.Drive] = watch.Badge{Alerts: b.Alerts + r.Alerts, Known: b.Known + r.Known}
	}
	return all, nil
}

// SaveAlert serves a use case's Tx.
func (c Tx) SaveAlert(ctx context.Context, a *alert.Alert) error {
	body, err := encode(a)
	if err != nil {
		return err
	}
	if a.ID != 0 {
		_, err = c.tx.ExecContext(ctx, `UPDATE alert SET state = ?, moved = ?, body = ? WHERE id = ?`, a.State, millis(a.Moved), body, a.ID)
		return err
	}
	res, err := c.tx.ExecContext(
		ctx, `INSERT INTO alert (kind, drive, bench, name, state, moved, body) VALUES (?, ?, ?, ?, ?, ?, ?)`,
		a.Kind, a.Drive, a.Bench, a.Name, a.State, millis(a.Moved), body,
	)
	if err != nil {
		return err
	}
	a.ID, err = res.LastInsertId()
	return err
}

// AcceptedLevels serves a use case's Reader.
func (q queries) AcceptedLevels(ctx context.Context, driveID int64) ([]alert.Accepted, error) {
	return bodies[alert.Accepted](ctx, q.q, `SELECT body FROM accepted WHERE ? IN (0, drive) ORDER BY drive, signal`, driveID)
}

// SaveAccepted serves a use case's Tx.
func (c Tx) SaveAccepted(ctx context.Context, a alert.Accepted) error {
	body, err := encode(a)
	if err != nil {
		return err
	}
	_, err = c.tx.ExecContext(ctx, `INSERT OR REPLACE INTO accepted (drive, signal, body) VALUES (?, ?, ?)`, a.Drive, a.Signal, body)
	return err
}

// DropAccepted serves a use case's Tx.
func (c Tx) DropAccepted(ctx context.Context, driveID int64, signal string) error {
	_, err := c.tx.ExecContext(ctx, `DELETE FROM accepted WHERE drive = ? AND signal = ?`, driveID, signal)
	return err
}
