package tell

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"time"

	"hylostat.example/internal/core/alert"
	routes "hylostat.example/internal/core/tell"
	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/shop"
)

// How the outbox is gone through.
const (
	lookEvery  = time.Second      // for what has come due
	atMost     = 500              // messages at a look
	sendWithin = 30 * time.Second // a letter
	keptFor    = 90 * 24 * time.Hour
	sayAfter   = 3 // tries, a route that fails is an alert
)

// Raiser makes an alert of something of the service's own.
type Raiser func(ctx context.Context, tx Tx, s alert.Seen) ([]shop.Event, error)

// Keep sends what is due until the context ends, and returns when nothing is on its way any more. raise tells of a route that fails.
func (t *Teller) Keep(ctx context.Context, raise Raiser) {
	ticks := time.NewTicker(lookEvery)
	defer ticks.Stop()
	facts := t.books.Listen(ctx)
	forget := time.Time{}
	for ctx.Err() == nil {
		t.look(ctx, raise)
		if now := t.books.Clock.Now(); now.After(forget) {
			forget = now.Add(24 * time.Hour)
			if err := t.store.Write(ctx, func(tx Tx) error { return tx.Forget(ctx, now.Add(-keptFor)) }); err != nil && ctx.Err() == nil {
				t.books.Log.Warn("forgetting what was told long ago", "error", err)
			}
		}
		for waiting := true; waiting; {
			select {
			case <-ctx.Done():
				return
			case <-ticks.C:
				waiting = false
			case <-t.wake:
				waiting = false
			case e, more := <-facts:
				if !more && ctx.Err() == nil {
					facts = t.books.Listen(ctx)
				}
				waiting = more && e.Kind != shop.AlertChanged
			}
		}
	}
}

// look has each route that has something to tell tell it, one letter after the other.
func (t *Teller) look(ctx context.Context, raise Raiser) {
	t.mu.Lock() // before it is looked: what is on its way now may be told by the time it would be told again
	busy := maps.Clone(t.sending)
	t.mu.Unlock()
	due, err := t.store.DueMessages(ctx, t.books.Clock.Now(), atMost)
	if err != nil || len(due) == 0 {
		if err != nil && ctx.Err() == nil {
			t.books.Log.Warn("looking for what is to be told; it is tried again", "error", err)
		}
		return
	}
	known, err := all(ctx, t.store)
	if err != nil {
		return // it is asked for again
	}
	by := map[string][]Message{}
	for _, m := range due {
		by[m.Route] = append(by[m.Route], m)
	}
	for name, messages := range by {
		if busy[name] {
			continue
		}
		t.mu.Lock()
		t.sending[name] = true
		t.mu.Unlock()
		route := Route{}
		for _, r := range known {
			if r.Name == name {
				route = r
			}
		}
		tell := func() {
			defer func() {
				t.mu.Lock()
				delete(t.sending, name)
				t.mu.Unlock()
			}()
			if err := t.tell(ctx, route, messages, raise); err != nil && ctx.Err() == nil {
				t.books.Log.Warn("noting what was told; it is told again, under the same name", "route", name, "error", err)
			}
		}
		if route.By == routes.Console { // at once: it waits for nobody
			tell()
			continue
		}
		t.books.Own.Go(tell)
	}
}

// tell tells one route's messages, those for a digest in one letter. It ends at the first that cannot be told now.
func (t *Teller) tell(ctx context.Context, r Route, due []Message, raise Raiser) error {
	for len(due) > 0 && ctx.Err() == nil {
		together := due[:1]
		if due[0].Digest {
			together = nil
			for _, m := range due {
				if m.Digest {
					together = append(together, m)
				}
			}
		}
		rest := due[:0:0]
		for _, m := range due[1:] {
			if !due[0].Digest || !m.Digest {
				rest = append(rest, m)
			}
		}
		due = rest
		on, err := t.one(ctx, r, together, raise)
		if err != nil || !on {
			return err
		}
	}
	return ctx.Err()
}

// one tells messages in one letter; false: the route has to rest.
func (t *Teller) one(ctx context.Context, r Route, all []Message, raise Raiser) (on bool, err error) {
	now := t.books.Clock.Now()
	var tell, drop []Message
	for _, m := range all {
		a, err := t.store.AlertByID(ctx, m.Body.Alert.ID)
		if err != nil {
			return false, err
		}
		m.Ended = now
		switch {
		case r.Name == "" || r.Off != "":
			m.State, m.Why = Dropped, "the route is off"
			drop = append(drop, m)
		case m.Untaken && a.State != alert.Open, a.State == alert.Settled && a.By != "" && !r.By.Machine(): // somebody knows
			m.State, m.Why = Dropped, "the alert was "+string(a.State)+" by then"
			drop = append(drop, m)
		default:
			m.Body.Alert.State, m.Body.Alert.By, m.Body.Alert.Ended = a.State, a.By, a.Ended // it may be over by now
			tell = append(tell, m)
		}
	}
	if err := t.save(ctx, drop); err != nil || len(tell) == 0 {
		return err == nil, err
	}
	var wrong error
	if !t.has(tell) {
		wrong = t.send(ctx, r, t.letter(tell))
	}
	if err := ctx.Err(); err != nil && wrong != nil { // the service ends, and this did not get through: it is told when it is back
		return false, err
	}
	err = t.noted(context.WithoutCancel(ctx), r, tell, wrong, raise) // what was told is noted, come what may
	if wrong == nil {
		t.arrive(tell, err != nil)
	}
	return wrong == nil, err
}

// has reports whether messages have arrived, and only wait to be noted: a full disk has nobody told the same every second.
func (t *Teller) has(all []Message) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, m := range all {
		if !t.arrived[m.ID] {
			return false
		}
	}
	return true
}

// arrive keeps in mind which messages have arrived as long as they wait to be noted.
func (t *Teller) arrive(all []Message, waits bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, m := range all {
		if waits {
			t.arrived[m.ID] = true
		} else {
			delete(t.arrived, m.ID)
		}
	}
}

func (t *Teller) save(ctx context.Context, messages []Message) error {
	if len(messages) == 0 {
		return nil
	}
	return t.store.Write(ctx, func(tx Tx) error {
		for _, m := range messages {
			if err := tx.SaveMessage(ctx, m); err != nil {
				return err
			}
		}
		return nil
	})
}

// letter is what is sent for messages. A digest goes by the name of its first.
func (t *Teller) letter(all []Message) Letter {
	l := Letter{Shop: t.books.Name, Key: t.books.Key.Name(), At: t.books.Clock.Now()}
	l.ID = fmt.Sprintf("%s-%d", l.Key, all[0].ID)
	for _, m := range all {
		l.All = append(l.All, m.Body)
	}
	return l
}

// send sends a letter by a route.
func (t *Teller) send(ctx context.Context, r Route, l Letter) error {
	_, err := t.sendSaying(ctx, r, l)
	return err
}

func (t *Teller) sendSaying(ctx context.Context, r Route, l Letter) (words []string, err error) {
	if r.By == routes.Console {
		for _, b := range l.All {
			t.books.Tell(shop.Event{
				At: l.At, Kind: shop.AlertTold, Serial: b.Serial, Bay: b.Bay, Alert: b.Alert.ID, Severity: string(b.Alert.Severity),
				Repeat: r.Repeat, People: r.People(),
				Said: wording.Say(wording.AlertRaised, wording.Values{"of": b.Of, "said": b.Alert.Said}),
			})
		}
		return nil, nil
	}
	sender := t.senders[r.By]
	if sender == nil {
		return nil, fmt.Errorf("this service sends nothing by %s", r.By)
	}
	secret := ""
	if len(r.Secret) > 0 {
		if secret, err = t.vault.Open(r.Secret); err != nil {
			return nil, &Refused{Why: fmt.Sprintf("the route's secret cannot be opened (%s): give it again", err)}
		}
	}
	ctx, end := context.WithTimeout(ctx, sendWithin)
	defer end()
	return sender.Send(ctx, r.Route, secret, l)
}

// noted stores what came of a letter, and tells of a route that fails.
func (t *Teller) noted(ctx context.Context, r Route, messages []Message, wrong error, raise Raiser) error {
	now := t.books.Clock.Now()
	gone, isGone := errors.AsType[*Gone](wrong)
	_, refused := errors.AsType[*Refused](wrong)
	_, err := shop.Apply(ctx, t.books, t.store, func(tx Tx) ([]shop.Event, error) {
		for _, m := range messages {
			m.Tries++
			m.State, m.Ended, m.Why = Sent, now, ""
			if wrong != nil {
				m.Why = wrong.Error()
				next, again := routes.Again(m.Due, m.Tries, now)
				m.State, m.Ended, m.Next = Waiting, time.Time{}, next
				if refused || isGone || !again {
					m.State, m.Ended = Failed, now
				} else if err := tx.Rest(ctx, r.Name, next); err != nil {
					return nil, err
				}
			}
			if err := tx.SaveMessage(ctx, m); err != nil {
				return nil, err
			}
		}
		if r.By == routes.Console {
			return nil, nil
		}
		known, err := tx.Routes(ctx)
		if err != nil {
			return nil, err
		}
		for _, is := range known {
			if is.Name != r.Name {
				continue
			}
			switch {
			case wrong == nil:
				is.Sent = now
			case isGone:
				is.Off = gone.Why
				fallthrough
			default:
				is.Failed, is.Why = now, wrong.Error()
			}
			if err := tx.SaveRoute(ctx, is); err != nil {
				return nil, err
			}
		}
		s := alert.Seen{Thing: alert.Thing{Kind: alert.RouteFailed, Name: r.Name}, At: now, Level: 1, Severity: alert.Now}
		switch {
		case wrong == nil:
			s.Over = true
		case isGone:
			s.Said = wording.Say(wording.AlertRouteOff, wording.Values{"name": r.Name, "why": gone.Why})
		case refused || messages[0].Tries+1 >= sayAfter:
			s.Said = wording.Say(wording.AlertRoute, wording.Values{"name": r.Name, "why": wrong.Error()})
		default:
			return nil, nil
		}
		return raise(ctx, tx, s)
	})
	return err
}
