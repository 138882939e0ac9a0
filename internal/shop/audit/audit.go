// Package audit reads what people did, and checks that no row of it was changed. Rows are written by the use cases, see shop.Act.
package audit

import (
	"context"

	"hylostat.example/internal/shop"
)

// Auditor is the use case.
type Auditor struct {
	books *shop.Books
	store Store
}

// New makes an auditor over a store.
func New(books *shop.Books, store Store) *Auditor { return &Auditor{books, store} }

// Store is the storage it needs.
type Store interface {
	Audit(ctx context.Context, q shop.AuditQuery) ([]shop.Audited, error)
	WalkAudit(ctx context.Context, f func(shop.Audited) error) error // oldest first
}
