package desk

import (
	"context"
	"fmt"
	"strings"
	"time"

	"hylostat.example/internal/access"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/shop"
)

// Instead names the open intake that a new one replaces, as somebody reads it off the order: by its ticket, or its number where it has no
// ticket, and its customer. Both are asked for so that nobody replaces an intake they do not know of.
type Instead struct {
	Ticket   string
	Customer string
}

// names reports whether it is this intake that somebody means.
func (n *Instead) names(i shop.Intake) bool {
	if n == nil {
		return false
	}
	ticket := i.Ticket
	if ticket == "" {
		ticket = fmt.Sprint(i.ID)
	}
	same := func(a, b string) bool { return strings.EqualFold(strings.TrimSpace(a), strings.TrimSpace(b)) }
	return same(n.Ticket, ticket) && same(n.Customer, i.Customer)
}

// openIntakes are those that a new intake for what is in a bay would replace: the drive's own, in whichever bay it was taken in, and the
// one that waits there for a drive. d is nil while no drive has named itself.
func openIntakes(ctx context.Context, from Reader, bay drive.Bay, d *shop.Drive) (open []shop.Intake, err error) {
	if d != nil {
		all, err := from.Intakes(ctx, d.ID)
		if err != nil {
			return nil, err
		}
		for _, i := range all {
			if i.Handover == nil {
				open = append(open, i)
			}
		}
	}
	if bay.IsZero() {
		return open, nil
	}
	waits, err := from.WaitingIn(ctx, bay)
	if shop.IsNone(err) {
		return open, nil
	}
	return append(open, waits), err
}

// mayReplace tells whether the open intakes may end for a new one: somebody named each.
func mayReplace(open []shop.Intake, d *shop.Drive, n *Instead) error {
	for _, i := range open {
		if n.names(i) {
			continue
		}
		of := ""
		if i.Ticket != "" {
			of = ", ticket " + i.Ticket
		}
		e := &shop.Conflict{}
		if i.Drive == 0 {
			e.What = fmt.Sprintf("intake %d of %s%s waits here for its drive", i.ID, i.At.Format("2 January 2006"), of)
			e.Advice = "Move it to another bay, or say that its drive is not in this one."
		} else {
			e.What = fmt.Sprintf("%s is on intake %d already, of %s%s", d.Identity.Serial, i.ID, i.At.Format("2 January 2006"), of)
			e.Advice = "Hand it over first, or correct that intake."
		}
		e.Advice += " To replace it, name its ticket, or its number without one, and its customer."
		if n != nil {
			e.What += ", and that is not its ticket and customer"
		}
		return e
	}
	return nil
}

// replace ends the intakes that a new one takes the place of. Data that is wanted and not copied stays protected, whatever the new intake
// says of it, until somebody who may lifts that.
func replace(ctx context.Context, tx Tx, i *shop.Intake, open []shop.Intake, at time.Time) error {
	for _, older := range open {
		if older.ID == i.ID {
			continue
		}
		if older.AtRisk() && !i.AtRisk() {
			i.Wanted, i.Copied, i.CopiedAt = true, false, time.Time{}
		}
		known := shop.Untouched
		if older.Drive != 0 {
			d, err := tx.Drive(ctx, older.Drive)
			if err != nil {
				return err
			}
			if known, err = dataState(ctx, tx, d, older); err != nil {
				return err
			}
		}
		older.Handover = &shop.Handover{Goes: shop.NotNoted, Data: known, By: i.By, At: at}
		if err := tx.SaveIntake(ctx, &older); err != nil {
			return err
		}
	}
	return nil
}

// named ties an intake that waited to the drive that named itself. The drive may be on an open intake by its serial, which nobody could
// know: that one ends, and the audit says so.
func (s *Desk) named(ctx context.Context, tx Tx, i *shop.Intake, d shop.Drive) ([]shop.Event, error) {
	open, err := openIntakes(ctx, tx, drive.Bay{}, &d)
	if err != nil {
		return nil, err
	}
	now := s.books.Clock.Now()
	if err := replace(ctx, tx, i, open, now); err != nil {
		return nil, err
	}
	events, err := s.settle(ctx, tx, i, d)
	for _, older := range open {
		if err != nil {
			break
		}
		deed := shop.Deed{
			Kind: shop.IntakeChanged, Serial: d.Identity.Serial, Bay: i.Bay,
			Said: wording.Say(wording.IntakeReplaced, wording.Values{"older": older.ID, "intake": i.ID}),
		}
		deed.Edited("data wanted", older.Wanted, i.Wanted)
		deed.Edited("copied", older.Copied, i.Copied)
		var e shop.Event
		e, err = s.books.Note(ctx, tx, shop.Actor{Name: i.By, Via: access.Standing}, deed)
		events = append(events, e)
	}
	return events, err
}
