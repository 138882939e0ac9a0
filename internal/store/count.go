package store

import (
	"context"
	"database/sql"

	"github.com/jmoiron/sqlx"

	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/shop/tell"
)

// CountGrades counts drives by the grade they go by: the one signed, where somebody signed.
func (q queries) CountGrades(ctx context.Context) (map[string]int, error) {
	var rows []struct {
		Grade  drive.Grade    `db:"grade"`
		Signed sql.NullString `db:"signed"`
		N      int            `db:"n"`
	}
	err := sqlx.SelectContext(
		ctx, q.q, &rows, `SELECT grade, json_extract(signed, '$.grade') AS signed, count(*) AS n FROM drive_now GROUP BY 1, 2`,
	)
	all := map[string]int{}
	for _, g := range []drive.Grade{drive.Undecided, drive.Healthy, drive.Degrading, drive.Replace} {
		all[g.String()] = 0
	}
	for _, r := range rows {
		label := r.Grade.String()
		if r.Signed.Valid {
			label = r.Signed.String
		}
		all[label] += r.N
	}
	return all, err
}

// CountRuns counts the runs that are open, by their state.
func (q queries) CountRuns(ctx context.Context) (map[string]int, error) {
	return q.counts(ctx, `SELECT body ->> 'state' AS label, count(*) AS n FROM run WHERE done = 0 GROUP BY 1`)
}

// CountMessages counts what is to be told, and was, by how that stands.
func (q queries) CountMessages(ctx context.Context) (map[string]int, error) {
	all, err := q.counts(ctx, `SELECT state AS label, count(*) AS n FROM message GROUP BY 1`)
	for _, state := range []tell.State{tell.Waiting, tell.Sent, tell.Dropped, tell.Failed} {
		all[string(state)] += 0
	}
	return all, err
}

func (q queries) counts(ctx context.Context, query string) (map[string]int, error) {
	var rows []struct {
		Label string `db:"label"`
		N     int    `db:"n"`
	}
	all := map[string]int{}
	if err := sqlx.SelectContext(ctx, q.q, &rows, query); err != nil {
		return all, err
	}
	for _, r := range rows {
		all[r.Label] = r.N
	}
	return all, nil
}
