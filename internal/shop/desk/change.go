package desk

import (
	"context"
	"fmt"
	"time"

	"hylostat.example/internal/access"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/shop"
)

// Correction is what is put right of an intake; nil leaves it as it is.
type Correction struct {
	Ticket, Customer, Reference, Complaint, Label, Made *string

	Language *wording.Language
	Clicks   *bool
	Wanted   *bool
	Copied   *bool // false only: a copy that there is gets recorded, see RecordCopy
	Duty     *drive.Duty
	Why      string // the data on it need not be protected any more
}

// ChangeIntake puts an intake right, with what was before in the audit; of names and words of the customer the audit says only that they
// changed, since they can be forgotten. Who says that data which is wanted and not copied is not wanted lifts its protection: that takes a
// lead and a reason. Whoever consented to a release did so for the customer of the intake: that one is not exchanged under it.
func (s *Desk) ChangeIntake(ctx context.Context, by shop.Actor, id int64, c Correction) (shop.Intake, error) {
	if err := shop.Tidy(&c.Why); err != nil {
		return shop.Intake{}, err
	}
	var i shop.Intake
	var d shop.Drive
	err := shop.Act(ctx, s.books, s.store, by, func(tx Tx) (_ []shop.Deed, events []shop.Event, err error) {
		if i, err = tx.IntakeByID(ctx, id); err != nil {
			return nil, nil, err
		}
		was := i
		if err := c.apply(&i); err != nil {
			return nil, nil, err
		}
		if err := c.allowed(by, was, i); err != nil {
			return nil, nil, err
		}
		deed := shop.Deed{Kind: shop.IntakeChanged, Bay: i.Bay, Said: wording.Say(wording.IntakeCorrected, wording.Values{"intake": id})}
		deed.Edited("ticket", was.Ticket, i.Ticket)
		deed.Edited("made", was.Made, i.Made)
		deed.Edited("language", was.Language.String(), i.Language.String())
		deed.Edited("clicks", was.Clicks, i.Clicks)
		deed.Edited("data wanted", was.Wanted, i.Wanted)
		deed.Edited("copied", was.Copied, i.Copied)
		deed.Edited("duty", was.Duty, i.Duty)
		for _, words := range []struct{ what, was, is string }{
			{"customer", was.Customer, i.Customer},
			{"reference", was.Reference, i.Reference},
			{"complaint", was.Complaint, i.Complaint},
			{"label", was.Label, i.Label},
		} {
			deed.Edited(words.what, kept(words.was), kept(words.is))
			if words.was != words.is && kept(words.was) == kept(words.is) {
				deed.Edited(words.what, "noted", "noted otherwise")
			}
		}
		if was.AtRisk() && !i.AtRisk() {
			deed.Edited("protection lifted, since", nil, c.Why)
		}
		if len(deed.Edits) == 0 {
			return nil, nil, &shop.Invalid{
				What: fmt.Sprintf("nothing of intake %d would change", id), Advice: "Say what is to be put right.",
			}
		}
		if err := tx.SaveIntake(ctx, &i); err != nil || i.Drive == 0 {
			return []shop.Deed{deed}, nil, err
		}
		if d, err = tx.Drive(ctx, i.Drive); err != nil {
			return nil, nil, err
		}
		deed.Serial = d.Identity.Serial
		if was.Duty != i.Duty && i.Duty != d.Duty {
			d.Duty = i.Duty
			if err := tx.SaveDrive(ctx, &d); err != nil {
				return nil, nil, err
			}
			events, err = s.judge.Redecide(ctx, tx, d)
		}
		return []shop.Deed{deed}, events, err
	})
	if err == nil {
		s.protectAll(ctx, i)
		if i.Drive != 0 {
			s.reconsider(ctx, d)
		}
	}
	return i, err
}

// kept is what the audit says of words that can be forgotten: whether there were any.
func kept(words string) string {
	if words == "" {
		return ""
	}
	return "noted"
}

// apply makes the intake what the correction says, or tells what is wrong with it.
func (c Correction) apply(i *shop.Intake) error {
	for _, words := range []struct {
		to   *string
		said *string
	}{
		{&i.Ticket, c.Ticket},
		{&i.Customer, c.Customer},
		{&i.Reference, c.Reference},
		{&i.Complaint, c.Complaint},
		{&i.Label, c.Label},
		{&i.Made, c.Made},
	} {
		if words.said == nil {
			continue
		}
		*words.to = *words.said
		if err := shop.Tidy(words.to); err != nil {
			return err
		}
	}
	if err := checkMade(i.Made); err != nil {
		return err
	}
	if c.Duty != nil {
		if err := checkDuty(*c.Duty); err != nil {
			return err
		}
		i.Duty = *c.Duty
	}
	if c.Language != nil {
		i.Language = *c.Language
	}
	if c.Clicks != nil {
		i.Clicks = *c.Clicks
	}
	if c.Wanted != nil {
		i.Wanted = *c.Wanted
	}
	if c.Copied != nil {
		if *c.Copied && !i.Copied {
			return &shop.Invalid{What: "a copy is recorded with the bay that holds the drive", Advice: "Record it there."}
		}
		i.Copied = *c.Copied
	}
	if !i.Wanted {
		i.Copied = false
	}
	if !i.Copied {
		i.CopiedAt = time.Time{}
	}
	return nil
}

// allowed tells whether somebody may make this intake of that.
func (c Correction) allowed(by shop.Actor, was, i shop.Intake) error {
	ended := was.Handover != nil
	if ended && (was.Wanted != i.Wanted || was.Copied != i.Copied || was.Duty != i.Duty || was.Clicks != i.Clicks) {
		return &shop.Conflict{
			What: fmt.Sprintf("intake %d ended on %s", i.ID, was.Handover.At.Format("2 January 2006")),
			Advice: "Of an intake that ended only what is written of it can be put right: ticket, customer, reference, complaint, " +
				"label, month, language.",
		}
	}
	if was.Release != nil && was.Customer != i.Customer {
		return &shop.Conflict{
			What:   fmt.Sprintf("the customer of intake %d has released the drive", i.ID),
			Advice: "Take the release back first, and ask the right customer.",
		}
	}
	if ended || !was.AtRisk() || i.AtRisk() {
		return nil
	}
	if !by.May(access.Lead) {
		return &access.Refused{
			What:   fmt.Sprintf("%s is %s; lifting the protection of data that is wanted and not copied needs a lead", by.Name, by.Role),
			Advice: "Ask a lead, or have the data copied.",
		}
	}
	if c.Why == "" {
		return &shop.Invalid{
			What: "its data is wanted and not copied", Advice: "Say why it need not be protected any more, or have it copied.",
		}
	}
	return nil
}
