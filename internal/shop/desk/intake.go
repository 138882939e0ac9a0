package desk

import (
	"context"
	"fmt"
	"slices"
	"time"

	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/protocol"
	"hylostat.example/internal/shop"
)

// TakeIn opens an intake for the drive in a bay, with the release its owner gave, if one did. The drive need not answer yet: the intake
// waits for it and its number is the drive's handle until a serial is known. An open intake of the drive is a Conflict; see TakeInstead.
func (s *Desk) TakeIn(ctx context.Context, by shop.Actor, i shop.Intake) (shop.Intake, error) {
	return s.TakeInstead(ctx, by, i, nil)
}

// TakeInstead is TakeIn in the place of an open intake, which ends. Data that is wanted by that one stays protected.
func (s *Desk) TakeInstead(ctx context.Context, by shop.Actor, i shop.Intake, instead *Instead) (shop.Intake, error) {
	if err := shop.Tidy(&i.Ticket, &i.Customer, &i.Reference, &i.Complaint, &i.Label, &by.Name); err != nil {
		return shop.Intake{}, err
	}
	if err := checkMade(i.Made); err != nil {
		return shop.Intake{}, err
	}
	if err := checkDuty(i.Duty); err != nil {
		return shop.Intake{}, err
	}
	if i.Lot != 0 {
		if _, err := s.store.Lot(ctx, i.Lot); err != nil {
			return shop.Intake{}, err
		}
	}
	if err := s.speak(ctx, &i); err != nil {
		return shop.Intake{}, err
	}
	bay, err := s.Bay(ctx, i.Bay)
	if err != nil {
		return shop.Intake{}, err
	}
	i.By, i.At = by.Name, s.books.Clock.Now()
	if i.Release != nil {
		if err := i.Release.Tidy(by, i.At); err != nil {
			return shop.Intake{}, err
		}
	}
	if i.Copied {
		i.Wanted, i.CopiedAt = true, i.At
	}
	open, err := openIntakes(ctx, s.store, i.Bay, bay.Drive)
	if err == nil {
		err = mayReplace(open, bay.Drive, instead)
	}
	if err != nil {
		return shop.Intake{}, err
	}
	if i.Clicks {
		// Every attempt may cost what is left of it.
	} else if bay.Bay.Connection == protocol.Empty || bay.Bay.Connection == protocol.Unread || bay.Bay.Connection == protocol.Silent {
		if err := s.attempt(ctx, i.Bay); err != nil {
			return shop.Intake{}, err
		}
		if bay, err = s.Bay(ctx, i.Bay); err != nil { // it may have named itself
			return shop.Intake{}, err
		}
	}
	if bay.Drive == nil {
		i.NoteTried(i.Bay, i.At)
	}
	err = shop.Act(ctx, s.books, s.store, by, func(tx Tx) ([]shop.Deed, []shop.Event, error) {
		open, err := openIntakes(ctx, tx, i.Bay, bay.Drive)
		if err == nil {
			err = mayReplace(open, bay.Drive, instead) // nobody took it in meanwhile
		}
		if err != nil {
			return nil, nil, err
		}
		if err := replace(ctx, tx, &i, open, i.At); err != nil {
			return nil, nil, err
		}
		if err := tx.SaveIntake(ctx, &i); err != nil {
			return nil, nil, err
		}
		deed := shop.Deed{
			Kind: shop.IntakeChanged,
			Bay:  i.Bay,
			Said: wording.Say(wording.IntakeOpened, wording.Values{"bay": i.Bay.String(), "intake": i.ID}),
		}
		deed.Edited("data wanted", nil, i.Wanted)
		deed.Edited("copied", nil, i.Copied)
		deed.Edited("duty", nil, i.Duty)
		deed.Edited("released for", nil, i.Release.ScopeOf())
		for _, older := range open {
			deed.Edited("in the place of", nil, fmt.Sprintf("intake %d", older.ID))
		}
		if bay.Drive == nil {
			return []shop.Deed{deed}, nil, nil
		}
		deed.Serial = bay.Drive.Identity.Serial
		more, err := s.settle(ctx, tx, &i, *bay.Drive)
		return []shop.Deed{deed}, more, err
	})
	if err == nil {
		s.protectAll(ctx, i)
		if bay.Drive != nil {
			s.reconsider(ctx, *bay.Drive)
		}
	}
	return i, err
}

// intakeOfBay gives the open intake of what is in a bay: that of the drive that named itself, in whichever bay it was taken in, else the
// one that waits for a drive there. IsNone of the error: there is none.
func intakeOfBay(ctx context.Context, from Reader, b protocol.Bay) (shop.Intake, error) {
	if b.Key.IsValid() {
		d, err := from.DriveByKey(ctx, b.Key)
		if err != nil && !shop.IsNone(err) {
			return shop.Intake{}, err
		}
		if err == nil {
			all, err := from.Intakes(ctx, d.ID)
			if err != nil {
				return shop.Intake{}, err
			}
			if len(all) > 0 && all[0].Handover == nil {
				return all[0], nil
			}
		}
	}
	return from.WaitingIn(ctx, b.ID)
}

// atRisk tells whether the bay's drive must be protected from writing: its data is wanted and not copied.
func (s *Desk) atRisk(ctx context.Context, b protocol.Bay) (bool, error) {
	i, err := intakeOfBay(ctx, s.store, b)
	if shop.IsNone(err) {
		return false, nil
	}
	return err == nil && i.AtRisk(), err
}

// protectAll is protectNow for every bay an intake is about: that in which it was opened, and those that hold its drive.
func (s *Desk) protectAll(ctx context.Context, i shop.Intake) {
	about := []drive.Bay{}
	if !i.Bay.IsZero() {
		about = append(about, i.Bay)
	}
	bays, err := s.store.Bays(ctx)
	var d shop.Drive
	if err == nil && i.Drive != 0 {
		d, err = s.store.Drive(ctx, i.Drive)
	}
	if err != nil && ctx.Err() == nil {
		s.books.Log.Warn("finding the bays of a drive", "intake", i.ID, "error", err)
	}
	for _, b := range bays {
		if b.Key.IsValid() && b.Key == d.Identity.Key && b.ID != i.Bay {
			about = append(about, b.ID)
		}
	}
	for _, bay := range about {
		s.protectNow(ctx, bay)
	}
}

// protectNow has the bench protect a bay's drive as its intake wants it. A bench that cannot is no reason to refuse an intake;
// the bay shows whether it is protected.
func (s *Desk) protectNow(ctx context.Context, id drive.Bay) {
	v, err := s.Bay(ctx, id)
	if err == nil && v.Bay.Device.Node == "" {
		return
	}
	var on bool
	if err == nil {
		on, err = s.atRisk(ctx, v.Bay)
	}
	if err == nil && on != v.Bay.WriteProtected {
		order := protocol.Order{Kind: protocol.OrderWriteProtect, Bay: id, On: on}
		err = s.orderUntil(ctx, order, func(e shop.Event) bool { // a report of the bay that was on its way may come before that of this
			if e.Kind != shop.BayChanged || e.Bay != id {
				return false
			}
			v, err := s.Bay(ctx, id)
			return err != nil || v.Bay.WriteProtected == on
		})
	}
	if err != nil && ctx.Err() == nil { // it stays as it is
		s.books.Log.Warn("protecting a drive from writing", "bay", id.String(), "error", err)
	}
}

// ProtectSoon is protectNow for the one who takes the bench's reports in, and must not wait for another.
func (s *Desk) ProtectSoon(ctx context.Context, b protocol.Bay) {
	if b.Device.Node == "" {
		return
	}
	on, err := s.atRisk(ctx, b)
	if err != nil && ctx.Err() == nil { // it stays as it is
		s.books.Log.Warn("protecting a drive from writing", "bay", b.ID.String(), "error", err)
	}
	if err != nil || on == b.WriteProtected {
		return
	}
	s.books.Own.Go(func() {
		limited, end := context.WithTimeout(ctx, shop.Settling)
		defer end()
		if _, err := s.fleet.Order(
			limited, protocol.Order{Kind: protocol.OrderWriteProtect, Bay: b.ID, On: on},
		); err != nil &&
			ctx.Err() == nil {
			s.books.Log.Warn("protecting a drive from writing", "bay", b.ID.String(), "error", err)
		}
	})
}

// settle ties an intake to the drive that named itself, and judges the drive for the duty it came with. What was signed at an earlier visit
// is that visit's.
func (s *Desk) settle(ctx context.Context, tx Tx, i *shop.Intake, d shop.Drive) ([]shop.Event, error) {
	i.Drive = d.ID
	if err := tx.SaveIntake(ctx, i); err != nil {
		return nil, err
	}
	other := i.Duty != "" && i.Duty != d.Duty
	if other {
		d.Duty = i.Duty
		if err := tx.SaveDrive(ctx, &d); err != nil {
			return nil, err
		}
	}
	if !other && d.Now.Signed == nil {
		return nil, nil
	}
	return s.judge.Redecide(ctx, tx, d)
}

// RecordCopy notes that the data of the drive in a bay has been copied.
func (s *Desk) RecordCopy(ctx context.Context, by shop.Actor, bay drive.Bay) (shop.Intake, error) {
	var i shop.Intake
	err := shop.Act(ctx, s.books, s.store, by, func(tx Tx) (_ []shop.Deed, _ []shop.Event, err error) {
		bays, err := tx.Bays(ctx)
		if err != nil {
			return nil, nil, err
		}
		b := protocol.Bay{ID: bay}
		if at := slices.IndexFunc(bays, func(b protocol.Bay) bool { return b.ID == bay }); at >= 0 {
			b = bays[at]
		}
		if i, err = intakeOfBay(ctx, tx, b); err != nil {
			return nil, nil, err
		}
		deed := shop.Deed{
			Kind: shop.IntakeChanged,
			Bay:  bay,
			Said: wording.Say(wording.DataCopied, wording.Values{"bay": bay.String(), "by": by.Name}),
		}
		deed.Edited("copied", i.Copied, true)
		i.Copied, i.CopiedAt = true, s.books.Clock.Now()
		return []shop.Deed{deed}, nil, tx.SaveIntake(ctx, &i)
	})
	if err == nil {
		s.protectNow(ctx, bay)
		s.protectAll(ctx, i)
	}
	return i, err
}

// Attempt tries again to make the drive of a bay answer. It says by that: there is a drive in the bay.
func (s *Desk) Attempt(ctx context.Context, by shop.Actor, bay drive.Bay) error {
	if _, err := s.Bay(ctx, bay); err != nil {
		return err
	}
	deed := shop.Deed{
		Kind: shop.BayOrdered,
		Bay:  bay,
		Said: wording.Say(wording.DriveClaimed, wording.Values{"bay": bay.String(), "by": by.Name}),
	}
	return shop.Command(ctx, s.books, s.store, by, deed, func() error { return s.attempt(ctx, bay) })
}

func (s *Desk) attempt(ctx context.Context, bay drive.Bay) error {
	i, err := s.store.WaitingIn(ctx, bay)
	if err == nil {
		err = s.noteTried(ctx, i.ID, bay)
	}
	if err != nil && !shop.IsNone(err) {
		return err
	}
	return s.orderBay(ctx, protocol.Order{Kind: protocol.OrderAttempt, Bay: bay})
}

// Vacate says that there is no drive in a bay after all.
func (s *Desk) Vacate(ctx context.Context, by shop.Actor, bay drive.Bay) error {
	if v, err := s.Bay(ctx, bay); err != nil {
		return err
	} else if v.Bay.Connection == protocol.Answering {
		return &shop.Conflict{What: "a drive answers in " + bay.Words(), Advice: "Take it out: the bay notices."}
	}
	deed := shop.Deed{
		Kind: shop.BayOrdered,
		Bay:  bay,
		Said: wording.Say(wording.DriveDenied, wording.Values{"bay": bay.String(), "by": by.Name}),
	}
	return shop.Command(
		ctx, s.books, s.store, by, deed,
		func() error { return s.orderBay(ctx, protocol.Order{Kind: protocol.OrderVacate, Bay: bay}) },
	)
}

// orderBay gives an order and waits until the bench's report of the bay is stored, so that whoever asks next sees what came
// of it.
func (s *Desk) orderBay(ctx context.Context, o protocol.Order) error {
	return s.orderSettling(ctx, o, o.Bay)
}

// orderSettling is orderBay for an order after which these bays are told of.
func (s *Desk) orderSettling(ctx context.Context, o protocol.Order, told ...drive.Bay) error {
	return s.orderUntil(ctx, o, func(e shop.Event) bool {
		if e.Kind == shop.BayChanged {
			told = slices.DeleteFunc(told, func(b drive.Bay) bool { return b == e.Bay })
		}
		return len(told) == 0
	})
}

// orderUntil gives an order and waits for the fact with which it has settled, for as long as that may take.
func (s *Desk) orderUntil(ctx context.Context, o protocol.Order, settled func(e shop.Event) bool) error {
	listening, end := context.WithTimeout(ctx, shop.Settling)
	defer end()
	facts := s.books.Listen(listening)
	if _, err := s.fleet.Order(ctx, o); err != nil {
		return err
	}
	for e := range facts {
		if settled(e) {
			break
		}
	}
	return nil
}

// SetDuty changes what a drive is meant for and judges it anew.
func (s *Desk) SetDuty(ctx context.Context, by shop.Actor, d shop.Drive, duty drive.Duty) error {
	if err := checkDuty(duty); err != nil {
		return err
	}
	return shop.Act(ctx, s.books, s.store, by, func(tx Tx) ([]shop.Deed, []shop.Event, error) {
		deed := shop.Deed{
			Kind:   shop.IntakeChanged,
			Serial: d.Identity.Serial,
			Bay:    d.Now.Bay,
			Said:   wording.Say(wording.DutySet, wording.Values{"serial": d.Identity.Serial, "duty": string(duty)}),
		}
		deed.Edited("duty", d.Duty, duty)
		d.Duty = duty
		if err := tx.SaveDrive(ctx, &d); err != nil {
			return nil, nil, err
		}
		more, err := s.judge.Redecide(ctx, tx, d)
		return []shop.Deed{deed}, more, err
	})
}

// checkDuty refuses a duty that is none; none at all is the duty nobody has to ask for.
func checkDuty(d drive.Duty) error {
	if _, err := drive.ParseDuty(string(d)); err != nil {
		return &shop.Invalid{What: fmt.Sprintf("%q is no duty", d), Advice: "Choose continuous, archive, everyday or carry."}
	}
	return nil
}

// checkMade refuses what is no month of making; none at all is not noted.
func checkMade(month string) error {
	if _, err := time.Parse("2006-01", month); err != nil && month != "" {
		return &shop.Invalid{What: fmt.Sprintf("%q is no month", month), Advice: "Give it as on the label: 2021-08."}
	}
	return nil
}

// speak finds the language of an intake's papers, where none is said: that in which the customer had the last ones.
func (s *Desk) speak(ctx context.Context, i *shop.Intake) error {
	if !i.Language.IsZero() || i.Customer == "" {
		return nil
	}
	last, err := s.store.IntakesOf(ctx, shop.IntakeQuery{Customer: i.Customer, Limit: 1})
	if err == nil && len(last) > 0 {
		i.Language = last[0].Language
	}
	return err
}
