package shop

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"hylostat.example/internal/core/drive"
)

// Port is a bay in which a drive did not answer, and when it was looked for there last.
type Port struct {
	Bay drive.Bay
	At  time.Time
}

// tried notes that a drive was looked for in a bay.
func (i *Intake) tried(bay drive.Bay, at time.Time) {
	i.Tried = append(slices.DeleteFunc(i.Tried, func(p Port) bool { return p.Bay == bay }), Port{bay, at})
}

func (s *Shop) noteTried(ctx context.Context, id int64, bay drive.Bay) error {
	_, err := s.change(ctx, func(tx Tx) ([]Event, error) {
		i, err := tx.IntakeByID(ctx, id)
		if err != nil || i.Drive != 0 {
			return nil, err
		}
		i.tried(bay, s.clock.Now())
		return nil, tx.SaveIntake(ctx, &i)
	})
	return err
}

// leaveBay takes the intake of a drive that did not answer out of a bay of which somebody said that it is empty after all: the
// next drive that answers there is another one.
func leaveBay(ctx context.Context, tx Tx, bay drive.Bay) error {
	i, err := tx.IntakeInBay(ctx, bay)
	if isNone(err) || err == nil && i.Drive != 0 {
		return nil
	}
	if err != nil {
		return err
	}
	i.Bay = drive.Bay{}
	return tx.SaveIntake(ctx, &i)
}

// MoveIntake tries a drive that does not answer in another bay. The intake goes with it.
func (s *Shop) MoveIntake(ctx context.Context, by Actor, id int64, bay drive.Bay) (Intake, error) {
	if _, err := s.Bay(ctx, bay); err != nil {
		return Intake{}, err
	}
	var i Intake
	err := s.act(ctx, by, func(tx Tx) (_ []Deed, _ []Event, err error) {
		if i, err = tx.IntakeByID(ctx, id); err != nil {
			return nil, nil, err
		}
		switch {
		case i.Drive != 0:
			return nil, nil, &Conflict{fmt.Sprintf("the drive of intake %d has named itself", id), "It is found in whatever bay it is put into."}
		case i.Handover != nil:
			return nil, nil, &Conflict{fmt.Sprintf("intake %d ended: %s", id, i.Handover.Goes), "Take the drive in again if it came back."}
		case i.Clicks:
			return nil, nil, &Conflict{fmt.Sprintf("the drive of intake %d clicks", id), "Stop trying: every attempt may cost what is left of it."}
		}
		deed := Deed{Kind: IntakeChanged, Bay: bay, Text: fmt.Sprintf("%s: intake %d is tried here", capital(bay.Words()), id)}
		deed.edit("bay", i.Bay, bay)
		i.Bay = bay
		i.tried(bay, s.clock.Now())
		return []Deed{deed}, nil, tx.SaveIntake(ctx, &i)
	})
	if err == nil {
		err = s.attempt(ctx, bay)
	}
	return i, err
}

// Unanswered says why a drive that names itself nowhere is to be replaced: it did not answer on as many ports as the policy
// wants, on each of which another drive answered afterwards. Empty: that is not so.
func (s *Shop) Unanswered(ctx context.Context, i Intake) (string, error) {
	rule := s.Policy().Unanswered
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
