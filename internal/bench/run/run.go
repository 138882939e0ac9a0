// Package run holds the procedures a bench carries out on a drive, as state machines without I/O: Next takes a run and what
// happened, and gives the run as it stands then and the one thing to do. The bench stores the run before it does that thing,
// so that a crash at any moment finds in the journal what was intended. Start with Next.
package run

import (
	"fmt"
	"slices"
	"time"

	"hylostat.example/internal/core/ata"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/reading"
	"hylostat.example/internal/protocol"
)

// New is a check that waits to begin. spans are a selective self-test's.
func New(kind protocol.RunKind, bay int, key drive.Key, by string, now time.Time, spans ...ata.Span) protocol.Run {
	test := map[protocol.RunKind]protocol.StepKind{protocol.Conveyance: protocol.ConveyanceTest, protocol.Selective: protocol.SelectiveTest}[kind]
	if test == "" {
		kind, test = protocol.Quick, protocol.ShortTest
	}
	return protocol.Run{Kind: kind, Bay: bay, Key: key, By: by, State: protocol.Queued, Asked: now, Expect: 2 * time.Minute, Spans: spans, Steps: []protocol.Step{
		{Kind: protocol.ReadingBefore, State: protocol.Pending}, {Kind: test, State: protocol.Pending}, {Kind: protocol.ReadingAfter, State: protocol.Pending},
	}}
}

// Event is what happened.
type Event interface{ event() }

// The events.
type (
	// Begin starts a queued run.
	Begin struct{}
	// ReadingTaken ends a reading step.
	ReadingTaken struct {
		CanTest   bool
		ShortPoll time.Duration
		Log       []byte // self-test log page; nil: not read
		Why       string // why CanTest is false
		Busy      bool   // a self-test that somebody else started is running
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
)

// maxTries bounds how often a self-test that something interrupted is started again.
const maxTries = 3

// Next applies an event. The returned run must be stored before the effect is carried out.
func Next(r protocol.Run, e Event, now time.Time) (protocol.Run, Effect) {
	r.Steps = slices.Clone(r.Steps)
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
	case Trouble:
		return trouble(r, e.Fault, now)
	case StopAsked:
		r.Reason = "stopped by " + e.By
		s := r.Current()
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
	s.State = protocol.Unknown
	if !s.Kind.IsTest() {
		s.State = protocol.Pending // a reading harms nothing: take it again
		return advance(r, now)
	}
	return r, PollTest
}

// advance begins the next step.
func advance(r protocol.Run, now time.Time) (protocol.Run, Effect) {
	s := r.Current()
	if s == nil {
		outcome := protocol.Passed
		for _, step := range r.Steps {
			if step.State == protocol.StepFailed {
				outcome = protocol.Failed
			}
		}
		return end(r, outcome, "", now)
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
	return r, TakeReading
}

func finish(s *protocol.Step, state protocol.StepState, note string, now time.Time) {
	s.State, s.Note, s.Ended, s.Percent = state, note, now, 100
}

func end(r protocol.Run, o protocol.Outcome, reason string, now time.Time) (protocol.Run, Effect) {
	r.State, r.Outcome, r.Reason, r.Ended = protocol.Done, o, reason, now
	for i := range r.Steps {
		if s := &r.Steps[i]; o == protocol.Stopped && (s.State == protocol.Pending || s.State == protocol.Begun || s.State == protocol.Unknown) {
			s.State, s.Note, s.Ended = protocol.StepSkipped, reason, now
		}
	}
	return r, Nothing
}

func readingTaken(r protocol.Run, e ReadingTaken, now time.Time) (protocol.Run, Effect) {
	s := r.Current()
	if s == nil || s.Kind.IsTest() {
		return r, Nothing
	}
	finish(s, protocol.StepDone, "", now)
	for i := range r.Steps {
		t := &r.Steps[i]
		if !t.Kind.IsTest() || t.State != protocol.Pending {
			continue
		}
		t.Baseline = e.Log
		if e.ShortPoll > 0 {
			r.Expect = e.ShortPoll
		}
		switch {
		case !e.CanTest:
			finish(t, protocol.StepSkipped, e.Why, now)
		case e.Busy: // starting ours would end theirs
			finish(t, protocol.StepSkipped, "the drive is busy with a self-test started elsewhere. Check again when it is done", now)
		}
	}
	return advance(r, now)
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
