package shop

import (
	"context"
	"errors"
	"fmt"

	"hylostat.example/internal/access"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/protocol"
)

// Actor is who does something, and how they came in. Every use case that changes something takes one.
type Actor = access.Actor

// Edit is one thing that a deed changed. It names no customer.
type Edit struct {
	What   string `json:"what"`
	Before string `json:"before,omitempty"` // empty: there was nothing
	After  string `json:"after,omitempty"`  // empty: there is nothing any more
}

// Deed is what somebody did, as the audit keeps it for ever: it names no customer.
type Deed struct {
	Kind   EventKind
	Serial string    // of the drive it is about
	Bay    drive.Bay // where that was
	Run    int64
	Text   string
	Edits  []Edit
}

// edit notes what a deed changed, where it did.
func (d *Deed) edit(what string, before, after any) {
	m := Edit{what, said(before), said(after)}
	if m.Before != m.After {
		d.Edits = append(d.Edits, m)
	}
}

// said is a value of a Edit; nothing for a zero one.
func said(v any) string {
	switch v := v.(type) {
	case nil:
		return ""
	case bool:
		if !v {
			return "no"
		}
		return "yes"
	}
	return fmt.Sprint(v)
}

// act carries out what somebody does, as one change of the store: what it changes, its rows in the audit and its facts. Whatever a use
// case does in somebody's name goes through here or through command, so that no deed is without its row.
func (s *Shop) act(ctx context.Context, by Actor, f func(tx Tx) ([]Deed, []Event, error)) error {
	if err := tidy(&by.Name); err != nil {
		return err
	}
	if by.Name == "" {
		return &Invalid{"it is not known who does this", "Say who you are."}
	}
	_, err := s.change(ctx, func(tx Tx) ([]Event, error) {
		deeds, events, err := f(tx)
		for _, d := range deeds {
			if err != nil {
				break
			}
			var e Event
			if e, err = s.note(ctx, tx, by, d); e.Kind != "" {
				events = append(events, e)
			}
		}
		return events, err
	})
	return err
}

// note puts a deed into the audit and gives the fact to tell of it, or none.
func (s *Shop) note(ctx context.Context, tx Tx, by Actor, d Deed) (Event, error) {
	at := s.clock.Now()
	err := tx.AddAudit(ctx, Audited{At: at, By: by.Name, Role: string(by.Role), Via: string(by.Via), Kind: d.Kind, Serial: d.Serial, Text: d.Text, Edits: d.Edits})
	if !d.Kind.told() {
		return Event{}, err
	}
	return Event{At: at, Kind: d.Kind, Serial: d.Serial, Bay: d.Bay, Run: d.Run, By: by.Name, Text: d.Text}, err
}

// command has a bench do something in somebody's name: the order is in the audit before it is given, and so is, afterwards, that it was
// refused or failed.
func (s *Shop) command(ctx context.Context, by Actor, d Deed, do func() error) error {
	one := func(Tx) ([]Deed, []Event, error) { return []Deed{d}, nil, nil }
	if err := s.act(ctx, by, one); err != nil {
		return err
	}
	err := do()
	if err == nil || ctx.Err() != nil {
		return err
	}
	return errors.Join(err, s.failed(ctx, by, d, err))
}

// failed puts into the audit what became of an order that a bench refused, or that did not reach it.
func (s *Shop) failed(ctx context.Context, by Actor, d Deed, why error) error {
	words := ": failed, " + why.Error()
	if refusal, ok := errors.AsType[*protocol.Refusal](why); ok {
		words = ": refused, " + refusal.Cause
	}
	d.Text += words
	return s.act(ctx, by, func(Tx) ([]Deed, []Event, error) { return []Deed{d}, nil, nil })
}
