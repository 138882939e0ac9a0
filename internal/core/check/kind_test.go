package check

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"hylostat.example/internal/core/ata"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/reading"
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
		Short: {ShortTest}, Long: {ExtendedTest}, Spot: {SpotSweep}, Whole: {WholeSweep}, Mend: {Mending}, Renew: {Renewing},
		Overwrite: {Overwriting, Verifying},
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

// One reckoning for what is told before a check, at its start and in the lists: a drive's own words, its last sweep, else what its kind
// does.
func TestHowLongChecksTake(t *testing.T) {
	const terabytes = 1_000_000_000_000
	platter, flash := Pace{Bytes: 4 * terabytes, Rotates: true}, Pace{Bytes: terabytes}
	own := PaceOf(
		drive.Identity{Bytes: 4 * terabytes, RotationRate: 7200},
		reading.Capabilities{ShortPoll: time.Minute, ExtendedPoll: 7*time.Hour + 30*time.Minute},
	)
	swept := platter
	swept.Rate = 100e6
	for name, row := range map[string]struct {
		pace Pace
		kind Kind
		want time.Duration
	}{
		"of nothing known":             {Pace{}, Quick, 10*time.Second + 2*time.Minute + 4*time.Second},
		"a quick check of a platter":   {platter, Quick, 10*time.Second + 2*time.Minute + 26*time.Second},
		"as the drive says":            {own, Quick, 10*time.Second + time.Minute + 26*time.Second},
		"extended, as the drive says":  {own, Extended, 10*time.Second + 7*time.Hour + 30*time.Minute + 30_769*time.Second},
		"extended, where it says none": {platter, Extended, 10*time.Second + 2*30_769*time.Second},
		"1 TB of flash":                {flash, Whole, 10*time.Second + 2_000*time.Second},
		"swept at 100 MB/s before":     {swept, Whole, 10*time.Second + 40_000*time.Second},
		"written back":                 {swept, Renew, 10*time.Second + 100_000*time.Second},
		"written, and read back":       {swept, Overwrite, 10*time.Second + 80_000*time.Second},
		"a mend":                       {swept, Mend, 10*time.Second + time.Minute},
		"a conveyance self-test":       {own, Conveyance, 10*time.Second + 2*time.Minute},
	} {
		assert.Equal(t, row.want, row.pace.Takes(row.kind), name)
	}
	for _, sector := range []uint32{512, 4096} {
		own.Sector = sector
		half := ata.Span{First: 0, Last: 2*terabytes/uint64(sector) - 1}
		assert.Equal(t, 10*time.Second+3*time.Hour+45*time.Minute, own.Takes(Selective, half))
	}

	r := New(Whole, drive.Bay{Number: 1}, key, "Dov", now, Limit{Share: 10})
	r.Expect(swept)
	assert.Equal(t, 10*time.Second+400_000*time.Second, r.Left(), "with a tenth of the drive's time")
	r, _ = Next(r, Begin{}, now)
	r, _ = Next(r, ReadingTaken{Pace: platter, Sweep: &Standing{Geometry: geometryOf(7200)}}, now)
	assert.Equal(t, 5*time.Second+400_000*time.Second, r.Left(), "what the shop knew is not forgotten")
}

func TestHowMuchOfARunIsDone(t *testing.T) {
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
