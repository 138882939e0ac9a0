package desk

import (
	"context"
	"slices"
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
	past, err := s.pastOf(ctx, v)
	if err != nil {
		return v, err
	}
	v.describe(past)
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

// past is what a bay knows of the drive in it besides how things stand now. The zero past is of none.
type past struct {
	intakes []shop.Intake // newest first
	newest  *check.Run    // the last that was asked for; nil: none was
	moved   []shop.Change // by it, when it is done
}

// pastOf is the past of the drive in a bay.
func (s *Desk) pastOf(ctx context.Context, v BayView) (p past, err error) {
	if v.Drive == nil {
		return p, nil
	}
	if p.intakes, err = s.store.Intakes(ctx, v.Drive.ID); err != nil {
		return p, err
	}
	if p.newest, err = s.newestRun(ctx, *v.Drive); err != nil || !p.ended(v.Drive.Now) {
		return p, err
	}
	p.moved, _, err = s.moved(ctx, *v.Drive, *p.newest)
	return p, err
}

// handover is how the drive left the shop; nil: it is on an intake, or was never on one.
func (p past) handover() *shop.Handover {
	if len(p.intakes) == 0 {
		return nil
	}
	return p.intakes[0].Handover
}

// ended reports whether a run of this visit is done, and nobody has signed yet what follows from it.
func (p past) ended(now shop.Now) bool {
	return p.newest != nil && p.newest.State == check.Done && now.Signed == nil &&
		(len(p.intakes) == 0 || !p.newest.Asked.Before(p.intakes[0].At))
}

// unseen reports whether nobody has looked yet into what the drive came back for.
func (p past) unseen() bool {
	present, last := comeback(p.intakes)
	return last != nil &&
		(p.newest == nil || p.newest.Asked.Before(present.At) || p.newest.Outcome != check.Passed && p.newest.Outcome != check.Failed)
}

// describe finds the words for a bay: what is going on, and what to do.
func (v *BayView) describe(p past) {
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
	case d == nil:
		v.Doing = wording.Say(wording.BayMeets)
		if v.Intake != nil && v.Intake.AtRisk() {
			v.atRisk()
		}
	case d.Now.Bay != b.ID && !d.Now.Bay.IsZero():
		v.Doing, v.Note = wording.Say(wording.BaySame, wording.Values{"bay": d.Now.Bay.String()}), v.removable()
		v.Next = wording.Say(wording.NextSee, wording.Values{"bay": d.Now.Bay.String()})
	case p.handover() != nil:
		v.wentAway(*p.handover())
	case d.Identity.Security.Locked:
		v.Doing = wording.Say(wording.BayLocked, wording.Values{"by": string(d.Identity.Security.By)})
		v.Note, v.Next = wording.Say(wording.AskToUnlock), wording.Say(wording.NextOwner)
	case v.Intake != nil && v.Intake.AtRisk():
		v.atRisk()
	default:
		v.judged(p)
	}
}

// atRisk is a bay whose drive is not to be loaded: its data is wanted and not copied.
func (v *BayView) atRisk() {
	v.Doing, v.Action, v.Next = wording.Say(wording.BayAtRisk), ActionRecordCopy, wording.Say(wording.NextCopy)
	switch b := v.Bay; {
	case b.Device.Written > 0:
		v.Note = wording.Say(wording.WrittenTo, wording.Values{"bytes": b.Device.Written})
	case b.Device.InUse != "":
		v.Note = wording.Say(wording.InUseUnmount, wording.Values{"by": b.Device.InUse})
	case b.WriteProtected:
		v.Note = wording.Say(wording.RemovableProtected)
	case v.Drive != nil:
		v.Note = v.removable()
	}
}

// wentAway is a bay with a drive that was handed over: it lies there still, or was put in again.
func (v *BayView) wentAway(h shop.Handover) {
	v.Doing, v.Next = wording.Say(wording.BayHandedOver, wording.Values{"goes": string(h.Goes), "data": string(h.Data)}),
		wording.Say(wording.NextTakeOut)
	if v.Bay.Since.After(h.At) {
		v.Doing = wording.Say(wording.BayCameBack, wording.Values{"at": h.At.Format(time.RFC3339), "goes": string(h.Goes)})
		v.Next = wording.Say(wording.NextTakeIn)
	}
	v.Note = v.removable()
}

// judged is a bay whose drive has a verdict: what that leads to, unless the drive came back and nobody has looked yet, or its last run asks
// for something itself.
func (v *BayView) judged(p past) {
	now := v.Drive.Now
	v.Doing, v.Note = wording.Say(wording.BayFirst, wording.Values{"text": now.First}), v.removable()
	v.Action, v.Check, v.Next = verdictAction(v.Drive)
	note := func(says wording.Phrase) {
		if v.Bay.Device.InUse == "" { // which is more important
			v.Note = says
		}
	}
	if p.unseen() {
		_, last := comeback(p.intakes)
		v.Action, v.Check, v.Next = ActionCheck, check.Quick, wording.Say(wording.NextQuick)
		note(wording.Say(wording.BayBack, wording.Values{
			"at": last.Handover.At.Format(time.RFC3339), "goes": string(last.Handover.Goes), "note": v.removable(),
		}))
	}
	if !p.ended(now) {
		return
	}
	note(endedAs(*p.newest, v.removable()))
	var e RunEnd
	if e.follow(*p.newest, now, p.moved); e.Check != "" {
		v.Action, v.Check, v.Next = ActionCheck, e.Check, e.short
	}
}

// endedAs tells how a run ended in the few words a bay has room for. removable goes with it, for those who show that by a mark.
func endedAs(r check.Run, removable wording.Phrase) wording.Phrase {
	values := wording.Values{"kind": string(r.Kind), "outcome": string(r.Outcome), "note": removable}
	if n := slices.IndexFunc(r.Steps, func(s check.Step) bool { return s.State == check.StepFailed }); n >= 0 {
		values["step"] = string(r.Steps[n].Kind)
		return wording.Say(wording.BayEndedAt, values)
	}
	return wording.Say(wording.BayEnded, values)
}

// removable says whether the drive in a bay may be taken out.
func (v *BayView) removable() wording.Phrase {
	switch signed := v.Drive.Now.Signed; {
	case v.Bay.Device.InUse != "":
		return wording.Say(wording.InUse, wording.Values{"by": v.Bay.Device.InUse})
	case signed != nil:
		return wording.Say(wording.RemovableSigned, wording.Values{"by": signed.By})
	}
	return wording.Say(wording.Removable)
}

// unread says why a drive's counters are not read; the fault has the details.
func unread(f drive.Fault) wording.Phrase {
	switch f.Class {
	case drive.FaultNotPassed, drive.FaultBehind, drive.FaultVirtual, drive.FaultNoMedium, drive.FaultVanished, drive.FaultBadAnswer,
		drive.FaultNotReady:
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
