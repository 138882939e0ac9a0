// Package shop is what a repair shop does with drives: takes them in, records what they say, has them checked, decides, and lets a
// person sign. Its entities and facts stand here, and what every use case shares: Books, Apply and Act. The use cases are the packages
// below: judge <- record <- runs <- desk, each with the narrow storage it needs; fleet holds the benches, whole puts all together. None
// knows HTTP or SQL. Start with Drive, then package record.
package shop

import (
	"time"

	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/dialect"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/reading"
	"hylostat.example/internal/core/signal"
	"hylostat.example/internal/core/verdict"
)

// Stands is the grade a drive goes by: the one a person signed, else the verdict's.
func (n Now) Stands() drive.Grade {
	if n.Signed != nil {
		return n.Signed.Grade
	}
	return n.Grade
}

// Drive is a drive as the shop knows it.
type Drive struct {
	ID        int64
	Identity  drive.Identity
	Duty      drive.Duty
	FirstSeen time.Time
	Hints     dialect.Hints // concluded from its own behaviour
	Now       Now
}

// Listed is what a list tells of a drive.
type Listed struct {
	ID        int64
	Key       drive.Key
	Interface drive.Interface
	Medium    drive.Medium
	Bytes     uint64
	Duty      drive.Duty
	Now       Now
	Ticket    string // of the intake that is open, else of the last
	Customer  string
}

// Listed is what a list tells of the drive.
func (d Drive) Listed() Listed {
	return Listed{
		ID: d.ID, Key: d.Identity.Key, Interface: d.Identity.Interface, Medium: d.Identity.Medium, Bytes: d.Identity.Bytes, Duty: d.Duty,
		Now: d.Now,
	}
}

// Now is how a drive stands: what lists are made of.
type Now struct {
	Grade         drive.Grade
	VerdictSeq    int
	VerdictDigest []byte   // a digest of what that verdict says; nil: not known
	Signed        *SignOff // of the present verdict
	Margin        string   // the tightest one in words; empty for none
	MarginShare   float64
	Findings      int
	First         string // sentence of the worst finding
	Missing       string // what brings the evidence that is missing first, as the policy calls it; empty: nothing is
	Hours         float64
	HasHours      bool
	Temperature   float64
	HasTemp       bool
	Readings      int
	LastAt        time.Time
	Policy        int         // by which it was judged last; its verdict is older when that policy says the same
	Bay           drive.Bay   // none: it is in no bay
	OtherBays     []drive.Bay // of its further paths
}

// Reading is a stored reading.
type Reading struct {
	Drive   int64
	Seq     int
	At      time.Time
	Took    time.Duration
	Bay     drive.Bay
	Run     int64
	Step    check.StepKind
	Tool    string
	Decoder int
	Pages   []reading.Page
	Report  string // the bench's own id of it
	Signals signal.Values
	Said    time.Time // by the clock of who took it, where that is not At; zero: it is
	Aside   Aside
	Origin  string // of one that came in a file: the key that signed it, or Unsigned; empty: a bench of this shop took it
}

// Unsigned is the origin of what came in a file that nobody signed: whoever had it may have changed it.
const Unsigned = "unsigned"

// Aside says why a reading does not count: it neither judges nor is the latest. Nothing of it is lost.
type Aside string

// Why readings do not count. Empty: it counts.
const (
	Ahead     Aside = "ahead" // its time lay in the future when it came
	Retracted Aside = "retracted"
)

// Moment is a reading's place in a drive's life, with its signals.
type Moment struct {
	verdict.Moment
	Run    int64
	Step   check.StepKind
	Said   time.Time // as Reading has them
	Aside  Aside
	Origin string
}

// CountReadings counts the readings that moments stand for, those that are folded among them.
func CountReadings(moments []Moment) int {
	n := len(moments)
	for i := range moments {
		n += moments[i].Folded
	}
	return n
}

// Stretch is a row of readings, by their numbers, that differ from the one before them, and from each other, in little.
type Stretch struct{ First, Last int }

// Around gives the numbers of the readings a run took before and after what it did; 0: it took none.
func Around(run int64, moments []Moment) (before, after int) {
	for _, m := range moments {
		switch {
		case m.Run != run:
		case m.Step == check.ReadingBefore:
			before = m.Seq
		case m.Step == check.ReadingAfter:
			after = m.Seq
		}
	}
	return before, after
}

// Change is a counter that matters, moving.
type Change struct {
	Signal        signal.Name
	Seq           int
	At            time.Time
	Hours         float64 // -1 unknown
	Before, After float64
}

// Query selects drives for a list.
type Query struct {
	Text   string // in serial, model, ticket or customer
	Model  string // exactly; empty: any
	Grade  *drive.Grade
	Medium drive.Medium // empty: any
	Lot    int64        // taken in on it; 0: any
	From   int          // power-on hours, at least
	To     int          // power-on hours, less than; 0: however many
	After  string       // cursor: serial of the last one seen
	Urgent bool         // the most urgent first, not by serial
	Behind int64        // cursor of those: ID of the last one seen
	Limit  int          // by serial more come, when the last ones share one
}
