package app

import (
	"context"
	"errors"
	"log/slog"
	"net"
	"sync"
	"sync/atomic"

	"hylostat.example/internal/protocol"
	"hylostat.example/internal/protocol/wire"
	"hylostat.example/internal/shop/fleet"
	"hylostat.example/internal/shop/whole"
	"hylostat.example/internal/store"
)

// reception is where benches come to that this service did not start.
type reception struct {
	together *fleet.Fleet
	store    *store.Store
	shop     *whole.Shop
	socket   *wire.Socket // nil: none comes
	anew     atomic.Bool  // the records of the first that comes, and the shop's, need not be of the same past
	log      *slog.Logger
}

// receive attends to whoever comes, until the context ends.
func (r *reception) receive(ctx context.Context) error {
	if r.socket == nil {
		<-ctx.Done()
		return nil
	}
	context.AfterFunc(ctx, func() { _ = r.socket.Close() })
	var all sync.WaitGroup
	defer all.Wait()
	for {
		conn, err := r.socket.Accept()
		switch {
		case errors.Is(err, net.ErrClosed):
			return nil
		case err != nil:
			r.log.Warn("somebody who knocked as a bench was turned away", "error", err)
			continue
		}
		all.Go(func() {
			if err := r.attend(ctx, conn); err != nil && ctx.Err() == nil {
				r.log.Error("working with a bench that came", "error", err)
			}
		})
	}
}

func (r *reception) attend(ctx context.Context, conn net.Conn) error {
	b, err := wire.Meet(ctx, conn)
	if err != nil {
		return err
	}
	defer func() { _ = b.Close() }()
	if err := r.together.Join(ctx, r.store, b, r.anew.Load()); err != nil {
		return err
	}
	r.anew.Store(false)
	r.log.Info("a bench has come", "bench", b.Describe().Title, "version", b.Tool())
	err = r.shop.Attend(ctx, b)
	if errors.Is(err, protocol.ErrGone) {
		r.log.Warn("a bench is gone", "bench", b.Describe().Title)
		return nil
	}
	return err
}
