package protocol

import (
	"time"

	"hylostat.example/internal/core/ata"
	"hylostat.example/internal/core/drive"
)

// RunState is where a run stands.
type RunState string

// The states of a run. Done is final.
const (
	Queued      RunState = "queued"
	Running     RunState = "running"
	Absent      RunState = "absent"      // its drive is not in the bay
	Stuck       RunState = "stuck"       // its drive holds a command
	Interrupted RunState = "interrupted" // the bench was restarted; on the way back to running
	Stopping    RunState = "stopping"
	Done        RunState = "done"
)

// Outcome is how a run ended.
type Outcome string

// The outcomes; empty while the run is not done.
const (
	Passed  Outcome = "passed"
	Failed  Outcome = "failed"
	Stopped Outcome = "stopped"
)

// RunKind is the procedure.
type RunKind string

// The procedures: each is a reading, one of the drive's own self-tests, and a reading.
const (
	Quick      RunKind = "quick"      // the short self-test
	Conveyance RunKind = "conveyance" // the one that looks for damage on the way; ATA's alone
	Selective  RunKind = "selective"  // of some spans of the surface; ATA's alone
)

// StepKind names a step.
type StepKind string

// The steps of this edition.
const (
	ReadingBefore  StepKind = "reading_before"
	ShortTest      StepKind = "short_self_test"
	ConveyanceTest StepKind = "conveyance_self_test"
	SelectiveTest  StepKind = "selective_self_test"
	ReadingAfter   StepKind = "reading_after"
)

// IsTest reports whether a step is a self-test of the drive's.
func (k StepKind) IsTest() bool {
	return k == ShortTest || k == ConveyanceTest || k == SelectiveTest
}

// StepState is where a step stands.
type StepState string

// The states of a step. Unknown is what a crash leaves of a begun one.
const (
	Pending     StepState = "pending"
	Begun       StepState = "begun"
	Unknown     StepState = "unknown"
	StepDone    StepState = "done"
	StepFailed  StepState = "failed"
	StepSkipped StepState = "skipped"
)

// Step is one part of a run.
type Step struct {
	Kind     StepKind  `json:"kind"`
	State    StepState `json:"state"`
	Begun    time.Time `json:"begun,omitzero"`
	Ended    time.Time `json:"ended,omitzero"`
	Note     string    `json:"note,omitempty"`     // what came of it, in words
	Baseline []byte    `json:"baseline,omitempty"` // self-test log as it was before the start
	Sent     bool      `json:"sent,omitempty"`     // the start was about to be sent; stored before it is
	Percent  int       `json:"percent"`            // done
	Tries    int       `json:"tries,omitempty"`
	Adopted  bool      `json:"adopted,omitempty"` // found running or finished after a crash
	LBA      *uint64   `json:"lba,omitempty"`     // first failing LBA
}

// Run is one procedure on one drive.
type Run struct {
	ID      int64         `json:"id"`
	Kind    RunKind       `json:"kind"`
	Bay     int           `json:"bay"`
	Key     drive.Key     `json:"key"`
	By      string        `json:"by"`
	State   RunState      `json:"state"`
	Outcome Outcome       `json:"outcome,omitempty"`
	Reason  string        `json:"reason,omitempty"`
	Steps   []Step        `json:"steps"`
	Asked   time.Time     `json:"asked"`
	Started time.Time     `json:"started,omitzero"`
	Ended   time.Time     `json:"ended,omitzero"`
	Expect  time.Duration `json:"expect"`          // the drive's own estimate of the self-test
	Spans   []ata.Span    `json:"spans,omitempty"` // Selective
}

// Title is the procedure's name for people.
func (k RunKind) Title() string {
	return map[RunKind]string{Quick: "Quick check", Conveyance: "Conveyance self-test", Selective: "Selective self-test"}[k]
}

// Title is the step's name for people.
func (k StepKind) Title() string {
	return map[StepKind]string{
		ReadingBefore: "Reading before", ShortTest: "Short self-test", ConveyanceTest: "Conveyance self-test", SelectiveTest: "Selective self-test", ReadingAfter: "Reading after",
	}[k]
}

// Current is the first step that is not finished.
func (r *Run) Current() *Step {
	for i := range r.Steps {
		switch r.Steps[i].State {
		case StepDone, StepFailed, StepSkipped:
		case Pending, Begun, Unknown:
			return &r.Steps[i]
		}
	}
	return nil
}

// Percent is how much of the run is done, by the time its steps take.
func (r *Run) Percent() int {
	weight := map[StepKind]int{ReadingBefore: 3, ShortTest: 94, ConveyanceTest: 94, SelectiveTest: 94, ReadingAfter: 3}
	sum := 0
	for _, s := range r.Steps {
		switch s.State {
		case StepDone, StepFailed, StepSkipped:
			sum += weight[s.Kind]
		case Begun, Unknown:
			sum += weight[s.Kind] * s.Percent / 100
		case Pending:
		}
	}
	return sum
}

// Left is the estimate of the time the run still takes.
func (r *Run) Left() time.Duration {
	return r.Expect * time.Duration(100-r.Percent()) / 100
}
