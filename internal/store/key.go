package store

import (
	"context"
	"fmt"

	"github.com/jmoiron/sqlx"

	"hylostat.example/internal/seal"
	"hylostat.example/internal/shop"
	"hylostat.example/internal/sqlite"
)

// Key gives the key by which the shop signs, and makes it when there is none.
func (s *Store) Key(ctx context.Context) (k seal.Key, err error) {
	var seed []byte
	if err := sqlx.GetContext(ctx, s.q, &seed, `SELECT seal FROM shop`); err != nil {
		return k, fmt.Errorf("reading the key of the shop: %w", err)
	}
	if len(seed) > 0 {
		return seal.FromSeed(seed)
	}
	if k, err = seal.New(); err != nil {
		return k, fmt.Errorf("making the key of the shop: %w", err)
	}
	return k, s.db.Write(ctx, func(tx *sqlite.Tx) error {
		_, err := tx.ExecContext(ctx, `UPDATE shop SET seal = ? WHERE length(seal) = 0`, k.Seed())
		return err
	})
}

// KnownKeys serves a use case's Reader: by what they are called.
func (q queries) KnownKeys(ctx context.Context) (all []shop.KnownKey, err error) {
	var rows []struct {
		Name   string `db:"name"`
		Called string `db:"called"`
		By     string `db:"by"`
		At     int64  `db:"at"`
	}
	err = sqlx.SelectContext(ctx, q.q, &rows, `SELECT name, called, by, at FROM known_key ORDER BY called, name`)
	for _, r := range rows {
		all = append(all, shop.KnownKey{Name: r.Name, Called: r.Called, By: r.By, At: moment(r.At)})
	}
	return all, err
}

// SaveKey serves a use case's Tx; one that is called nothing is known no more.
func (c Tx) SaveKey(ctx context.Context, k shop.KnownKey) error {
	if _, err := c.tx.ExecContext(ctx, `DELETE FROM known_key WHERE name = ?`, k.Name); err != nil || k.Called == "" {
		return err
	}
	_, err := c.tx.ExecContext(
		ctx, `INSERT INTO known_key (name, called, by, at) VALUES (?, ?, ?, ?)`, k.Name, k.Called, k.By, millis(k.At),
	)
	return err
}
