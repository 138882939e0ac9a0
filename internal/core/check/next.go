package check

import (
	"slices"
	"time"

	"hylostat.example/internal/core/ata"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/reading"
	"hylostat.example/internal/core/wording"
)

// New is a run that waits to begin. spans are a selective self-test's.
func New(kind Kind, bay drive.Bay, key drive.Key, by string, now time.Time, limit Limit, spans ...ata.Span) Run {
	if kind.Plan() == nil {
		kind = Quick
	}
	r := Run{Kind: kind, Bay: bay, Key: key, By: by, State: Queued, Asked: now, Spans: spans, Limit: limit}
	for _, step := range kind.Plan() {
		r.Steps = append(r.Steps, Step{Kind: step, State: Pending})
	}
	return r
}

// Event is what happened.
type Event interface{ event() }

// The events.
type (
	// Begin starts a queued run.
	Begin struct{}
	// ReadingTaken ends a reading step.
	ReadingTaken struct {
		CanTest bool
		Pace    Pace               // what this reading tells of it
		Tests   []reading.SelfTest // of the drive's log
		Why     wording.Phrase     // why CanTest is false
		Busy    bool               // a self-test that somebody else started is running
		// Sweep is how the run's sweep begins; nil: there can be none, and NoSweep says why.
		Sweep   *Standing
		NoSweep wording.Phrase
	}
	// TestSent follows the start command.
	TestSent struct{}
	// Polled is a look at a running self-test.
	Polled struct {
		Running bool
		Left    uint8 // per cent
		Status  ata.TestStatus
		Log     bool               // the drive's log was read
		Tests   []reading.SelfTest // of it
		Page    reading.PageName   // which it is
	}
	// Aborted follows the abort command.
	Aborted struct{}
	// SweepMoved tells how a sweep stands.
	SweepMoved struct{ Sweep Standing }
	// Swept ends a sweep.
	Swept struct{ Sweep Standing }
	// PauseAsked lets a sweep wait: a person's wish, or heat.
	PauseAsked struct {
		Why wording.Phrase
		Hot bool // it goes on by itself when the drive has cooled
		// Turn tells that it goes on by itself when it is its turn.
		Turn bool
	}
	// ResumeAsked lets it go on.
	ResumeAsked struct{}
	// Trouble is a step that could not be carried out.
	Trouble struct{ Fault drive.Fault }
	// StopAsked is a person's wish.
	StopAsked struct{ By string }
	// DriveGone and DriveBack tell of the bay.
	DriveGone struct{}
	// DriveBack follows DriveGone when the same drive answers again.
	DriveBack struct{}
	// Restarted is the first event after the bench's own restart.
	Restarted struct{}
)

func (Begin) event()        {}
func (ReadingTaken) event() {}
func (TestSent) event()     {}
func (Polled) event()       {}
func (Aborted) event()      {}
func (SweepMoved) event()   {}
func (Swept) event()        {}
func (PauseAsked) event()   {}
func (ResumeAsked) event()  {}
func (Trouble) event()      {}
func (StopAsked) event()    {}
func (DriveGone) event()    {}
func (DriveBack) event()    {}
func (Restarted) event()    {}

// Effect is the one thing to do next.
type Effect uint8

// The effects.
const (
	Nothing     Effect = iota // until something happens
	TakeReading               // ends in ReadingTaken or Trouble
	SendTest                  // ends in TestSent or Trouble
	PollLater                 // wait a poll interval, then PollTest
	PollTest                  // ends in Polled or Trouble
	AbortTest                 // ends in Aborted or Trouble
	RunSweep                  // begins or goes on; ends in Swept or Trouble, with SweepMoved meanwhile
	HoldSweep                 // until RunSweep
)

// maxTries bounds how often a self-test that something interrupted is started again.
const maxTries = 3

// Next applies an event. The returned run must be stored before the effect is carried out.
func Next(r Run, e Event, now time.Time) (Run, Effect) {
	r.Steps = slices.Clone(r.Steps)
	next, effect := apply(r, e, now)
	next.Reached = next.Percent()
	return next, effect
}

func apply(r Run, e Event, now time.Time) (Run, Effect) {
	if r.State == Done {
		return r, Nothing
	}
	switch e := e.(type) {
	case Begin:
		r.State, r.Started = Running, now
		return advance(r, now)
	case ReadingTaken:
		return readingTaken(r, e, now)
	case TestSent:
		if s := r.Current(); s != nil {
			s.Sent = true
		}
		return r, PollLater
	case Polled:
		return polled(r, e, now)
	case Aborted:
		return end(r, Stopped, r.Reason, now)
	case SweepMoved:
		moved(&r, e.Sweep)
		return r, Nothing
	case Swept:
		return swept(r, e.Sweep, now)
	case PauseAsked:
		if s := r.Current(); r.State == Running && s != nil && s.Kind.IsSweep() && s.State == Begun {
			r.State, r.Pause, r.Hot, r.Turn = Paused, e.Why, e.Hot, e.Turn
			return r, HoldSweep
		}
		return r, Nothing
	case ResumeAsked:
		if r.State == Paused {
			r.State, r.Pause, r.Hot, r.Turn = Running, wording.Phrase{}, false, false
			return r, RunSweep
		}
		return r, Nothing
	case Trouble:
		return trouble(r, e.Fault, now)
	case StopAsked:
		r.Reason = wording.Say(wording.StoppedBy, wording.Values{"by": e.By})
		s := r.Current()
		if s != nil && s.Standing != nil && s.State == Begun {
			s.Note = sweepNote(s.Kind, *s.Standing)
		}
		if s == nil || !s.Kind.IsTest() || !s.Sent || r.State == Absent || r.State == Interrupted || r.State == Stuck {
			return end(r, Stopped, r.Reason, now)
		}
		r.State = Stopping
		return r, AbortTest
	case DriveGone:
		r.State = Absent
		return r, Nothing
	case DriveBack, Restarted:
		if r.State == Queued || r.State == Absent && e == (Restarted{}) {
			return r, Nothing
		}
		r.State = Running
		if !r.Reason.IsZero() { // it was stopping
			r.State = Stopping
			return r, AbortTest
		}
		return resume(r, now)
	}
	return r, Nothing
}

// resume finds out what became of the step that was under way.
func resume(r Run, now time.Time) (Run, Effect) {
	s := r.Current()
	if s == nil || s.State == Pending {
		return advance(r, now)
	}
	switch {
	case s.Kind.IsSweep() && !r.Pause.IsZero() && !r.Hot && !r.Turn:
		r.State = Paused
		return r, Nothing
	case s.Kind.IsSweep():
		r.Pause, r.Hot, r.Turn = wording.Phrase{}, false, false
		return r, RunSweep // from its mark
	case !s.Kind.IsTest():
		s.State = Pending // a reading harms nothing: take it again
		return advance(r, now)
	}
	s.State = Unknown
	return r, PollTest
}

// advance begins the next step.
func advance(r Run, now time.Time) (Run, Effect) {
	s := r.Current()
	if s == nil {
		outcome, why := outcome(r.Steps)
		return end(r, outcome, why, now)
	}
	s.State = Begun
	if s.Begun.IsZero() {
		s.Begun = now
	}
	if s.Kind.IsTest() {
		s.Tries++
		s.Sent = true
		return r, SendTest
	}
	if s.Kind.IsSweep() {
		return r, RunSweep
	}
	return r, TakeReading
}

// outcome is how a run ended whose steps are all behind it. One whose self-test or sweep was skipped, or did not reach all of the drive,
// has not passed: it says what is lacking.
func outcome(steps []Step) (o Outcome, why wording.Phrase) {
	o = Passed
	for i := range steps {
		switch s := &steps[i]; {
		case s.State == StepFailed:
			return Failed, wording.Phrase{}
		case o == Incomplete:
		case s.State == StepSkipped:
			o, why = Incomplete, wording.Say(wording.StepSkipped, wording.Values{"step": string(s.Kind), "why": s.Note})
		case s.Standing != nil && s.Standing.Beyond > 0:
			o, why = Incomplete, beyond(s.Standing.Beyond)
		}
	}
	return o, why
}

// beyond says that a sweep reached less than there is.
func beyond(bytes uint64) wording.Phrase {
	return wording.Say(wording.BeyondAdapter, wording.Values{"bytes": bytes})
}

func finish(s *Step, state StepState, note wording.Phrase, now time.Time) {
	s.State, s.Note, s.Ended, s.Percent = state, note, now, 100
}

func end(r Run, o Outcome, reason wording.Phrase, now time.Time) (Run, Effect) {
	r.State, r.Outcome, r.Reason, r.Ended = Done, o, reason, now
	for i := range r.Steps {
		if s := &r.Steps[i]; o == Stopped && (s.State == Pending || s.State == Begun || s.State == Unknown) {
			s.State, s.Ended = StepSkipped, now
			if s.Note.IsZero() {
				s.Note = reason
			}
		}
	}
	return r, Nothing
}

func readingTaken(r Run, e ReadingTaken, now time.Time) (Run, Effect) {
	s := r.Current()
	if s == nil || s.Kind.IsTest() || s.Kind.IsSweep() {
		return r, Nothing
	}
	finish(s, StepDone, wording.Phrase{}, now)
	for i := range r.Steps {
		t := &r.Steps[i]
		if t.State != Pending {
			continue
		}
		switch {
		case t.Kind.IsTest():
			t.Logged = LogMarkOf(e.Tests)
			if t.Expect == 0 || e.Pace.Tests[t.Kind] > 0 {
				t.Expect = r.takes(e.Pace, t.Kind)
			}
			if !e.CanTest {
				finish(t, StepSkipped, e.Why, now)
			} else if e.Busy { // starting ours would end theirs
				finish(t, StepSkipped, wording.Say(wording.TestElsewhere), now)
			}
		case t.Kind.IsSweep():
			if t.Standing = e.Sweep; t.Standing == nil {
				finish(t, StepSkipped, e.NoSweep, now)
				continue
			}
			if t.Expect == 0 {
				g := t.Standing.Geometry
				t.Expect = r.takes(Pace{Bytes: g.Bytes(), Rotates: g.RPM > 0}, t.Kind)
			}
		}
	}
	return advance(r, now)
}

// Told is a fault as it is kept with a run.
func Told(f drive.Fault) wording.Phrase {
	return wording.Say(wording.FaultTold, wording.Values{"class": string(f.Class), "what": f.What, "cause": f.Cause, "advice": f.Advice()})
}

func trouble(r Run, f drive.Fault, now time.Time) (Run, Effect) {
	switch f.Class {
	case drive.FaultVanished:
		r.State = Absent
		return r, Nothing
	case drive.FaultStuck:
		r.State = Stuck
		r.Reason = Told(f)
		return end(r, Failed, Told(f), now)
	default: // an answer came: the step failed, the drive is there
	}
	if r.State == Stopping {
		return end(r, Stopped, r.Reason, now)
	}
	if s := r.Current(); s != nil {
		if s.Kind.IsTest() && f.Class == drive.FaultRefused && s.State != Unknown {
			finish(s, StepSkipped, wording.Say(wording.TestRefused, wording.Values{"cause": f.Cause}), now)
			return advance(r, now)
		}
		finish(s, StepFailed, Told(f), now)
	}
	return end(r, Failed, Told(f), now)
}
