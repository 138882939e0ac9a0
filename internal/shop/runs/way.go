package runs

import (
	"context"
	"errors"
	"strings"

	"hylostat.example/internal/core/check"
	"hylostat.example/internal/protocol"
	"hylostat.example/internal/shop"
)

// The watch gives way: what it does to a drive is stopped for a check that somebody asks for.
const (
	Watch       = "the watch"                  // who orders what a plan of the watch asks for
	WatchOrders = "watch-"                     // how the names of its orders begin
	GaveWay     = "the watch, which gives way" // who stopped its run then
)

// IsWatch reports whether a run is the watch's.
func IsWatch(r *check.Run) bool { return strings.HasPrefix(r.Order, WatchOrders) }

// makeWay stops what the watch does to a drive that somebody else has an order for, and waits for its end.
func (s *Conductor) makeWay(ctx context.Context, o protocol.Order) error {
	if strings.HasPrefix(o.ID, WatchOrders) || o.Asking {
		return nil
	}
	open, err := s.store.Runs(ctx, shop.RunQuery{Drive: o.Key, Open: true, Limit: 10})
	if err != nil {
		return err
	}
	for i := range open {
		if !IsWatch(&open[i]) {
			continue
		}
		listening, end := context.WithTimeout(ctx, shop.Settling)
		defer end()
		facts := s.books.Listen(listening)
		_, err := s.fleet.Order(ctx, protocol.Order{Kind: protocol.OrderStop, Run: open[i].ID, Bay: open[i].Bay, By: GaveWay})
		if _, refused := errors.AsType[*protocol.Refusal](err); err != nil && !refused { // refused: it has ended
			return err
		}
		for {
			if now, err := s.RunByID(ctx, open[i].ID); err != nil || now.State == check.Done {
				break
			}
			if _, more := <-facts; !more { // the bench says what keeps the new one, if something does
				break
			}
		}
	}
	return nil
}
