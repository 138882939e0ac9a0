package desk

import (
	"context"
	"strings"
	"time"

	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/protocol"
	"hylostat.example/internal/shop"
)

// Action is the one thing a bay waits for.
type Action string

// The actions. A person is awaited for all but ActionOpen and ActionDriveIn.
const (
	ActionOpen       Action = "open"
	ActionDriveIn    Action = "drive_in"
	ActionTryAgain   Action = "try_again"
	ActionCheck      Action = "check"
	ActionSign       Action = "sign"
	ActionReview     Action = "review"
	ActionRecordCopy Action = "record_copy"
)

// BayView is a bay with all that a card shows of it.
type BayView struct {
	Bay    protocol.Bay
	Drive  *shop.Drive
	Run    *check.Run // open, or nil
	Intake *shop.Intake
	Doing  wording.Phrase // what is going on, a sentence
	Note   wording.Phrase // below it: what is so besides
	Action Action
	Check  check.Kind     // of an ActionCheck
	Next   wording.Phrase // the action in two words, for a table
}

// Bays lists all bays as they stand.
func (s *Desk) Bays(ctx context.Context) ([]BayView, error) {
	bays, err := s.store.Bays(ctx)
	if err != nil {
		return nil, err
	}
	all := make([]BayView, len(bays))
	for i, b := range bays {
		if all[i], err = s.view(ctx, b); err != nil {
			return nil, err
		}
	}
	return all, nil
}

// Bay gives one bay.
func (s *Desk) Bay(ctx context.Context, id drive.Bay) (BayView, error) {
	bays, err := s.store.Bays(ctx)
	if err != nil {
		return BayView{}, err
	}
	for _, b := range bays {
		if b.ID == id {
			return s.view(ctx, b)
		}
	}
	return BayView{}, &shop.NotFound{What: "there is no " + id.Words(), Advice: "List the bays."}
}

func (s *Desk) view(ctx context.Context, b protocol.Bay) (BayView, error) {
	v := BayView{Bay: b, Action: ActionOpen, Next: wording.Say(wording.NextWait)}
	if b.Key.IsValid() {
		d, err := s.store.DriveByKey(ctx, b.Key)
		if err != nil && !shop.IsNone(err) {
			return v, err
		}
		if err == nil {
			v.Drive = &d
		}
	}
	i, err := intakeOfBay(ctx, s.store, b)
	if err != nil && !shop.IsNone(err) {
		return v, err
	}
	if err == nil && (i.Drive != 0 || b.Connection != protocol.Empty) {
		v.Intake = &i
	}
	if v.Drive != nil {
		open, err := s.runs.Runs(ctx, shop.RunQuery{Drive: b.Key, Open: true, Limit: 1})
		if err != nil {
			return v, err
		}
		if len(open) > 0 {
			v.Run = &open[0]
		}
	}
	var newest *check.Run
	if v.Drive != nil {
		if newest, err = s.newestRun(ctx, *v.Drive); err != nil {
			return v, err
		}
	}
	intakes, err := s.intakesOf(ctx, v.Drive)
	if err != nil {
		return v, err
	}
	s.describe(&v, unseen(intakes, newest))
	s.hereBefore(&v, intakes, newest)
	if err := s.ended(ctx, &v, newest); err != nil {
		return v, err
	}
	if v.Intake != nil && v.Intake.Drive == 0 && b.Connection == protocol.Silent {
		dead, err := s.Unanswered(ctx, *v.Intake)
		if err != nil {
			return v, err
		}
		if dead != "" {
			v.Doing, v.Next = wording.Say(wording.BayFirst, wording.Values{"text": dead + "."}), wording.Say(wording.NextReplace)
		}
	}
	return v, nil
}

// intakesOf lists the intakes of what is in a bay, newest first.
func (s *Desk) intakesOf(ctx context.Context, d *shop.Drive) ([]shop.Intake, error) {
	if d == nil {
		return nil, nil
	}
	return s.store.Intakes(ctx, d.ID)
}

// unseen reports whether nobody has looked yet into what a drive came back for. intakes are the drive's, newest first.
func unseen(intakes []shop.Intake, newest *check.Run) bool {
	present, last := comeback(intakes)
	return last != nil &&
		(newest == nil || newest.Asked.Before(present.At) || newest.Outcome != check.Passed && newest.Outcome != check.Failed)
}

// hereBefore has a bay tell what is to be done with a drive that was handed over, and of one that came back that it was here before.
func (s *Desk) hereBefore(v *BayView, intakes []shop.Intake, newest *check.Run) {
	if v.Drive == nil || v.Run != nil || v.Bay.Connection != protocol.Answering || v.Drive.Now.Bay != v.Bay.ID || len(intakes) == 0 {
		return
	}
	if _, last := comeback(intakes); last != nil && v.Intake != nil && !v.Intake.AtRisk() && unseen(intakes, newest) {
		v.Note = wording.Say(wording.BayBack, wording.Values{
			"at": last.Handover.At.Format(time.RFC3339), "goes": string(last.Handover.Goes), "note": v.Note,
		})
	}
	went := intakes[0].Handover
	switch {
	case went == nil:
	case v.Bay.Since.After(went.At): // put in again
		v.Doing = wording.Say(wording.BayCameBack, wording.Values{"at": went.At.Format(time.RFC3339), "goes": string(went.Goes)})
		v.Action, v.Check, v.Next = ActionOpen, "", wording.Say(wording.NextTakeIn)
	default:
		v.Doing = wording.Say(wording.BayHandedOver, wording.Values{"goes": string(went.Goes), "data": string(went.Data)})
		v.Action, v.Check, v.Next = ActionOpen, "", wording.Say(wording.NextTakeOut)
	}
}

// ended has a bay tell what the last run of its drive came to, as long as nobody has signed what follows from it.
func (s *Desk) ended(ctx context.Context, v *BayView, r *check.Run) error {
	d := v.Drive
	if r == nil || r.State != check.Done || v.Run != nil || v.Bay.Connection != protocol.Answering || d.Now.Bay != v.Bay.ID ||
		d.Now.Signed != nil ||
		v.Intake != nil && (v.Intake.AtRisk() || v.Intake.Handover != nil || r.Asked.Before(v.Intake.At)) {
		return nil
	}
	moved, _, err := s.moved(ctx, *d, *r)
	if err != nil {
		return err
	}
	v.Note = wording.Say(wording.BayEnded, wording.Values{"kind": string(r.Kind), "standing": r.Stands(), "note": v.Note})
	var e RunEnd
	if e.follow(*r, d.Now, moved); e.Check != "" {
		v.Action, v.Check, v.Next = ActionCheck, e.Check, e.short
	}
	return nil
}

// describe finds the words for a bay: what is going on, and what to do. unseen is as the function of that name says.
func (s *Desk) describe(v *BayView, unseen bool) {
	b, d := v.Bay, v.Drive
	switch {
	case b.Connection == protocol.Empty:
		v.Doing, v.Action, v.Next = wording.Say(wording.BayEmpty), ActionDriveIn, wording.Say(wording.NextPutIn)
	case b.Connection == protocol.Silent:
		v.Doing, v.Action, v.Next = wording.Say(
			wording.BaySilent, wording.Values{"n": b.Attempts},
		), ActionTryAgain, wording.Say(wording.NextPower)
	case b.Connection == protocol.StuckBay && b.Fault != nil:
		v.Doing, v.Note, v.Action, v.Next = stuck(*b.Fault), wording.Say(wording.LeaveInBay), ActionTryAgain, wording.Say(wording.NextLeave)
	case b.Connection == protocol.Unread && b.Fault != nil:
		v.Doing, v.Note, v.Next = unread(*b.Fault), wording.Literal(b.Fault.Advice()), wording.Say(wording.NextAdvice)
	case v.Run != nil:
		v.Doing = wording.Say(wording.BayRun, wording.Values{"kind": string(v.Run.Kind), "standing": v.Run.Stands()})
	case d != nil && d.Identity.Security.Locked:
		v.Doing = wording.Say(wording.BayLocked, wording.Values{"by": string(d.Identity.Security.By)})
		v.Note, v.Next = wording.Say(wording.AskToUnlock), wording.Say(wording.NextOwner)
	case v.Intake != nil && v.Intake.AtRisk():
		v.Doing, v.Action, v.Next = wording.Say(wording.BayAtRisk), ActionRecordCopy, wording.Say(wording.NextCopy)
		switch {
		case b.Device.Written > 0:
			v.Note = wording.Say(wording.WrittenTo, wording.Values{"bytes": b.Device.Written})
		case b.Device.InUse != "":
			v.Note = wording.Say(wording.InUseUnmount, wording.Values{"by": b.Device.InUse})
		case b.WriteProtected:
			v.Note = wording.Say(wording.RemovableProtected)
		}
	case d == nil:
		v.Doing = wording.Say(wording.BayMeets)
	case d.Now.Bay != b.ID && !d.Now.Bay.IsZero():
		v.Doing = wording.Say(wording.BaySame, wording.Values{"bay": d.Now.Bay.String()})
		v.Next = wording.Say(wording.NextSee, wording.Values{"bay": d.Now.Bay.String()})
	default:
		v.Doing = wording.Say(wording.BayFirst, wording.Values{"text": d.Now.First})
		v.Action, v.Check, v.Next = verdictAction(d)
		if unseen {
			v.Action, v.Check, v.Next = ActionCheck, check.Quick, wording.Say(wording.NextQuick)
		}
	}
	if v.Note.IsZero() && d != nil && v.Run == nil && b.Connection == protocol.Answering {
		v.Note = wording.Say(wording.Removable)
		if b.Device.InUse != "" {
			v.Note = wording.Say(wording.InUse, wording.Values{"by": b.Device.InUse})
		} else if d.Now.Signed != nil && !unseen {
			v.Note = wording.Say(wording.RemovableSigned, wording.Values{"by": d.Now.Signed.By})
		}
	}
}

// unread says why a drive's counters are not read; the fault has the details.
func unread(f drive.Fault) wording.Phrase {
	switch f.Class {
	case drive.FaultNotPassed, drive.FaultBehind, drive.FaultNoMedium, drive.FaultVanished, drive.FaultBadAnswer, drive.FaultNotReady:
		return wording.Say(wording.Code("bay.unread."+f.Class), wording.Values{"cause": f.Cause})
	default:
		return wording.Say(wording.BayUnread, wording.Values{"cause": f.Cause})
	}
}

// stuck says which command holds a bay.
func stuck(f drive.Fault) wording.Phrase {
	what := wording.Literal(f.What)
	if strings.HasPrefix(f.What, "command") { // a number that says nothing to people
		what = wording.Say(wording.ACommand)
	}
	return wording.Say(wording.BayStuck, wording.Values{"what": what, "cause": f.Cause})
}

// nextCheck is a check in two words, as the next step.
var nextCheck = map[check.Kind]wording.Code{
	check.Quick: wording.NextQuick, check.Extended: wording.NextExtended, check.Whole: wording.NextWhole,
}

// verdictAction is what a drive's verdict leads to, and which check, when it is one.
func verdictAction(d *shop.Drive) (Action, check.Kind, wording.Phrase) {
	switch {
	case d.Now.Signed != nil:
		return ActionOpen, "", wording.Say(wording.NextHandOver)
	case d.Now.Grade == drive.Undecided:
		if kind, ok := check.Brings(d.Now.Missing); ok {
			return ActionCheck, kind, wording.Say(nextCheck[kind])
		}
		return ActionReview, "", wording.Literal(d.Now.Missing)
	case d.Now.Grade == drive.Healthy && d.Now.Findings == 0:
		return ActionSign, "", wording.Say(wording.NextSign)
	}
	return ActionReview, "", wording.Say(wording.NextReview)
}
