package desk

import (
	"context"
	"fmt"
	"strings"

	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/shop"
)

func (s *Desk) noteTried(ctx context.Context, id int64, bay drive.Bay) error {
	_, err := shop.Apply(ctx, s.books, s.store, func(tx Tx) ([]shop.Event, error) {
		i, err := tx.IntakeByID(ctx, id)
		if err != nil || i.Drive != 0 {
			return nil, err
		}
		i.NoteTried(bay, s.books.Clock.Now())
		return nil, tx.SaveIntake(ctx, &i)
	})
	return err
}

// leaveBay takes the intake of a drive that did not answer out of a bay in which another one is now, or of which somebody said that it is
// empty after all: the next drive that answers there is not its.
func leaveBay(ctx context.Context, tx Tx, bay drive.Bay) error {
	i, err := tx.WaitingIn(ctx, bay)
	if shop.IsNone(err) {
		return nil
	}
	if err != nil {
		return err
	}
	i.Bay = drive.Bay{}
	return tx.SaveIntake(ctx, &i)
}

// MoveIntake tries a drive that does not answer in another bay. The intake goes with it.
func (s *Desk) MoveIntake(ctx context.Context, by shop.Actor, id int64, bay drive.Bay) (shop.Intake, error) {
	if _, err := s.Bay(ctx, bay); err != nil {
		return shop.Intake{}, err
	}
	var i shop.Intake
	var was drive.Bay
	err := shop.Act(ctx, s.books, s.store, by, func(tx Tx) (_ []shop.Deed, _ []shop.Event, err error) {
		if i, err = tx.IntakeByID(ctx, id); err != nil {
			return nil, nil, err
		}
		switch {
		case i.Drive != 0:
			return nil, nil, &shop.Conflict{
				What:   fmt.Sprintf("the drive of intake %d has named itself", id),
				Advice: "It is found in whatever bay it is put into.",
			}
		case i.Handover != nil:
			return nil, nil, &shop.Conflict{
				What:   fmt.Sprintf("intake %d ended: %s", id, i.Handover.Goes),
				Advice: "Take the drive in again if it came back.",
			}
		case i.Clicks:
			return nil, nil, &shop.Conflict{
				What:   fmt.Sprintf("the drive of intake %d clicks", id),
				Advice: "Stop trying: every attempt may cost what is left of it.",
			}
		}
		deed := shop.Deed{
			Kind: shop.IntakeChanged,
			Bay:  bay,
			Said: wording.Say(wording.IntakeTried, wording.Values{"bay": bay.String(), "intake": id}),
		}
		deed.Edited("bay", i.Bay, bay)
		was = i.Bay
		if i.Bay != bay {
			if err := leaveBay(ctx, tx, bay); err != nil {
				return nil, nil, err
			}
		}
		i.Bay = bay
		i.NoteTried(bay, s.books.Clock.Now())
		return []shop.Deed{deed}, nil, tx.SaveIntake(ctx, &i)
	})
	if err != nil {
		return i, err
	}
	err = s.attempt(ctx, bay)
	for _, b := range []drive.Bay{was, bay} {
		if !b.IsZero() {
			s.protectNow(ctx, b)
		}
	}
	return i, err
}

// Unanswered says why a drive that names itself nowhere is to be replaced: it did not answer on as many ports as the policy
// wants, on each of which another drive answered afterwards. Empty: that is not so.
func (s *Desk) Unanswered(ctx context.Context, i shop.Intake) (string, error) {
	rule := s.judge.Policy().Unanswered
	if i.Drive != 0 || rule == nil {
		return "", nil
	}
	var good []string
	for _, p := range i.Tried {
		answered, err := s.store.AnsweredSince(ctx, p.Bay, p.At)
		if err != nil {
			return "", err
		}
		if answered {
			good = append(good, p.Bay.Words())
		}
	}
	if len(good) < rule.Ports {
		return "", nil
	}
	return strings.ReplaceAll(rule.Says, "{ports}", strings.Join(good, " and ")), nil
}
