package watch

import (
	"context"
	"slices"
	"time"

	"hylostat.example/internal/core/alert"
	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/shop"
)

// Await notes that somebody waits for the end of a run, or not any more: the end is an alert then.
func (w *Watcher) Await(ctx context.Context, by shop.Actor, id int64, on bool) (check.Run, error) {
	r, err := w.runs.RunByID(ctx, id)
	if err != nil {
		return r, err
	}
	if on && r.State == check.Done {
		return r, &shop.Conflict{What: "that run has ended", Advice: "See what it found."}
	}
	return r, shop.Act(ctx, w.books, w.store, by, func(tx Tx) ([]shop.Deed, []shop.Event, error) {
		was, err := tx.Awaited(ctx, id)
		if err != nil {
			return nil, nil, err
		}
		name, code := "", wording.RunNotAwaited
		if on {
			name, code = by.Name, wording.RunAwaited
		}
		deed := shop.Deed{Kind: shop.RunOrdered, Serial: r.Key.Serial, Bay: r.Bay, Run: id, Said: wording.Say(
			code, wording.Values{"kind": string(r.Kind), "by": by.Name},
		)}
		deed.Edited("who waits for it", was, name)
		return []shop.Deed{deed}, nil, tx.SaveAwaited(ctx, id, name)
	})
}

// AwaitedBy tells who waits for the end of a run; empty: nobody.
func (w *Watcher) AwaitedBy(ctx context.Context, run int64) (string, error) {
	return w.store.Awaited(ctx, run)
}

// Done takes in that a run has ended, in the change of the storage that takes it in: what somebody waits for, and what the watch's sweeps
// found, becomes an alert. told is what the end is told by already.
func (w *Watcher) Done(ctx context.Context, tx Tx, r *check.Run, told []shop.Event) (events []shop.Event, err error) {
	if r.State != check.Done {
		return nil, nil
	}
	d, err := tx.DriveByKey(ctx, r.Key)
	if shop.IsNone(err) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	by, err := tx.Awaited(ctx, r.ID)
	if err != nil {
		return nil, err
	}
	at := r.Ended
	if by != "" {
		s := alert.Seen{
			Thing: alert.Thing{Kind: alert.RunEnded, Drive: d.ID}, At: at, Level: float64(r.ID), Severity: alert.Now,
			Said: wording.Say(wording.AlertRunEnded, wording.Values{"kind": string(r.Kind), "standing": r.Stands()}),
		}
		if events, err = w.step(ctx, tx, s, r.Key.Serial, r.Bay); err == nil {
			err = tx.SaveAwaited(ctx, r.ID, "")
		}
		if err != nil {
			return nil, err
		}
	}
	seen, err := w.judged(ctx, tx, d, told)
	if err != nil {
		return nil, err
	}
	if s, ok := swept(r, d.ID, at); ok && len(seen) == 0 { // else the verdict tells it
		seen = append(seen, s)
	}
	for _, s := range seen {
		more, err := w.step(ctx, tx, s, r.Key.Serial, r.Bay)
		if err != nil {
			return nil, err
		}
		events = append(events, more...)
	}
	return events, nil
}

// judged is what the end of a run made of the verdict on a watched drive; none: it is not worse.
func (w *Watcher) judged(ctx context.Context, tx Tx, d shop.Drive, told []shop.Event) ([]alert.Seen, error) {
	w.mu.Lock()
	_, watched := w.drives[d.ID]
	w.mu.Unlock()
	if !watched || !slices.ContainsFunc(told, func(e shop.Event) bool { return e.Kind == shop.VerdictChanged }) {
		return nil, nil
	}
	look, ok, err := w.look(ctx, tx, d.ID, 0, true)
	if err != nil || !ok {
		return nil, err
	}
	return slices.DeleteFunc(look.Seen(), func(s alert.Seen) bool { return s.Kind != alert.Verdict }), nil
}

// swept is what a run of the watch that swept is looked at as; false: it swept nothing, or somebody stopped it.
func swept(r *check.Run, id int64, at time.Time) (s alert.Seen, ok bool) {
	if t, own := taskOf(r); !own || !t.Sweeps() || r.Outcome == check.Stopped {
		return s, false
	}
	s = alert.Seen{Thing: alert.Thing{Kind: alert.Sweep, Drive: id}, At: at, Severity: alert.Now}
	for i := range r.Steps {
		step := &r.Steps[i]
		switch {
		case step.Standing != nil && step.Standing.Unreadable > 0:
			ok, s.Level = true, float64(step.Standing.Unreadable)
			s.Said = wording.Say(wording.AlertSweep, wording.Values{"kind": string(r.Kind), "n": step.Standing.Unreadable})
		case step.Standing != nil && step.Standing.Share == 1:
			ok, s.Over = true, true
		case step.Kind.IsSweep() && step.State == check.StepFailed:
			ok, s.Level = true, 1
			s.Said = wording.Say(wording.AlertUnswept, wording.Values{"kind": string(r.Kind), "standing": r.Stands()})
		}
	}
	return s, ok
}
