package check

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"hylostat.example/internal/core/ata"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/wording"
)

// What each procedure and each of its steps is, in one table: t a self-test, s over the surface, w writes, a reads all of it.
func TestWhatEachStepIs(t *testing.T) {
	is := map[StepKind]string{
		ReadingBefore: "", ReadingAfter: "", ShortTest: "t", ExtendedTest: "t", ConveyanceTest: "t", SelectiveTest: "t", SpotSweep: "s",
		WholeSweep: "sa", Mending: "sw", Renewing: "sw", Overwriting: "sw", Verifying: "sa",
	}
	plans := map[Kind][]StepKind{
		Quick: {ShortTest, SpotSweep}, Extended: {ExtendedTest, WholeSweep}, Conveyance: {ConveyanceTest}, Selective: {SelectiveTest},
		Spot: {SpotSweep}, Whole: {WholeSweep}, Mend: {Mending}, Renew: {Renewing}, Overwrite: {Overwriting, Verifying},
	}
	for step, letters := range is {
		got := ""
		if step.IsTest() {
			got += "t"
		}
		if step.IsSweep() {
			got += "s"
		}
		if step.Writes() {
			got += "w"
		}
		if step.ReadsAll() {
			got += "a"
		}
		assert.Equal(t, letters, got, step)
		assert.NotContains(t, step.Title(), "step.", "it has a name")
	}
	for kind, steps := range plans {
		want := append(append([]StepKind{ReadingBefore}, steps...), ReadingAfter)
		assert.Equal(t, want, kind.Plan())
		assert.Equal(t, steps[0].Writes(), kind.IsRework(), kind)
		assert.Equal(t, kind == Quick || kind == Extended || kind == Whole, kind.Plannable(), kind)
		assert.NotContains(t, kind.Title(), "check.", "it has a name")
		r := New(kind, drive.Bay{Number: 3}, key, "Dov", now, Limit{StopAt: 2}, ata.Span{First: 1, Last: 9})
		assert.Equal(t, Run{
			Kind: kind, Bay: drive.Bay{Number: 3}, Key: key, By: "Dov", State: Queued, Asked: now, Limit: Limit{StopAt: 2},
			Spans: []ata.Span{{First: 1, Last: 9}}, Steps: r.Steps,
		}, r)
		for i := range r.Steps {
			assert.Equal(t, Step{Kind: want[i], State: Pending}, r.Steps[i])
		}
	}
	assert.Equal(t, Quick, New("no such check", drive.Bay{}, key, "Dov", now, Limit{}).Kind)
}

func TestAReleaseAllowsItsReworkAndEveryLesserOne(t *testing.T) {
	all := []Kind{Mend, Renew, Overwrite}
	for i, scope := range all {
		for j, asked := range all {
			assert.Equal(t, j <= i, Release{Scope: scope}.Allows(asked), "%s for %s", scope, asked)
		}
		assert.False(t, Release{Scope: scope}.Allows(Quick))
	}
	assert.False(t, Release{}.Allows(Mend))
}

func TestAPlanIsMetByItsCheckAndBarredByWhatIsUnderWay(t *testing.T) {
	p := Plan{Check: Quick, At: now}
	for name, row := range map[string]struct {
		run       Run
		met, bars bool
	}{
		"done":                 {Run{Kind: Quick, State: Done, Outcome: Passed, Asked: now}, true, true},
		"failed":               {Run{Kind: Quick, State: Done, Outcome: Failed, Asked: now.Add(time.Hour)}, true, true},
		"stopped":              {Run{Kind: Quick, State: Done, Outcome: Stopped, Asked: now}, false, true},
		"before it":            {Run{Kind: Quick, State: Done, Outcome: Passed, Asked: now.Add(-1)}, false, false},
		"another check":        {Run{Kind: Whole, State: Done, Outcome: Passed, Asked: now}, false, false},
		"another, under way":   {Run{Kind: Whole, State: Running, Asked: now.Add(-time.Hour)}, false, true},
		"its check, under way": {Run{Kind: Quick, State: Queued, Asked: now}, false, true},
	} {
		assert.Equal(t, [2]bool{row.met, row.bars}, [2]bool{p.Met(&row.run), p.Bars(&row.run)}, name)
	}
}

func TestARunWroteOnceItsWritingStepWasOver(t *testing.T) {
	for _, row := range []struct {
		kind  StepKind
		state StepState
		wrote bool
	}{
		{Mending, StepDone, true},
		{Overwriting, StepFailed, true},
		{Renewing, Begun, false},
		{Mending, StepSkipped, false},
		{WholeSweep, StepDone, false},
		{Verifying, StepFailed, false},
	} {
		r := Run{Steps: []Step{
			{Kind: ReadingBefore, State: StepDone, Ended: now.Add(time.Hour)}, {Kind: row.kind, State: row.state, Ended: now},
		}}
		assert.Equal(t, row.wrote, r.Wrote(), "%+v", row)
		if row.kind.Writes() {
			assert.Equal(t, now, r.WroteUntil())
		} else {
			assert.Zero(t, r.WroteUntil())
		}
		r.Ended = now.Add(2 * time.Hour)
		assert.Equal(t, r.Ended, r.WroteUntil())
	}
}

func TestHowLongStepsTake(t *testing.T) {
	platter, flash := geometryOf(7200), geometryOf(0)
	sample := &Standing{Geometry: platter}
	sample.Sample = sampleOf(1000)
	for name, row := range map[string]struct {
		step Step
		want time.Duration
	}{
		"a reading":         {Step{Kind: ReadingBefore}, 5 * time.Second},
		"a self-test":       {Step{Kind: ExtendedTest}, 2 * time.Minute},
		"as the drive says": {Step{Kind: ExtendedTest, Expect: 217 * time.Minute}, 217 * time.Minute},
		"a spot sweep":      {Step{Kind: SpotSweep}, 2 * time.Minute},
		"a whole sweep":     {Step{Kind: WholeSweep}, time.Hour},
		"1.3 TB of a platter": {
			Step{Kind: WholeSweep, Expect: expected(WholeSweep, &Standing{Geometry: platter})}, 10_000 * time.Second,
		},
		"the same, written back": {Step{Kind: Renewing, Expect: expected(Renewing, &Standing{Geometry: platter})}, 25_000 * time.Second},
		"1.3 TB of flash":        {Step{Kind: WholeSweep, Expect: expected(WholeSweep, &Standing{Geometry: flash})}, 2_600 * time.Second},
		"a mend":                 {Step{Kind: Mending, Expect: expected(Mending, &Standing{Geometry: flash})}, time.Minute},
		"1 000 spots":            {Step{Kind: SpotSweep, Expect: expected(SpotSweep, sample)}, 26 * time.Second},
	} {
		assert.Equal(t, row.want, row.step.expect(), name)
	}
	r := Run{State: Running, Steps: []Step{
		{Kind: ReadingBefore, State: StepDone},
		{Kind: ShortTest, State: Begun, Percent: 25},
		{Kind: SpotSweep, State: StepSkipped},
		{Kind: ReadingAfter, State: Pending},
	}}
	assert.Equal(t, 95*time.Second, r.Left())
	assert.Equal(t, (5+30)*100/130, r.Percent())
	r.Reached = 60
	assert.Equal(t, 60, r.Percent(), "it never goes back")
	r.Steps[1].Standing = &Standing{Left: time.Hour}
	assert.Equal(t, time.Hour+5*time.Second, r.Left(), "a sweep knows better")
	r.Steps[1].State, r.Steps[3].State = StepDone, StepDone
	assert.Equal(t, 99, r.Percent(), "not before its end")
	r.State = Done
	assert.Equal(t, 100, r.Percent())
	r.Outcome = Stopped
	assert.Equal(t, 60, r.Percent(), "as far as it came")
	assert.Equal(t, wording.Say(wording.RunEnded, wording.Values{"outcome": "stopped"}).String(), r.Stands().String())
}

func TestASweepReadAllWhenNothingWasLeftOut(t *testing.T) {
	whole := Sweep{Kind: WholeSweep, Standing: Standing{Share: 1}}
	assert.True(t, whole.ReadAll())
	for _, s := range []Sweep{
		{Kind: SpotSweep, Standing: Standing{Share: 1}},
		{Kind: WholeSweep, Standing: Standing{Share: 0.99}},
		{Kind: WholeSweep, Standing: Standing{Share: 1, Beyond: 1}},
	} {
		assert.False(t, s.ReadAll(), "%+v", s)
	}
}
