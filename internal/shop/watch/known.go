package watch

import (
	"context"
	"fmt"
	"time"

	"hylostat.example/internal/core/alert"
	"hylostat.example/internal/core/signal"
	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/shop"
)

// Told is an alert with the drive it is about.
type Told struct {
	alert.Alert
	Of shop.Drive // zero: it is about no drive
}

// AlertList lists alerts, those that moved last first.
func (w *Watcher) AlertList(ctx context.Context, q AlertQuery) ([]Told, error) {
	all, err := w.store.Alerts(ctx, q)
	if err != nil {
		return nil, err
	}
	out := make([]Told, len(all))
	for i, a := range all {
		if out[i].Alert = a; a.Drive != 0 {
			if out[i].Of, err = w.store.Drive(ctx, a.Drive); err != nil {
				return nil, err
			}
		}
	}
	return out, nil
}

// Badge is what a list shows of a drive's alerts.
type Badge struct{ Alerts, Known int } // open and taken; signals that are quiet up to a level

// Badges are those of some drives that have any.
func (w *Watcher) Badges(ctx context.Context, drives []int64) (map[int64]Badge, error) {
	return w.store.Badges(ctx, drives)
}

// TakeAlert has somebody look after an alert.
func (w *Watcher) TakeAlert(ctx context.Context, by shop.Actor, id int64) (Told, error) {
	return w.change(ctx, by, id, wording.AlertTaken, "", func(a alert.Alert, _ time.Time) (alert.Alert, error) {
		if a.State == alert.Settled {
			return a, &shop.Conflict{What: fmt.Sprintf("alert %d is settled", id), Advice: "It opens again when it comes anew."}
		}
		return a.Take(by.Name), nil
	})
}

// SettleAlert has somebody be done with an alert: it is quiet until it comes anew, or grows beyond what was told.
func (w *Watcher) SettleAlert(ctx context.Context, by shop.Actor, id int64, note string) (Told, error) {
	if err := shop.Tidy(&note); err != nil {
		return Told{}, err
	}
	return w.change(ctx, by, id, wording.AlertSettled, note, func(a alert.Alert, now time.Time) (alert.Alert, error) {
		if a.State == alert.Settled {
			return a, &shop.Conflict{What: fmt.Sprintf("alert %d is settled", id), Advice: "There is nothing to settle."}
		}
		return a.Settle(by.Name, note, now), nil
	})
}

func (w *Watcher) change(
	ctx context.Context, by shop.Actor, id int64, code wording.Code, note string, f func(alert.Alert, time.Time) (alert.Alert, error),
) (t Told, err error) {
	err = shop.Act(ctx, w.books, w.store, by, func(tx Tx) ([]shop.Deed, []shop.Event, error) {
		a, err := tx.AlertByID(ctx, id)
		if err != nil {
			return nil, nil, err
		}
		if a.ID == 0 {
			return nil, nil, &shop.NotFound{What: fmt.Sprintf("there is no alert %d", id), Advice: "List the alerts."}
		}
		was := a.State
		if a, err = f(a, w.books.Clock.Now()); err != nil {
			return nil, nil, err
		}
		if t.Alert = a; a.Drive != 0 {
			if t.Of, err = tx.Drive(ctx, a.Drive); err != nil {
				return nil, nil, err
			}
		}
		serial := t.Of.Identity.Serial
		deed := shop.Deed{Kind: shop.AlertChanged, Serial: serial, Said: wording.Say(code, wording.Values{
			"of": Subject(a.Thing, serial), "said": a.Said, "by": by.Name,
		})}
		deed.Edited("alert", string(was), string(a.State))
		deed.Edited("note", "", note)
		return []shop.Deed{deed}, nil, tx.SaveAlert(ctx, &a)
	})
	return t, err
}

// Accepts are the accepted levels, of a drive or of all (0).
func (w *Watcher) Accepts(ctx context.Context, driveID int64) ([]alert.Accepted, error) {
	return w.store.AcceptedLevels(ctx, driveID)
}

// Accept notes that a flaw is known, and quiet up to a level. It changes no verdict.
func (w *Watcher) Accept(ctx context.Context, by shop.Actor, d shop.Drive, a alert.Accepted) (alert.Accepted, error) {
	if err := shop.Tidy(&a.Reason); err != nil {
		return a, err
	}
	now := w.books.Clock.Now()
	def, known := signal.Lookup(signal.Name(a.Signal))
	switch {
	case !known:
		what := fmt.Sprintf("there is no signal %q", a.Signal)
		return a, &shop.NotFound{What: what, Advice: "List the drive's signals: each has its name."}
	case a.Reason == "":
		return a, &shop.Invalid{What: "no reason is given", Advice: "Say why it is known: it is kept."}
	case !a.Until.IsZero() && !a.Until.After(now):
		return a, &shop.Invalid{What: "the day lies behind", Advice: "Say until when it is quiet, or leave it out."}
	case a.Level < 0:
		return a, &shop.Invalid{What: "a level is not below 0", Advice: "Say up to which it is quiet."}
	}
	a.Drive, a.By, a.At = d.ID, by.Name, now
	err := shop.Act(ctx, w.books, w.store, by, func(tx Tx) ([]shop.Deed, []shop.Event, error) {
		was, err := acceptedOf(ctx, tx, d.ID, a.Signal)
		if err != nil {
			return nil, nil, err
		}
		deed := shop.Deed{Kind: shop.LevelAccepted, Serial: d.Identity.Serial, Said: wording.Say(wording.AlertAccepted, wording.Values{
			"serial": d.Identity.Serial, "signal": def.Words, "level": wording.Of(a.Level, def.Unit), "by": by.Name,
		})}
		deed.Edited("quiet up to", levelOf(was), wording.Number(a.Level))
		deed.Edited("reason", reasonOf(was), a.Reason)
		return []shop.Deed{deed}, nil, tx.SaveAccepted(ctx, a)
	})
	return a, err
}

// EndAccept ends an accepted level: the signal speaks again.
func (w *Watcher) EndAccept(ctx context.Context, by shop.Actor, d shop.Drive, name string) error {
	return shop.Act(ctx, w.books, w.store, by, func(tx Tx) ([]shop.Deed, []shop.Event, error) {
		was, err := acceptedOf(ctx, tx, d.ID, name)
		if err != nil {
			return nil, nil, err
		}
		if was == nil {
			return nil, nil, &shop.NotFound{
				What: fmt.Sprintf("no level of %q is accepted for %s", name, d.Identity.Serial), Advice: "List them.",
			}
		}
		deed := shop.Deed{Kind: shop.LevelAccepted, Serial: d.Identity.Serial, Said: wording.Say(wording.AlertSpeaks, wording.Values{
			"serial": d.Identity.Serial, "signal": name,
		})}
		deed.Edited("quiet up to", levelOf(was), "")
		return []shop.Deed{deed}, nil, tx.DropAccepted(ctx, d.ID, name)
	})
}

func acceptedOf(ctx context.Context, r Reader, driveID int64, name string) (*alert.Accepted, error) {
	all, err := r.AcceptedLevels(ctx, driveID)
	for i := range all {
		if all[i].Signal == name {
			return &all[i], err
		}
	}
	return nil, err
}

func levelOf(a *alert.Accepted) string {
	if a == nil {
		return ""
	}
	return wording.Number(a.Level)
}

func reasonOf(a *alert.Accepted) string {
	if a == nil {
		return ""
	}
	return a.Reason
}

// SignalsNow are a drive's at its latest reading; none: it has none.
func (w *Watcher) SignalsNow(ctx context.Context, driveID int64) (v signal.Values, err error) {
	m, err := w.store.Latest(ctx, driveID)
	if shop.IsNone(err) {
		return v, nil
	}
	return m.Signals, err
}

// LevelNow is a signal's value at a drive's latest reading; false: it does not give it.
func (w *Watcher) LevelNow(ctx context.Context, d shop.Drive, name string) (float64, bool, error) {
	v, err := w.SignalsNow(ctx, d.ID)
	if err != nil {
		return 0, false, err
	}
	level, has := v.Get(signal.Name(name))
	return level, has, nil
}
