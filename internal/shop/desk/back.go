package desk

import (
	"context"
	"time"

	"hylostat.example/internal/access"
	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/shop"
)

// BroughtBack takes note that the shop's records were brought back from a copy whose last entry is of a moment: what owners took back
// since is not known any more, and no release in them holds.
func (s *Desk) BroughtBack(ctx context.Context, last time.Time) error {
	open, err := s.store.IntakesOf(ctx, shop.IntakeQuery{Open: true, Limit: 1 << 20})
	if err != nil {
		return err
	}
	s.books.Log.Warn("the records were brought back from a copy: no release in them holds any more", "last", last)
	by := access.Service
	return shop.Act(ctx, s.books, s.store, by, func(tx Tx) ([]shop.Deed, []shop.Event, error) {
		deeds := []shop.Deed{{Kind: shop.RecordsBroughtBack, Said: wording.Say(wording.BroughtBack, wording.Values{"at": last})}}
		for _, i := range open {
			if i.Release == nil {
				continue
			}
			deed := shop.Deed{
				Kind: shop.IntakeChanged, Bay: i.Bay, Said: wording.Say(wording.ReleaseVoid, wording.Values{"intake": i.ID}),
			}
			if i.Drive != 0 {
				d, err := s.record.DriveByID(ctx, i.Drive)
				if err != nil {
					return nil, nil, err
				}
				deed.Serial = d.Identity.Serial
			}
			deed.Edited("released for", i.Release.ScopeOf(), nil)
			i.Release = nil
			if err := tx.SaveIntake(ctx, &i); err != nil {
				return nil, nil, err
			}
			deeds = append(deeds, deed)
		}
		return deeds, nil, nil
	})
}
