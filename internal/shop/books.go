package shop

import (
	"context"
	"errors"
	"log/slog"
	"sync"
	"time"

	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/protocol"
	"hylostat.example/internal/seal"
)

// Ledger is what every change of the storage can note: facts for listeners, and rows of the audit.
type Ledger interface {
	AddEvent(ctx context.Context, e *Event) error
	AddAudit(ctx context.Context, a Audited) error // after the last one
}

// Writer is a storage that a use case changes in transactions of its own kind.
type Writer[T Ledger] interface {
	Write(ctx context.Context, f func(tx T) error) error
}

// Books is what the use cases share: the shop's name, its clock, whoever listens, and what was begun on the shop's own account.
type Books struct {
	Name  string
	Key   seal.Key // by which the shop signs
	Clock Clock
	Log   *slog.Logger
	Own   sync.WaitGroup // it ends soon after the context of what was begun; the store may be closed then
	hub   hub
}

// Apply carries out f as one change of the store, together with the facts it gives back; then the world is told of them. What somebody
// does goes through Act.
func Apply[T Ledger](ctx context.Context, b *Books, store Writer[T], f func(tx T) ([]Event, error)) ([]Event, error) {
	var events []Event
	err := store.Write(ctx, func(tx T) (err error) {
		events, err = f(tx)
		for i := range events {
			if err == nil {
				err = tx.AddEvent(ctx, &events[i])
			}
		}
		return err
	})
	if err != nil {
		return nil, err
	}
	for _, e := range events {
		b.Tell(e)
	}
	return events, nil
}

// Act carries out what somebody does, as one change of the store: what it changes, its rows in the audit and its facts. Whatever a use
// case does in somebody's name goes through here or through Command, so that no deed is without its row.
func Act[T Ledger](ctx context.Context, b *Books, store Writer[T], by Actor, f func(tx T) ([]Deed, []Event, error)) error {
	if err := Tidy(&by.Name); err != nil {
		return err
	}
	if by.Name == "" {
		return &Invalid{What: "it is not known who does this", Advice: "Say who you are."}
	}
	_, err := Apply(ctx, b, store, func(tx T) ([]Event, error) {
		deeds, events, err := f(tx)
		for _, d := range deeds {
			if err != nil {
				break
			}
			var e Event
			if e, err = b.Note(ctx, tx, by, d); e.Kind != "" {
				events = append(events, e)
			}
		}
		return events, err
	})
	return err
}

// Note puts a deed into the audit and gives the fact to tell of it, or none.
func (b *Books) Note(ctx context.Context, tx Ledger, by Actor, d Deed) (Event, error) {
	at := b.Clock.Now()
	err := tx.AddAudit(
		ctx,
		Audited{
			At:     at,
			By:     by.Name,
			Role:   string(by.Role),
			Via:    string(by.Via),
			Kind:   d.Kind,
			Serial: d.Serial,
			Said:   d.Said,
			Edits:  d.Edits,
		},
	)
	if !d.Kind.Told() {
		return Event{}, err
	}
	return Event{At: at, Kind: d.Kind, Serial: d.Serial, Bay: d.Bay, Run: d.Run, By: by.Name, Said: d.Said}, err
}

// Command has a bench do something in somebody's name: the order is in the audit before it is given, and so is, afterwards, that it was
// refused or failed.
func Command[T Ledger](ctx context.Context, b *Books, store Writer[T], by Actor, d Deed, do func() error) error {
	one := func(T) ([]Deed, []Event, error) { return []Deed{d}, nil, nil }
	if err := Act(ctx, b, store, by, one); err != nil {
		return err
	}
	err := do()
	if err == nil || ctx.Err() != nil {
		return err
	}
	return errors.Join(err, Failed(ctx, b, store, by, d, err))
}

// Failed puts into the audit what became of an order that a bench refused, or that did not reach it.
func Failed[T Ledger](ctx context.Context, b *Books, store Writer[T], by Actor, d Deed, why error) error {
	became := wording.Say(wording.DeedFailed, wording.Values{"deed": d.Said, "why": why.Error()})
	if refusal, ok := errors.AsType[*protocol.Refusal](why); ok {
		became = wording.Say(wording.DeedRefused, wording.Values{"deed": d.Said, "why": refusal.Cause})
	}
	d.Said = became
	return Act(ctx, b, store, by, func(T) ([]Deed, []Event, error) { return []Deed{d}, nil, nil })
}

// hub hands events to whoever listens. A listener that does not keep up loses progress, never facts: its channel closes and
// it reads the facts again from the store.
type hub struct {
	mu        sync.Mutex // guards listeners
	listeners map[chan Event]struct{}
}

// Tell tells whoever listens of a fact that is stored, or of progress.
func (b *Books) Tell(e Event) {
	b.hub.mu.Lock()
	defer b.hub.mu.Unlock()
	for c := range b.hub.listeners {
		select {
		case c <- e:
		default:
			if e.Kind != RunProgress {
				delete(b.hub.listeners, c)
				close(c)
			}
		}
	}
}

// Listen delivers events from now on until the context ends. The channel closes when the listener fell behind.
func (b *Books) Listen(ctx context.Context) <-chan Event {
	c := make(chan Event, 256)
	b.hub.mu.Lock()
	if b.hub.listeners == nil {
		b.hub.listeners = map[chan Event]struct{}{}
	}
	b.hub.listeners[c] = struct{}{}
	b.hub.mu.Unlock()
	context.AfterFunc(ctx, func() {
		b.hub.mu.Lock()
		defer b.hub.mu.Unlock()
		if _, still := b.hub.listeners[c]; still {
			delete(b.hub.listeners, c)
			close(c)
		}
	})
	return c
}

// Settling is how long an order about a bay may take to show in what the shop knows of the bay.
const Settling = 3 * time.Second

// Clock tells the time of the shop; a simulated bench's time is the shop's, too.
type Clock interface{ Now() time.Time }
