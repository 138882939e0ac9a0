package store

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"hylostat.example/internal/access"
	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/shop"
	"hylostat.example/internal/sqlite"
)

var _ access.Store = (*Store)(nil)

// People implements access.Store.
func (s *Store) People(ctx context.Context) (all []access.Person, err error) {
	err = s.db.Read.SelectContext(ctx, &all, `SELECT name, role, password, token FROM person ORDER BY name`)
	return all, err
}

// SavePerson implements access.Store. Sessions end when the password changes.
func (s *Store) SavePerson(ctx context.Context, by access.Actor, p access.Person) error {
	return s.audited(
		ctx,
		by,
		p.Name,
		wording.Say(wording.PersonIs, wording.Values{"name": p.Name, "role": string(p.Role)}),
		func(tx *sqlite.Tx) error {
			if _, err := tx.ExecContext(
				ctx,
				`DELETE FROM session WHERE person = ? AND ? <> (SELECT password FROM person WHERE name = ?)`,
				p.Name,
				p.Password,
				p.Name,
			); err != nil {
				return err
			}
			_, err := tx.ExecContext(ctx, `
			INSERT INTO person (name, role, password, token, since) VALUES (?, ?, ?, ?, ?)
			ON CONFLICT (name) DO UPDATE SET role = excluded.role, password = excluded.password, token = excluded.token`,
				p.Name, p.Role, p.Password, append([]byte{}, p.Token...), millis(p.Since)) // no token is an empty one, not NULL
			return err
		},
	)
}

// RemovePerson implements access.Store.
func (s *Store) RemovePerson(ctx context.Context, by access.Actor, name string) error {
	return s.audited(ctx, by, name, wording.Say(wording.PersonGone, wording.Values{"name": name}), func(tx *sqlite.Tx) error {
		_, err := tx.ExecContext(ctx, `DELETE FROM person WHERE name = ?`, name)
		return err
	})
}

// audited makes a change to a person together with its row of the audit.
func (s *Store) audited(ctx context.Context, by access.Actor, name string, said wording.Phrase, f func(tx *sqlite.Tx) error) error {
	return s.db.Write(ctx, func(tx *sqlite.Tx) error {
		role := func() (r string, err error) {
			err = tx.GetContext(ctx, &r, `SELECT COALESCE((SELECT role FROM person WHERE name = ?), '')`, name)
			return r, err
		}
		before, err := role()
		if err == nil {
			err = f(tx)
		}
		if err != nil {
			return err
		}
		after, err := role()
		if err != nil {
			return err
		}
		row := shop.Audited{At: time.Now(), By: by.Name, Role: string(by.Role), Via: string(by.Via), Kind: shop.PeopleChanged, Said: said}
		if before != after {
			row.Edits = []shop.Edit{{What: "role of " + name, Before: before, After: after}}
		}
		return Tx{queries: queries{q: tx}, tx: tx}.AddAudit(ctx, row)
	})
}

// SaveSession implements access.Store.
func (s *Store) SaveSession(ctx context.Context, one access.Session) error {
	return s.db.Write(ctx, func(tx *sqlite.Tx) error {
		_, err := tx.ExecContext(
			ctx,
			`INSERT OR REPLACE INTO session (hash, person, seen) VALUES (?, ?, ?)`,
			one.Hash,
			one.Person,
			millis(one.Seen),
		)
		return err
	})
}

// Session implements access.Store.
func (s *Store) Session(ctx context.Context, hash []byte) (access.Session, error) {
	var row struct {
		Person string `db:"person"`
		Seen   int64  `db:"seen"`
	}
	err := s.db.Read.GetContext(ctx, &row, `SELECT person, seen FROM session WHERE hash = ?`, hash)
	if errors.Is(err, sql.ErrNoRows) {
		err = access.ErrNone
	}
	return access.Session{Hash: hash, Person: row.Person, Seen: moment(row.Seen)}, err
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
