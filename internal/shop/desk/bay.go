package desk

import (
	"context"
	"fmt"
	"strings"

	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/quantity"
	"hylostat.example/internal/protocol"
	"hylostat.example/internal/shop"
	"hylostat.example/internal/shop/runs"
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
	Doing  string // what is going on, a sentence
	Note   string // below it: what is so besides
	Action Action
	Next   string // the action in two words, for a table
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
	v := BayView{Bay: b, Action: ActionOpen, Next: "wait"}
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
	s.describe(&v)
	if v.Intake != nil && v.Intake.Drive == 0 && b.Connection == protocol.Silent {
		dead, err := s.Unanswered(ctx, *v.Intake)
		if err != nil {
			return v, err
		}
		if dead != "" {
			v.Doing, v.Next = dead+".", "replace it"
		}
	}
	return v, nil
}

// describe finds the words for a bay: what is going on, and what to do.
func (s *Desk) describe(v *BayView) {
	b, d := v.Bay, v.Drive
	switch {
	case b.Connection == protocol.Empty:
		v.Doing, v.Action, v.Next = "Put a drive in. It is read as soon as it answers.", ActionDriveIn, "put a drive in"
	case b.Connection == protocol.Silent:
		v.Doing, v.Action, v.Next = fmt.Sprintf("No answer, attempt %d. Check its power.", b.Attempts), ActionTryAgain, "check power"
	case b.Connection == protocol.StuckBay && b.Fault != nil:
		v.Doing, v.Note, v.Action, v.Next = command(b.Fault.What)+": "+b.Fault.Cause+". Others continue.", "Leave it in the bay", ActionTryAgain, "leave it"
	case b.Connection == protocol.Unread && b.Fault != nil:
		v.Doing, v.Note, v.Next = unread(*b.Fault), b.Fault.Advice(), "see advice"
	case v.Run != nil:
		v.Doing, v.Note, v.Next = map[check.Kind]string{check.Quick: "Quick", check.Extended: "Extended", check.Conveyance: "Conveyance", check.Selective: "Selective", check.Spot: "Spot", check.Whole: "Whole", check.Mend: "Mend", check.Renew: "Renew", check.Overwrite: "Overwrite"}[v.Run.Kind]+": "+runs.Standing(*v.Run), "", "wait"
	case d != nil && d.Identity.Security.Locked:
		v.Doing, v.Next = fmt.Sprintf("Locked by %s. Surface not read.", d.Identity.Security.By.Words()), "ask the owner"
		v.Note = "Ask the owner to unlock it"
	case v.Intake != nil && v.Intake.AtRisk():
		v.Doing, v.Action, v.Next = "Data wanted, not copied. Checks wait.", ActionRecordCopy, "copy the data"
		switch {
		case b.Device.Written > 0:
			v.Note = fmt.Sprintf("%s written to it by this machine. Look what mounts it", quantity.Of(float64(b.Device.Written), "B"))
		case b.Device.InUse != "":
			v.Note = "In use: " + b.Device.InUse + ". Unmount it"
		case b.WriteProtected:
			v.Note = "Protected from writing, safe to remove"
		}
	case d == nil:
		v.Doing = "Getting to know the drive."
	case d.Now.Bay != b.ID && !d.Now.Bay.IsZero():
		v.Doing, v.Next = fmt.Sprintf("The same drive as in %s, by another path.", d.Now.Bay.Words()), "see "+d.Now.Bay.Words()
	default:
		v.Doing = d.Now.First
		v.Action, v.Next = verdictAction(d)
	}
	if v.Note == "" && d != nil && v.Run == nil && b.Connection == protocol.Answering {
		v.Note = "Safe to remove"
		if b.Device.InUse != "" {
			v.Note = "In use: " + b.Device.InUse
		} else if d.Now.Signed != nil {
			v.Note = "Signed by " + d.Now.Signed.By + ", safe to remove"
		}
	}
}

// unread says in one sentence why a drive's counters are not read; the fault has the details.
func unread(f drive.Fault) string {
	switch f.Class {
	case drive.FaultNotPassed:
		return "Counters not read: the adapter does not pass them."
	case drive.FaultBehind:
		return "Counters not read: behind a RAID controller, which shows volumes."
	case drive.FaultNoMedium:
		return "The adapter is there, no drive is behind it."
	case drive.FaultVanished:
		return "It went away while it was read."
	case drive.FaultBadAnswer:
		return "It answers nonsense: " + f.Cause + "."
	case drive.FaultNotReady:
		return "It is not ready: " + f.Cause + "."
	default:
		return "Counters not read: " + f.Cause + "."
	}
}

// command shortens what was tried to the name of the command.
func command(what string) string {
	if strings.HasPrefix(what, "command") {
		return "A command"
	}
	return what
}

func verdictAction(d *shop.Drive) (Action, string) {
	switch {
	case d.Now.Signed != nil:
		return ActionOpen, "hand over"
	case d.Now.Grade == drive.Undecided:
		return ActionCheck, "quick check"
	case d.Now.Grade == drive.Healthy && d.Now.Findings == 0:
		return ActionSign, "sign"
	}
	return ActionReview, "review"
}
