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
	"hylostat.example/internal/core/surface"
	"hylostat.example/internal/core/volume"
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

// Blocks is the ability to read the surface, past every cache of the machine.
type Blocks interface {
	// Limits tells what the machine knows of the blocks.
	Limits() Limits
	// Stream carries out reads until next has none while none is in flight. It keeps as many in flight as how allows, and
	// hands each outcome to told, one at a time, in the order in which the reads end; after each it asks next again. A
	// place that cannot be read is an outcome. Errors are *Failed when the drive went or got stuck, or the context's; reads
	// that were in flight then are not told.
	Stream(ctx context.Context, how Streaming, next func() (surface.Read, bool), told func(surface.Read, surface.Outcome)) error
}

// MostPeek is how much a Peeker reads at once, in bytes.
const MostPeek = 1 << 20

// Peeker is the ability to read a few sectors and give their bytes: what a partition table and superblocks say. Errors are *Failed.
type Peeker interface {
	Peek(ctx context.Context, e surface.Extent) ([]byte, error)
}

// PeekBytes gives bytes from a place of a drive on.
func PeekBytes(ctx context.Context, p Peeker, limits Limits, offset uint64, length int) ([]byte, error) {
	sector := uint64(max(1, limits.Logical))
	first := offset / sector
	last := (offset + uint64(max(0, length)) + sector - 1) / sector
	if length <= 0 || length > MostPeek-2*int(sector) || last*sector > limits.Bytes {
		return nil, fmt.Errorf("%d bytes at %d are not on the drive", length, offset)
	}
	b, err := p.Peek(ctx, surface.Extent{LBA: first, Sectors: last - first})
	if err != nil {
		return nil, err
	}
	return b[offset-first*sector:][:length], nil
}

// Checker is the optional ability of a Source to have the system's own checker look at a file system, in the mode in which it
// changes nothing. kind is as package volume names it; partition 0 is the whole drive.
type Checker interface {
	CheckVolume(ctx context.Context, d drive.Attachment, partition int, kind string) volume.Check
}

// Limits are the sizes of a drive's blocks, as the machine has them. A zero is not known.
type Limits struct {
	Bytes     uint64
	Logical   uint32
	Physical  uint32
	Alignment uint16 // logical sectors by which the first lies inside its physical sector
	Most      uint32 // bytes one read may have
	Rotates   bool
}

// Streaming is how reads are carried out.
type Streaming struct {
	Depth int // reads in flight
	// Alone has each read timed by itself, from its start to its end, as suits a drive that works at many at once.
	// Otherwise a read's time begins when the one before it ended.
	Alone bool
	// Compare has what is read compared with a pattern: a place that does not hold it fails. Nil: what is read is thrown away.
	Compare *surface.Pattern
	// Look has the sectors counted that hold nothing but zeros.
	Look bool
	// Keep is a file that takes what is read, each sector at the place it has on the drive; it is there, and as large. Outcomes have the
	// sums of what it took. The stream ends with *Unkept when it takes no more. Empty: what is read is thrown away.
	Keep string
}

// Exclusive is a drive's surface opened for writing, by one descriptor that nobody else on the machine has opened for
// himself meanwhile. Only package guard hands it out. Every method ends in an outcome of the place, or in *Failed when the
// drive went or got stuck.
type Exclusive interface {
	Blocks
	// Fill is Stream, and writes a pattern. When it comes back without an error the drive has been told to keep it.
	Fill(
		ctx context.Context, p surface.Pattern, how Streaming, next func() (surface.Read, bool),
		told func(surface.Read, surface.Outcome),
	) error
	// Mend writes zeros and has the drive keep them.
	Mend(ctx context.Context, e surface.Extent) (surface.Outcome, error)
	// Save reads an extent into a file of the machine's and has the machine keep it. A place that cannot be read leaves a file
	// that is of no use.
	Save(ctx context.Context, e surface.Extent, file string) (surface.Outcome, error)
	// Restore writes back what Save has put into the file, and has the drive keep it. It is not ended by a context once begun.
	Restore(ctx context.Context, e surface.Extent, file string) (surface.Outcome, error)
	Close() error
}

// Writable is the optional ability of a Source to open surfaces for writing. A linter lets no room but guard ask for it.
type Writable interface {
	// Uses lists, in words, what on this machine needs the drive: file systems mounted from it, swap, device-mapper and md
	// devices on top of it, the running system itself.
	Uses(ctx context.Context, d drive.Attachment) ([]string, error)
	// OpenExclusive opens the surface of the drive that Look described. *Failed with drive.FaultInUse when somebody holds it,
	// drive.FaultVanished when it is gone or another took its place.
	OpenExclusive(ctx context.Context, d drive.Attachment) (Exclusive, error)
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
	Cause string           // what came back
}

func (e *Failed) Error() string { return fmt.Sprintf("%s: %s", e.What, e.Cause) }

// Unkept says that what was read could not be kept. It tells nothing of the drive it was read from.
type Unkept struct {
	File  string
	Cause string
	Full  bool // there is no room left for it
}

func (e *Unkept) Error() string { return fmt.Sprintf("writing %s: %s", e.File, e.Cause) }

// Refused is a command the allowlist does not hold. It was not sent.
type Refused struct {
	What   string
	Reason string
}

func (e *Refused) Error() string { return fmt.Sprintf("%s not sent: %s", e.What, e.Reason) }

// FaultOf turns an error of this package into a fault about what was tried. Other errors become drive.FaultNoAnswer.
func FaultOf(what string, err error) *drive.Fault {
	if failed, ok := errors.AsType[*Failed](err); ok {
		return &drive.Fault{Class: failed.Class, What: what, Cause: failed.Cause}
	}
	if refused, ok := errors.AsType[*Refused](err); ok {
		return &drive.Fault{Class: drive.FaultNotAllowed, What: what, Cause: refused.Reason}
	}
	return &drive.Fault{Class: drive.FaultNoAnswer, What: what, Cause: err.Error()}
}
