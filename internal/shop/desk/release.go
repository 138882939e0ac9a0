package desk

import (
	"context"

	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/shop"
)

// RecordRelease notes the owner's consent with the drive's present intake; a nil release takes it back.
func (s *Desk) RecordRelease(ctx context.Context, by shop.Actor, d shop.Drive, r *shop.Release) (shop.Intake, error) {
	var i shop.Intake
	if r != nil {
		if err := r.Tidy(by, s.books.Clock.Now()); err != nil {
			return i, err
		}
	}
	err := shop.Act(ctx, s.books, s.store, by, func(tx Tx) ([]shop.Deed, []shop.Event, error) {
		all, err := tx.Intakes(ctx, d.ID)
		if err != nil {
			return nil, nil, err
		}
		if len(all) == 0 || all[0].Handover != nil {
			return nil, nil, &shop.Conflict{
				What:   d.Identity.Serial + " is on no open intake",
				Advice: "Take it in, then record the release.",
			}
		}
		i = all[0]
		deed := shop.Deed{
			Kind:   shop.IntakeChanged,
			Serial: d.Identity.Serial,
			Bay:    i.Bay,
			Said:   wording.Say(wording.ReleaseTakenBack, wording.Values{"serial": d.Identity.Serial, "by": by.Name}),
		}
		if r != nil {
			deed.Said = wording.Say(
				wording.ReleaseRecorded, wording.Values{"serial": d.Identity.Serial, "scope": string(r.Scope), "by": by.Name},
			) // no customer's name in what stays
		}
		deed.Edited("released for", i.Release.ScopeOf(), r.ScopeOf())
		i.Release = r
		return []shop.Deed{deed}, nil, tx.SaveIntake(ctx, &i)
	})
	if err == nil {
		s.reconsider(ctx, d)
	}
	return i, err
}

// reconsider stops what goes on by a release of a drive that does not hold any more.
func (s *Desk) reconsider(ctx context.Context, d shop.Drive) {
	if err := s.runs.Reconsider(ctx, d.Identity.Key); err != nil && ctx.Err() == nil {
		s.books.Log.Warn("stopping what is released no more", "drive", d.Identity.Serial, "error", err)
	}
}
