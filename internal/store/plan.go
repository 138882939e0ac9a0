package store

import (
	"context"
	"database/sql"
	"errors"

	"github.com/jmoiron/sqlx"

	"hylostat.example/internal/shop"
)

// Plan implements shop.Reader.
func (q queries) Plan(ctx context.Context) (p shop.Plan, err error) {
	var body string
	err = sqlx.GetContext(ctx, q.q, &body, `SELECT body FROM plan WHERE id = 1`)
	if errors.Is(err, sql.ErrNoRows) {
		return p, nil
	}
	if err != nil {
		return p, err
	}
	return p, decode(body, &p)
}

// SavePlan implements shop.Tx.
func (c change) SavePlan(ctx context.Context, p shop.Plan) error {
	body, err := encode(p)
	if err != nil {
		return err
	}
	_, err = c.tx.ExecContext(ctx, `INSERT OR REPLACE INTO plan (id, body) VALUES (1, ?)`, body)
	return err
}
