package store

import (
	"context"

	"github.com/jmoiron/sqlx"

	"hylostat.example/internal/core/drive"
)

// CountGrades counts drives by the grade they go by.
func (q queries) CountGrades(ctx context.Context) (map[string]int, error) {
	all, err := q.counts(ctx, `SELECT coalesce(json_extract(signed, '$.grade'), grade) AS label, count(*) AS n FROM drive_now GROUP BY 1`)
	out := map[string]int{}
	for _, g := range []drive.Grade{drive.Undecided, drive.Healthy, drive.Degrading, drive.Replace} {
		out[g.String()] = 0
	}
	for label, n := range all {
		g, wrong := drive.ParseGrade(label)
		if wrong != nil && len(label) == 1 {
			g = drive.Grade(label[0] - '0')
		}
		out[g.String()] += n
	}
	return out, err
}

// CountRuns counts the runs that are open, by their state.
func (q queries) CountRuns(ctx context.Context) (map[string]int, error) {
	return q.counts(ctx, `SELECT body ->> 'state' AS label, count(*) AS n FROM run WHERE done = 0 GROUP BY 1`)
}

// CountMessages counts what is to be told, and was, by how that stands.
func (q queries) CountMessages(ctx context.Context) (map[string]int, error) {
	all, err := q.counts(ctx, `SELECT state AS label, count(*) AS n FROM message GROUP BY 1`)
	for _, state := range []string{"waiting", "sent", "dropped", "failed"} {
		all[state] += 0
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
