package bench

import (
	"context"
	"fmt"

	"hylostat.example/internal/bench/journal"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/protocol"
)

// set has bays be what people make of them: a number, a label, whether it is shown, an order. What is kept of a run names its bay by
// number, so that a number changes only while no run is open there.
func (b *Bench) set(ctx context.Context, o protocol.Order) error {
	if err := b.keepSetting(ctx, o); err != nil {
		return err
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	rows, err := b.Journal.Bays(ctx) // in the lock: what is made of the bays last is what is known last
	if err != nil {
		return err
	}
	launch := b.launch
	if launch == nil { // it does not run yet
		launch = func(do func(context.Context)) { b.group.Go(func() { do(ctx) }) }
	}
	clear(b.addresses)
	for _, row := range rows {
		b.addresses[row.Number] = row.Address
		b.settings[row.Address] = row
		if w, ok := b.workers[row.Address]; ok {
			launch(w.Changed)
		}
	}
	return nil
}

// Setting is what people made of a bay, as it is now.
func (b *Bench) Setting(a drive.Address) journal.BayRow {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.settings[a]
}

func (b *Bench) keepSetting(ctx context.Context, o protocol.Order) error {
	if o.Kind == protocol.OrderArrange {
		return b.Journal.Arrange(ctx, o.Arrangement)
	}
	b.mu.Lock()
	for _, r := range b.runs {
		if n := r.Bay.Number; o.Setting.Number != o.Bay.Number && (n == o.Bay.Number || n == o.Setting.Number) {
			b.mu.Unlock()
			return &protocol.Refusal{
				Class:  drive.FaultInUse,
				What:   fmt.Sprintf("giving %s the number %d", o.Bay.Words(), o.Setting.Number),
				Cause:  fmt.Sprintf("run %d is under way in %s", r.ID, r.Bay.Words()),
				Advice: "Wait for its end, or stop it first.",
			}
		}
	}
	b.mu.Unlock()
	return b.Journal.SetBay(ctx, o.Bay.Number, *o.Setting)
}
