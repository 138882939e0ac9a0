package store

import (
	"context"
	"database/sql"
	"errors"

	"github.com/jmoiron/sqlx"

	"hylostat.example/internal/core/check"
)

// Plan serves a use case's Reader.
func (q queries) Plan(ctx context.Context, bench string) (p check.Plan, err error) {
	var body string
	err = sqlx.GetContext(ctx, q.q, &body, `SELECT body FROM plan WHERE bench = ?`, bench)
	if errors.Is(err, sql.ErrNoRows) {
		return p, nil
	}
	if err != nil {
		return p, err
	}
	return p, decode(body, &p)
}

// SavePlan serves a use case's Tx.
func (c Tx) SavePlan(ctx context.Context, bench string, p check.Plan) error {
	body, err := encode(p)
	if err != nil {
		return err
	}
	_, err = c.tx.ExecContext(ctx, `INSERT OR REPLACE INTO plan (bench, body) VALUES (?, ?)`, bench, body)
	return err
}
