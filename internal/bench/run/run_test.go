package run

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/core/ata"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/reading"
	"hylostat.example/internal/protocol"
)

var (
	now    = time.Date(2026, 11, 12, 15, 12, 0, 0, time.UTC)
	key    = drive.Key{Model: "Korvan K4-2000", Serial: "KVA077M4R9"}
	before = log()
	passed = log(ata.SelfTest{Number: ata.TestShort, Hours: 10})
	failed = log(ata.SelfTest{Number: ata.TestShort, Status: ata.TestRead, Hours: 10, LBA: 4711, HasLBA: true})
	broken = log(ata.SelfTest{Number: ata.TestShort, Status: ata.TestInterrupted, Hours: 10})
)

func log(tests ...ata.SelfTest) []byte { return ata.SelfTestLog{Tests: tests}.Encode() }

func taken() Event {
	return ReadingTaken{CanTest: true, TestTime: 2 * time.Minute, Log: before, NoSweep: "no blocks"}
}

// play puts events to a new run and gives the last state and effect.
func play(t *testing.T, events ...Event) (protocol.Run, Effect) {
	t.Helper()
	r, effect := New(protocol.Quick, 1, key, "Dov", now, protocol.Limit{}), Nothing
	percent := 0
	for _, e := range events {
		r, effect = Next(r, e, now)
		require.GreaterOrEqual(t, r.Percent(), percent, "progress never goes back")
		percent = r.Percent()
	}
	return r, effect
}

func TestAQuickCheckFromBeginningToEnd(t *testing.T) {
	_, effect := play(t, Begin{})
	assert.Equal(t, TakeReading, effect)
	r, effect := play(t, Begin{}, taken())
	assert.Equal(t, SendTest, effect)
	assert.Equal(t, before, r.Steps[1].Baseline, "the log before the start is kept before the start is sent")
	assert.True(t, r.Steps[1].Sent)
	r, effect = play(t, Begin{}, taken(), TestSent{}, Polled{Running: true, Left: 60})
	assert.Equal(t, PollLater, effect)
	assert.Equal(t, (5+120*40/100)*100/130, r.Percent(), "by time: readings of 5 s, a test of 2 min")
	_, effect = play(t, Begin{}, taken(), TestSent{}, Polled{Page: reading.PageTestLog, Log: passed})
	assert.Equal(t, TakeReading, effect)
	r, effect = play(t, Begin{}, taken(), TestSent{}, Polled{Page: reading.PageTestLog, Log: passed}, taken())
	assert.Equal(t, Nothing, effect)
	assert.Equal(t, protocol.Done, r.State)
	assert.Equal(t, protocol.Incomplete, r.Outcome, "its sweep was skipped")
	assert.Equal(t, "Spot sweep skipped: no blocks", r.Reason)
	assert.Equal(t, 100, r.Percent())
}

// What was skipped, or could not be reached, keeps a run from having passed; what failed is said before it.
func TestARunPassesOnlyWhenAllOfItWasDone(t *testing.T) {
	steps := func(states ...protocol.StepState) (all []protocol.Step) {
		for _, s := range states {
			all = append(all, protocol.Step{Kind: protocol.WholeSweep, State: s, Note: "its reason", Sweep: &protocol.Sweep{}})
		}
		return all
	}
	clipped := steps(protocol.StepDone)
	clipped[0].Sweep.Beyond = 1_800_000_000_000
	for name, row := range map[string]struct {
		steps []protocol.Step
		want  protocol.Outcome
		why   string
	}{
		"all done":            {steps(protocol.StepDone, protocol.StepDone), protocol.Passed, ""},
		"one skipped":         {steps(protocol.StepDone, protocol.StepSkipped), protocol.Incomplete, "Whole sweep skipped: its reason"},
		"skipped, and failed": {steps(protocol.StepSkipped, protocol.StepFailed), protocol.Failed, ""},
		"a part out of reach": {clipped, protocol.Incomplete, "1.8 TB of the drive cannot be reached through this adapter"},
	} {
		o, why := outcome(row.steps)
		assert.Equal(t, row.want, o, name)
		assert.Equal(t, row.why, why, name)
	}
}

func TestAFailedSelfTestEndsInTheLastReadingAndFails(t *testing.T) {
	r, _ := play(t, Begin{}, taken(), TestSent{}, Polled{Page: reading.PageTestLog, Log: failed}, taken())
	assert.Equal(t, protocol.Failed, r.Outcome)
	assert.Equal(t, "read failure, LBA 4711", r.Steps[1].Note)
	require.NotNil(t, r.Steps[1].LBA)
}

func TestAfterACrashTheTestIsFoundAgain(t *testing.T) {
	for name, row := range map[string]struct {
		found   Event
		effect  Effect
		adopted bool
	}{
		"still running":              {Polled{Running: true, Left: 30}, PollLater, true},
		"ended meanwhile":            {Polled{Page: reading.PageTestLog, Log: passed}, TakeReading, true},
		"the start never reached it": {Polled{Page: reading.PageTestLog, Log: before}, SendTest, false},
		"interrupted by the power":   {Polled{Page: reading.PageTestLog, Log: broken}, SendTest, false},
	} {
		r, effect := play(t, Begin{}, taken(), Restarted{})
		assert.Equal(t, PollTest, effect, "before anything is sent again, the drive is asked")
		r, effect = Next(r, row.found, now)
		assert.Equal(t, row.effect, effect, name)
		assert.Equal(t, row.adopted, r.Steps[1].Adopted, name)
	}
	_, effect := play(t, Begin{}, Restarted{})
	assert.Equal(t, TakeReading, effect, "a reading is simply taken again")
	_, effect = play(t, Restarted{})
	assert.Equal(t, Nothing, effect, "a queued run waits")
}

func TestATestThatIsInterruptedAgainAndAgainIsGivenUp(t *testing.T) {
	events := []Event{Begin{}, taken(), TestSent{}}
	for hours := range uint16(maxTries) {
		events = append(events, Polled{Page: reading.PageTestLog, Log: log(ata.SelfTest{Number: 1, Status: ata.TestInterrupted, Hours: 20 + hours})}, TestSent{})
	}
	r, _ := play(t, events...)
	assert.Equal(t, protocol.StepFailed, r.Steps[1].State)
	assert.Contains(t, r.Steps[1].Note, "interrupted by a reset, 3 times. Check the power")
}

func TestStoppingAbortsATestThatRunsAndNothingElse(t *testing.T) {
	_, effect := play(t, Begin{}, taken(), TestSent{}, StopAsked{"Imre"})
	assert.Equal(t, AbortTest, effect)
	r, _ := play(t, Begin{}, taken(), TestSent{}, StopAsked{"Imre"}, Aborted{})
	assert.Equal(t, protocol.Stopped, r.Outcome)
	assert.Equal(t, "stopped by Imre", r.Reason)
	r, effect = play(t, Begin{}, StopAsked{"Imre"})
	assert.Equal(t, Nothing, effect)
	assert.Equal(t, protocol.Done, r.State)
	r, effect = play(t, Begin{}, taken(), TestSent{}, DriveGone{}, StopAsked{"Imre"})
	assert.Equal(t, Nothing, effect, "an absent drive is not told anything")
	assert.Equal(t, protocol.Done, r.State)
}

func TestAnAbsentDriveIsWaitedFor(t *testing.T) {
	r, effect := play(t, Begin{}, taken(), TestSent{}, DriveGone{})
	assert.Equal(t, protocol.Absent, r.State)
	assert.Equal(t, Nothing, effect)
	_, effect = Next(r, DriveBack{}, now)
	assert.Equal(t, PollTest, effect)
}

func TestWhatADriveCannotDoIsSkippedWithItsReason(t *testing.T) {
	for name, e := range map[string]ReadingTaken{
		"no self-tests":            {Why: "the drive has no self-tests"},
		"somebody else's runs now": {CanTest: true, Busy: true},
	} {
		r, effect := play(t, Begin{}, e)
		assert.Equal(t, protocol.StepSkipped, r.Steps[1].State, name)
		assert.NotEmpty(t, r.Steps[1].Note, name)
		assert.Equal(t, TakeReading, effect, name)
	}
	r, _ := play(t, Begin{}, taken(), Trouble{drive.Fault{Class: drive.FaultRefused, Back: "aborted"}})
	assert.Equal(t, protocol.StepSkipped, r.Steps[1].State)
}

func TestTroubleEndsARunWithItsCause(t *testing.T) {
	stuck := drive.Fault{Class: drive.FaultStuck, What: "SMART READ DATA", Back: "no answer for 20s"}
	r, _ := play(t, Begin{}, Trouble{stuck})
	assert.Equal(t, protocol.Failed, r.Outcome)
	assert.Contains(t, r.Reason, "no answer for 20s. Leave it in the bay")
	r, _ = play(t, Begin{}, taken(), Trouble{drive.Fault{Class: drive.FaultVanished}})
	assert.Equal(t, protocol.Absent, r.State)
	r, effect := Next(r, Begin{}, now)
	assert.NotEqual(t, protocol.Done, r.State)
	assert.NotEqual(t, AbortTest, effect)
}

func TestADoneRunStaysAsItIs(t *testing.T) {
	r, _ := play(t, Begin{}, taken(), TestSent{}, Polled{Page: reading.PageTestLog, Log: passed}, taken())
	for _, e := range []Event{Begin{}, StopAsked{"x"}, DriveGone{}, Restarted{}, Polled{Page: reading.PageTestLog, Log: failed}} {
		again, effect := Next(r, e, now)
		assert.Equal(t, r, again)
		assert.Equal(t, Nothing, effect)
	}
}
