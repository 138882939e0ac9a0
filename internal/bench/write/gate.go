// Package write is the one door for writing: the only place that can open a drive's surface for it, and what a rework does with the
// surface. Admit holds every reason for which a rework does not begin; Open holds, besides, what the machine and the drive themselves
// say at the moment of the opening, and hands out the surface. Both are asked again whenever a drive was away. No flag passes by. Each
// write has an intent in the journal before it. Start with Admit, then Hold.
package write

import (
	"context"
	"fmt"
	"strings"
	"time"

	"hylostat.example/internal/bench/device"
	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/protocol"
)

// The sentences of a refusal name no serial: a person is to read it off the label.

// Reason names a refusal: docs/rework.md lists them, and each has a test.
type Reason string

// The reasons.
const (
	NotHere     Reason = "not_here"     // this bench was not started with the permission to write
	NoRelease   Reason = "no_release"   // none came with the order
	OtherDrive  Reason = "other_drive"  // the release is another drive's
	TooNarrow   Reason = "too_narrow"   // its scope does not cover this rework
	Expired     Reason = "expired"      // the order is too old
	Used        Reason = "used"         // it has begun a rework before
	NoEnding    Reason = "no_ending"    // fewer than six characters of the serial
	WrongEnding Reason = "wrong_ending" // they are not the end of the drive's serial
	NoName      Reason = "no_name"      // the drive does not name itself; an adapter's serial does not do
	Image       Reason = "image"        // it is no drive
	Behind      Reason = "behind"       // a controller stands between
	Twice       Reason = "twice"        // the serial answers in another bay, too
	Locked      Reason = "locked"       // by a password, its own encryption, or whatever it does not name
	LinkFails   Reason = "link_fails"   // transfers are damaged on the way
	NoTargets   Reason = "no_targets"   // nothing is known to be unreadable
	NoSurface   Reason = "no_surface"   // the surface cannot be written through this adapter
	InUse       Reason = "in_use"       // mounted, swap, device-mapper, md, held
	Held        Reason = "held"         // the kernel lets nobody else open it
	ReadOnly    Reason = "read_only"    // at the block layer
	Swapped     Reason = "swapped"      // another drive answers, or the drive is gone
	FirstRead   Reason = "first_read"   // its identity could not be read just before
	leastTyped         = 6              // characters of a serial
)

// Asked is what there is to judge a rework by before anything is opened.
type Asked struct {
	Kind     check.Kind
	Rework   *check.Rework
	Key      drive.Key // the drive the order is meant for
	Now      time.Time
	Asking   bool // whether it could begin: the serial is typed when all else stands
	Begun    bool // it has begun before and is to go on: the order's age no longer matters
	Allowed  bool // the bench was started with the permission
	Bay      protocol.Bay
	Others   map[drive.Bay]drive.Key // what answers in other bays
	Identity drive.Identity          // by the latest reading; zero when there is none
}

// Refused says why a rework does not begin.
type Refused struct {
	Reason Reason
	Class  drive.FaultClass
	Cause  string
	Advice string
}

func (r *Refused) Error() string { return r.Cause + ". " + r.Advice }

// Refusal is the refusal as an order's answer.
func (r *Refused) Refusal(kind check.Kind, bay drive.Bay) *protocol.Refusal {
	return &protocol.Refusal{
		Class:  r.Class,
		What:   fmt.Sprintf("%s in %s", strings.ToLower(kind.Title()), bay.Words()),
		Cause:  r.Cause,
		Advice: r.Advice,
	}
}

// Fault is the refusal as a fault of a run.
func (r *Refused) Fault(kind check.Kind) *drive.Fault {
	return &drive.Fault{Class: r.Class, What: "beginning to " + string(kind), Cause: r.Cause, Extra: r.Advice}
}

// Admit judges a rework by what is known without opening anything; nil: it may go on to Open.
func Admit(a Asked) *Refused {
	refuse := func(reason Reason, class drive.FaultClass, back, do string) *Refused {
		return &Refused{reason, class, back, do}
	}
	w := a.Rework
	switch {
	case !a.Allowed:
		return refuse(
			NotHere, drive.FaultNotAllowed, "this bench was not started with the permission to write to drives",
			"Start it with --allow-rework.",
		)
	case w == nil || w.Release.Nonce == "" || w.Release.Owner == "":
		return refuse(NoRelease, drive.FaultNotAllowed, "not released by the owner", "Record a release.")
	case w.Release.Key != a.Key:
		return refuse(OtherDrive, drive.FaultWrongDrive, "the release is for another drive", "Record a release for this drive.")
	case !w.Release.Allows(a.Kind):
		return refuse(
			TooNarrow, drive.FaultNotAllowed,
			fmt.Sprintf("the owner released the drive for %s, which does not cover %s", w.Release.Scope, a.Kind),
			"Ask the owner, and record what they say.",
		)
	case !a.Begun && !a.Now.Before(w.Release.Expires):
		return refuse(
			Expired, drive.FaultNotAllowed, fmt.Sprintf("the order expired at %s", w.Release.Expires.UTC().Format("15:04:05")),
			"Order it again.",
		)
	}
	switch b := a.Bay; {
	case b.Device.Transport == "image":
		return refuse(Image, drive.FaultNotAllowed, "it is an image, and no drive with a serial of its own", "Attach a drive.")
	case b.Device.Behind != "":
		return refuse(Behind, drive.FaultBehind, "it is "+b.Device.Behind, drive.FaultBehind.Advice())
	case b.Connection == protocol.StuckBay:
		return refuse(Swapped, drive.FaultStuck, "its drive holds an earlier command", drive.FaultStuck.Advice())
	case b.Connection == protocol.Unread:
		return refuse(
			NoName, drive.FaultNotPassed, "the drive does not tell its own serial; that of the adapter does not do",
			"Attach it to a direct port.",
		)
	case b.Connection != protocol.Answering:
		return refuse(Swapped, drive.FaultNoAnswer, "no drive answers", drive.FaultNoAnswer.Advice())
	case b.Key != a.Key:
		return refuse(
			Swapped, drive.FaultWrongDrive, "another drive is in the bay than the one that was ordered",
			drive.FaultWrongDrive.Advice(),
		)
	case b.Device.InUse != "":
		return refuse(InUse, drive.FaultInUse, "this machine uses it: "+b.Device.InUse, drive.FaultInUse.Advice())
	}
	for bay, k := range a.Others {
		if bay != a.Bay.ID && k.Serial == a.Key.Serial {
			return refuse(
				Twice, drive.FaultWrongDrive, fmt.Sprintf("the serial answers in %s, too", bay.Words()),
				"Leave one of them attached, by one path.",
			)
		}
	}
	switch {
	case a.Identity.Security.Locked:
		return refuse(Locked, drive.FaultLocked, "it is locked by "+a.Identity.Security.By.Words(), drive.FaultLocked.Advice())
	case w.LinkFails:
		return refuse(
			LinkFails, drive.FaultLink, "the last sweep's transfers were damaged on the link",
			"Change the cable or the port, then sweep again.",
		)
	case a.Kind == check.Mend && len(w.Targets) == 0:
		return refuse(
			NoTargets, drive.FaultNotRead, "no sector is known to be unreadable",
			"Sweep it first: a mend writes only what a sweep found.",
		)
	case a.Asking:
	case len(w.Ending) < leastTyped:
		return refuse(
			NoEnding, drive.FaultWrongDrive,
			fmt.Sprintf("the end of the serial has %d characters, and needs %d", len(w.Ending), leastTyped),
			"Scan the label, or type the end of the serial from it.",
		)
	case !ends(a.Bay.Key.Serial, w.Ending):
		return refuse(
			WrongEnding, drive.FaultWrongDrive, "what was typed is not the end of the serial the drive tells",
			"Compare the label with the drive in the bay, and type it again.",
		)
	}
	return nil
}

// ends compares the end of a serial with what somebody read off a label, blanks and hyphens aside.
func ends(serial, typed string) bool {
	plain := strings.NewReplacer(" ", "", "-", "").Replace
	typed = plain(typed)
	return len(typed) >= leastTyped && strings.HasSuffix(strings.ToUpper(plain(serial)), strings.ToUpper(typed))
}

// Free judges a rework that Admit let through by what on this machine needs the drive.
func Free(ctx context.Context, source device.Source, a Asked) *Refused {
	w, ok := source.(device.Writable)
	if !ok {
		return &Refused{
			NoSurface,
			drive.FaultNotPassed,
			"the surface cannot be written through this adapter",
			"Attach it to a direct port.",
		}
	}
	uses, err := w.Uses(ctx, a.Bay.Device)
	switch {
	case err != nil:
		return &Refused{FirstRead, drive.FaultNotRead, "what uses the drive could not be found out: " + err.Error(), "Try again."}
	case len(uses) > 0:
		return &Refused{InUse, drive.FaultInUse, "this machine uses it: " + strings.Join(uses, ", "), drive.FaultInUse.Advice()}
	}
	return nil
}

// Open opens the surface of the drive in a bay for writing: for a rework that Admit and Free let through. identify asks the
// drive for its name once the surface is held.
func Open(
	ctx context.Context, source device.Source, a Asked, identify func(context.Context) (drive.Key, *drive.Fault),
) (device.Exclusive, *Refused) {
	for _, refused := range []*Refused{Admit(a), Free(ctx, source, a)} {
		if refused != nil {
			return nil, refused
		}
	}
	w := source.(device.Writable) //nolint:errcheck // Free has seen it
	x, err := w.OpenExclusive(ctx, a.Bay.Device)
	if err != nil {
		f := device.FaultOf("opening it for writing", err)
		reason := map[drive.FaultClass]Reason{
			drive.FaultInUse: Held, drive.FaultNotAllowed: ReadOnly, drive.FaultVanished: Swapped,
		}[f.Class]
		if reason == "" {
			reason = NoSurface
		}
		return nil, &Refused{reason, f.Class, f.Cause, f.Advice()}
	}
	key, fault := identify(ctx)
	if fault == nil && key == a.Key {
		return x, nil
	}
	_ = x.Close()
	if fault != nil {
		return nil, &Refused{FirstRead, fault.Class, fault.What + ": " + fault.Cause, fault.Advice()}
	}
	return nil, &Refused{
		Swapped,
		drive.FaultWrongDrive,
		"another drive answers than the one that was ordered",
		drive.FaultWrongDrive.Advice(),
	}
}
