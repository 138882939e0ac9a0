package bench

import (
	"context"
	"fmt"
	"slices"

	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/protocol"
)

// remembered is how many orders a bench recognizes when they come again.
const remembered = 256

// taken is an order that a bench was given.
type taken struct {
	id       string
	answered chan struct{} // closed with what follows
	receipt  protocol.Receipt
	err      error
}

// Order implements protocol.Bench. An order that was given goes on although whoever gave it is gone: it may be given again, by a shop that
// did not hear the answer.
func (b *Bench) Order(ctx context.Context, o protocol.Order) (protocol.Receipt, error) {
	t, err := b.take(ctx, o)
	if err != nil {
		return protocol.Receipt{}, err
	}
	if t == nil {
		return b.carryOut(ctx, o)
	}
	select {
	case <-t.answered:
		return t.receipt, t.err
	case <-ctx.Done():
		return protocol.Receipt{}, ctx.Err()
	}
}

// take gives an order as it was taken, now or before. One that began a run before the bench was started anew stands in the journal. nil:
// it cannot be known again.
func (b *Bench) take(ctx context.Context, o protocol.Order) (*taken, error) {
	if o.ID == "" {
		return nil, nil //nolint:nilnil // said above
	}
	if o.Kind == protocol.OrderCheck {
		if r, ok, err := b.Journal.RunOrdered(ctx, o.Run, o.ID); err != nil {
			return nil, fmt.Errorf("asking the journal for run %d: %w", o.Run, err)
		} else if ok {
			t := &taken{answered: make(chan struct{}), receipt: protocol.Receipt{Run: &r}}
			close(t.answered)
			return t, nil
		}
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if i := slices.IndexFunc(b.taken, func(t *taken) bool { return t.id == o.ID }); i >= 0 {
		return b.taken[i], nil
	}
	if b.launch == nil {
		return nil, nil //nolint:nilnil // said above
	}
	t := &taken{id: o.ID, answered: make(chan struct{})}
	b.taken = append(b.taken, t)
	b.taken = b.taken[max(0, len(b.taken)-remembered):]
	b.launch(func(ctx context.Context) {
		defer close(t.answered)
		t.receipt, t.err = b.carryOut(ctx, o)
	})
	return t, nil
}

// carryOut carries an order out, or has its worker do so.
func (b *Bench) carryOut(ctx context.Context, o protocol.Order) (protocol.Receipt, error) {
	if o.Kind == protocol.OrderConsent { // whatever its drive does: the worker may be waiting for it
		return protocol.Receipt{}, b.Consents.Hear(ctx, o.Run, o.Lasts)
	}
	b.mu.Lock()
	if o.Kind == protocol.OrderStop || o.Kind == protocol.OrderPause || o.Kind == protocol.OrderResume {
		if r, ok := b.runs[o.Run]; ok {
			o.Bay = r.Bay
		}
	}
	w, ok := b.workers[b.addresses[o.Bay.Number]]
	b.mu.Unlock()
	if !ok {
		return protocol.Receipt{}, &protocol.Refusal{
			Class:  drive.FaultNotRead,
			What:   string(o.Kind),
			Cause:  fmt.Sprintf("there is no %s at %s", o.Bay.Words(), b.Title),
			Advice: "List the bays.",
		}
	}
	if o.Kind == protocol.OrderSetBay || o.Kind == protocol.OrderArrange {
		return protocol.Receipt{}, b.set(ctx, o)
	}
	return w.Order(ctx, o)
}
