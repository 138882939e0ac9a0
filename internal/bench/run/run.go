// Package run holds the procedures a bench carries out on a drive, as state machines without I/O: Next takes a run and what
// happened, and gives the run as it stands then and the one thing to do. The bench stores the run before it does that thing,
// so that a crash at any moment finds in the journal what was intended. Start with Next.
package run

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"hylostat.example/internal/core/ata"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/quantity"
	"hylostat.example/internal/core/reading"
	"hylostat.example/internal/protocol"
)

// New is a run that waits to begin. spans are a selective self-test's.
func New(kind protocol.RunKind, bay int, key drive.Key, by string, now time.Time, limit protocol.Limit, spans ...ata.Span) protocol.Run {
	if kind.Plan() == nil {
		kind = protocol.Quick
	}
	r := protocol.Run{Kind: kind, Bay: bay, Key: key, By: by, State: protocol.Queued, Asked: now, Spans: spans, Limit: limit}
	for _, step := range kind.Plan() {
		r.Steps = append(r.Steps, protocol.Step{Kind: step, State: protocol.Pending})
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
		CanTest  bool
		TestTime time.Duration // the drive's own estimate of the run's self-test
		Log      []byte        // self-test log page; nil: not read
		Why      string        // why CanTest is false
		Busy     bool          // a self-test that somebody else started is running
		// Sweep is how the run's sweep begins; nil: there can be none, and NoSweep says why.
		Sweep   *protocol.Sweep
		NoSweep string
	}
	// TestSent follows the start command.
	TestSent struct{}
	// Polled is a look at a running self-test.
	Polled struct {
		Running bool
		Left    uint8 // per cent
		Status  ata.TestStatus
		Page    reading.PageName // of Log
		Log     []byte
	}
	// Aborted follows the abort command.
	Aborted struct{}
	// SweepMoved tells how a sweep stands.
	SweepMoved struct{ Sweep protocol.Sweep }
	// Swept ends a sweep.
	Swept struct{ Sweep protocol.Sweep }
	// PauseAsked lets a sweep wait: a person's wish, or heat.
	PauseAsked struct {
		Why string
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
func Next(r protocol.Run, e Event, now time.Time) (protocol.Run, Effect) {
	r.Steps = slices.Clone(r.Steps)
	next, effect := apply(r, e, now)
	next.Reached = next.Percent()
	return next, effect
}

func apply(r protocol.Run, e Event, now time.Time) (protocol.Run, Effect) {
	if r.State == protocol.Done {
		return r, Nothing
	}
	switch e := e.(type) {
	case Begin:
		r.State, r.Started = protocol.Running, now
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
		return end(r, protocol.Stopped, r.Reason, now)
	case SweepMoved:
		moved(&r, e.Sweep)
		return r, Nothing
	case Swept:
		return swept(r, e.Sweep, now)
	case PauseAsked:
		if s := r.Current(); r.State == protocol.Running && s != nil && s.Kind.IsSweep() && s.State == protocol.Begun {
			r.State, r.Pause, r.Hot, r.Turn = protocol.Paused, e.Why, e.Hot, e.Turn
			return r, HoldSweep
		}
		return r, Nothing
	case ResumeAsked:
		if r.State == protocol.Paused {
			r.State, r.Pause, r.Hot, r.Turn = protocol.Running, "", false, false
			return r, RunSweep
		}
		return r, Nothing
	case Trouble:
		return trouble(r, e.Fault, now)
	case StopAsked:
		r.Reason = "stopped by " + e.By
		s := r.Current()
		if s != nil && s.Sweep != nil && s.State == protocol.Begun {
			s.Note = sweepNote(s.Kind, *s.Sweep)
		}
		if s == nil || !s.Kind.IsTest() || !s.Sent || r.State == protocol.Absent || r.State == protocol.Stuck {
			return end(r, protocol.Stopped, r.Reason, now)
		}
		r.State = protocol.Stopping
		return r, AbortTest
	case DriveGone:
		r.State = protocol.Absent
		return r, Nothing
	case DriveBack, Restarted:
		if r.State == protocol.Queued || r.State == protocol.Absent && e == (Restarted{}) {
			return r, Nothing
		}
		r.State = protocol.Running
		if r.Reason != "" { // it was stopping
			r.State = protocol.Stopping
			return r, AbortTest
		}
		return resume(r, now)
	}
	return r, Nothing
}

// resume finds out what became of the step that was under way.
func resume(r protocol.Run, now time.Time) (protocol.Run, Effect) {
	s := r.Current()
	if s == nil || s.State == protocol.Pending {
		return advance(r, now)
	}
	switch {
	case s.Kind.IsSweep() && r.Pause != "" && !r.Hot && !r.Turn:
		r.State = protocol.Paused
		return r, Nothing
	case s.Kind.IsSweep():
		r.Pause, r.Hot, r.Turn = "", false, false
		return r, RunSweep // from its mark
	case !s.Kind.IsTest():
		s.State = protocol.Pending // a reading harms nothing: take it again
		return advance(r, now)
	}
	s.State = protocol.Unknown
	return r, PollTest
}

// advance begins the next step.
func advance(r protocol.Run, now time.Time) (protocol.Run, Effect) {
	s := r.Current()
	if s == nil {
		outcome, why := outcome(r.Steps)
		return end(r, outcome, why, now)
	}
	s.State = protocol.Begun
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
func outcome(steps []protocol.Step) (o protocol.Outcome, why string) {
	o = protocol.Passed
	for i := range steps {
		switch s := &steps[i]; {
		case s.State == protocol.StepFailed:
			return protocol.Failed, ""
		case o == protocol.Incomplete:
		case s.State == protocol.StepSkipped:
			o, why = protocol.Incomplete, fmt.Sprintf("%s skipped: %s", s.Kind.Title(), s.Note)
		case s.Sweep != nil && s.Sweep.Beyond > 0:
			o, why = protocol.Incomplete, beyond(s.Sweep.Beyond)
		}
	}
	return o, why
}

// beyond says that a sweep reached less than there is.
func beyond(bytes uint64) string {
	return fmt.Sprintf("%s of the drive cannot be reached through this adapter", quantity.Of(float64(bytes), "B"))
}

func finish(s *protocol.Step, state protocol.StepState, note string, now time.Time) {
	s.State, s.Note, s.Ended, s.Percent = state, note, now, 100
}

func end(r protocol.Run, o protocol.Outcome, reason string, now time.Time) (protocol.Run, Effect) {
	r.State, r.Outcome, r.Reason, r.Ended = protocol.Done, o, reason, now
	for i := range r.Steps {
		if s := &r.Steps[i]; o == protocol.Stopped && (s.State == protocol.Pending || s.State == protocol.Begun || s.State == protocol.Unknown) {
			s.State, s.Ended = protocol.StepSkipped, now
			if s.Note == "" {
				s.Note = reason
			}
		}
	}
	return r, Nothing
}

func readingTaken(r protocol.Run, e ReadingTaken, now time.Time) (protocol.Run, Effect) {
	s := r.Current()
	if s == nil || s.Kind.IsTest() || s.Kind.IsSweep() {
		return r, Nothing
	}
	finish(s, protocol.StepDone, "", now)
	for i := range r.Steps {
		t := &r.Steps[i]
		if t.State != protocol.Pending {
			continue
		}
		switch {
		case t.Kind.IsTest():
			t.Baseline, t.Expect = e.Log, e.TestTime
			if !e.CanTest {
				finish(t, protocol.StepSkipped, e.Why, now)
			} else if e.Busy { // starting ours would end theirs
				finish(t, protocol.StepSkipped, "the drive is busy with a self-test started elsewhere. Check again when it is done", now)
			}
		case t.Kind.IsSweep():
			if t.Sweep = e.Sweep; t.Sweep == nil {
				finish(t, protocol.StepSkipped, e.NoSweep, now)
				continue
			}
			t.Expect = expected(t.Kind, t.Sweep)
		}
	}
	return advance(r, now)
}

// expected is about how long a sweep takes, before there is anything to go by: a spinning drive streams 130 MB/s on
// average, flash 500; a spot costs a seek.
func expected(kind protocol.StepKind, s *protocol.Sweep) time.Duration {
	speed, spot := 500e6, 3*time.Millisecond
	if s.Geometry.RPM > 0 {
		speed, spot = 130e6, 25*time.Millisecond
	}
	if kind == protocol.SpotSweep && s.Sample != nil {
		return time.Duration(s.Sample.Independent)*spot + time.Second
	}
	switch kind {
	case protocol.Mending:
		return time.Minute
	case protocol.Renewing: // read, and written
		speed /= 2.5
	default:
	}
	return time.Duration(float64(s.Geometry.Bytes())/speed) * time.Second
}

// moved takes over how a sweep stands.
func moved(r *protocol.Run, now protocol.Sweep) *protocol.Step {
	s := r.Current()
	if s == nil || !s.Kind.IsSweep() {
		return nil
	}
	s.Sweep, s.Percent = &now, max(s.Percent, int(100*now.Share))
	if now.Share > 0.02 && now.Left > 0 {
		s.Expect = time.Duration(float64(now.Left) / (1 - min(0.99, now.Share)))
	}
	return s
}

// swept ends a sweep. Finding something is no failure of the step's: it did what it was for; a sweep in which sectors could
// not be read has failed the drive.
func swept(r protocol.Run, last protocol.Sweep, now time.Time) (protocol.Run, Effect) {
	s := moved(&r, last)
	if s == nil {
		return r, Nothing
	}
	state := protocol.StepDone
	if last.Unreadable > 0 || last.Confirmed > 0 || last.Lost > 0 {
		state = protocol.StepFailed
	}
	finish(s, state, sweepNote(s.Kind, last), now)
	return advance(r, now)
}

// sweepNote puts into words what a sweep found, or did.
func sweepNote(kind protocol.StepKind, s protocol.Sweep) string {
	var parts []string
	add := func(n uint64, one, many string) {
		if n == 1 {
			parts = append(parts, "1 "+one)
		} else if n > 1 {
			parts = append(parts, fmt.Sprintf("%d %s", n, many))
		}
	}
	if w := s.Written; w != nil {
		add(w.Cleared, "sector cleared", "sectors cleared")
		add(w.Readable, "sector could be read after all", "sectors could be read after all")
		add(w.Restored, "sector written once more from its copy", "sectors written once more from their copy")
	}
	unread := [2]string{"unreadable sector", "unreadable sectors"}
	switch kind {
	case protocol.Mending:
		unread = [2]string{"sector still unreadable", "sectors still unreadable"}
	case protocol.Overwriting:
		unread = [2]string{"sector could not be written", "sectors could not be written"}
	default:
	}
	add(s.Unreadable, unread[0], unread[1])
	add(s.Lost, "sector does not hold what was written to it", "sectors do not hold what was written to them")
	add(s.Confirmed, "slow place, confirmed", "slow places, confirmed")
	add(s.Slow-min(s.Slow, s.Confirmed), "place slow once", "places slow once")
	add(s.Other, "place failed for another reason", "places failed for another reason")
	if len(parts) == 0 {
		clean := map[protocol.StepKind]string{protocol.Mending: "nothing needed writing", protocol.Renewing: "everything was written back", protocol.Overwriting: "everything was written", protocol.Verifying: "everything holds what was written to it"}[kind]
		switch {
		case s.Share < 1 && kind.Writes():
		case clean != "":
			parts = []string{clean}
		case s.Sample != nil:
			parts = []string{"every sample was read"}
		default:
			parts = []string{"everything was read"}
		}
	}
	if s.Share < 1 {
		done := "swept"
		if kind.Writes() {
			done = "done"
		}
		parts = append(parts, fmt.Sprintf("%d %% %s", int(100*s.Share), done))
	}
	if s.Beyond > 0 {
		parts = append(parts, beyond(s.Beyond))
	}
	if s.Early != "" {
		parts = append(parts, s.Early)
	}
	return strings.Join(parts, "; ")
}

// polled reads a look at the drive: is the test still going, and if not, what does the log say that it did not say before?
func polled(r protocol.Run, e Polled, now time.Time) (protocol.Run, Effect) {
	s := r.Current()
	if s == nil || !s.Kind.IsTest() {
		return r, Nothing
	}
	if s.State == protocol.Unknown {
		s.Adopted = true
	}
	result, found := newest(s.Baseline, e.Page, e.Log)
	if e.Running || found && result.Running {
		s.State = protocol.Begun
		s.Percent = max(s.Percent, 100-int(e.Left))
		return r, PollLater
	}
	if !found {
		return nothingLogged(r, s, e, now)
	}
	switch {
	case result.Failed:
		note := result.Result
		if result.HasLBA {
			s.LBA = &result.LBA
			note = fmt.Sprintf("%s, LBA %d", note, result.LBA)
		}
		finish(s, protocol.StepFailed, note, now)
	case result.Passed:
		finish(s, protocol.StepDone, result.Result, now)
	case s.Tries < maxTries: // interrupted or aborted says nothing of the drive
		s.Baseline, s.Adopted = e.Log, false
		return advance(r, now)
	default:
		finish(s, protocol.StepFailed, fmt.Sprintf("%s, %d times. Check the power and what else uses the drive", result.Result, s.Tries), now)
	}
	return advance(r, now)
}

// nothingLogged: the test does not run and the log shows nothing new. Either the start never reached the drive, or the
// drive keeps no log and only its status byte knows.
func nothingLogged(r protocol.Run, s *protocol.Step, e Polled, now time.Time) (protocol.Run, Effect) {
	switch {
	case s.State == protocol.Unknown && s.Tries < maxTries:
		s.Adopted = false
		return advance(r, now)
	case e.Log == nil && e.Status.Failed():
		finish(s, protocol.StepFailed, e.Status.String()+", by the status byte: no log", now)
	case e.Log == nil && e.Status == ata.TestPassed:
		finish(s, protocol.StepDone, "passed, by the status byte: no log", now)
	default:
		finish(s, protocol.StepFailed, "the drive took the self-test and logged no result", now)
	}
	return advance(r, now)
}

// newest gives the newest result of a log when the log differs from the baseline.
func newest(baseline []byte, page reading.PageName, log []byte) (reading.SelfTest, bool) {
	if log == nil || string(baseline) == string(log) {
		return reading.SelfTest{}, false
	}
	r := reading.Decode([]reading.Page{{Name: page, Bytes: log}})
	if !r.HasTests || len(r.Tests) == 0 {
		return reading.SelfTest{}, false
	}
	was := reading.Decode([]reading.Page{{Name: page, Bytes: baseline}})
	if len(was.Tests) > 0 && was.Tests[0] == r.Tests[0] && len(was.Tests) == len(r.Tests) { // only its header moved
		return reading.SelfTest{}, false
	}
	return r.Tests[0], true
}

func trouble(r protocol.Run, f drive.Fault, now time.Time) (protocol.Run, Effect) {
	switch f.Class {
	case drive.FaultVanished:
		r.State = protocol.Absent
		return r, Nothing
	case drive.FaultStuck:
		r.State = protocol.Stuck
		r.Reason = f.Error()
		return end(r, protocol.Failed, f.Error(), now)
	default: // an answer came: the step failed, the drive is there
	}
	if r.State == protocol.Stopping {
		return end(r, protocol.Stopped, r.Reason, now)
	}
	if s := r.Current(); s != nil {
		if s.Kind.IsTest() && f.Class == drive.FaultRefused && s.State != protocol.Unknown {
			finish(s, protocol.StepSkipped, "the drive refused the self-test: "+f.Back, now)
			return advance(r, now)
		}
		finish(s, protocol.StepFailed, f.Error(), now)
	}
	return end(r, protocol.Failed, f.Error(), now)
}
