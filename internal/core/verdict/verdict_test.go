package verdict

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/policy"
	"hylostat.example/internal/core/signal"
	"hylostat.example/internal/core/trend"
)

func shipped(t *testing.T) *policy.Policy {
	t.Helper()
	p, err := policy.Parse(policy.Default)
	require.NoError(t, err)
	return p
}

// sound is a spinning drive with all the evidence for everyday use.
func sound() Evidence {
	e := Evidence{Identity: drive.Identity{Interface: drive.ATA, Medium: drive.Spinning, FormFactor: "3.5 inch"}, Duty: drive.Everyday, Readings: 3, ReadingSeq: 3, Now: signal.Set{}, Trends: map[signal.Name]trend.Trend{}}
	for _, d := range signal.Registry {
		e.Now[d.Name] = signal.Value{Available: true}
		e.Trends[d.Name] = trend.Trend{Observations: 3}
	}
	e.set(signal.Temperature, 39)
	e.set(signal.PowerOnHours, 9_000)
	e.set(signal.ShortTestAge, 1)
	e.set(signal.ExtendedTestAge, 100)
	return e
}

func (e *Evidence) set(n signal.Name, x float64) { e.Now[n] = signal.Value{Number: x, Available: true} }

func TestHealthyIsEarned(t *testing.T) {
	p := shipped(t)
	v := Decide(p, sound())
	assert.Equal(t, drive.Healthy, v.Grade)
	assert.Empty(t, v.Findings)
	for name, take := range map[string]func(*Evidence){
		"one reading only":     func(e *Evidence) { e.Readings = 1 },
		"no alarm to ask":      func(e *Evidence) { e.Now[signal.Alarm] = signal.Missing("not passed") },
		"no self-test":         func(e *Evidence) { e.Now[signal.ShortTestAge] = signal.Missing("none") },
		"an old extended test": func(e *Evidence) { e.set(signal.ExtendedTestAge, 721) },
		"meant to run for years": func(e *Evidence) {
			e.Duty, e.Now[signal.WholeSweepAge] = drive.Continuous, signal.Missing("no sweep of it has been made")
		},
	} {
		e := sound()
		take(&e)
		v := Decide(p, e)
		assert.Equal(t, drive.Undecided, v.Grade, name)
		assert.NotEmpty(t, v.Missing, name)
		assert.Contains(t, v.Advice[len(v.Advice)-1], "Run: ", name)
	}
}

func TestReplaceNeedsOneSufficientReason(t *testing.T) {
	p := shipped(t)
	for name, spoil := range map[string]func(*Evidence){
		"own alarm":         func(e *Evidence) { e.set(signal.Alarm, 1) },
		"own limit":         func(e *Evidence) { e.set(signal.AttributesFailing, 1) },
		"a hundred sectors": func(e *Evidence) { e.set(signal.Reallocated, 100) },
		"growth": func(e *Evidence) {
			e.set(signal.Pending, 3)
			e.Trends[signal.Pending] = trend.Trend{Grew: 2, Observations: 4}
		},
		"ten for continuous": func(e *Evidence) { e.set(signal.Reallocated, 10); e.Duty = drive.Continuous },
	} {
		e := sound()
		e.Readings, e.Now[signal.ShortTestAge] = 1, signal.Missing("none") // missing evidence does not save it
		spoil(&e)
		v := Decide(p, e)
		assert.Equal(t, drive.Replace, v.Grade, name)
		assert.Equal(t, policy.Replace, v.Findings[0].Effect, "%s: the worst comes first", name)
		for _, f := range v.Duties {
			if f.Duty == e.Duty {
				assert.Equal(t, policy.Not, f.Fitness, name)
			}
		}
	}
}

func TestDegradingSaysForWhatItStillDoes(t *testing.T) {
	e := sound()
	e.set(signal.Reallocated, 3)
	e.Trends[signal.Reallocated] = trend.Trend{Observations: 9, SteadyHours: 2110, Last: trend.Point{Hours: 20512}}
	v := Decide(shipped(t), e)
	assert.Equal(t, drive.Degrading, v.Grade)
	assert.Equal(t, "3 sectors reallocated, steady since 18\u00a0402 h", v.Findings[0].Sentence)
	assert.Equal(t, "3 of 100 used", v.Findings[0].Margin.Words)
	assert.Equal(t, []Fit{
		{drive.Continuous, policy.Not, "continuous"},
		{drive.Archive, policy.Not, "archive"},
		{drive.Everyday, policy.Care, "everyday, with a second copy"},
		{drive.Carry, policy.Does, "carry"},
	}, v.Duties)
}

func TestALinkIsNotTheDriveAndAPackedRateIsNoFinding(t *testing.T) {
	e := sound()
	e.set(signal.CRCErrors, 40)
	e.Trends[signal.CRCErrors] = trend.Trend{Grew: 3, Observations: 9}
	v := Decide(shipped(t), e)
	assert.Equal(t, drive.Healthy, v.Grade)
	require.Len(t, v.Notes, 1)
	assert.Contains(t, v.Advice[0], "change the cable")
}

func TestWhatCannotBeJudgedIsSaidWithItsReason(t *testing.T) {
	e := sound()
	e.Now[signal.EndToEndErrors] = signal.Missing("the drive has no attribute 184")
	v := Decide(shipped(t), e)
	require.Len(t, v.Unjudged, 1)
	assert.Equal(t, Unjudged{"end-to-end", "end-to-end errors", "the drive has no attribute 184"}, v.Unjudged[0])
}

func TestAFallenCounterIsNeverHidden(t *testing.T) {
	e := sound()
	e.Trends[signal.PowerOnHours] = trend.Trend{FellBy: 8000, Observations: 3}
	v := Decide(shipped(t), e)
	require.Len(t, v.Notes, 1)
	assert.Equal(t, "rollback", v.Notes[0].Rule)
}

func TestNumbersAreWrittenWithTheirThousandsApart(t *testing.T) {
	for x, want := range map[float64]string{0: "0", 999: "999", 1000: "1\u00a0000", 20512: "20\u00a0512", -1234567: "-1\u00a0234\u00a0567", 41.26: "41.3", 1999.97: "2\u00a0000"} {
		assert.Equal(t, want, Number(x))
	}
}

func TestQuantitiesHaveTheirUnits(t *testing.T) {
	assert.Equal(t, "18.4 TB", Quantity(18.42e12, "B"))
	assert.Equal(t, "512 B", Quantity(512, "B"))
	assert.Equal(t, "20\u00a0512 h", Quantity(20512, "h"))
	assert.Equal(t, "3", Quantity(3, ""))
}
