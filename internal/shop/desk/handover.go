package desk

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/shop"
)

// HandOver ends an intake: where the drive goes, and the state of its data, which is what the runs of the intake did to it unless
// somebody knows worse. A release ends with its intake: a rework that goes on by it is stopped.
func (s *Desk) HandOver(ctx context.Context, by shop.Actor, id int64, h shop.Handover) (shop.Intake, error) {
	i, err := s.handOver(ctx, by, id, h)
	if goes, ok := errors.AsType[*reworkGoesOn](err); ok {
		if err := s.runs.EndRework(ctx, goes.run); err != nil {
			return i, err
		}
		i, err = s.handOver(ctx, by, id, h)
	}
	return i, err
}

// reworkGoesOn says that a drive is being written to.
type reworkGoesOn struct {
	shop.Conflict
	run check.Run
}

func (s *Desk) handOver(ctx context.Context, by shop.Actor, id int64, h shop.Handover) (shop.Intake, error) {
	if err := shop.Tidy(&h.Note, &by.Name); err != nil {
		return shop.Intake{}, err
	}
	if h.Goes != shop.Returned && h.Goes != shop.Kept && h.Goes != shop.Scrapped {
		return shop.Intake{}, &shop.Invalid{
			What:   fmt.Sprintf("%q is no way for a drive to go", h.Goes),
			Advice: "Choose returned, kept or scrapped.",
		}
	}
	h.By, h.At = by.Name, s.books.Clock.Now()
	var i shop.Intake
	err := shop.Act(ctx, s.books, s.store, by, func(tx Tx) (_ []shop.Deed, _ []shop.Event, err error) {
		if i, err = tx.IntakeByID(ctx, id); err != nil {
			return nil, nil, err
		}
		if i.Handover != nil {
			return nil, nil, &shop.Conflict{
				What:   fmt.Sprintf("intake %d ended on %s: %s", id, i.Handover.At.Format("2 January 2006"), i.Handover.Goes),
				Advice: "Take the drive in again if it came back.",
			}
		}
		name := fmt.Sprintf("Intake %d", id)
		known := shop.Untouched
		var d shop.Drive
		if i.Drive != 0 {
			if d, err = tx.Drive(ctx, i.Drive); err != nil {
				return nil, nil, err
			}
			name = d.Identity.Serial
			open, err := tx.Runs(ctx, shop.RunQuery{Drive: d.Identity.Key, Open: true, Limit: 1})
			if err != nil {
				return nil, nil, err
			}
			if len(open) > 0 {
				goes := shop.Conflict{What: fmt.Sprintf("run %d of %s goes on", open[0].ID, name), Advice: "Wait for it, or stop it."}
				if open[0].Rework != nil {
					return nil, nil, &reworkGoesOn{goes, open[0]}
				}
				return nil, nil, &goes
			}
			if known, err = dataState(ctx, tx, d, i); err != nil {
				return nil, nil, err
			}
		}
		if err := agreed(h.Data, known, name); err != nil {
			return nil, nil, err
		}
		if h.Data == "" {
			h.Data = known
		}
		i.Handover = &h
		deed := shop.Deed{
			Kind:   shop.IntakeChanged,
			Serial: d.Identity.Serial,
			Bay:    d.Now.Bay,
			Said: wording.Say(
				wording.HandedOver, wording.Values{"drive": name, "goes": string(h.Goes), "by": h.By, "data": string(h.Data)},
			),
		}
		deed.Edited("handed over", nil, h.Goes)
		deed.Edited("data", nil, h.Data)
		if i.Release != nil {
			deed.Edited("released for", i.Release.Scope, nil)
		}
		return []shop.Deed{deed}, nil, tx.SaveIntake(ctx, &i)
	})
	if err == nil {
		s.protectAll(ctx, i)
	}
	return i, err
}

// agreed tells whether what is said of the data on a drive is no better than what is known of it; nothing said is what is known.
func agreed(said, known shop.DataState, name string) error {
	switch said {
	case "":
	case shop.Untouched:
		if known != shop.Untouched {
			return &shop.Conflict{
				What:   fmt.Sprintf("a rework wrote to %s at this intake: its data is %s", name, known),
				Advice: "Hand it over as that.",
			}
		}
	case shop.Altered:
	case shop.Overwritten:
		if known != shop.Overwritten {
			return &shop.Conflict{
				What:   fmt.Sprintf("no overwrite of %s at this intake passed", name),
				Advice: "Overwrite it first, or hand it over as " + string(known) + ".",
			}
		}
	default:
		return &shop.Invalid{
			What:   fmt.Sprintf("%q is no state of data", said),
			Advice: "Choose untouched, altered or overwritten.",
		}
	}
	return nil
}

// dataState is what the runs of an intake did to the data on the drive.
func dataState(ctx context.Context, from Reader, d shop.Drive, i shop.Intake) (shop.DataState, error) {
	runs, err := from.Runs(ctx, shop.RunQuery{Drive: d.Identity.Key, Reworks: true})
	if err != nil {
		return "", err
	}
	state := shop.Untouched
	for _, r := range runs {
		switch {
		case r.Asked.Before(i.At) || !r.Wrote():
		case r.Kind == check.Overwrite && r.Outcome == check.Passed:
			return shop.Overwritten, nil
		default:
			state = shop.Altered
		}
	}
	return state, nil
}

// Intakes lists intakes, newest first.
func (s *Desk) Intakes(ctx context.Context, q shop.IntakeQuery) ([]shop.Intake, error) {
	return s.store.IntakesOf(ctx, q)
}

// Erased is what was forgotten of a customer.
type Erased struct {
	Intakes int
	Lots    int
}

// Erase forgets a customer: name, reference and complaint of every intake and lot, what a release says of the owner, notes, and the name
// in what was told of alerts.
// The drives, their readings and verdicts stay, and so does the ticket's number. What a full database keeps of it in free pages
// is overwritten.
func (s *Desk) Erase(ctx context.Context, by shop.Actor, customer string) (Erased, error) {
	var e Erased
	if customer = strings.TrimSpace(customer); customer == "" {
		return e, &shop.Invalid{What: "no customer is named", Advice: "Give the name as the intakes have it."}
	}
	err := shop.Act(ctx, s.books, s.store, by, func(tx Tx) ([]shop.Deed, []shop.Event, error) {
		e = Erased{}
		all, err := tx.IntakesOf(ctx, shop.IntakeQuery{Customer: customer, Limit: 1_000_000})
		if err != nil {
			return nil, nil, err
		}
		var drives []int64
		for _, i := range all {
			if i.Drive != 0 {
				drives = append(drives, i.Drive)
			}
			i.Customer, i.Reference, i.Complaint, i.Label = "", "", "", ""
			if i.Release != nil {
				i.Release.Owner = "the owner, erased"
			}
			if i.Handover != nil {
				i.Handover.Note = ""
			}
			if err := tx.SaveIntake(ctx, &i); err != nil {
				return nil, nil, err
			}
			e.Intakes++
		}
		lots, err := tx.Lots(ctx)
		if err != nil {
			return nil, nil, err
		}
		for _, l := range lots {
			if l.Customer != customer {
				continue
			}
			l.Customer, l.Reference, l.Complaint = "", "", ""
			if err := tx.SaveLot(ctx, &l); err != nil {
				return nil, nil, err
			}
			e.Lots++
		}
		if err := tx.ForgetTold(ctx, customer, drives); err != nil {
			return nil, nil, err
		}
		if e == (Erased{}) {
			return nil, nil, &shop.NotFound{
				What:   fmt.Sprintf("no intake or lot names the customer %q", customer),
				Advice: "Give the name as the intakes have it.",
			}
		}
		return []shop.Deed{
			{Kind: shop.IntakeChanged, Said: wording.Say(wording.CustomerErased, wording.Values{"intakes": e.Intakes, "lots": e.Lots})},
		}, nil, nil
	})
	if err != nil && !shop.IsNone(err) {
		return e, err
	}
	if wrong := s.store.Scrub(ctx); wrong != nil { // asked once more, the records name nobody, and this is done all the same
		return e, fmt.Errorf("no record names the customer any more, and the database's free pages may. Erase once more: %w", wrong)
	}
	return e, err
}
