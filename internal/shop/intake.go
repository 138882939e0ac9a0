package shop

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"hylostat.example/internal/core/ata"
	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/protocol"
)

// TakeIn opens an intake for the drive in a bay, with the release its owner gave, if one did. The drive need not answer yet: the intake
// waits for it and its number is the drive's handle until a serial is known.
func (s *Shop) TakeIn(ctx context.Context, by Actor, i Intake) (Intake, error) {
	if err := tidy(&i.Ticket, &i.Customer, &i.Reference, &i.Complaint, &i.Label, &by.Name); err != nil {
		return Intake{}, err
	}
	if i.Made != "" {
		if _, err := time.Parse("2006-01", i.Made); err != nil {
			return Intake{}, &Invalid{fmt.Sprintf("%q is no month", i.Made), "Give it as on the label: 2021-08."}
		}
	}
	if i.Lot != 0 {
		if _, err := s.store.Lot(ctx, i.Lot); err != nil {
			return Intake{}, err
		}
	}
	bay, err := s.Bay(ctx, i.Bay)
	if err != nil {
		return Intake{}, err
	}
	i.By, i.At = by.Name, s.clock.Now()
	if i.Release != nil {
		if err := i.Release.tidy(by, i.At); err != nil {
			return Intake{}, err
		}
	}
	if i.Copied {
		i.Wanted, i.CopiedAt = true, i.At
	}
	if i.Clicks {
		// Every attempt may cost what is left of it.
	} else if bay.Bay.Connection == protocol.Empty || bay.Bay.Connection == protocol.Unread || bay.Bay.Connection == protocol.Silent {
		if err := s.attempt(ctx, i.Bay); err != nil {
			return Intake{}, err
		}
	}
	if bay.Drive == nil {
		i.tried(i.Bay, i.At)
	}
	err = s.act(ctx, by, func(tx Tx) ([]Deed, []Event, error) {
		if err := tx.SaveIntake(ctx, &i); err != nil {
			return nil, nil, err
		}
		deed := Deed{Kind: IntakeChanged, Bay: i.Bay, Text: fmt.Sprintf("%s: intake %d opened", capital(i.Bay.Words()), i.ID)}
		deed.edit("data wanted", nil, i.Wanted)
		deed.edit("copied", nil, i.Copied)
		deed.edit("duty", nil, i.Duty)
		deed.edit("released for", nil, i.Release.scope())
		if bay.Drive == nil {
			return []Deed{deed}, nil, nil
		}
		deed.Serial = bay.Drive.Identity.Serial
		more, err := s.settle(ctx, tx, &i, *bay.Drive)
		return []Deed{deed}, more, err
	})
	if err == nil {
		s.protectNow(ctx, i.Bay)
		if bay.Drive != nil {
			s.staleRework(ctx, *bay.Drive, i)
		}
	}
	return i, err
}

// atRisk tells whether the bay's drive must be protected from writing: its data is wanted and not copied.
func (s *Shop) atRisk(ctx context.Context, b protocol.Bay) (on bool) {
	i, err := s.store.IntakeInBay(ctx, b.ID)
	if err != nil || !i.AtRisk() {
		return false
	}
	if i.Drive == 0 || !b.Key.IsValid() {
		return true
	}
	d, err := s.store.DriveByKey(ctx, b.Key)
	return err == nil && d.ID == i.Drive
}

// protectNow has the bench protect a bay's drive as its intake wants it. A bench that cannot is no reason to refuse an intake;
// the bay shows whether it is protected.
func (s *Shop) protectNow(ctx context.Context, id drive.Bay) {
	v, err := s.Bay(ctx, id)
	if err != nil || v.Bay.Device.Node == "" {
		return
	}
	if on := s.atRisk(ctx, v.Bay); on != v.Bay.WriteProtected {
		if err := s.orderBay(ctx, protocol.Order{Kind: protocol.OrderWriteProtect, Bay: id, On: on}); err != nil && ctx.Err() == nil {
			s.log.Warn("protecting a drive from writing", "bay", id.String(), "error", err)
		}
	}
}

// protectSoon is guardNow for the one who takes the bench's reports in, and must not wait for another.
func (s *Shop) protectSoon(ctx context.Context, b protocol.Bay) {
	if b.Device.Node == "" || s.atRisk(ctx, b) == b.WriteProtected {
		return
	}
	s.own.Go(func() {
		limited, end := context.WithTimeout(ctx, settling)
		defer end()
		if _, err := s.fleet.Order(limited, protocol.Order{Kind: protocol.OrderWriteProtect, Bay: b.ID, On: !b.WriteProtected}); err != nil && ctx.Err() == nil {
			s.log.Warn("protecting a drive from writing", "bay", b.ID.String(), "error", err)
		}
	})
}

// settle ties an intake to the drive that named itself, and judges the drive for the duty it came with.
func (s *Shop) settle(ctx context.Context, tx Tx, i *Intake, d Drive) ([]Event, error) {
	i.Drive = d.ID
	if err := tx.SaveIntake(ctx, i); err != nil {
		return nil, err
	}
	if err := s.endOlder(ctx, tx, d, i.ID); err != nil {
		return nil, err
	}
	if i.Duty == "" || i.Duty == d.Duty {
		return nil, nil
	}
	d.Duty = i.Duty
	if err := tx.SaveDrive(ctx, &d); err != nil {
		return nil, err
	}
	return s.Redecide(ctx, tx, d)
}

// RecordCopy notes that the data of the drive in a bay has been copied.
func (s *Shop) RecordCopy(ctx context.Context, by Actor, bay drive.Bay) (Intake, error) {
	var i Intake
	err := s.act(ctx, by, func(tx Tx) (_ []Deed, _ []Event, err error) {
		if i, err = tx.IntakeInBay(ctx, bay); err != nil {
			return nil, nil, err
		}
		deed := Deed{Kind: IntakeChanged, Bay: bay, Text: fmt.Sprintf("%s: data copied, says %s", capital(bay.Words()), by.Name)}
		deed.edit("copied", i.Copied, true)
		i.Copied, i.CopiedAt = true, s.clock.Now()
		return []Deed{deed}, nil, tx.SaveIntake(ctx, &i)
	})
	if err == nil {
		s.protectNow(ctx, bay)
	}
	return i, err
}

// Attempt tries again to make the drive of a bay answer. It says by that: there is a drive in the bay.
func (s *Shop) Attempt(ctx context.Context, by Actor, bay drive.Bay) error {
	if _, err := s.Bay(ctx, bay); err != nil {
		return err
	}
	deed := Deed{Kind: BayOrdered, Bay: bay, Text: capital(bay.Words()) + ": there is a drive, says " + by.Name}
	return s.command(ctx, by, deed, func() error { return s.attempt(ctx, bay) })
}

func (s *Shop) attempt(ctx context.Context, bay drive.Bay) error {
	if i, err := s.store.IntakeInBay(ctx, bay); err == nil && i.Drive == 0 {
		if err := s.noteTried(ctx, i.ID, bay); err != nil {
			return err
		}
	}
	return s.orderBay(ctx, protocol.Order{Kind: protocol.OrderAttempt, Bay: bay})
}

// Vacate says that there is no drive in a bay after all.
func (s *Shop) Vacate(ctx context.Context, by Actor, bay drive.Bay) error {
	if _, err := s.Bay(ctx, bay); err != nil {
		return err
	}
	deed := Deed{Kind: BayOrdered, Bay: bay, Text: capital(bay.Words()) + ": there is no drive, says " + by.Name}
	return s.command(ctx, by, deed, func() error { return s.orderBay(ctx, protocol.Order{Kind: protocol.OrderVacate, Bay: bay}) })
}

// settling is how long an order about a bay may take to show in what the shop knows of the bay.
const settling = 3 * time.Second

// orderBay gives an order and waits until the bench's report of the bay is stored, so that whoever asks next sees what came
// of it.
func (s *Shop) orderBay(ctx context.Context, o protocol.Order) error {
	listening, end := context.WithTimeout(ctx, settling)
	defer end()
	facts := s.Listen(listening)
	if _, err := s.fleet.Order(ctx, o); err != nil {
		return err
	}
	for e := range facts {
		if e.Kind == BayChanged && e.Bay == o.Bay {
			break
		}
	}
	return nil
}

// CheckOrder is what is wanted of a check.
type CheckOrder struct {
	Kind    check.Kind
	Limit   check.Limit
	Spans   []ata.Span // of a selective self-test: one to five within the drive's capacity
	Despite string     // why the surface may be loaded although the data on it is at risk
}

// Check starts a check of a drive. Data at risk keeps it from starting, since it loads the surface, unless somebody says why it
// may all the same; the reason is kept with the run.
func (s *Shop) Check(ctx context.Context, by Actor, d Drive, o CheckOrder) (check.Run, error) {
	if o.Kind == check.Selective {
		if err := within(d.Identity, o.Spans); err != nil {
			return check.Run{}, err
		}
	}
	if d.Now.Bay.IsZero() {
		return check.Run{}, &Conflict{d.Identity.Serial + " is in no bay", "Attach it to a bay, then check it."}
	}
	o.Despite = strings.TrimSpace(o.Despite)
	i, err := s.store.IntakeInBay(ctx, d.Now.Bay)
	if risk := err == nil && i.Drive == d.ID && i.AtRisk(); risk && o.Despite == "" {
		return check.Run{}, &Conflict{"the data on " + d.Identity.Serial + " is wanted and not copied, checks wait", "Copy the data and record the copy, then check. Or say why its surface may be loaded all the same."}
	} else if !risk {
		o.Despite = ""
	}
	if o.Limit.StopAt == 0 && o.Kind != check.Spot {
		o.Limit.StopAt = s.hopeless(d)
	}
	return s.order(ctx, by, protocol.Order{Kind: protocol.OrderCheck, Check: o.Kind, Spans: o.Spans, Limit: o.Limit, Despite: o.Despite, Bay: d.Now.Bay, Key: d.Identity.Key})
}

// order gives an order that makes a run, and waits until the bench's report of the run is stored: whoever asks for the run, or for
// the open ones, is to find it. The run's number and the audit's row of the order are stored before the order is given.
func (s *Shop) order(ctx context.Context, by Actor, o protocol.Order) (check.Run, error) {
	deed := Deed{Kind: RunOrdered, Serial: o.Key.Serial, Bay: o.Bay}
	err := s.act(ctx, by, func(tx Tx) (_ []Deed, _ []Event, err error) {
		if o.Run, err = tx.NewRun(ctx); err != nil {
			return nil, nil, err
		}
		deed.Run = o.Run
		deed.Text = fmt.Sprintf("%s: %s, run %d, ordered", capital(o.Bay.Words()), strings.ToLower(o.Check.Title()), o.Run)
		if o.Despite != "" {
			deed.Text += " although the data is at risk: " + o.Despite
		}
		return []Deed{deed}, nil, nil
	})
	if err != nil {
		return check.Run{}, err
	}
	o.By = by.Name
	listening, end := context.WithTimeout(ctx, settling)
	defer end()
	facts := s.Listen(listening)
	receipt, err := s.fleet.Order(ctx, o)
	if err != nil {
		return check.Run{}, errors.Join(err, s.failed(ctx, by, deed, err))
	}
	r := *receipt.Run
	r.Bay = o.Bay
	for e := range facts {
		if e.Kind == RunChanged && e.Run == o.Run {
			break
		}
	}
	return r, nil
}

// within checks the spans of a selective self-test against the drive's capacity.
func within(id drive.Identity, spans []ata.Span) error {
	if len(spans) < 1 || len(spans) > 5 {
		return &Invalid{fmt.Sprintf("a selective self-test takes one to five spans, not %d", len(spans)), "Name them as FIRST-LAST."}
	}
	for _, s := range spans {
		if sectors := id.Bytes / uint64(max(1, id.LogicalSector)); s.Last < s.First || s.Last >= sectors {
			return &Invalid{fmt.Sprintf("the span %d-%d does not lie within %s, whose last sector is %d", s.First, s.Last, id.Serial, max(1, sectors)-1), "Name sectors it has."}
		}
	}
	return nil
}

// StopRun stops a run and gives it as it stands then.
func (s *Shop) StopRun(ctx context.Context, by Actor, id int64) (check.Run, error) {
	return s.tellRun(ctx, by, id, protocol.OrderStop, "stopped")
}

// tellRun has a bench stop a run, let its sweep wait or go on, and gives the run as it stands then.
func (s *Shop) tellRun(ctx context.Context, by Actor, id int64, kind protocol.OrderKind, words string) (check.Run, error) {
	r, err := s.RunByID(ctx, id)
	if err != nil {
		return r, err
	}
	if r.State == check.Done {
		return r, &Conflict{fmt.Sprintf("run %d is done", id), "There is nothing to " + string(kind) + "."}
	}
	deed := Deed{Kind: RunOrdered, Serial: r.Key.Serial, Bay: r.Bay, Run: id, Text: fmt.Sprintf("%s: %s, run %d, %s", capital(r.Bay.Words()), strings.ToLower(r.Kind.Title()), id, words)}
	err = s.command(ctx, by, deed, func() error {
		_, err := s.fleet.Order(ctx, protocol.Order{Kind: kind, Run: id, Bay: r.Bay, By: by.Name})
		return err
	})
	if err != nil {
		return r, err
	}
	return s.RunByID(ctx, id)
}

// meansBay reports whether a name that can be read as a bay's means one: a bare number of three digits and more is the ending of a
// serial, and so is what stands after a slash when no bench has that name.
func (s *Shop) meansBay(name string, bay drive.Bay) bool {
	if bay.Bench != "" {
		return s.fleet.Has(bay.Bench)
	}
	return len(name) < 3 || strings.HasPrefix(strings.ToLower(name), "bay")
}

// FindDrive finds the one drive a person names: by serial, by an unambiguous ending of at least 3 characters, or by its bay.
func (s *Shop) FindDrive(ctx context.Context, name string) (Drive, error) {
	name = strings.TrimSpace(name)
	if bay, err := drive.ParseBay(name); err == nil && s.meansBay(name, bay) {
		return s.driveInBay(ctx, bay)
	}
	ending := strings.ToUpper(strings.ReplaceAll(name, " ", ""))
	if len(ending) < 3 {
		return Drive{}, &Invalid{fmt.Sprintf("%q is too short to name a drive", name), "Give at least the last 3 characters of its serial, or bay-N."}
	}
	if whole, err := s.store.DrivesBySerial(ctx, name); err != nil || len(whole) == 1 { // which nearly every question gives
		return append(whole, Drive{})[0], err
	}
	found, err := s.store.DrivesBySuffix(ctx, ending)
	if err != nil {
		return Drive{}, err
	}
	var exact []Drive
	for _, d := range found {
		if strings.EqualFold(d.Identity.Serial, ending) {
			exact = append(exact, d)
		}
	}
	if len(exact) == 1 {
		found = exact
	}
	switch len(found) {
	case 0:
		return Drive{}, &NotFound{fmt.Sprintf("no drive whose serial ends with %q", name), "List the drives, or read it in a bay first."}
	case 1:
		return found[0], nil
	}
	var serials []string
	for _, d := range found[:min(len(found), 5)] {
		serials = append(serials, d.Identity.Serial)
	}
	return Drive{}, &Invalid{fmt.Sprintf("%q names %d drives: %s", name, len(found), strings.Join(serials, ", ")), "Give more of the serial."}
}

func (s *Shop) driveInBay(ctx context.Context, id drive.Bay) (Drive, error) {
	b, err := s.Bay(ctx, id)
	if err != nil {
		return Drive{}, err
	}
	if b.Drive == nil {
		do := "Check its power, then try again."
		if b.Bay.Fault != nil {
			do = b.Bay.Fault.Advice()
		}
		return Drive{}, &NotFound{fmt.Sprintf("no drive has named itself in %s (%s)", id.Words(), b.Bay.Connection), do}
	}
	return *b.Drive, nil
}

// isNone reports whether an error only says that there is nothing.
func isNone(err error) bool {
	_, none := errors.AsType[*NotFound](err)
	return none
}

// SetDuty changes what a drive is meant for and judges it anew.
func (s *Shop) SetDuty(ctx context.Context, by Actor, d Drive, duty drive.Duty) error {
	return s.act(ctx, by, func(tx Tx) ([]Deed, []Event, error) {
		deed := Deed{Kind: IntakeChanged, Serial: d.Identity.Serial, Bay: d.Now.Bay, Text: fmt.Sprintf("%s: meant for %s", d.Identity.Serial, duty)}
		deed.edit("duty", d.Duty, duty)
		d.Duty = duty
		if err := tx.SaveDrive(ctx, &d); err != nil {
			return nil, nil, err
		}
		more, err := s.Redecide(ctx, tx, d)
		return []Deed{deed}, more, err
	})
}
