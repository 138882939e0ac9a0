package shop

import (
	"context"
	"fmt"
	"strings"

	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/quantity"
	"hylostat.example/internal/protocol"
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
	Drive  *Drive
	Run    *check.Run // open, or nil
	Intake *Intake
	Doing  string // what is going on, a sentence
	Note   string // below it: what is so besides
	Action Action
	Next   string // the action in two words, for a table
}

// Bays lists all bays as they stand.
func (s *Shop) Bays(ctx context.Context) ([]BayView, error) {
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
func (s *Shop) Bay(ctx context.Context, id drive.Bay) (BayView, error) {
	bays, err := s.store.Bays(ctx)
	if err != nil {
		return BayView{}, err
	}
	for _, b := range bays {
		if b.ID == id {
			return s.view(ctx, b)
		}
	}
	return BayView{}, &NotFound{"there is no " + id.Words(), "List the bays."}
}

func (s *Shop) view(ctx context.Context, b protocol.Bay) (BayView, error) {
	v := BayView{Bay: b, Action: ActionOpen, Next: "wait"}
	if b.Key.IsValid() {
		d, err := s.store.DriveByKey(ctx, b.Key)
		if err != nil && !isNone(err) {
			return v, err
		}
		if err == nil {
			v.Drive = &d
		}
	}
	i, err := s.store.IntakeInBay(ctx, b.ID)
	if err != nil && !isNone(err) {
		return v, err
	}
	if err == nil && (i.Drive == 0 && b.Connection != protocol.Empty || v.Drive != nil && i.Drive == v.Drive.ID) {
		v.Intake = &i
	}
	if v.Drive != nil {
		open, err := s.Runs(ctx, RunQuery{Drive: b.Key, Open: true, Limit: 1})
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
func (s *Shop) describe(v *BayView) {
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
		v.Doing, v.Note, v.Next = map[check.Kind]string{check.Quick: "Quick", check.Extended: "Extended", check.Conveyance: "Conveyance", check.Selective: "Selective", check.Spot: "Spot", check.Whole: "Whole", check.Mend: "Mend", check.Renew: "Renew", check.Overwrite: "Overwrite"}[v.Run.Kind]+": "+Standing(*v.Run), "", "wait"
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

func verdictAction(d *Drive) (Action, string) {
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

// Standing says in a few words where a run stands.
func Standing(r check.Run) string {
	switch r.State {
	case check.Queued:
		return "waits to begin"
	case check.Absent:
		return "its drive is not in the bay"
	case check.Stuck:
		return "its drive holds a command"
	case check.Interrupted:
		return "picked up again after a restart"
	case check.Stopping:
		return "stopping"
	case check.Done:
		if r.Reason != "" && r.Outcome != check.Passed {
			return string(r.Outcome) + ": " + r.Reason
		}
		for _, step := range r.Steps {
			if step.State == check.StepFailed {
				return fmt.Sprintf("%s: %s, %s", r.Outcome, strings.ToLower(step.Kind.Title()), step.Note)
			}
		}
		return string(r.Outcome)
	case check.Paused:
		return "waits: " + r.Pause
	case check.Running:
	}
	if step := r.Current(); step != nil {
		text := strings.ToLower(step.Kind.Title())
		if step.Standing != nil && step.State == check.Begun {
			if step.Standing.Unreadable > 0 {
				text += fmt.Sprintf(", %d unreadable", step.Standing.Unreadable)
			}
		}
		return text
	}
	return "running"
}
