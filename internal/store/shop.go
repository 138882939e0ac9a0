package store

import (
	"context"

	"hylostat.example/internal/shop/desk"
	"hylostat.example/internal/shop/judge"
	"hylostat.example/internal/shop/record"
	"hylostat.example/internal/shop/runs"
	"hylostat.example/internal/shop/tell"
	"hylostat.example/internal/shop/watch"
	"hylostat.example/internal/shop/whole"
)

// View is the storage as one use case needs it: with transactions of its kind.
type View[T any] struct{ *Store }

// Write carries out f as one change: all of it is kept, or nothing.
func (v View[T]) Write(ctx context.Context, f func(tx T) error) error {
	return v.Store.Write(ctx, func(tx Tx) error { return f(any(tx).(T)) })
}

// A Tx is every use case's.
var (
	_ judge.Tx  = Tx{}
	_ record.Tx = Tx{}
	_ runs.Tx   = Tx{}
	_ desk.Tx   = Tx{}
	_ whole.Tx  = Tx{}
)

// Storage is the storage as the whole shop needs it.
func (s *Store) Storage() whole.Storage {
	return whole.Storage{
		Judge:  View[judge.Tx]{s},
		Record: View[record.Tx]{s},
		Runs:   View[runs.Tx]{s},
		Desk:   View[desk.Tx]{s},
		Watch:  View[watch.Tx]{s},
		Tell:   View[tell.Tx]{s},
		Audit:  s,
		Facts:  s,
		Take:   View[whole.Tx]{s},
		Keys:   s,
	}
}
