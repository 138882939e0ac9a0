package shop

import (
	"context"
	"fmt"
	"strings"
	"time"

	"hylostat.example/internal/core/check"
)

// Goes is where a drive goes at the end of an intake.
type Goes string

// Where drives go.
const (
	Returned Goes = "returned"
	Kept     Goes = "kept"
	Scrapped Goes = "scrapped"
	NotNoted Goes = "not noted" // it came back, and nobody had noted that it left
)

// DataState is what the shop did to the data on a drive during an intake.
type DataState string

// The states, each further from what came.
const (
	Untouched   DataState = "untouched"
	Altered     DataState = "altered"
	Overwritten DataState = "overwritten"
)

// Handover is how an intake ends.
type Handover struct {
	Goes Goes      `json:"goes"`
	Data DataState `json:"data"`
	Note string    `json:"note,omitempty"`
	By   string    `json:"by"`
	At   time.Time `json:"at"`
}

// HandOver ends an intake: where the drive goes, and the state of its data, which is what the runs of the intake did to it unless
// somebody knows worse. A release ends with its intake.
func (s *Shop) HandOver(ctx context.Context, by Actor, id int64, h Handover) (Intake, error) {
	if err := tidy(&h.Note, &by.Name); err != nil {
		return Intake{}, err
	}
	if h.Goes != Returned && h.Goes != Kept && h.Goes != Scrapped {
		return Intake{}, &Invalid{fmt.Sprintf("%q is no way for a drive to go", h.Goes), "Choose returned, kept or scrapped."}
	}
	h.By, h.At = by.Name, s.clock.Now()
	var i Intake
	err := s.act(ctx, by, func(tx Tx) (_ []Deed, _ []Event, err error) {
		if i, err = tx.IntakeByID(ctx, id); err != nil {
			return nil, nil, err
		}
		if i.Handover != nil {
			return nil, nil, &Conflict{fmt.Sprintf("intake %d ended on %s: %s", id, i.Handover.At.Format("2 January 2006"), i.Handover.Goes), "Take the drive in again if it came back."}
		}
		name := fmt.Sprintf("Intake %d", id)
		known := Untouched
		var d Drive
		if i.Drive != 0 {
			if d, err = tx.Drive(ctx, i.Drive); err != nil {
				return nil, nil, err
			}
			name = d.Identity.Serial
			open, err := tx.Runs(ctx, RunQuery{Drive: d.Identity.Key, Open: true, Limit: 1})
			if err != nil {
				return nil, nil, err
			}
			if len(open) > 0 {
				return nil, nil, &Conflict{fmt.Sprintf("run %d of %s goes on", open[0].ID, name), "Wait for it, or stop it."}
			}
			if known, err = dataState(ctx, tx, d, i); err != nil {
				return nil, nil, err
			}
		}
		switch h.Data {
		case "":
			h.Data = known
		case Untouched:
			if known != Untouched {
				return nil, nil, &Conflict{fmt.Sprintf("a rework wrote to %s at this intake: its data is %s", name, known), "Hand it over as that."}
			}
		case Altered:
		case Overwritten:
			if known != Overwritten {
				return nil, nil, &Conflict{fmt.Sprintf("no overwrite of %s at this intake passed", name), "Overwrite it first, or hand it over as " + string(known) + "."}
			}
		default:
			return nil, nil, &Invalid{fmt.Sprintf("%q is no state of data", h.Data), "Choose untouched, altered or overwritten."}
		}
		i.Handover = &h
		text := fmt.Sprintf("%s: %s by %s, data %s", name, h.Goes, h.By, h.Data)
		deed := Deed{Kind: IntakeChanged, Serial: d.Identity.Serial, Bay: d.Now.Bay, Text: text}
		deed.edit("handed over", nil, h.Goes)
		deed.edit("data", nil, h.Data)
		if i.Release != nil {
			deed.edit("released for", i.Release.Scope, nil)
		}
		return []Deed{deed}, nil, tx.SaveIntake(ctx, &i)
	})
	if err == nil && !i.Bay.IsZero() {
		s.protectNow(ctx, i.Bay)
	}
	return i, err
}

// dataState is what the runs of an intake did to the data on the drive.
func dataState(ctx context.Context, from Reader, d Drive, i Intake) (DataState, error) {
	runs, err := from.Runs(ctx, RunQuery{Drive: d.Identity.Key, Reworks: true})
	if err != nil {
		return "", err
	}
	state := Untouched
	for _, r := range runs {
		switch {
		case r.Asked.Before(i.At) || !r.Wrote():
		case r.Kind == check.Overwrite && r.Outcome == check.Passed:
			return Overwritten, nil
		default:
			state = Altered
		}
	}
	return state, nil
}

// endOlder ends the intakes a drive was left on when it is taken in anew.
func (s *Shop) endOlder(ctx context.Context, tx Tx, d Drive, now int64) error {
	all, err := tx.Intakes(ctx, d.ID)
	if err != nil {
		return err
	}
	for _, i := range all {
		if i.ID == now || i.Handover != nil {
			continue
		}
		state, err := dataState(ctx, tx, d, i)
		if err != nil {
			return err
		}
		i.Handover = &Handover{Goes: NotNoted, Data: state, By: "Hylostat", At: s.clock.Now()}
		if err := tx.SaveIntake(ctx, &i); err != nil {
			return err
		}
	}
	return nil
}

// Intakes lists intakes, newest first.
func (s *Shop) Intakes(ctx context.Context, q IntakeQuery) ([]Intake, error) {
	return s.store.IntakesOf(ctx, q)
}

// sameOwner reports whether an earlier intake may be shown beside the present one: its owner is the same. What an earlier owner
// said of the drive is nothing for a later one.
func sameOwner(earlier, present Intake) bool {
	if earlier.ID == present.ID {
		return true
	}
	same := func(a, b string) bool { return a != "" && strings.EqualFold(a, b) }
	return same(earlier.Ticket, present.Ticket) || same(earlier.Customer, present.Customer)
}

// Erased is what was forgotten of a customer.
type Erased struct {
	Intakes int
	Lots    int
}

// Erase forgets a customer: name, reference and complaint of every intake and lot, what a release says of the owner, and notes.
// The drives, their readings and verdicts stay, and so does the ticket's number. What a full database keeps of it in free pages
// is overwritten.
func (s *Shop) Erase(ctx context.Context, by Actor, customer string) (Erased, error) {
	var e Erased
	if customer = strings.TrimSpace(customer); customer == "" {
		return e, &Invalid{"no customer is named", "Give the name as the intakes have it."}
	}
	err := s.act(ctx, by, func(tx Tx) ([]Deed, []Event, error) {
		e = Erased{}
		all, err := tx.IntakesOf(ctx, IntakeQuery{Customer: customer, Limit: 1_000_000})
		if err != nil {
			return nil, nil, err
		}
		for _, i := range all {
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
		if e == (Erased{}) {
			return nil, nil, &NotFound{fmt.Sprintf("no intake or lot names the customer %q", customer), "Give the name as the intakes have it."}
		}
		return []Deed{{Kind: IntakeChanged, Text: fmt.Sprintf("A customer was erased from %d intakes and %d lots", e.Intakes, e.Lots)}}, nil, nil
	})
	if err != nil {
		return e, err
	}
	return e, s.store.Scrub(ctx)
}
