package store

import (
	"context"
	"time"

	"github.com/jmoiron/sqlx"

	plans "hylostat.example/internal/core/watch"
	"hylostat.example/internal/shop/watch"
)

// WatchPlans serves a use case's Reader.
func (q queries) WatchPlans(ctx context.Context) (all []watch.Plan, err error) {
	var rows []struct {
		ID   int64  `db:"id"`
		Body string `db:"body"`
		By   string `db:"by"`
		At   int64  `db:"at"`
	}
	if err := sqlx.SelectContext(ctx, q.q, &rows, `SELECT id, body, by, at FROM watch_plan ORDER BY id`); err != nil {
		return nil, err
	}
	for _, r := range rows {
		p := watch.Plan{By: r.By, At: moment(r.At)}
		if err := decode(r.Body, &p.Plan); err != nil {
			return nil, err
		}
		p.ID = r.ID
		all = append(all, p)
	}
	return all, nil
}

// SaveWatchPlan serves a use case's Tx.
func (c Tx) SaveWatchPlan(ctx context.Context, p *watch.Plan) error {
	body, err := encode(p.Plan)
	if err != nil {
		return err
	}
	if p.ID != 0 {
		_, err = c.tx.ExecContext(ctx, `UPDATE watch_plan SET body = ?, by = ?, at = ? WHERE id = ?`, body, p.By, millis(p.At), p.ID)
		return err
	}
	res, err := c.tx.ExecContext(ctx, `INSERT INTO watch_plan (body, by, at) VALUES (?, ?, ?)`, body, p.By, millis(p.At))
	if err != nil {
		return err
	}
	p.ID, err = res.LastInsertId()
	return err
}

// DropWatchPlan serves a use case's Tx.
func (c Tx) DropWatchPlan(ctx context.Context, id int64) error {
	_, err := c.tx.ExecContext(ctx, `DELETE FROM watch_plan WHERE id = ?`, id)
	return err
}

// Watched serves a use case's Reader.
func (q queries) Watched(ctx context.Context) (all []watch.Row, err error) {
	var rows []struct {
		Drive  int64 `db:"drive"`
		Plan   int64 `db:"plan"`
		Since  int64 `db:"since"`
		Asleep bool  `db:"asleep"`
		Told   int64 `db:"told"`
	}
	if err := sqlx.SelectContext(ctx, q.q, &rows, `SELECT drive, plan, since, asleep, told FROM watched ORDER BY drive`); err != nil {
		return nil, err
	}
	var begun []struct {
		Drive int64 `db:"drive"`
		Task  uint8 `db:"task"`
		Slot  int64 `db:"slot"`
	}
	if err := sqlx.SelectContext(ctx, q.q, &begun, `SELECT drive, task, slot FROM watch_begun`); err != nil {
		return nil, err
	}
	slots := map[int64]map[plans.Task]time.Time{}
	for _, b := range begun {
		if slots[b.Drive] == nil {
			slots[b.Drive] = map[plans.Task]time.Time{}
		}
		if int(b.Task) < len(plans.Tasks()) { // else it is of a later version
			slots[b.Drive][plans.Task(b.Task)] = moment(b.Slot)
		}
	}
	for _, r := range rows {
		row := watch.Row{Drive: r.Drive, Plan: r.Plan, Since: moment(r.Since), Asleep: r.Asleep, Begun: slots[r.Drive]}
		if r.Told != 0 {
			row.Told = moment(r.Told)
		}
		all = append(all, row)
	}
	return all, nil
}

// SaveWatched serves a use case's Tx.
func (c Tx) SaveWatched(ctx context.Context, r watch.Row) error {
	_, err := c.tx.ExecContext(
		ctx, `INSERT OR REPLACE INTO watched (drive, plan, since, asleep, told) VALUES (?, ?, ?, ?, ?)`,
		r.Drive, r.Plan, millis(r.Since), r.Asleep, millisOrNever(r.Told),
	)
	return err
}

// DropWatched serves a use case's Tx.
func (c Tx) DropWatched(ctx context.Context, drive int64) error {
	for _, from := range []string{`DELETE FROM watch_begun WHERE drive = ?`, `DELETE FROM watched WHERE drive = ?`} {
		if _, err := c.tx.ExecContext(ctx, from, drive); err != nil {
			return err
		}
	}
	return nil
}

// SaveBegun serves a use case's Tx.
func (c Tx) SaveBegun(ctx context.Context, drive int64, t plans.Task, slot time.Time) error {
	_, err := c.tx.ExecContext(
		ctx, `INSERT OR REPLACE INTO watch_begun (drive, task, slot) VALUES (?, ?, ?)`, drive, uint8(t), millis(slot),
	)
	return err
}

// Awaited serves a use case's Reader.
func (q queries) Awaited(ctx context.Context, run int64) (by string, err error) {
	err = sqlx.GetContext(ctx, q.q, &by, `SELECT coalesce(max(by), '') FROM awaited WHERE run = ?`, run)
	return by, err
}

// SaveAwaited serves a use case's Tx.
func (c Tx) SaveAwaited(ctx context.Context, run int64, by string) (err error) {
	if by == "" {
		_, err = c.tx.ExecContext(ctx, `DELETE FROM awaited WHERE run = ?`, run)
	} else {
		_, err = c.tx.ExecContext(ctx, `INSERT OR REPLACE INTO awaited (run, by) VALUES (?, ?)`, run, by)
	}
	return err
}
