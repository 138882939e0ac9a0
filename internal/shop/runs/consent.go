package runs

import (
	"context"
	"errors"
	"fmt"
	"time"

	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/protocol"
	"hylostat.example/internal/shop"
)

// A bench writes while it has the shop's word that the owner's release still holds: for how long it may rely on one, and how often it
// gets another, in real time.
const (
	consentLasts = 5 * time.Minute
	consentEvery = time.Minute
)

// How long a release serves, within its intake: one that destroys everything begins one run; one to mend or renew is good for a week.
const releaseGood = 7 * 24 * time.Hour

// KeepConsents asks again, for every rework under way, whether its release holds, and tells its bench, until the context ends.
func (s *Conductor) KeepConsents(ctx context.Context) {
	for {
		if err := s.Reconsider(ctx, drive.Key{}); err != nil && ctx.Err() == nil {
			// A bench that is away is no fault of the service's: it writes nothing without the word.
			s.books.Log.Warn("asking whether the releases of reworks hold; those that nobody hears of wait", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(consentEvery):
		}
	}
}

// Reconsider asks again whether the releases of a drive's reworks hold, or of all when no drive is named, and tells the benches. What is
// released no more is stopped.
func (s *Conductor) Reconsider(ctx context.Context, key drive.Key) error {
	every := func(check.Run) bool { return true }
	return s.eachRework(ctx, key, every, func(r check.Run, void string) error {
		if void == "" {
			return nil
		}
		_, err := s.fleet.Order(ctx, protocol.Order{Kind: protocol.OrderStop, Run: r.ID, Bay: r.Bay, By: void})
		if _, refused := errors.AsType[*protocol.Refusal](err); refused { // it has ended, or its bench is not here
			err = nil
		}
		return err
	})
}

// EndRework takes the word back by which a rework writes, because its intake ends, and stops it.
func (s *Conductor) EndRework(ctx context.Context, r check.Run) error {
	if _, err := s.fleet.Order(ctx, protocol.Order{Kind: protocol.OrderConsent, Run: r.ID, Bay: r.Bay}); err != nil {
		return err
	}
	listening, end := context.WithTimeout(ctx, shop.Settling)
	defer end()
	facts := s.books.Listen(listening)
	o := protocol.Order{Kind: protocol.OrderStop, Run: r.ID, Bay: r.Bay, By: "the handover, which ends the release"}
	_, err := s.fleet.Order(ctx, o)
	if _, ended := errors.AsType[*protocol.Refusal](err); err != nil && !ended { // without the word it may have ended by itself
		return err
	}
	for {
		if now, err := s.RunByID(ctx, r.ID); err != nil || now.State == check.Done {
			return err
		}
		if _, more := <-facts; !more {
			return ctx.Err()
		}
	}
}

// Consent is Reconsider for a bench before it goes on with anything: it hears what holds, and stops nothing.
func (s *Conductor) Consent(ctx context.Context, bench string) error {
	here := func(r check.Run) bool { return r.Bay.Bench == bench }
	return s.eachRework(ctx, drive.Key{}, here, func(check.Run, string) error { return nil })
}

// eachRework tells the benches of each rework under way, of those that are meant, whether its release holds; then does something with it.
// void is why it does not hold any more; empty: it does.
func (s *Conductor) eachRework(
	ctx context.Context, key drive.Key, meant func(check.Run) bool, then func(r check.Run, void string) error,
) error {
	open, err := s.store.Runs(ctx, shop.RunQuery{Drive: key, Open: true, Reworks: true, Limit: 1000})
	if err != nil {
		return err
	}
	for _, r := range open {
		if r.Rework == nil || !meant(r) {
			continue
		}
		void, one := s.void(ctx, r)
		if one != nil { // nothing is said: the word it has ends by itself
			err = errors.Join(err, fmt.Errorf("asking for the release of run %d: %w", r.ID, one))
			continue
		}
		o := protocol.Order{Kind: protocol.OrderConsent, Run: r.ID, Bay: r.Bay}
		if void == "" {
			o.Lasts = consentLasts
		}
		if _, one := s.fleet.Order(ctx, o); one != nil {
			err = errors.Join(err, one)
		}
		err = errors.Join(err, then(r, void))
	}
	return err
}

// void tells what ended the release of a rework; empty: it holds.
func (s *Conductor) void(ctx context.Context, r check.Run) (string, error) {
	i, err := s.store.IntakeByID(ctx, r.Rework.Release.Intake)
	if shop.IsNone(err) {
		return "the end of the intake", nil
	}
	if err != nil {
		return "", err
	}
	all, err := s.store.Intakes(ctx, i.Drive)
	if err != nil {
		return "", err
	}
	switch {
	case len(all) > 0 && all[0].ID != i.ID:
		return "the new intake, which voids the release", nil
	case i.Handover != nil:
		return "the handover, which ends the release", nil
	case i.Release == nil:
		return "the withdrawal of the release", nil
	case !(check.Release{Scope: i.Release.Scope}).Allows(r.Kind):
		return "the owner, who releases it for less", nil
	case i.AtRisk():
		return "the data on it, which is wanted and not copied", nil
	}
	return "", nil
}

// ReconsiderSoon is Reconsider for the one who takes the bench's reports in, and must not wait for another.
func (s *Conductor) ReconsiderSoon(ctx context.Context, b protocol.Bay) {
	if b.Connection != protocol.Answering {
		return
	}
	s.books.Own.Go(func() {
		if err := s.Reconsider(ctx, b.Key); err != nil && ctx.Err() == nil {
			s.books.Log.Warn("asking whether the release of a rework holds", "drive", b.Key.Serial, "error", err)
		}
	})
}

// spent tells why a release begins no rework any more.
func (s *Conductor) spent(ctx context.Context, i shop.Intake, key drive.Key, kind check.Kind) error {
	if age := s.books.Clock.Now().Sub(i.Release.At); kind != check.Overwrite && age > releaseGood {
		return &shop.Conflict{
			What:   fmt.Sprintf("the release is %d days old, and is good for %d", int(age.Hours()/24), int(releaseGood.Hours()/24)),
			Advice: "Ask the owner, and record what they say.",
		}
	}
	if kind != check.Overwrite {
		return nil
	}
	before, err := s.store.Runs(ctx, shop.RunQuery{Drive: key, Reworks: true})
	if err != nil {
		return err
	}
	for _, r := range before {
		if r.Kind == kind && r.Rework != nil && r.Rework.Release.Intake == i.ID && r.Rework.Release.At.Equal(i.Release.At) {
			return &shop.Conflict{
				What:   fmt.Sprintf("the release has begun an overwrite, run %d; it is for one", r.ID),
				Advice: "Ask the owner, and record what they say.",
			}
		}
	}
	return nil
}
