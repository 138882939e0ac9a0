// Package protocol is the one contract between the shop and a bench: orders go down, reports come up. Every value in it
// survives a trip through JSON, so that a bench may stand at the other end of a network. Start with Bench.
package protocol

import (
	"context"
	"errors"
	"time"

	"hylostat.example/internal/core/ata"
	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/reading"
	"hylostat.example/internal/core/volume"
)

// Bench is a machine with bays, as the shop sees it.
type Bench interface {
	// Describe tells what does not change while the bench runs.
	Describe() Description
	// Bond tells where the bench belongs, and how far its reports and its runs are.
	Bond(ctx context.Context) (Bond, error)
	// Bind has the bench belong to a shop. Reports it has not got rid of, and all to come, get sequences after that one.
	Bind(ctx context.Context, shop string, after int64) error
	// Order gives an order. It returns when the bench has taken it, or a *Refusal. One that comes twice under the same ID is carried out
	// once, and answered as it was the first time.
	Order(ctx context.Context, o Order) (Receipt, error)
	// Reports waits for reports that are not acknowledged yet and gives them in their order.
	Reports(ctx context.Context) ([]Report, error)
	// Acknowledge tells the bench that its reports up to seq are stored. It keeps them for 48 h more.
	Acknowledge(ctx context.Context, seq int64) error
	// Resend has the bench tell again what it was told is stored after that one, as far as it kept it: the shop's records are of before.
	Resend(ctx context.Context, after int64) error
	// Progress delivers how runs stand from now on, ribbons whole at first; what nobody takes in time is lost. One listens at a time: the
	// last who asked.
	Progress(ctx context.Context) (<-chan Progress, error)
}

// ErrGone says that a bench at the other end of a wire is not there any more. What it was asked for may have been done.
var ErrGone = errors.New("the bench is not connected any more")

// Description is what a bench says of itself.
type Description struct {
	Name   string  `json:"name,omitempty"` // by which the shop calls it, a drive.BenchName; empty: it is the shop's own
	Title  string  `json:"title"`          // what people call it
	Factor float64 `json:"factor"`         // by how much its time runs faster than the wall's; 1 on a real bench
	Rework bool    `json:"rework"`         // whether it writes to drives when it is ordered to
}

// Bond is where a bench belongs.
type Bond struct {
	Bench        string `json:"bench"`          // made with its journal, and never changed
	Shop         string `json:"shop,omitempty"` // the id of the shop it belongs to; empty: none yet
	Next         int64  `json:"next"`           // the sequence of its next report
	Acknowledged int64  `json:"acknowledged"`   // of the newest report it was told is stored
	Forgotten    int64  `json:"forgotten"`      // of the newest report it does not have any more
	Run          int64  `json:"run"`            // the highest number of a run it has had
}

// OrderKind is what is wanted.
type OrderKind string

// The orders.
const (
	OrderAttempt      OrderKind = "attempt" // there is a drive in the bay: look for it, again
	OrderVacate       OrderKind = "vacate"  // there is no drive in the bay after all
	OrderRead         OrderKind = "read"
	OrderCheck        OrderKind = "check"
	OrderStop         OrderKind = "stop"
	OrderPause        OrderKind = "pause"
	OrderResume       OrderKind = "resume"
	OrderConsent      OrderKind = "consent"      // the release of a rework still holds, or does not any more
	OrderVolumes      OrderKind = "volumes"      // look at partition tables and file systems; comes back as a report
	OrderWriteProtect OrderKind = "guard"        // have the machine refuse to write to the drive, or not any more
	OrderSetBay       OrderKind = "set_bay"      // number, label and whether it is shown; the bay that had the number gets its old one
	OrderArrange      OrderKind = "arrange_bays" // in which order bays are shown
)

// Order is one order to a bench.
type Order struct {
	Kind OrderKind `json:"kind"`
	Bay  drive.Bay `json:"bay"`
	Key  drive.Key `json:"key,omitzero"` // the drive it is meant for; another one in the bay refuses it
	ID   string    `json:"id,omitempty"` // comes back with what the order caused; no other order has it
	By   string    `json:"by,omitempty"`
	// Run is the run to stop, pause or resume; of an OrderCheck, the number the shop gives to the new one.
	Run int64 `json:"run,omitempty"`
	On  bool  `json:"on,omitempty"` // OrderGuard
	// Attachments has an OrderRead read the long logs, too, that only the maker's support can read.
	Attachments bool `json:"attachments,omitempty"`
	// LeaveAsleep has an OrderRead leave a drive asleep that sleeps: nobody waits for what it says.
	LeaveAsleep bool `json:"leave_asleep,omitempty"`
	// Check, Spans and Limit are OrderCheck's.
	Check check.Kind  `json:"check,omitempty"`
	Spans []ata.Span  `json:"spans,omitempty"`
	Limit check.Limit `json:"limit,omitzero"`
	// Despite is why the surface is loaded although the data on it is wanted and not copied.
	Despite string `json:"despite,omitempty"`
	// Pace is what the shop knows of how long an OrderCheck takes.
	Pace check.Pace `json:"pace,omitzero"`
	// Setting is OrderSetBay's, Arrangement OrderArrange's: numbers of bays, all of them or the first few.
	Setting     *BaySetting `json:"setting,omitempty"`
	Arrangement []int       `json:"arrangement,omitempty"`
	// Rework is that of an OrderCheck that writes.
	Rework *check.Rework `json:"rework,omitempty"`
	// Copy is where an OrderCheck that copies is to keep what it reads.
	Copy *check.Destination `json:"copy,omitempty"`
	// Asking has a bench judge such an order by all but the serial somebody is to type, and begin nothing.
	Asking bool `json:"asking,omitempty"`
	// Lasts is how long the shop's word that the owner's release holds may be relied on: of an OrderCheck that writes, and of an
	// OrderConsent. 0: it does not hold any more.
	Lasts time.Duration `json:"lasts,omitempty"`
}

// BaySetting is what people make of a bay.
type BaySetting struct {
	Number int    `json:"number"`
	Label  string `json:"label,omitempty"`  // "left dock"
	Hidden bool   `json:"hidden,omitempty"` // it is not shown: the system's own disk
}

// Receipt is the bench's word that an order is taken.
type Receipt struct {
	Run *check.Run `json:"run,omitempty"` // OrderCheck
}

// Refusal is an order that a bench does not carry out.
type Refusal struct {
	Class  drive.FaultClass // FaultNoAnswer, FaultWrongDrive, FaultStuck, FaultInUse ...
	What   string
	Cause  string
	Advice string
}

func (r *Refusal) Error() string { return r.What + ": " + r.Cause + ". " + r.Advice }

// Connection is how a bay stands.
type Connection string

// The connections.
const (
	Empty     Connection = "empty"     // nothing is found, and nobody says otherwise
	Silent    Connection = "silent"    // a person says there is a drive; nothing is found
	Answering Connection = "answering" // the drive named itself
	Unread    Connection = "unread"    // something is there that does not name itself to this version
	StuckBay  Connection = "stuck"     // a command has not come back
)

// Bay is a bay as it stands.
type Bay struct {
	ID             drive.Bay        `json:"number"`
	Address        drive.Address    `json:"address"`
	Label          string           `json:"label,omitempty"`    // as people call it
	Position       int              `json:"position,omitempty"` // in the order people want; 0: by number, after the others
	Hidden         bool             `json:"hidden,omitempty"`   // people do not want to see it
	Connection     Connection       `json:"connection"`
	Key            drive.Key        `json:"key,omitzero"` // Answering
	Device         drive.Attachment `json:"device,omitzero"`
	Attempts       int              `json:"attempts"`          // that found nothing, since a person said there is a drive
	WriteProtected bool             `json:"guarded,omitempty"` // the machine refuses to write to the drive
	Fault          *drive.Fault     `json:"fault,omitempty"`
	Since          time.Time        `json:"since"`
}

// Reading is the pages a drive sent at one moment.
type Reading struct {
	ID    string         `json:"id"` // unique; a report that comes twice is stored once
	Order string         `json:"order,omitempty"`
	Run   int64          `json:"run,omitempty"`
	Step  check.StepKind `json:"step,omitempty"`
	Bay   drive.Bay      `json:"bay"`
	Key   drive.Key      `json:"key"`
	At    time.Time      `json:"at"`
	Took  time.Duration  `json:"took"`
	Pages []reading.Page `json:"pages"`
	Tool  string         `json:"tool"` // version that acquired it
}

// Unanswered is an ordered reading that brought nothing to store.
type Unanswered struct {
	Order string      `json:"order"`
	Bay   drive.Bay   `json:"bay"`
	Fault drive.Fault `json:"fault"`
}

// Started is the first word of a bench that has been started.
type Started struct {
	Open []int64 `json:"open"` // the runs it goes on with; it knows of no other
}

// Report is one thing a bench has to tell. Exactly one of the pointers is set. Bench and Seq name it for ever.
type Report struct {
	Seq     int64      `json:"seq"`
	Started *Started   `json:"started,omitempty"`
	Bay     *Bay       `json:"bay,omitempty"`
	Reading *Reading   `json:"reading,omitempty"`
	Run     *check.Run `json:"run,omitempty"`

	Unanswered *Unanswered   `json:"unanswered,omitempty"`
	Sweep      *check.Result `json:"sweep,omitempty"`
	Volumes    *Volumes      `json:"volumes,omitempty"`
}

// Volumes is what a bench read of a drive's partition tables and superblocks, as it lies there, and what the system's own
// checkers said.
type Volumes struct {
	ID     string         `json:"id"` // unique
	Order  string         `json:"order,omitempty"`
	By     string         `json:"by,omitempty"`
	Bay    drive.Bay      `json:"bay"`
	Key    drive.Key      `json:"key"`
	At     time.Time      `json:"at"`
	Bytes  uint64         `json:"bytes"`  // of the drive
	Sector uint32         `json:"sector"` // bytes of a logical one
	Pieces []volume.Piece `json:"pieces"`
	Checks []volume.Check `json:"checks,omitempty"`
}

// Progress is how a run stands, and what changed of its ribbon since it was last told. What nobody takes in time is lost; the
// ribbon is told whole when Whole is set.
type Progress struct {
	Run    check.Run
	Step   int // index of the sweep the blocks belong to
	Blocks []check.Block
	Whole  bool
}
