package shop

import (
	"context"
	"errors"
	"fmt"
	"time"

	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/reading"
	"hylostat.example/internal/core/signal"
	"hylostat.example/internal/protocol"
)

// record stores a reading as it came, derives what follows from it, and decides anew. A reading that comes a second time
// changes nothing.
func (s *Shop) record(ctx context.Context, tx Tx, p protocol.Reading) ([]Event, error) {
	decoded := reading.Decode(p.Pages)
	signals := signal.Of(&decoded)
	d, err := tx.DriveByKey(ctx, p.Key)
	if _, unknown := errors.AsType[*NotFound](err); unknown {
		d, err = Drive{Duty: drive.Everyday, FirstSeen: p.At}, nil
	}
	if err != nil {
		return nil, err
	}
	d.Identity = decoded.Identity
	d.Identity.Key = p.Key // a damaged page must not rename a drive the bench knew
	if err := tx.SaveDrive(ctx, &d); err != nil {
		return nil, err
	}
	before, err := tx.Moments(ctx, d.ID)
	if err != nil {
		return nil, err
	}
	r := Reading{Drive: d.ID, At: p.At, Took: p.Took, Bay: p.Bay, Run: p.Run, Step: p.Step, Tool: p.Tool, Decoder: reading.DecoderVersion, Pages: p.Pages, Report: p.ID}
	fresh, err := tx.AddReading(ctx, &r, signals)
	if err != nil || !fresh {
		return nil, err
	}
	if len(before) > 0 {
		for _, c := range changes(before[len(before)-1], r, signals) {
			if err := tx.AddChange(ctx, d.ID, c); err != nil {
				return nil, err
			}
		}
	}
	events := []Event{{At: s.clock.Now(), Kind: ReadingTaken, Serial: p.Key.Serial, Bay: p.Bay, Run: p.Run, Order: p.Order, Reading: r.Seq, Text: fmt.Sprintf("%s: reading %d taken", p.Key.Serial, r.Seq)}}
	more, err := s.decide(ctx, tx, d, decoded, signals, r)
	return append(events, more...), err
}

// changes lists the counters that matter and moved between two readings.
func changes(before Moment, r Reading, now signal.Set) []Change {
	var all []Change
	hours := -1.0
	if h := now[signal.PowerOnHours]; h.Available {
		hours = h.Number
	}
	for _, d := range signal.Registry {
		was, had := before.Signals[d.Name]
		v := now[d.Name]
		if d.Matters && had && v.Available && was != v.Number {
			all = append(all, Change{d.Name, r.Seq, r.At, hours, was, v.Number})
		}
	}
	return all
}

// orderDeadline is how long somebody waits for a reading that was ordered. The order stands even after that.
const orderDeadline = 2 * time.Minute

// TakeReading orders a reading of a drive and waits for it.
func (s *Shop) TakeReading(ctx context.Context, d Drive, by string) (Reading, error) {
	if d.Now.Bay == 0 {
		return Reading{}, &Conflict{d.Identity.Serial + " is in no bay", "Attach it to a bay, then read it."}
	}
	id := orderID()
	c := make(chan Reading, 1)
	s.mu.Lock()
	s.waiting[id] = c
	s.mu.Unlock()
	defer func() {
		s.mu.Lock()
		delete(s.waiting, id)
		s.mu.Unlock()
	}()
	if _, err := s.bench.Order(ctx, protocol.Order{Kind: protocol.OrderRead, Bay: d.Now.Bay, Key: d.Identity.Key, ID: id, By: by}); err != nil {
		return Reading{}, err
	}
	timer := time.NewTimer(orderDeadline)
	defer timer.Stop()
	select {
	case r := <-c:
		return r, nil
	case <-ctx.Done():
		return Reading{}, ctx.Err()
	case <-timer.C:
		return Reading{}, &Conflict{fmt.Sprintf("bay %d brought no reading of %s within %s", d.Now.Bay, d.Identity.Serial, orderDeadline), "Look at the bay's state; the order stands."}
	}
}

// deliver hands a reading to whoever ordered it.
func (s *Shop) deliver(ctx context.Context, e Event) {
	s.mu.Lock()
	c := s.waiting[e.Order]
	s.mu.Unlock()
	if c == nil {
		return
	}
	found, err := s.store.DrivesBySuffix(ctx, e.Serial)
	if err != nil || len(found) == 0 {
		return
	}
	for _, d := range found {
		if d.Identity.Serial != e.Serial {
			continue
		}
		if r, err := s.store.Reading(ctx, d.ID, e.Reading); err == nil {
			c <- r
			return
		}
	}
}
