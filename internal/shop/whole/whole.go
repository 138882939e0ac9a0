// Package whole puts the shop's use cases together: it makes each over the storage, and hands what benches report to those whom it
// concerns. It decides nothing itself. Start with New and Take.
package whole

import (
	"context"
	"errors"
	"log/slog"
	"time"

	"hylostat.example/internal/access"
	"hylostat.example/internal/core/alert"
	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/drive"
	routes "hylostat.example/internal/core/tell"
	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/protocol"
	"hylostat.example/internal/seal"
	"hylostat.example/internal/shop"
	"hylostat.example/internal/shop/audit"
	"hylostat.example/internal/shop/desk"
	"hylostat.example/internal/shop/fleet"
	"hylostat.example/internal/shop/judge"
	"hylostat.example/internal/shop/record"
	"hylostat.example/internal/shop/runs"
	"hylostat.example/internal/shop/tell"
	"hylostat.example/internal/shop/watch"
)

// Storage is the storage, as each use case needs it.
type Storage struct {
	Judge  judge.Store
	Record record.Store
	Runs   runs.Store
	Desk   desk.Store
	Watch  watch.Store
	Tell   tell.Store
	Audit  audit.Store
	Facts  Facts
	Take   shop.Writer[Tx]
	Keys   Keys

	Senders map[routes.Means]tell.Sender // none: the console alone is told
	Vault   tell.Vault                   // nil: no route has a secret
}

// Keys has the key by which the shop signs.
type Keys interface {
	Key(ctx context.Context) (seal.Key, error)
}

// Facts are those that are stored.
type Facts interface {
	Events(ctx context.Context, after int64, limit int) ([]shop.Event, error)
	LastEvent(ctx context.Context) (int64, error)
}

// Tx is one change by a bench's report.
type Tx interface {
	desk.Tx
	record.Tx
	runs.Tx
	watch.Tx
	// Taken notes a report, and tells whether it was taken before.
	Taken(ctx context.Context, bench string, seq int64) (bool, error)
}

// Shop is the running shop: its use cases.
type Shop struct {
	*shop.Books
	*judge.Judge
	*record.Keeper
	*runs.Conductor
	*desk.Desk
	*watch.Watcher
	*tell.Teller
	*audit.Auditor
	Facts

	fleet *fleet.Fleet
	take  shop.Writer[Tx]
}

// New makes a shop over a storage and its benches. Its policy is the newest it has published itself, else the newest shipped one.
func New(
	ctx context.Context, name string, s Storage, benches *fleet.Fleet, shipped []byte, clock shop.Clock, log *slog.Logger,
) (*Shop, error) {
	key, err := s.Keys.Key(ctx)
	if err != nil {
		return nil, err
	}
	books := &shop.Books{Name: name, Key: key, Clock: clock, Log: log}
	j, err := judge.New(ctx, books, s.Judge, shipped)
	if err != nil {
		return nil, err
	}
	k := record.New(books, s.Record, j, benches)
	c := runs.New(books, s.Runs, j, k, benches)
	told := tell.New(books, s.Tell, s.Senders, s.Vault)
	w := watch.New(books, s.Watch, j, c, benches, told)
	j.AlertsOf(w.IsWatched)
	return &Shop{
		Watcher: w, Teller: told,
		Judge: j, Keeper: k, Conductor: c, Desk: desk.New(books, s.Desk, j, k, c, benches), Auditor: audit.New(books, s.Audit),
		Facts: s.Facts,
		Books: books, fleet: benches, take: s.Take,
	}, nil
}

// ClockMoved notes in log and audit that the machine's clock moved, ahead or back, beside the time that passed: times before and after
// do not go together.
func (s *Shop) ClockMoved(ctx context.Context, by time.Duration) error {
	code := wording.ClockMovedAhead
	if by < 0 {
		code = wording.ClockMovedBack
	}
	said := wording.Say(code, wording.Values{"s": int(by.Abs().Seconds())})
	s.Log.Warn("the machine's clock moved beside the time that passed", "by", by.Round(time.Second))
	return shop.Act(ctx, s.Books, s.take, access.Service, func(tx Tx) ([]shop.Deed, []shop.Event, error) {
		seen := alert.Seen{
			Thing: alert.Thing{Kind: alert.ClockMoved}, At: s.Clock.Now(), Level: by.Abs().Seconds(), Severity: alert.Now, Said: said,
		}
		events, err := s.OfService(ctx, tx, seen)
		return []shop.Deed{{Kind: shop.ClockMoved, Said: said}}, events, err
	})
}

// raise makes an alert of something of the service's own.
func (s *Shop) raise(ctx context.Context, tx tell.Tx, seen alert.Seen) ([]shop.Event, error) {
	return s.OfService(ctx, tx, seen)
}

// LastTime is the time of the last event that is stored; zero: there is none.
func (s *Shop) LastTime(ctx context.Context) (time.Time, error) {
	last, err := s.LastEvent(ctx)
	if err != nil || last == 0 {
		return time.Time{}, err
	}
	events, err := s.Events(ctx, last-1, 1)
	if err != nil || len(events) == 0 {
		return time.Time{}, err
	}
	return events[0].At, nil
}

// Benches tells how the shop's benches stand, its own first.
func (s *Shop) Benches() []fleet.Standing { return s.fleet.Benches() }

// Run keeps the shop's own affairs going until the context ends, and returns when nothing of the shop's is under way any more.
func (s *Shop) Run(ctx context.Context) error {
	defer s.Wait()
	s.Own.Go(func() { s.JudgeAnew(ctx) })
	s.Own.Go(func() { s.KeepConsents(ctx) })
	s.Own.Go(func() { s.KeepFolded(ctx) })
	s.Own.Go(func() { s.Watcher.Keep(ctx) })
	s.Own.Go(func() { s.Teller.Keep(ctx, s.raise) })
	<-ctx.Done()
	return nil
}

// Attend works with a bench that has joined: tells it which reworks may go on, and takes its reports in, until the context or the bench
// ends. The error is protocol.ErrGone, or of the store. Whoever listens is told that it has come, and that it is gone.
func (s *Shop) Attend(ctx context.Context, b protocol.Bench) error {
	if err := s.Consent(ctx, b.Describe().Name); err != nil { // before anything goes on that writes
		return err
	}
	if err := s.benchChanged(ctx, b); err != nil {
		return err
	}
	err := s.fleet.Attend(ctx, b, s)
	if ctx.Err() == nil {
		err = errors.Join(err, s.benchChanged(ctx, b))
	}
	return err
}

func (s *Shop) benchChanged(ctx context.Context, b protocol.Bench) error {
	changed := shop.Event{At: s.Clock.Now(), Kind: shop.BenchChanged, Bay: drive.Bay{Bench: b.Describe().Name}}
	_, err := shop.Apply(ctx, s.Books, s.take, func(Tx) ([]shop.Event, error) { return []shop.Event{changed}, nil })
	return err
}

// Wait waits for what the shop began on its own account, while it took reports in: it ends soon after their context. The store may
// be closed then.
func (s *Shop) Wait() { s.Own.Wait() }

// Take implements fleet.Taker: it stores one report of a bench and tells the world. A report that comes twice is stored once.
func (s *Shop) Take(ctx context.Context, bench string, r protocol.Report) error {
	events, err := shop.Apply(ctx, s.Books, s.take, func(tx Tx) ([]shop.Event, error) {
		if r.Seq > 0 { // else it is of no bench of ours
			if known, err := tx.Taken(ctx, bench, r.Seq); err != nil || known {
				return nil, err
			}
		}
		switch {
		case r.Started != nil:
			return s.BenchStarted(ctx, tx, bench, *r.Started)
		case r.Reading != nil:
			events, err := s.Arrived(ctx, tx, *r.Reading)
			if err != nil {
				return nil, err
			}
			more, err := s.Noticed(ctx, tx, r.Reading.Key, events)
			return append(events, more...), err
		case r.Bay != nil:
			return s.BayChanged(ctx, tx, *r.Bay)
		case r.Run != nil:
			events, err := s.RunChanged(ctx, tx, *r.Run)
			if err != nil {
				return nil, err
			}
			more, err := s.Done(ctx, tx, r.Run, events)
			return append(events, more...), err
		case r.Sweep != nil:
			return s.Swept(ctx, tx, *r.Sweep)
		case r.Volumes != nil:
			return s.VolumesSeen(ctx, tx, *r.Volumes)
		}
		return nil, nil
	})
	if err != nil {
		return err
	}
	if r.Run != nil && r.Run.State == check.Done {
		s.Ended(*r.Run)
	}
	if r.Started != nil {
		s.Begun(bench, *r.Started)
	}
	if r.Unanswered != nil {
		s.ReadingUnanswered(*r.Unanswered)
	}
	if r.Bay != nil {
		s.Stands(*r.Bay)
		s.ProtectSoon(ctx, *r.Bay)
		s.PlanSoon(ctx, *r.Bay)
		s.ReconsiderSoon(ctx, *r.Bay)
	}
	s.Deliver(ctx, r, events)
	return nil
}
