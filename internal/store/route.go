package store

import (
	"context"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"

	"hylostat.example/internal/shop/tell"
)

// Routes serves a use case's Reader.
func (q queries) Routes(ctx context.Context) ([]tell.Route, error) {
	var rows []struct {
		Body   string `db:"body"`
		Secret []byte `db:"secret"`
		By     string `db:"by"`
		At     int64  `db:"at"`
		Sent   int64  `db:"sent"`
		Failed int64  `db:"failed"`
		Why    string `db:"why"`
	}
	if err := sqlx.SelectContext(ctx, q.q, &rows, `SELECT body, secret, by, at, sent, failed, why FROM route ORDER BY name`); err != nil {
		return nil, err
	}
	all := make([]tell.Route, len(rows))
	for i, r := range rows {
		all[i] = tell.Route{
			Secret: r.Secret, SetBy: r.By, At: moment(r.At), Sent: momentOrNever(r.Sent),
			Failed: momentOrNever(r.Failed), Why: r.Why,
		}
		if err := decode(r.Body, &all[i].Route); err != nil {
			return nil, err
		}
	}
	return all, nil
}

// SaveRoute serves a use case's Tx.
func (c Tx) SaveRoute(ctx context.Context, r tell.Route) error {
	body, err := encode(r.Route)
	if err != nil {
		return err
	}
	_, err = c.tx.ExecContext(
		ctx, `INSERT OR REPLACE INTO route (name, body, secret, by, at, sent, failed, why) VALUES (?, ?, ?, ?, ?, ?, ?, ?)`,
		r.Name, body, r.Secret, r.SetBy, millis(r.At), millisOrNever(r.Sent), millisOrNever(r.Failed), r.Why,
	)
	return err
}

// DropRoute serves a use case's Tx.
func (c Tx) DropRoute(ctx context.Context, name string) error {
	_, err := c.tx.ExecContext(ctx, `DELETE FROM route WHERE name = ?`, name)
	return err
}

// DueMessages serves a use case's Reader.
func (q queries) DueMessages(ctx context.Context, now time.Time, limit int) ([]tell.Message, error) {
	return q.messages(ctx, `state = 'waiting' AND next <= ? ORDER BY due, id LIMIT ?`, millis(now), limit)
}

// MessagesOf serves a use case's Reader.
func (q queries) MessagesOf(ctx context.Context, alerts []int64, limit int) ([]tell.Message, error) {
	if len(alerts) == 0 {
		return q.messages(ctx, `1 ORDER BY id DESC LIMIT ?`, limit)
	}
	query, args, err := sqlx.In(`alert IN (?) ORDER BY id DESC LIMIT ?`, alerts, limit)
	if err != nil {
		return nil, err
	}
	return q.messages(ctx, query, args...)
}

func (q queries) messages(ctx context.Context, which string, args ...any) ([]tell.Message, error) {
	var rows []struct {
		ID      int64  `db:"id"`
		Route   string `db:"route"`
		State   string `db:"state"`
		Due     int64  `db:"due"`
		Next    int64  `db:"next"`
		Tries   int    `db:"tries"`
		Digest  bool   `db:"digest"`
		Untaken bool   `db:"untaken"`
		Ended   int64  `db:"ended"`
		Why     string `db:"why"`
		Body    string `db:"body"`
	}
	const columns = `id, route, state, due, next, tries, digest, untaken, ended, why, body`
	if err := sqlx.SelectContext(ctx, q.q, &rows, `SELECT `+columns+` FROM message WHERE `+which, args...); err != nil {
		return nil, err
	}
	all := make([]tell.Message, len(rows))
	for i, r := range rows {
		all[i] = tell.Message{
			ID: r.ID, Route: r.Route, State: tell.State(r.State), Due: moment(r.Due), Next: moment(r.Next), Tries: r.Tries,
			Ended: momentOrNever(r.Ended), Why: r.Why,
		}
		all[i].At, all[i].Digest, all[i].Untaken = all[i].Due, r.Digest, r.Untaken
		if err := decode(r.Body, &all[i].Body); err != nil {
			return nil, err
		}
	}
	return all, nil
}

// AddMessage serves a use case's Tx.
func (c Tx) AddMessage(ctx context.Context, m *tell.Message) error {
	body, err := encode(m.Body)
	if err != nil {
		return err
	}
	res, err := c.tx.ExecContext(
		ctx, `INSERT INTO message (route, alert, state, due, next, digest, untaken, body) VALUES (?, ?, ?, ?, ?, ?, ?, ?)`,
		m.Route, m.Body.Alert.ID, m.State, millis(m.Due), millis(m.Next), m.Digest, m.Untaken, body,
	)
	if err != nil {
		return err
	}
	m.ID, err = res.LastInsertId()
	return err
}

// SaveMessage serves a use case's Tx: how a message stands, never what it says.
func (c Tx) SaveMessage(ctx context.Context, m tell.Message) error {
	_, err := c.tx.ExecContext(
		ctx, `UPDATE message SET state = ?, next = ?, tries = ?, ended = ?, why = ? WHERE id = ?`,
		m.State, millis(m.Next), m.Tries, millisOrNever(m.Ended), strings.ToValidUTF8(m.Why, "?"), m.ID,
	)
	return err
}

// Rest serves a use case's Tx.
func (c Tx) Rest(ctx context.Context, route string, until time.Time) error {
	_, err := c.tx.ExecContext(
		ctx, `UPDATE message SET next = ? WHERE state = 'waiting' AND next < ? AND route = ?`, millis(until), millis(until), route,
	)
	return err
}

// Forget serves a use case's Tx.
func (c Tx) Forget(ctx context.Context, before time.Time) error {
	_, err := c.tx.ExecContext(ctx, `DELETE FROM message WHERE state <> 'waiting' AND ended < ?`, millis(before))
	return err
}

// ForgetTold serves a use case's Tx.
func (c Tx) ForgetTold(ctx context.Context, customer string, drives []int64) error {
	_, err := c.tx.ExecContext(
		ctx, `UPDATE message SET body = json_remove(body, '$.customer') WHERE json_extract(body, '$.customer') = ?`, customer,
	)
	for _, d := range drives {
		if err == nil {
			_, err = c.tx.ExecContext(ctx, `UPDATE alert SET body = json_remove(body, '$.note') WHERE drive = ?`, d)
		}
		if err == nil {
			_, err = c.tx.ExecContext(ctx, `UPDATE message SET body = json_remove(body, '$.alert.note')
				WHERE alert IN (SELECT id FROM alert WHERE drive = ?)`, d)
		}
	}
	return err
}

func momentOrNever(ms int64) time.Time {
	if ms == 0 {
		return time.Time{}
	}
	return moment(ms)
}
