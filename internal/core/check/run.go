// Package check is a run: the procedures a bench carries out on a drive, their steps, how a sweep stands, and what comes next.
// Bench, protocol, shop and store share these types; none has another. Next is a state machine without I/O: it takes a run and
// what happened, and gives the run as it stands then and the one thing to do. A bench stores the run before it does that thing, so
// that a crash at any moment finds in its journal what was intended. Start with Run and Next.
package check

import (
	"slices"
	"time"

	"hylostat.example/internal/core/ata"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/surface"
	"hylostat.example/internal/core/wording"
)

// State is where a run stands.
type State string

// The states of a run. Done is final.
const (
	Queued      State = "queued"
	Running     State = "running"
	Paused      State = "paused"      // its sweep waits: somebody wished it, or the drive is too hot
	Absent      State = "absent"      // its drive is not in the bay
	Stuck       State = "stuck"       // its drive holds a command
	Interrupted State = "interrupted" // the bench was restarted; on the way back to running
	Stopping    State = "stopping"
	Done        State = "done"
)

// Outcome is how a run ended.
type Outcome string

// The outcomes; empty while the run is not done.
const (
	Passed     Outcome = "passed"
	Failed     Outcome = "failed"
	Stopped    Outcome = "stopped"
	Incomplete Outcome = "incomplete" // nothing failed, and something it was to do was not done
)

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
	Kind  StepKind       `json:"kind"`
	State StepState      `json:"state"`
	Begun time.Time      `json:"begun,omitzero"`
	Ended time.Time      `json:"ended,omitzero"`
	Note  wording.Phrase `json:"note,omitzero"` // what came of it
	// Logged is where the drive's self-test log stood before the start. Earlier versions kept its page, Baseline.
	Logged   LogMark `json:"logged,omitzero"`
	Baseline []byte  `json:"baseline,omitempty"`
	Sent     bool    `json:"sent,omitempty"` // the start was about to be sent; stored before it is
	Percent  int     `json:"percent"`        // done
	Tries    int     `json:"tries,omitempty"`
	Adopted  bool    `json:"adopted,omitempty"` // found running or finished after a crash
	LBA      *uint64 `json:"lba,omitempty"`     // first failing LBA

	Expect   time.Duration `json:"expect,omitempty"` // how long it takes in all, as far as is known
	Standing *Standing     `json:"sweep,omitempty"`
}

// Run is one procedure on one drive.
type Run struct {
	ID      int64          `json:"id"`
	Kind    Kind           `json:"kind"`
	Bay     drive.Bay      `json:"bay"`
	Key     drive.Key      `json:"key"`
	By      string         `json:"by"`
	State   State          `json:"state"`
	Outcome Outcome        `json:"outcome,omitempty"`
	Reason  wording.Phrase `json:"reason,omitzero"`
	Pause   wording.Phrase `json:"pause,omitzero"` // why its sweep waits; zero: it does not
	Hot     bool           `json:"hot,omitempty"`  // it waits for the drive to cool, and then goes on by itself
	Turn    bool           `json:"turn,omitempty"` // it waits for other sweeps, and then goes on by itself
	Steps   []Step         `json:"steps"`
	Asked   time.Time      `json:"asked"`
	Started time.Time      `json:"started,omitzero"`
	Ended   time.Time      `json:"ended,omitzero"`
	Spans   []ata.Span     `json:"spans,omitempty"`   // Selective
	Despite string         `json:"despite,omitempty"` // why it loads the surface although its data is at risk
	Limit   Limit          `json:"limit,omitzero"`
	Reached int            `json:"reached"` // the highest percentage so far
	Rework  *Rework        `json:"rework,omitempty"`
	Copy    *Destination   `json:"copy,omitempty"`
	Order   string         `json:"order,omitempty"` // the ID of the order that began it
}

// Wrote reports whether a rework came to its writing.
func (r *Run) Wrote() bool {
	return slices.ContainsFunc(r.Steps, func(s Step) bool {
		return s.Kind.Writes() && (s.State == StepDone || s.State == StepFailed || !s.Begun.IsZero())
	})
}

// WroteUntil is when the run had written: the end of the run, and before it that of what wrote.
func (r *Run) WroteUntil() time.Time {
	until := r.Ended
	if until.IsZero() {
		for i := range r.Steps {
			if s := &r.Steps[i]; s.Kind.Writes() && s.Ended.After(until) {
				until = s.Ended
			}
		}
	}
	return until
}

// Rework is what a run that writes was ordered with.
type Rework struct {
	Release Release          `json:"release"`
	Ending  string           `json:"ending"`            // of the serial, as somebody read it off the drive's label
	Targets []surface.Extent `json:"targets,omitempty"` // Mend: the physical sectors
	Pattern surface.Pattern  `json:"pattern,omitzero"`  // Overwrite
	// LinkFails tells that the last sweep's transfers were damaged on the link.
	LinkFails bool `json:"link_fails,omitempty"`
}

// Destination is where a copy goes.
type Destination struct {
	Folder string `json:"folder"` // one of those in which the bench keeps copies, by its name there
	Image  string `json:"image"`  // the file in it
}

// Release is the owner's recorded consent that data on a drive may be destroyed, as an order to a bench carries it.
type Release struct {
	Intake  int64     `json:"intake"`
	Key     drive.Key `json:"key"`
	Scope   Kind      `json:"scope"` // the rework it allows, and every lesser one
	Owner   string    `json:"owner"` // who consented, and how
	By      string    `json:"by"`    // who recorded it
	At      time.Time `json:"at"`
	Expires time.Time `json:"expires"` // of the order: a rework that has not begun by then does not
	Nonce   string    `json:"nonce"`   // of the order: a bench takes each once
}

// Allows reports whether a release's scope covers a rework.
func (r Release) Allows(k Kind) bool {
	order := map[Kind]int{Mend: 1, Renew: 2, Overwrite: 3}
	return order[k] > 0 && order[k] <= order[r.Scope]
}

// Limit is how far a run goes.
type Limit struct {
	// StopAt ends a sweep when that many physical sectors are found unreadable, since nothing can change the verdict then. 0:
	// it goes on to the end.
	StopAt uint64 `json:"stop_at,omitempty"`
	// Share is how much of the drive's time the sweep takes, in per cent, for a drive that its owner goes on to use. 0: all.
	Share int `json:"share,omitempty"`
	// Surface is how much of the surface a sample takes at most, in per cent. 0: the usual sample.
	Surface int `json:"surface,omitempty"`
}

// SweptAt is how fast the run went over the whole surface, in bytes per second: 0 when it did not, or with a share of the drive's time.
func (r *Run) SweptAt() (rate float64) {
	for i := range r.Steps {
		s := &r.Steps[i]
		if takes := s.Ended.Sub(s.Begun).Seconds(); s.Kind.ReadsAll() && s.Standing != nil && s.Standing.Share == 1 && takes > 0 &&
			(r.Limit.Share == 0 || r.Limit.Share == 100) {
			rate = max(rate, float64(s.Standing.Geometry.Bytes())/takes)
		}
	}
	return rate
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

// expect is how long a step takes in all, as far as is known.
func (s *Step) expect() time.Duration {
	switch {
	case s.Expect > 0:
		return s.Expect
	case s.Kind.IsTest(), s.Kind == SpotSweep:
		return 2 * time.Minute
	case s.Kind.IsSweep():
		return time.Hour
	}
	return readingTakes
}

// Percent is how much of the run is done, by the time its steps take. It never goes back.
func (r *Run) Percent() int {
	if r.Outcome == Stopped {
		return r.Reached
	}
	var sum, all time.Duration
	for i := range r.Steps {
		s := &r.Steps[i]
		switch s.State {
		case StepDone, StepFailed:
			sum += s.expect()
		case StepSkipped:
			continue
		case Begun, Unknown:
			sum += s.expect() * time.Duration(s.Percent) / 100
		case Pending:
		}
		all += s.expect()
	}
	percent := 100
	if all > 0 {
		percent = int(100 * sum / all)
	}
	if r.State != Done {
		percent = min(percent, 99)
	}
	return max(percent, r.Reached)
}

// Left is the estimate of the time the run still takes.
func (r *Run) Left() time.Duration {
	var left time.Duration
	for i := range r.Steps {
		switch s := &r.Steps[i]; s.State {
		case Begun, Unknown:
			if s.Standing != nil && s.Standing.Left > 0 {
				left += s.Standing.Left
				continue
			}
			left += s.expect() * time.Duration(100-s.Percent) / 100
		case Pending:
			left += s.expect()
		case StepDone, StepFailed, StepSkipped:
		}
	}
	return left
}
