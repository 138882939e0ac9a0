package check

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/core/ata"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/reading"
	"hylostat.example/internal/core/wording"
)

var (
	now    = time.Date(2026, 11, 12, 15, 12, 0, 0, time.UTC)
	key    = drive.Key{Model: "Korvan K4-2000", Serial: "KVA077M4R9"}
	before = log()
	passed = log(ata.SelfTest{Number: ata.TestShort, Hours: 10})
	failed = log(ata.SelfTest{Number: ata.TestShort, Status: ata.TestRead, Hours: 10, LBA: 4711, HasLBA: true})
	broken = log(ata.SelfTest{Number: ata.TestShort, Status: ata.TestInterrupted, Hours: 10})
)

// log is a drive's log with these tests, as it is read.
func log(tests ...ata.SelfTest) []reading.SelfTest {
	return reading.Decode([]reading.Page{{Name: reading.PageTestLog, Bytes: ata.SelfTestLog{Tests: tests}.Encode()}}).Tests
}

func taken() Event {
	pace := Pace{Tests: map[StepKind]time.Duration{ShortTest: 2 * time.Minute}}
	return ReadingTaken{CanTest: true, Pace: pace, Tests: before, NoSweep: wording.Literal("no blocks")}
}

// play puts events to a new run and gives the last state and effect.
func play(t *testing.T, events ...Event) (Run, Effect) {
	t.Helper()
	r, effect := New(Quick, drive.Bay{Number: 1}, key, "Dov", now, Limit{}), Nothing
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
	assert.Equal(t, LogMarkOf(before), r.Steps[1].Logged, "the log before the start is kept before the start is sent")
	assert.True(t, r.Steps[1].Sent)
	r, effect = play(t, Begin{}, taken(), TestSent{}, Polled{Running: true, Left: 60})
	assert.Equal(t, PollLater, effect)
	assert.Equal(t, (5+120*40/100)*100/130, r.Percent(), "by time: readings of 5 s, a test of 2 min")
	_, effect = play(t, Begin{}, taken(), TestSent{}, Polled{Log: true, Tests: passed})
	assert.Equal(t, TakeReading, effect)
	r, effect = play(t, Begin{}, taken(), TestSent{}, Polled{Log: true, Tests: passed}, taken())
	assert.Equal(t, Nothing, effect)
	assert.Equal(t, Done, r.State)
	assert.Equal(t, Incomplete, r.Outcome, "its sweep was skipped")
	assert.Equal(t, "Spot sweep skipped: no blocks", r.Reason.String())
	assert.Equal(t, 100, r.Percent())
}

// What was skipped, or could not be reached, keeps a run from having passed; what failed is said before it.
func TestARunPassesOnlyWhenAllOfItWasDone(t *testing.T) {
	steps := func(states ...StepState) (all []Step) {
		for _, s := range states {
			all = append(all, Step{Kind: WholeSweep, State: s, Note: wording.Literal("its reason"), Standing: &Standing{}})
		}
		return all
	}
	clipped := steps(StepDone)
	clipped[0].Standing.Beyond = 1_800_000_000_000
	for name, row := range map[string]struct {
		steps []Step
		want  Outcome
		why   string
	}{
		"all done":            {steps(StepDone, StepDone), Passed, ""},
		"one skipped":         {steps(StepDone, StepSkipped), Incomplete, "Whole sweep skipped: its reason"},
		"skipped, and failed": {steps(StepSkipped, StepFailed), Failed, ""},
		"a part out of reach": {clipped, Incomplete, "1.8 TB of the drive cannot be reached through this adapter"},
	} {
		o, why := outcome(row.steps)
		assert.Equal(t, row.want, o, name)
		assert.Equal(t, row.why, why.String(), name)
	}
}

func TestAFailedSelfTestEndsInTheLastReadingAndFails(t *testing.T) {
	r, _ := play(t, Begin{}, taken(), TestSent{}, Polled{Log: true, Tests: failed}, taken())
	assert.Equal(t, Failed, r.Outcome)
	assert.Equal(t, "read failure, LBA 4711", r.Steps[1].Note.String())
	require.NotNil(t, r.Steps[1].LBA)
}

func TestAfterACrashTheTestIsFoundAgain(t *testing.T) {
	for name, row := range map[string]struct {
		found   Event
		effect  Effect
		adopted bool
	}{
		"still running":              {Polled{Running: true, Left: 30}, PollLater, true},
		"ended meanwhile":            {Polled{Log: true, Tests: passed}, TakeReading, true},
		"the start never reached it": {Polled{Log: true, Tests: before}, SendTest, false},
		"interrupted by the power":   {Polled{Log: true, Tests: broken}, SendTest, false},
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
		events = append(
			events, Polled{Log: true, Tests: log(ata.SelfTest{Number: 1, Status: ata.TestInterrupted, Hours: 20 + hours})},
			TestSent{},
		)
	}
	r, _ := play(t, events...)
	assert.Equal(t, StepFailed, r.Steps[1].State)
	assert.Contains(t, r.Steps[1].Note.String(), "interrupted by a reset, 3 times. Check the power")
}

func TestStoppingAbortsATestThatRunsAndNothingElse(t *testing.T) {
	_, effect := play(t, Begin{}, taken(), TestSent{}, StopAsked{"Imre"})
	assert.Equal(t, AbortTest, effect)
	r, _ := play(t, Begin{}, taken(), TestSent{}, StopAsked{"Imre"}, Aborted{})
	assert.Equal(t, Stopped, r.Outcome)
	assert.Equal(t, "stopped by Imre", r.Reason.String())
	r, effect = play(t, Begin{}, StopAsked{"Imre"})
	assert.Equal(t, Nothing, effect)
	assert.Equal(t, Done, r.State)
	r, effect = play(t, Begin{}, taken(), TestSent{}, DriveGone{}, StopAsked{"Imre"})
	assert.Equal(t, Nothing, effect, "an absent drive is not told anything")
	assert.Equal(t, Done, r.State)
}

func TestAnAbsentDriveIsWaitedFor(t *testing.T) {
	r, effect := play(t, Begin{}, taken(), TestSent{}, DriveGone{})
	assert.Equal(t, Absent, r.State)
	assert.Equal(t, Nothing, effect)
	_, effect = Next(r, DriveBack{}, now)
	assert.Equal(t, PollTest, effect)
}

func TestWhatADriveCannotDoIsSkippedWithItsReason(t *testing.T) {
	for name, e := range map[string]ReadingTaken{
		"no self-tests":            {Why: wording.Say(wording.NoTests)},
		"somebody else's runs now": {CanTest: true, Busy: true},
	} {
		r, effect := play(t, Begin{}, e)
		assert.Equal(t, StepSkipped, r.Steps[1].State, name)
		assert.NotEmpty(t, r.Steps[1].Note.String(), name)
		assert.Equal(t, TakeReading, effect, name)
	}
	r, _ := play(t, Begin{}, taken(), Trouble{drive.Fault{Class: drive.FaultRefused, Cause: "aborted"}})
	assert.Equal(t, StepSkipped, r.Steps[1].State)
}

func TestTroubleEndsARunWithItsCause(t *testing.T) {
	stuck := drive.Fault{Class: drive.FaultStuck, What: "SMART READ DATA", Cause: "no answer for 20s"}
	r, _ := play(t, Begin{}, Trouble{stuck})
	assert.Equal(t, Failed, r.Outcome)
	assert.Contains(t, r.Reason.String(), "no answer for 20s. Leave it in the bay")
	r, _ = play(t, Begin{}, taken(), Trouble{drive.Fault{Class: drive.FaultVanished}})
	assert.Equal(t, Absent, r.State)
	r, effect := Next(r, Begin{}, now)
	assert.NotEqual(t, Done, r.State)
	assert.NotEqual(t, AbortTest, effect)
}

func TestADoneRunStaysAsItIs(t *testing.T) {
	r, _ := play(t, Begin{}, taken(), TestSent{}, Polled{Log: true, Tests: passed}, taken())
	for _, e := range []Event{Begin{}, StopAsked{"x"}, DriveGone{}, Restarted{}, Polled{Log: true, Tests: failed}} {
		again, effect := Next(r, e, now)
		assert.Equal(t, r, again)
		assert.Equal(t, Nothing, effect)
	}
}
