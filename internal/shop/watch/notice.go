package watch

import (
	"context"
	"reflect"
	"slices"
	"time"

	"hylostat.example/internal/core/alert"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/verdict"
	plans "hylostat.example/internal/core/watch"
	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/shop"
	"hylostat.example/internal/shop/tell"
)

// Unsettled are the alerts that are open or taken, in a query.
const Unsettled alert.State = "unsettled"

// AlertQuery selects alerts, those that moved last first.
type AlertQuery struct {
	Drive int64       // 0: any
	State alert.State // empty: any
	Limit int
}

// Noticed looks at a watched drive of which a reading has been taken in: what a person should know of it becomes an alert, in the same
// change of the storage.
func (w *Watcher) Noticed(ctx context.Context, tx Tx, of drive.Key, events []shop.Event) (more []shop.Event, err error) {
	i := slices.IndexFunc(events, func(e shop.Event) bool { return e.Kind == shop.ReadingTaken })
	if i < 0 || events[i].Said.Code == wording.ReadingAhead || events[i].Said.Code == wording.ReadingAsleep {
		return nil, nil
	}
	e := events[i]
	w.mu.Lock()
	d := w.ofKey(of)
	w.mu.Unlock()
	if d == nil {
		return nil, nil
	}
	look, ok, err := w.look(ctx, tx, d.ID, e.Reading, slices.ContainsFunc(events,
		func(e shop.Event) bool { return e.Kind == shop.VerdictChanged }))
	if err != nil || !ok {
		return nil, err
	}
	for _, s := range look.Seen() {
		raised, err := w.step(ctx, tx, s, e.Serial, e.Bay)
		if err != nil {
			return nil, err
		}
		more = append(more, raised...)
	}
	return more, nil
}

// pastReadings is how many readings back a signal is looked for that a drive does not always give.
const pastReadings = 200

// look lays a drive's latest reading beside those before it; false: the one that is asked for (0: any) is not the latest, or the first.
func (w *Watcher) look(ctx context.Context, tx Tx, id int64, reading int, changed bool) (l alert.Look, ok bool, err error) {
	moments, err := tx.Moments(ctx, id)
	if err != nil {
		return l, false, err
	}
	n := len(moments)
	if n == 0 || reading != 0 && moments[n-1].Seq != reading {
		return l, false, nil
	}
	verdicts, err := tx.Verdicts(ctx, id)
	if err != nil || len(verdicts) == 0 {
		return l, false, err
	}
	was := (*verdict.Verdict)(nil)
	switch {
	case !changed:
		was = &verdicts[0].Verdict
	case len(verdicts) > 1:
		was = &verdicts[1].Verdict
	}
	l = alert.Look{
		Drive: id, Reading: moments[n-1].Seq, At: moments[n-1].At, Was: was, Is: verdicts[0].Verdict, Now: moments[n-1].Signals,
		Policy: w.judge.Policy(),
	}
	for i := n - 2; i >= 0 && len(l.Past) < pastReadings; i-- {
		l.Past = append(l.Past, moments[i].Signals)
	}
	if l.Accepted, err = tx.AcceptedLevels(ctx, id); err != nil {
		return l, false, err
	}
	l.Alerts, err = tx.Alerts(ctx, AlertQuery{Drive: id, Limit: 1000})
	return l, err == nil, err
}

// step lets a look change the alert of its thing, and gives the fact to tell, if there is one.
func (w *Watcher) step(ctx context.Context, tx tell.Tx, s alert.Seen, serial string, bay drive.Bay) ([]shop.Event, error) {
	was, err := tx.AlertOf(ctx, s.Thing)
	if err != nil {
		return nil, err
	}
	a, tells := alert.Step(was, s)
	if a.Count == 0 || reflect.DeepEqual(a, was) {
		return nil, nil
	}
	if err := tx.SaveAlert(ctx, &a); err != nil || tells == alert.Nothing {
		return nil, err
	}
	if err := w.told.Announce(ctx, tx, &a, tells, Subject(s.Thing, serial), bay); err != nil {
		return nil, err
	}
	code := wording.AlertRaised
	if tells == alert.Ended {
		code = wording.AlertEnded
	}
	return []shop.Event{{
		At: w.books.Clock.Now(), Kind: shop.AlertChanged, Serial: serial, Bay: bay, Reading: s.Reading,
		Said: wording.Say(code, wording.Values{"of": Subject(s.Thing, serial), "said": a.Said}),
	}}, nil
}

// Subject names what an alert is about.
func Subject(t alert.Thing, serial string) wording.Phrase {
	switch {
	case t.Drive != 0:
		return wording.Say(wording.WatchOfDrive, wording.Values{"serial": wording.Serial(serial)})
	case t.Bench != "":
		return wording.Say(wording.WatchOfBench, wording.Values{"name": t.Bench})
	case t.Kind == alert.BenchSilent || t.Kind == alert.BenchPulled:
		return wording.Say(wording.WatchOfOwnBench)
	}
	return wording.Say(wording.AlertOfService)
}

// How things are that no reading tells.
const (
	goneAfter    = time.Minute // of the shop's time, so that a bench that is pulled at once is one thing
	pulledAtOnce = 3           // more drives than that, gone from one bench, are one alert
	aroundEvery  = 20 * time.Second
	overEvery    = time.Hour // how often a look at a bench that is back counts
)

// around is what is known of things that no reading tells.
type around struct {
	known bool
	next  time.Time
	is    map[alert.Thing]bool      // it is so, and was said
	over  map[alert.Thing]time.Time // it is not any more: when to look again
}

// lookAround sees which watched drives and benches are not there as they should be. That a drive is back is seen at its readings.
func (w *Watcher) lookAround(ctx context.Context) error {
	now := w.books.Clock.Now()
	if now.Before(w.around.next) && w.around.next.Sub(now) <= aroundEvery {
		return nil
	}
	w.around.next = now.Add(aroundEvery)
	if !w.around.known {
		if err := w.remember(ctx); err != nil {
			return err
		}
	}
	all := w.sights(now)
	for _, look := range w.looks {
		for _, s := range look(now) {
			all = append(all, sight{Seen: s})
		}
	}
	var moved []sight
	for _, s := range all {
		switch was := w.around.is[s.Thing]; {
		case !s.Over && !was:
			w.around.is[s.Thing] = true
			delete(w.around.over, s.Thing)
			moved = append(moved, s)
		case s.Over && s.Drive != 0:
			delete(w.around.is, s.Thing)
		case s.Over && (was || !w.around.over[s.Thing].IsZero() && !now.Before(w.around.over[s.Thing])):
			delete(w.around.is, s.Thing)
			w.around.over[s.Thing] = now.Add(overEvery)
			moved = append(moved, s)
		}
	}
	if len(moved) == 0 {
		return nil
	}
	_, err := shop.Apply(ctx, w.books, w.store, func(tx Tx) (events []shop.Event, err error) {
		for _, s := range moved {
			more, err := w.step(ctx, tx, s.Seen, s.serial, s.bay)
			if err != nil {
				return nil, err
			}
			events = append(events, more...)
		}
		return events, nil
	})
	if err != nil {
		w.around.known = false // what is stored tells
	}
	return err
}

// Around has the watch look at something of the service's own with each look around. Before Keep.
func (w *Watcher) Around(look func(now time.Time) []alert.Seen) { w.looks = append(w.looks, look) }

// OfService takes in one look at something of the service's own, in somebody's change of the storage.
func (w *Watcher) OfService(ctx context.Context, tx tell.Tx, s alert.Seen) ([]shop.Event, error) {
	return w.step(ctx, tx, s, "", drive.Bay{})
}

// remember takes from the store what was said before this program began.
func (w *Watcher) remember(ctx context.Context) error {
	open, err := w.store.Alerts(ctx, AlertQuery{State: Unsettled, Limit: 10_000})
	if err != nil {
		return err
	}
	w.around = around{known: true, next: w.around.next, is: map[alert.Thing]bool{}, over: map[alert.Thing]time.Time{}}
	for _, a := range open {
		w.around.is[a.Thing] = a.Since.IsZero()
		if a.Drive == 0 && !a.Since.IsZero() {
			w.around.over[a.Thing] = w.books.Clock.Now()
		}
	}
	return nil
}

// sight is a look at something, with what people call it.
type sight struct {
	alert.Seen
	serial string
	bay    drive.Bay
}

// sights are how drives and benches are at a moment.
func (w *Watcher) sights(now time.Time) (all []sight) {
	w.mu.Lock()
	defer w.mu.Unlock()
	gone, benches := map[string][]*watched{}, map[string]int{}
	see := func(d *watched, kind alert.Kind, is bool, code wording.Code, v wording.Values) {
		s := alert.Seen{Thing: alert.Thing{Kind: kind, Drive: d.ID}, At: now, Over: !is, Level: 1, Severity: alert.Now}
		s.Said = wording.Say(code, v)
		all = append(all, sight{s, d.Key.Serial, d.bay})
	}
	for _, id := range w.numbers() {
		d := w.drives[id]
		benches[d.Bench]++
		if !d.bay.IsZero() {
			d.left = time.Time{}
			missed := 0
			if w.here(d.Bench) {
				missed = len(w.missed(d, now))
			}
			see(d, alert.Unread, missed >= 2, wording.AlertUnread, wording.Values{"n": missed, "at": d.Told.Format(time.RFC3339)})
			see(d, alert.Vanished, false, "", nil)
			see(
				d, alert.Hangs, !d.stuck.IsZero() && now.Sub(d.stuck) >= goneAfter, wording.AlertHangs,
				wording.Values{"at": d.stuck.Format(time.RFC3339)},
			)
			continue
		}
		if d.left.IsZero() {
			d.left = now
		}
		if now.Sub(d.left) >= goneAfter {
			gone[d.Bench] = append(gone[d.Bench], d)
		}
	}
	for bench, n := range benches {
		of := func(kind alert.Kind, is bool, loud alert.Severity, code wording.Code, n int) {
			s := alert.Seen{Thing: alert.Thing{Kind: kind, Bench: bench}, At: now, Over: !is, Level: 1, Severity: loud}
			s.Said = wording.Say(code, wording.Values{"n": n})
			all = append(all, sight{Seen: s})
		}
		pulled := len(gone[bench]) > pulledAtOnce
		of(alert.BenchSilent, !w.here(bench), alert.Wake, wording.AlertSilent, n)
		of(alert.BenchPulled, pulled, alert.Now, wording.AlertPulled, len(gone[bench]))
		for _, d := range gone[bench] {
			see(d, alert.Vanished, !pulled, wording.AlertVanished, wording.Values{"at": d.left.Format(time.RFC3339)})
		}
	}
	return all
}

// missed are the readings of a drive that came due and were not taken, the first 50 of them. The caller holds the lock.
func (w *Watcher) missed(d *watched, now time.Time) []time.Time {
	from := d.Did[plans.Reading].At
	if from.Before(d.Since) {
		from = d.Since
	}
	if last, _ := w.planner.About(plans.Reading, &d.Drive, now); !last.After(from) { // as it should be
		return nil
	}
	all := w.planner.Slots(plans.Reading, d.Drive, from, now, 50)
	if n := len(all); n > 0 && d.Attached && d.Did[plans.Reading].Tried.Before(all[n-1]) { // it has just come due
		all = all[:n-1]
	}
	return all
}
