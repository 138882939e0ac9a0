package store

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"github.com/jmoiron/sqlx"

	"hylostat.example/internal/access"
	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/shop"
	"hylostat.example/internal/sqlite"
)

var _ access.Store = (*Store)(nil)

// Roster implements access.Store.
func (s *Store) Roster(ctx context.Context) (access.Roster, error) { return rosterOf(ctx, s.q) }

func rosterOf(ctx context.Context, q sqlx.QueryerContext) (r access.Roster, err error) {
	if err = sqlx.GetContext(ctx, q, &r.Closed, `SELECT closed FROM shop`); err != nil {
		return r, err
	}
	var rows []struct {
		access.Person
		Since int64 `db:"since"`
	}
	err = sqlx.SelectContext(ctx, q, &rows, `SELECT name, role, password, token, since FROM person ORDER BY name`)
	for _, row := range rows {
		row.Person.Since = moment(row.Since)
		r.People = append(r.People, row.Person)
	}
	return r, err
}

// EditPeople implements access.Store. Sessions end when the password changes; the audit gets its row.
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
		row := shop.Audited{At: time.Now(), By: by.Name, Role: string(by.Role), Via: string(by.Via), Kind: shop.PeopleChanged}
		name, after := e.Remove, ""
		if p := e.Save; p != nil {
			name, after = p.Name, string(p.Role)
			row.Said = wording.Say(wording.PersonIs, wording.Values{"name": name, "role": after})
			err = savePerson(ctx, tx, *p)
		} else {
			row.Said = wording.Say(wording.PersonGone, wording.Values{"name": name})
			_, err = tx.ExecContext(ctx, `DELETE FROM person WHERE name = ?`, name)
		}
		if err != nil {
			return err
		}
		if was, _ := r.Find(name); string(was.Role) != after {
			row.Edits = []shop.Edit{{What: "role of " + name, Before: string(was.Role), After: after}}
		}
		return Tx{queries: queries{q: tx}, tx: tx}.AddAudit(ctx, row)
	})
}

func savePerson(ctx context.Context, tx *sqlite.Tx, p access.Person) error {
	for _, step := range []struct {
		query string
		args  []any
	}{
		{
			`DELETE FROM session WHERE person = ? AND ? <> (SELECT password FROM person WHERE name = ?)`,
			[]any{p.Name, p.Password, p.Name},
		},
		{
			`INSERT INTO person (name, role, password, token, since) VALUES (?, ?, ?, ?, ?)
			ON CONFLICT (name) DO UPDATE SET role = excluded.role, password = excluded.password, token = excluded.token`,
			[]any{p.Name, p.Role, p.Password, append([]byte{}, p.Token...), millis(p.Since)}, // no token is an empty one, not NULL
		},
		{`UPDATE shop SET closed = 1`, nil},
	} {
		if _, err := tx.ExecContext(ctx, step.query, step.args...); err != nil {
			return err
		}
	}
	return nil
}

// SaveSession implements access.Store.
func (s *Store) SaveSession(ctx context.Context, one access.Session) error {
	return s.db.Write(ctx, func(tx *sqlite.Tx) error {
		_, err := tx.ExecContext(
			ctx,
			`INSERT INTO session (hash, person, begun, seen) VALUES (?, ?, ?, ?)`,
			one.Hash,
			one.Person,
			millis(one.Begun),
			millis(one.Seen),
		)
		return err
	})
}

// SeeSession implements access.Store. One that was removed meanwhile stays removed.
func (s *Store) SeeSession(ctx context.Context, hash []byte, at time.Time) error {
	return s.db.Write(ctx, func(tx *sqlite.Tx) error {
		_, err := tx.ExecContext(ctx, `UPDATE session SET seen = ? WHERE hash = ?`, millis(at), hash)
		return err
	})
}

// Session implements access.Store.
func (s *Store) Session(ctx context.Context, hash []byte) (access.Session, error) {
	var row struct {
		Person string `db:"person"`
		Begun  int64  `db:"begun"`
		Seen   int64  `db:"seen"`
	}
	err := s.db.Read.GetContext(ctx, &row, `SELECT person, begun, seen FROM session WHERE hash = ?`, hash)
	if errors.Is(err, sql.ErrNoRows) {
		err = access.ErrNone
	}
	return access.Session{Hash: hash, Person: row.Person, Begun: moment(row.Begun), Seen: moment(row.Seen)}, err
}

// RemoveSession implements access.Store.
func (s *Store) RemoveSession(ctx context.Context, hash []byte) error {
	return s.db.Write(ctx, func(tx *sqlite.Tx) error {
		_, err := tx.ExecContext(ctx, `DELETE FROM session WHERE hash = ?`, hash)
		return err
	})
}

// ForgetSessions implements access.Store.
func (s *Store) ForgetSessions(ctx context.Context, before time.Time) error {
	return s.db.Write(ctx, func(tx *sqlite.Tx) error {
		_, err := tx.ExecContext(ctx, `DELETE FROM session WHERE seen < ?`, millis(before))
		return err
	})
}
