package shop

import (
	"time"

	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/wording"
)

// Lot is drives taken in together. What all of them have in common is said once; every intake of the lot carries it.
type Lot struct {
	ID        int64
	Ticket    string
	Customer  string
	Reference string
	Language  wording.Language // of the papers about its drives
	Complaint string
	Wanted    bool
	Copied    bool
	Duty      drive.Duty
	Expected  int        // drives; 0: not said
	Check     check.Kind // of every drive of it, once; empty: the bench's plan decides
	At        time.Time
	By        string
	Ended     time.Time // from when on no drive is taken in on it by coming to answer; zero: it is open
}

// Open reports whether drives that come to answer are taken in on the lot.
func (l Lot) Open() bool { return l.Ended.IsZero() }

// PlanOf is what becomes of the lot's drives.
func (l Lot) PlanOf() check.Plan { return check.Plan{Check: l.Check, By: l.By, At: l.At, Lot: l.ID} }

// IntakeOf is the intake of one drive of the lot.
func (l Lot) IntakeOf(bay drive.Bay, at time.Time) Intake {
	i := Intake{
		Lot:       l.ID,
		Bay:       bay,
		Ticket:    l.Ticket,
		Customer:  l.Customer,
		Reference: l.Reference,
		Language:  l.Language,
		Complaint: l.Complaint,
		Wanted:    l.Wanted,
		Copied:    l.Copied,
		Duty:      l.Duty,
		At:        at,
		By:        l.By,
	}
	if i.Copied {
		i.CopiedAt = at
	}
	return i
}
