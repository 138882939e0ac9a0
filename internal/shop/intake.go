package shop

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/wording"
)

// Goes is where a drive goes at the end of an intake.
type Goes string

// Where drives go.
const (
	Returned Goes = "returned"
	Kept     Goes = "kept"
	Scrapped Goes = "scrapped"
	NotNoted Goes = "not noted" // it came back, and nobody had noted that it left
)

// DataState is what the shop did to the data on a drive during an intake.
type DataState string

// The states, each further from what came.
const (
	Untouched   DataState = "untouched"
	Altered     DataState = "altered"
	Overwritten DataState = "overwritten"
)

// Handover is how an intake ends.
type Handover struct {
	Goes Goes      `json:"goes"`
	Data DataState `json:"data"`
	Note string    `json:"note,omitempty"`
	By   string    `json:"by"`
	At   time.Time `json:"at"`
}

// SameOwner reports whether an earlier intake may be shown beside the present one: its owner is the same. What an earlier owner
// said of the drive is nothing for a later one.
func SameOwner(earlier, present Intake) bool {
	if earlier.ID == present.ID {
		return true
	}
	same := func(a, b string) bool { return a != "" && strings.EqualFold(a, b) }
	return same(earlier.Ticket, present.Ticket) || same(earlier.Customer, present.Customer)
}

// Release is the owner's consent, for one intake, that data on the drive may be destroyed.
type Release struct {
	Scope check.Kind `json:"scope"` // the rework it allows, and every lesser one
	Owner string     `json:"owner"` // who consented, and how
	By    string     `json:"by"`    // who recorded it
	At    time.Time  `json:"at"`
	First *First     `json:"first,omitempty"` // who ordered an overwrite by it, where two have to
}

// First is the first of two who have to order something.
type First struct {
	By string    `json:"by"`
	At time.Time `json:"at"`
}

// Tidy makes a release of what a person says, or tells what is wrong with it.
func (r *Release) Tidy(by Actor, now time.Time) error {
	if err := Tidy(&r.Owner); err != nil {
		return err
	}
	if r.Owner == "" {
		return &Invalid{What: "a release needs the owner's name", Advice: "Say who consented, and how."}
	}
	if !r.Scope.IsRework() {
		return &Invalid{What: fmt.Sprintf("%q is no scope of a release", r.Scope), Advice: "Choose mend, renew or overwrite."}
	}
	r.By, r.At = by.Name, now
	return nil
}

// ScopeOf is what a release allows; nothing without one.
func (r *Release) ScopeOf() any {
	if r == nil {
		return nil
	}
	return r.Scope
}

// Intake is one arrival of a drive. It is open until the drive is handed over.
type Intake struct {
	ID        int64
	Drive     int64 // 0 until the drive named itself
	Lot       int64 // with which it came; 0: alone
	Bay       drive.Bay
	Ticket    string
	Customer  string           // a name and nothing more; see Erase
	Reference string           // the customer's own for it
	Language  wording.Language // of the papers about it
	Complaint string
	Label     string // what the label and the hand tell
	Made      string // by the label, as 2021-08; empty: not noted
	Clicks    bool   // it does, or makes another noise that says: stop trying
	Wanted    bool   // the data is wanted
	Copied    bool   // and has been copied
	CopiedAt  time.Time
	Duty      drive.Duty
	At        time.Time
	By        string
	Release   *Release  // the owner's consent that data may be destroyed
	Handover  *Handover // how it ended; nil: it is open
	Tried     []Port    // where it was looked for and did not answer
}

// AtRisk reports whether the data is wanted and not yet copied.
func (i Intake) AtRisk() bool { return i.Handover == nil && i.Wanted && !i.Copied }

// IntakeQuery selects intakes.
type IntakeQuery struct {
	Lot      int64  // 0: any
	Ticket   string // empty: any
	Customer string // empty: any
	Open     bool   // only those not handed over
	Before   int64  // 0: all
	Limit    int    // 0: 1,000
}

// Port is a bay in which a drive did not answer, and when it was looked for there last.
type Port struct {
	Bay drive.Bay
	At  time.Time
}

// NoteTried notes that a drive was looked for in a bay.
func (i *Intake) NoteTried(bay drive.Bay, at time.Time) {
	i.Tried = append(slices.DeleteFunc(i.Tried, func(p Port) bool { return p.Bay == bay }), Port{Bay: bay, At: at})
}
