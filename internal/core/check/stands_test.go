package check

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/core/ata"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/reading"
	"hylostat.example/internal/core/surface"
	"hylostat.example/internal/core/wording"
)

// geometryOf is a surface of 1.3 TB.
func geometryOf(rpm uint16) surface.Geometry {
	return surface.Geometry{Sectors: 1_300_000_000_000 / 512, Logical: 512, Physical: 4096, RPM: rpm}
}

func sampleOf(independent int) *surface.Sample { return &surface.Sample{Independent: independent} }

func words(all []wording.Phrase) (said []string) {
	for _, p := range all {
		said = append(said, p.String())
	}
	return said
}

func TestWhatASweepSays(t *testing.T) {
	half := 0.37
	for name, row := range map[string]struct {
		standing Standing
		says     []string
		note     string
	}{
		"nothing found": {
			Standing{Share: 1, Held: &half}, []string{
				"Everything was read, nothing is slow.",
				"37 % of what was read held data. For the rest a flash drive answers without touching its cells.",
			}, "everything was read",
		},
		"a clean sample": {
			Standing{Share: 1, Sample: sampleOf(1000)}, []string{
				"Every sample was read. Rules out scattered damage of more than 0.3 % of the surface, with 95 % confidence.",
				"Cannot rule out one small cluster",
			}, "every sample was read",
		},
		"a clean half": {Standing{Share: 0.5}, nil, "everything was read; 50 % swept"},
		"what cannot be read": {
			Standing{Share: 1, Unreadable: 9, Lost: 3, Other: 2},
			[]string{"9 sectors cannot be read.", "2 places failed for other reasons.", "3 sectors do not hold what was written to them."},
			"9 unreadable sectors; 3 sectors do not hold what was written to them; 2 places failed for another reason",
		},
		"slow places": {
			Standing{Share: 1, Slow: 5, Confirmed: 2},
			[]string{"2 places are slow, twice.", "3 places were slow once: the host was busy"},
			"2 slow places, confirmed; 3 places slow once",
		},
		"slow so far": {
			Standing{Share: 0.25, Slow: 1, Early: wording.Literal("nothing more can change the verdict")},
			[]string{"1 place is slow, and not read a second time yet.", "Stopped at 25 %: nothing more can change the verdict."},
			"1 place slow once; 25 % swept; nothing more can change the verdict",
		},
	} {
		says := words(row.standing.Says(wording.Phrase{}))
		require.Len(t, says, len(row.says), "%s: %q", name, says)
		for i, want := range row.says {
			assert.Contains(t, says[i], want, name)
		}
		assert.Equal(t, row.note, sweepNote(WholeSweep, row.standing).String(), name)
	}
	assert.Empty(t, Standing{Unreadable: 2, Written: &Written{}}.Says(wording.Phrase{}), "its step says what it did")
}

func TestWhatAReworkSays(t *testing.T) {
	for want, row := range map[string]struct {
		kind     StepKind
		standing Standing
	}{
		"9 sectors cleared; 1 sector could be read after all; 2 sectors still unreadable": {
			Mending, Standing{Share: 1, Unreadable: 2, Written: &Written{Cleared: 9, Readable: 1}},
		},
		"nothing needed writing":                  {Mending, Standing{Share: 1, Written: &Written{}}},
		"everything was written back":             {Renewing, Standing{Share: 1, Written: &Written{}}},
		"everything was written":                  {Overwriting, Standing{Share: 1, Written: &Written{}}},
		"40 % done":                               {Overwriting, Standing{Share: 0.4, Written: &Written{}}},
		"everything holds what was written to it": {Verifying, Standing{Share: 1}},
	} {
		assert.Equal(t, want, sweepNote(row.kind, row.standing).String())
	}
}

func TestWhereARunStands(t *testing.T) {
	running := Run{State: Running, Steps: []Step{{Kind: ReadingBefore, State: StepDone}, {Kind: WholeSweep, State: Begun}}}
	finding := running
	finding.Steps = []Step{{Kind: WholeSweep, State: Begun, Standing: &Standing{Unreadable: 2}}}
	failed := Run{State: Done, Outcome: Failed, Steps: []Step{
		{Kind: ReadingBefore, State: StepDone}, {Kind: ShortTest, State: StepFailed, Note: wording.Literal("read failure")},
	}}
	for want, r := range map[string]Run{
		"whole sweep":                           running,
		"whole sweep, 2 unreadable":             finding,
		"passed":                                {State: Done, Outcome: Passed, Reason: wording.Literal("no matter")},
		"stopped: stopped by Imre":              {State: Done, Outcome: Stopped, Reason: wording.Literal("stopped by Imre")},
		"failed: short self-test, read failure": failed,
		"waits: paused by Imre":                 {State: Paused, Pause: wording.Literal("paused by Imre")},
		"running":                               {State: Running},
	} {
		assert.Equal(t, want, r.Stands().String())
	}
	for _, s := range []State{Queued, Absent, Stuck, Interrupted, Stopping} {
		assert.NotContains(t, Run{State: s}.Stands().String(), "run.", "it has words")
	}
}

// sweepBegun is a run at its whole sweep.
func sweepBegun(t *testing.T) Run {
	t.Helper()
	r := New(Whole, drive.Bay{Number: 1}, key, "Dov", now, Limit{})
	r, _ = Next(r, Begin{}, now)
	r, effect := Next(r, ReadingTaken{Sweep: &Standing{Geometry: geometryOf(7200)}}, now)
	require.Equal(t, RunSweep, effect)
	require.Equal(t, 10_000*time.Second, r.Steps[1].Expect)
	return r
}

func TestASweepThatMovesAndEnds(t *testing.T) {
	r, effect := Next(sweepBegun(t), SweepMoved{Standing{Share: 0.4, Left: time.Hour}}, now)
	assert.Equal(t, Nothing, effect)
	assert.Equal(t, 40, r.Steps[1].Percent)
	assert.Equal(t, 100*time.Minute, r.Steps[1].Expect, "what is left tells how long it takes in all")
	back, _ := Next(r, SweepMoved{Standing{Share: 0.01, Left: time.Hour}}, now)
	assert.Equal(t, 40, back.Steps[1].Percent)
	assert.Equal(t, 100*time.Minute, back.Steps[1].Expect, "too little is known of its begin")
	over, effect := Next(r, Swept{Standing{Share: 1, Slow: 3, Other: 1}}, now.Add(time.Minute))
	assert.Equal(t, TakeReading, effect)
	assert.Equal(t, []any{StepDone, now.Add(time.Minute), 100}, []any{over.Steps[1].State, over.Steps[1].Ended, over.Steps[1].Percent})
	for _, found := range []Standing{{Share: 1, Unreadable: 1}, {Share: 1, Confirmed: 1}, {Share: 1, Lost: 1}} {
		r, _ := Next(r, Swept{found}, now)
		assert.Equal(t, StepFailed, r.Steps[1].State, "%+v", found)
		assert.Equal(t, found, *r.Steps[1].Standing)
	}
	first, _ := Next(New(Whole, drive.Bay{}, key, "Dov", now, Limit{}), Begin{}, now)
	same, effect := Next(first, Swept{Standing{Share: 1}}, now)
	assert.Equal(t, Nothing, effect)
	assert.Equal(t, first, same, "no sweep goes on")
}

func TestASweepWaitsAndGoesOn(t *testing.T) {
	r := sweepBegun(t)
	why := wording.Literal("paused by Imre")
	waits, effect := Next(r, PauseAsked{Why: why, Hot: true, Turn: true}, now)
	assert.Equal(t, HoldSweep, effect)
	assert.Equal(t, []any{Paused, why, true, true}, []any{waits.State, waits.Pause, waits.Hot, waits.Turn})
	again, effect := Next(waits, PauseAsked{}, now)
	assert.Equal(t, Nothing, effect)
	assert.Equal(t, waits, again, "it waits already")
	on, effect := Next(waits, ResumeAsked{}, now)
	assert.Equal(t, RunSweep, effect)
	assert.Equal(t, []any{Running, true, false, false}, []any{on.State, on.Pause.IsZero(), on.Hot, on.Turn})
	_, effect = Next(on, ResumeAsked{}, now)
	assert.Equal(t, Nothing, effect)
	before, _ := Next(New(Whole, drive.Bay{}, key, "Dov", now, Limit{}), Begin{}, now)
	_, effect = Next(before, PauseAsked{Why: why}, now)
	assert.Equal(t, Nothing, effect, "a reading does not wait")
	// After a restart, one that a person paused waits on; one that waited for the drive or its turn asks again.
	for _, row := range []struct {
		pause  PauseAsked
		state  State
		effect Effect
	}{
		{PauseAsked{Why: why}, Paused, Nothing},
		{PauseAsked{Why: why, Hot: true}, Running, RunSweep},
		{PauseAsked{Why: why, Turn: true}, Running, RunSweep},
	} {
		waits, _ := Next(r, row.pause, now)
		gone, _ := Next(waits, DriveGone{}, now)
		for _, e := range []Event{Restarted{}, DriveBack{}} {
			from := waits
			if e == (DriveBack{}) {
				from = gone
			}
			back, effect := Next(from, e, now)
			assert.Equal(t, []any{row.state, row.effect}, []any{back.State, effect}, "%+v, %T", row.pause, e)
			assert.Equal(t, row.state == Running, back.Pause.IsZero() && !back.Hot && !back.Turn)
		}
	}
	stopped, _ := Next(r, SweepMoved{Standing{Share: 0.5, Unreadable: 4}}, now)
	stopped, effect = Next(stopped, StopAsked{By: "Imre"}, now)
	assert.Equal(t, Nothing, effect)
	assert.Equal(t, []any{Done, Stopped, StepSkipped}, []any{stopped.State, stopped.Outcome, stopped.Steps[1].State})
	assert.Equal(t, "4 unreadable sectors; 50 % swept", stopped.Steps[1].Note.String(), "what it found is said")
	assert.Equal(t, "stopped by Imre", stopped.Steps[2].Note.String())
}

func TestASelfTestOfADriveWithoutALogIsKnownByItsStatus(t *testing.T) {
	for _, row := range []struct {
		polled Polled
		state  StepState
		note   string
	}{
		{Polled{Status: 0}, StepDone, "passed, by the status byte: no log"},
		{Polled{Status: 7}, StepFailed, "read failure"},
		{Polled{Log: true, Tests: before}, StepFailed, "logged no result"},
	} {
		r, effect := play(t, Begin{}, taken(), TestSent{}, row.polled)
		assert.Equal(t, row.state, r.Steps[1].State)
		assert.Contains(t, r.Steps[1].Note.String(), row.note)
		assert.Equal(t, TakeReading, effect)
	}
	empty := log()
	r, effect := play(t, Begin{}, ReadingTaken{CanTest: true, Tests: passed}, TestSent{}, Polled{Log: true, Tests: empty})
	assert.Equal(t, StepFailed, r.Steps[1].State, "a log that was emptied has no result")
	assert.Equal(t, TakeReading, effect)
}

func TestAnInterruptedRunWhoseDriveIsNotThereEndsWhenItIsStopped(t *testing.T) {
	r, _ := play(t, Begin{}, taken(), TestSent{})
	r.State = Interrupted
	r, effect := Next(r, StopAsked{By: "Imre"}, now)
	assert.Equal(t, []any{Done, Stopped, Nothing}, []any{r.State, r.Outcome, effect})
}

func TestTroubleEndsWhatItMeets(t *testing.T) {
	r, _ := play(t, Begin{}, taken(), TestSent{}, StopAsked{By: "Imre"}, Trouble{drive.Fault{Class: drive.FaultRefused, Cause: "aborted"}})
	assert.Equal(t, []any{Done, Stopped, "stopped by Imre"}, []any{r.State, r.Outcome, r.Reason.String()})
	r, _ = play(t, Begin{}, taken(), TestSent{}, Restarted{}, Trouble{drive.Fault{Class: drive.FaultRefused, Cause: "aborted"}})
	assert.Equal(t, StepFailed, r.Steps[1].State, "a look that is refused is no refused start")
	assert.Equal(t, Failed, r.Outcome)
}

func TestARunOfAnEarlierVersionKeepsThePageOfItsLog(t *testing.T) {
	page := ata.SelfTestLog{Tests: []ata.SelfTest{{Number: ata.TestShort, Hours: 10}}}.Encode()
	r, _ := play(t, Begin{}, taken(), TestSent{})
	r.Steps[1].Logged, r.Steps[1].Baseline = LogMark{}, page
	polled, effect := Next(r, Polled{Log: true, Tests: passed, Page: reading.PageTestLog}, now)
	assert.Equal(t, StepFailed, polled.Steps[1].State, "the log held that test before")
	assert.Equal(t, TakeReading, effect)
	assert.Nil(t, polled.Steps[1].Baseline)
	first, _ := play(t, Begin{})
	same, effect := Next(first, Polled{Log: true, Tests: passed}, now)
	assert.Equal(t, first, same, "no self-test goes on")
	assert.Equal(t, Nothing, effect)
}
