package store

import (
	"context"
	"database/sql"
	"errors"
	"strings"

	"github.com/jmoiron/sqlx"

	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/shop"
)

const selectAudit = `SELECT seq, at, by, role, via, kind, serial, text, edits, hash FROM audit`

type auditRow struct {
	Seq    int64  `db:"seq"`
	At     int64  `db:"at"`
	By     string `db:"by"`
	Role   string `db:"role"`
	Via    string `db:"via"`
	Kind   string `db:"kind"`
	Serial string `db:"serial"`
	Text   string `db:"text"`
	Edits  string `db:"edits"` // JSON; empty: none
	Hash   []byte `db:"hash"`
}

func (r auditRow) audited() (shop.Audited, error) {
	a := shop.Audited{
		Seq:    r.Seq,
		At:     moment(r.At),
		By:     r.By,
		Role:   r.Role,
		Via:    r.Via,
		Kind:   shop.EventKind(r.Kind),
		Serial: r.Serial,
		Said:   wording.FromColumn(r.Text),
		Hash:   r.Hash,
	}
	if r.Edits == "" {
		return a, nil
	}
	return a, decode(r.Edits, &a.Edits)
}

// AddAudit serves a use case's Tx: the row takes its place after the last one.
func (c Tx) AddAudit(ctx context.Context, a shop.Audited) error {
	var last auditRow
	err := c.tx.GetContext(ctx, &last, selectAudit+` ORDER BY seq DESC LIMIT 1`)
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return err
	}
	a.Seq = last.Seq + 1
	edits := ""
	if len(a.Edits) > 0 {
		if edits, err = encode(a.Edits); err != nil {
			return err
		}
	}
	_, err = c.tx.ExecContext(
		ctx,
		`INSERT INTO audit (seq, at, by, role, via, kind, serial, text, edits, hash) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
		a.Seq,
		millis(a.At),
		a.By,
		a.Role,
		a.Via,
		a.Kind,
		a.Serial,
		a.Said.Column(),
		edits,
		a.Chain(last.Hash),
	)
	return err
}

// Audit serves a use case's Reader.
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
	err := sqlx.SelectContext(
		ctx,
		q.q,
		&rows,
		selectAudit+` WHERE `+strings.Join(where, " AND ")+` ORDER BY seq DESC LIMIT ?`,
		append(args, s.Limit)...)
	all := make([]shop.Audited, len(rows))
	for i := range rows {
		if err == nil {
			all[i], err = rows[i].audited()
		}
	}
	return all, err
}

// WalkAudit serves a use case's Reader: every row, oldest first, until f fails.
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
		a, err := r.audited()
		if err == nil {
			err = f(a)
		}
		if err != nil {
			return err
		}
	}
	return rows.Err()
}
