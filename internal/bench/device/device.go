// Package device is the narrow line at which real and simulated drives meet: one attached drive, the commands it may be
// given, and nothing else. Every implementation passes the conformance suite in devicetest and puts each command to Allow
// before it leaves. Start with Device.
package device

import (
	"context"
	"errors"
	"fmt"
	"time"

	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/nvme"
	"hylostat.example/internal/core/scsi"
)

// Device is one attached drive, opened for reading.
type Device interface {
	Describe() drive.Attachment
	Close() error
}

// SCSI is the ability to take SCSI commands, ATA pass-through among them.
type SCSI interface {
	// Exchange sends one command and waits for its end or its deadline, on the device's own clock. Errors are *Refused,
	// *Failed, or the context's. A command that ends with a bad status is not an error: the Result says so.
	Exchange(ctx context.Context, c Command) (Result, error)
}

// Command is one SCSI command that reads up to DataIn bytes, or carries DataOut to the drive.
type Command struct {
	CDB     []byte
	DataIn  int
	DataOut []byte // only what Allow knows to be a question
	Timeout time.Duration
}

// NVMe is the ability to take NVMe admin commands.
type NVMe interface {
	// Admin sends one command and waits for its end or its deadline, on the device's own clock. Errors are *Refused,
	// *Failed, or the context's. A command that ends with a status other than success is not an error.
	Admin(ctx context.Context, c AdminCommand) (Completion, error)
}

// AdminCommand is one NVMe admin command.
type AdminCommand struct {
	nvme.Command
	Timeout time.Duration
}

// Completion is how an admin command ended.
type Completion struct {
	Status nvme.Status
	Result uint32 // DW0
	Data   []byte
	Took   time.Duration
}

// Result is how a command ended.
type Result struct {
	Status scsi.Status
	Data   []byte
	Sense  []byte
	Took   time.Duration
}

// Clock is the time a device lives in. Simulated time may run faster than the wall's.
type Clock interface {
	Now() time.Time
	// Sleep waits for d of this clock's time, or for the context.
	Sleep(ctx context.Context, d time.Duration) error
}

// Wall is the machine's clock.
type Wall struct{}

// Now is the wall's time.
func (Wall) Now() time.Time { return time.Now() }

// Sleep waits for d or for the context.
func (Wall) Sleep(ctx context.Context, d time.Duration) error {
	timer := time.NewTimer(d)
	defer timer.Stop()
	select {
	case <-timer.C:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

// Source finds attached drives and opens them: a machine's own, or a simulated bench.
type Source interface {
	// Look lists what is attached now.
	Look(ctx context.Context) ([]drive.Attachment, error)
	// Changed delivers a value whenever Look may have something new to tell.
	Changed(ctx context.Context) <-chan struct{}
	// Open opens the drive that Look described. *Failed with drive.FaultVanished when it is gone or another took its place.
	Open(ctx context.Context, d drive.Attachment) (Device, error)
	// Clock is the time of the drives of this source.
	Clock() Clock
}

// Places is the optional ability of a Source to know its empty places, too.
type Places interface{ Places() []drive.Address }

// Guard is the optional ability of a Source to have the machine refuse to write to a drive: a file system that is mounted
// by accident then cannot replay its journal.
type Guard interface {
	WriteProtect(ctx context.Context, d drive.Attachment, on bool) error
}

// Rescanner is the optional ability of a Source to look again at a place where nothing answered.
type Rescanner interface {
	Rescan(ctx context.Context, at drive.Address) error
}

// Failed is an exchange that did not end in an answer.
type Failed struct {
	Class drive.FaultClass // FaultNoAnswer, FaultStuck, FaultVanished, FaultLink ...
	What  string           // the command
	Back  string           // what came back
}

func (e *Failed) Error() string { return fmt.Sprintf("%s: %s", e.What, e.Back) }

// Refused is a command the allowlist does not hold. It was not sent.
type Refused struct {
	What   string
	Reason string
}

func (e *Refused) Error() string { return fmt.Sprintf("%s not sent: %s", e.What, e.Reason) }

// FaultOf turns an error of this package into a fault about what was tried. Other errors become drive.FaultNoAnswer.
func FaultOf(what string, err error) *drive.Fault {
	if failed, ok := errors.AsType[*Failed](err); ok {
		return &drive.Fault{Class: failed.Class, What: what, Back: failed.Back}
	}
	if refused, ok := errors.AsType[*Refused](err); ok {
		return &drive.Fault{Class: drive.FaultNotAllowed, What: what, Back: refused.Reason}
	}
	return &drive.Fault{Class: drive.FaultNoAnswer, What: what, Back: err.Error()}
}
