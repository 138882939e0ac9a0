package check

import (
	"time"

	"hylostat.example/internal/core/ata"
	"hylostat.example/internal/core/reading"
	"hylostat.example/internal/core/wording"
)

// polled reads a look at the drive: is the test still going, and if not, what does the log say that it did not say before?
func polled(r Run, e Polled, now time.Time) (Run, Effect) {
	s := r.Current()
	if s == nil || !s.Kind.IsTest() {
		return r, Nothing
	}
	if s.State == Unknown {
		s.Adopted = true
	}
	if s.Baseline != nil { // stored by a version that kept the page
		s.Logged, s.Baseline = LogMarkOf(reading.Decode([]reading.Page{{Name: e.Page, Bytes: s.Baseline}}).Tests), nil
	}
	result, found := newest(s.Logged, e.Tests)
	if e.Running || found && result.Running {
		s.State = Begun
		s.Percent = max(s.Percent, 100-int(e.Left))
		return r, PollLater
	}
	if !found {
		return nothingLogged(r, s, e, now)
	}
	switch {
	case result.Failed:
		note := wording.Say(wording.TestResult, wording.Values{"result": result.Result})
		if result.HasLBA {
			s.LBA = &result.LBA
			note = wording.Say(wording.TestResultAt, wording.Values{"result": result.Result, "lba": result.LBA})
		}
		finish(s, StepFailed, note, now)
	case result.Passed:
		finish(s, StepDone, wording.Say(wording.TestResult, wording.Values{"result": result.Result}), now)
	case s.Tries < maxTries: // interrupted or aborted says nothing of the drive
		s.Logged, s.Adopted = LogMarkOf(e.Tests), false
		return advance(r, now)
	default:
		finish(s, StepFailed, wording.Say(wording.TestCutOff, wording.Values{"result": result.Result, "n": s.Tries}), now)
	}
	return advance(r, now)
}

// nothingLogged: the test does not run and the log shows nothing new. Either the start never reached the drive, or the
// drive keeps no log and only its status byte knows.
func nothingLogged(r Run, s *Step, e Polled, now time.Time) (Run, Effect) {
	switch {
	case s.State == Unknown && s.Tries < maxTries:
		s.Adopted = false
		return advance(r, now)
	case !e.Log && e.Status.Failed():
		finish(s, StepFailed, wording.Say(wording.TestByStatus, wording.Values{"result": e.Status.String()}), now)
	case !e.Log && e.Status == ata.TestPassed:
		finish(s, StepDone, wording.Say(wording.TestByStatus, wording.Values{"result": "passed"}), now)
	default:
		finish(s, StepFailed, wording.Say(wording.TestNotLogged), now)
	}
	return advance(r, now)
}

// LogMark is where a drive's self-test log stood.
type LogMark struct {
	Entries int              `json:"entries"`
	Newest  reading.SelfTest `json:"newest,omitzero"`
}

// LogMarkOf marks a log of these tests, the newest first.
func LogMarkOf(tests []reading.SelfTest) LogMark {
	m := LogMark{Entries: len(tests)}
	if m.Entries > 0 {
		m.Newest = tests[0]
	}
	return m
}

// newest gives the newest result of a log that says something it did not say before.
func newest(before LogMark, tests []reading.SelfTest) (reading.SelfTest, bool) {
	now := LogMarkOf(tests)
	return now.Newest, now.Entries > 0 && now != before
}
