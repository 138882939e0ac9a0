package store

import (
	"context"
	"database/sql"
	"errors"
	"strings"

	"github.com/jmoiron/sqlx"

	"hylostat.example/internal/shop"
)

const selectAudit = `SELECT seq, at, by, kind, serial, text, hash FROM audit`

type auditRow struct {
	Seq    int64  `db:"seq"`
	At     int64  `db:"at"`
	By     string `db:"by"`
	Kind   string `db:"kind"`
	Serial string `db:"serial"`
	Text   string `db:"text"`
	Hash   []byte `db:"hash"`
}

func (r auditRow) audited() shop.Audited {
	return shop.Audited{Seq: r.Seq, At: moment(r.At), By: r.By, Kind: shop.EventKind(r.Kind), Serial: r.Serial, Text: r.Text, Hash: r.Hash}
}

// AddAudit implements shop.Tx: the row takes its place after the last one.
func (c change) AddAudit(ctx context.Context, a shop.Audited) error {
	var last auditRow
	err := c.tx.GetContext(ctx, &last, selectAudit+` ORDER BY seq DESC LIMIT 1`)
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return err
	}
	a.Seq = last.Seq + 1
	_, err = c.tx.ExecContext(ctx, `INSERT INTO audit (seq, at, by, kind, serial, text, hash) VALUES (?, ?, ?, ?, ?, ?, ?)`,
		a.Seq, millis(a.At), a.By, a.Kind, a.Serial, a.Text, a.Chain(last.Hash))
	return err
}

// Audit implements shop.Reader.
func (q queries) Audit(ctx context.Context, s shop.AuditQuery) ([]shop.Audited, error) {
	where, args := []string{"1"}, []any(nil)
	if s.Serial != "" {
		where, args = append(where, "serial = ? AND serial <> ''"), append(args, s.Serial)
	}
	if s.By != "" {
		where, args = append(where, "by = ?"), append(args, s.By)
	}
	if s.Before > 0 {
		where, args = append(where, "seq < ?"), append(args, s.Before)
	}
	if s.Limit <= 0 || s.Limit > 1000 {
		s.Limit = 100
	}
	var rows []auditRow
	err := sqlx.SelectContext(ctx, q.q, &rows, selectAudit+` WHERE `+strings.Join(where, " AND ")+` ORDER BY seq DESC LIMIT ?`, append(args, s.Limit)...)
	all := make([]shop.Audited, len(rows))
	for i, r := range rows {
		all[i] = r.audited()
	}
	return all, err
}

// WalkAudit implements shop.Reader: every row, oldest first, until f fails.
func (q queries) WalkAudit(ctx context.Context, f func(shop.Audited) error) error {
	rows, err := q.q.QueryxContext(ctx, selectAudit+` ORDER BY seq`)
	if err != nil {
		return err
	}
	defer func() { _ = rows.Close() }()
	for rows.Next() {
		var r auditRow
		if err := rows.StructScan(&r); err != nil {
			return err
		}
		if err := f(r.audited()); err != nil {
			return err
		}
	}
	return rows.Err()
}
