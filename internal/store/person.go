package store

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"github.com/jmoiron/sqlx"

	"hylostat.example/internal/access"
	"hylostat.example/internal/shop"
	"hylostat.example/internal/sqlite"
)

var _ access.Store = (*Store)(nil)

// Roster implements access.Store.
func (s *Store) Roster(ctx context.Context) (access.Roster, error) { return rosterOf(ctx, s.q) }

func rosterOf(ctx context.Context, q sqlx.QueryerContext) (r access.Roster, err error) {
	var shop struct {
		Closed  bool   `db:"closed"`
		Demands string `db:"demands"`
	}
	if err = sqlx.GetContext(ctx, q, &shop, `SELECT closed, demands FROM shop`); err != nil {
		return r, err
	}
	r.Closed = shop.Closed
	if err := decode(shop.Demands, &r.Demands); err != nil {
		return r, err
	}
	var people []struct {
		Name     string      `db:"name"`
		Role     access.Role `db:"role"`
		Password string      `db:"password"`
		Since    int64       `db:"since"`
		Factor   string      `db:"factor"`
	}
	if err := sqlx.SelectContext(ctx, q, &people, `SELECT name, role, password, since, factor FROM person ORDER BY name`); err != nil {
		return r, err
	}
	for _, row := range people {
		p := access.Person{Name: row.Name, Role: row.Role, Password: row.Password, Since: moment(row.Since)}
		if row.Factor != "" {
			if err := decode(row.Factor, &p.Factor); err != nil {
				return r, err
			}
		}
		r.People = append(r.People, p)
	}
	var tokens []struct {
		access.Token
		Made    int64 `db:"made"`
		Expires int64 `db:"expires"`
		Seen    int64 `db:"seen"`
	}
	err = sqlx.SelectContext(ctx, q, &tokens, `SELECT id, person, name, scope, hash, by, made, expires, seen FROM token ORDER BY made, id`)
	for _, row := range tokens {
		row.Token.Made, row.Token.Expires, row.Token.Seen = moment(row.Made), orNever(row.Expires), orNever(row.Seen)
		r.Tokens = append(r.Tokens, row.Token)
	}
	return r, err
}

// orNever is a moment; 0 stands for none.
func orNever(ms int64) time.Time {
	if ms == 0 {
		return time.Time{}
	}
	return moment(ms)
}

func millisOrNever(t time.Time) int64 {
	if t.IsZero() {
		return 0
	}
	return millis(t)
}

// EditPeople implements access.Store.
func (s *Store) EditPeople(ctx context.Context, by access.Actor, decide func(access.Roster) (access.Edit, error)) error {
	return s.db.Write(ctx, func(tx *sqlite.Tx) error {
		r, err := rosterOf(ctx, tx)
		if err != nil {
			return err
		}
		e, err := decide(r)
		if err != nil {
			return err
		}
		if err := editPeople(ctx, tx, e); err != nil || e.Note.Said.IsZero() {
			return err
		}
		return noteAccess(ctx, tx, by, e.Note)
	})
}

func editPeople(ctx context.Context, tx *sqlite.Tx, e access.Edit) error {
	type step struct {
		query string
		args  []any
	}
	var steps []step
	if p := e.Save; p != nil {
		factor := ""
		if p.Factor.Secret != "" {
			var err error
			if factor, err = encode(p.Factor); err != nil {
				return err
			}
		}
		steps = append(steps, step{
			`INSERT INTO person (name, role, password, since, factor) VALUES (?, ?, ?, ?, ?)
			 ON CONFLICT (name) DO UPDATE SET role = excluded.role, password = excluded.password, factor = excluded.factor`,
			[]any{p.Name, p.Role, p.Password, millis(p.Since), factor},
		}, step{`UPDATE shop SET closed = 1`, nil})
	}
	if e.Remove != "" {
		steps = append(steps, step{`DELETE FROM person WHERE name = ?`, []any{e.Remove}})
	}
	if t := e.AddToken; t != nil {
		steps = append(steps, step{
			`INSERT INTO token (id, person, name, scope, hash, by, made, expires) VALUES (?, ?, ?, ?, ?, ?, ?, ?)`,
			[]any{t.ID, t.Person, t.Name, t.Scope, t.Hash, t.By, millis(t.Made), millisOrNever(t.Expires)},
		})
	}
	if e.EndToken != "" {
		steps = append(steps, step{`DELETE FROM token WHERE id = ?`, []any{e.EndToken}})
	}
	if e.EndSessions != "" {
		steps = append(steps, step{
			`DELETE FROM session WHERE person = ? AND hash <> ?`, []any{e.EndSessions, append([]byte{}, e.Keep...)}, // not NULL
		})
	}
	if e.Demands != nil {
		demands, err := encode(e.Demands)
		if err != nil {
			return err
		}
		steps = append(steps, step{`UPDATE shop SET demands = ?`, []any{demands}})
	}
	for _, one := range steps {
		if _, err := tx.ExecContext(ctx, one.query, one.args...); err != nil {
			return err
		}
	}
	return nil
}

// NoteAccess implements access.Store.
func (s *Store) NoteAccess(ctx context.Context, by access.Actor, n access.Note) error {
	return s.db.Write(ctx, func(tx *sqlite.Tx) error { return noteAccess(ctx, tx, by, n) })
}

func noteAccess(ctx context.Context, tx *sqlite.Tx, by access.Actor, n access.Note) error {
	row := shop.Audited{
		At: time.Now(), By: by.Name, Role: string(by.Role), Via: string(by.Via), Kind: shop.PeopleChanged, Said: n.Said,
	}
	if n.What != "" && n.Before != n.After {
		row.Edits = []shop.Edit{{What: n.What, Before: n.Before, After: n.After}}
	}
	return Tx{queries: queries{q: tx}, tx: tx}.AddAudit(ctx, row)
}

// SeeToken implements access.Store.
func (s *Store) SeeToken(ctx context.Context, id string, at time.Time) error {
	return s.set(ctx, `UPDATE token SET seen = ? WHERE id = ?`, millis(at), id)
}

// set carries out one statement.
func (s *Store) set(ctx context.Context, query string, args ...any) error {
	return s.db.Write(ctx, func(tx *sqlite.Tx) error {
		_, err := tx.ExecContext(ctx, query, args...)
		return err
	})
}

// SaveSession implements access.Store.
func (s *Store) SaveSession(ctx context.Context, one access.Session) error {
	return s.set(
		ctx,
		`INSERT INTO session (hash, id, person, begun, seen, proved, address, agent) VALUES (?, ?, ?, ?, ?, ?, ?, ?)`,
		one.Hash, one.ID, one.Person, millis(one.Begun), millis(one.Seen), millis(one.Proved), one.From.Address, one.From.Agent,
	)
}

// SeeSession implements access.Store. One that was removed meanwhile stays removed.
func (s *Store) SeeSession(ctx context.Context, hash []byte, at time.Time) error {
	return s.set(ctx, `UPDATE session SET seen = ? WHERE hash = ?`, millis(at), hash)
}

// ProveSession implements access.Store.
func (s *Store) ProveSession(ctx context.Context, hash []byte, at time.Time) error {
	return s.set(ctx, `UPDATE session SET proved = ? WHERE hash = ?`, millis(at), hash)
}

type sessionRow struct {
	ID      string `db:"id"`
	Hash    []byte `db:"hash"`
	Person  string `db:"person"`
	Begun   int64  `db:"begun"`
	Seen    int64  `db:"seen"`
	Proved  int64  `db:"proved"`
	Address string `db:"address"`
	Agent   string `db:"agent"`
}

func (r sessionRow) session() access.Session {
	return access.Session{
		ID: r.ID, Hash: r.Hash, Person: r.Person, From: access.From{Address: r.Address, Agent: r.Agent},
		Begun: moment(r.Begun), Seen: moment(r.Seen), Proved: moment(r.Proved),
	}
}

const selectSession = `SELECT id, hash, person, begun, seen, proved, address, agent FROM session`

// Session implements access.Store.
func (s *Store) Session(ctx context.Context, hash []byte) (access.Session, error) {
	var row sessionRow
	err := s.db.Read.GetContext(ctx, &row, selectSession+` WHERE hash = ?`, hash)
	if errors.Is(err, sql.ErrNoRows) {
		err = access.ErrNone
	}
	return row.session(), err
}

// Sessions implements access.Store.
func (s *Store) Sessions(ctx context.Context) ([]access.Session, error) {
	var rows []sessionRow
	err := s.db.Read.SelectContext(ctx, &rows, selectSession)
	all := make([]access.Session, len(rows))
	for i, r := range rows {
		all[i] = r.session()
	}
	return all, err
}

// RemoveSession implements access.Store.
func (s *Store) RemoveSession(ctx context.Context, id string) error {
	return s.set(ctx, `DELETE FROM session WHERE id = ?`, id)
}

// ForgetSessions implements access.Store.
func (s *Store) ForgetSessions(ctx context.Context, before time.Time) error {
	return s.set(ctx, `DELETE FROM session WHERE seen < ?`, millis(before))
}
