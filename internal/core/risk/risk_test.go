package risk_test

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/risk"
	"hylostat.example/internal/core/signal"
	"hylostat.example/internal/core/trend"
)

func known(n float64) signal.Value { return signal.Value{Number: n, Available: true} }

// spinning is a disk of two and a half years that shows nothing.
func spinning() risk.Evidence {
	return risk.Evidence{
		Medium: drive.Spinning,
		Now:    signal.Set{signal.PowerOnHours: known(2.5 * 8760)},
		Trends: map[signal.Name]trend.Trend{},
	}
}

func of(t *testing.T, e risk.Evidence) risk.Chance {
	c, ok := risk.Of(e)
	require.True(t, ok)
	assert.LessOrEqual(t, c.Low, c.Year)
	assert.LessOrEqual(t, c.Year, c.High)
	hazard := c.Base
	for _, f := range c.Factors {
		assert.NotEmpty(t, f.Words)
		assert.NotEmpty(t, f.Source)
		hazard *= f.Ratio
	}
	assert.InDelta(t, 1-math.Exp(-hazard), c.Year, 1e-9, "the factors shown make the chance")
	return c
}

func TestADriveThatShowsNothingHasTheRateOfItsKindAndAge(t *testing.T) {
	for years, rate := range map[float64]float64{0.1: 0.03, 0.25: 0.02, 0.99: 0.02, 1: 0.08, 2: 0.09, 3: 0.06, 4: 0.07, 11: 0.07} {
		e := spinning()
		e.Now[signal.PowerOnHours] = known(years * 8760)
		c := of(t, e)
		assert.InDelta(t, rate, c.Base, 1e-9, "at %v years", years)
		assert.Empty(t, c.Factors)
	}
	e := spinning()
	e.Medium = drive.Flash
	assert.Less(t, of(t, e).Year, 0.02)
	_, ok := risk.Of(risk.Evidence{Medium: drive.Spinning})
	assert.False(t, ok, "of what nobody knows nothing is said")
}

func TestASignCountsItsPublishedRiskForSixtyDaysAndFades(t *testing.T) {
	fresh := spinning()
	fresh.Now[signal.Pending] = known(1)
	fresh.Trends[signal.Pending] = trend.Trend{Events: 1, Held: 1}
	c := of(t, fresh)
	require.Len(t, c.Factors, 1)
	// 16 for 60 of 365 days, 1 for the rest
	assert.InDelta(t, 1+15*(60.0/365)*(1-math.Exp(-365.0/60)), c.Factors[0].Ratio, 1e-6)
	assert.Equal(t, "FAST 2007, section 3.5", c.Factors[0].Source)
	before := math.Inf(1)
	for _, quiet := range []float64{0, 30, 180, 720, 3650} {
		e := fresh
		e.Trends = map[signal.Name]trend.Trend{signal.Pending: {Events: 1, Held: 1, SteadyDays: quiet}}
		year := of(t, e).Year
		assert.Less(t, year, before, "quiet for %v days", quiet)
		before = year
	}
	assert.InDelta(t, of(t, spinning()).Year, before, 0.001, "after ten years it says nothing")
}

func TestWhatIsFirstSeenIsOldUnlessItIsThereNow(t *testing.T) {
	first := func(n signal.Name) float64 {
		e := spinning()
		e.Now[n], e.Trends[n] = known(1), trend.Trend{Held: 1, Observations: 1}
		return of(t, e).Factors[0].Ratio
	}
	assert.InDelta(t, 1+15*(60.0/365)*(1-math.Exp(-365.0/60)), first(signal.Pending), 1e-6, "a sector that waits, waits today")
	assert.InDelta(
		t, 1+13*math.Exp(-120.0/365)*(60.0/365)*(1-math.Exp(-365.0/60)), first(signal.Reallocated), 1e-6,
		"one that was replaced was so at some time before",
	)
}

func TestMoreGrowthMoreSignsAndFailuresRaiseIt(t *testing.T) {
	one := spinning()
	one.Now[signal.Reallocated] = known(3)
	one.Trends[signal.Reallocated] = trend.Trend{Events: 1, Held: 3}
	least := of(t, one).Year
	assert.Greater(t, least, 2*of(t, spinning()).Year)
	for what, change := range map[string]func(*risk.Evidence){
		"more of it":         func(e *risk.Evidence) { e.Now[signal.Reallocated] = known(300) },
		"more was held once": func(e *risk.Evidence) { e.Trends[signal.Reallocated] = trend.Trend{Events: 1, Held: 300} },
		"it grows": func(e *risk.Evidence) {
			e.Trends[signal.Reallocated] = trend.Trend{Events: 2, Held: 3, Pace: 0.5, Grew: 2}
		},
		"another sign": func(e *risk.Evidence) {
			e.Now[signal.Pending] = known(3)
			e.Trends[signal.Pending] = trend.Trend{Events: 1}
		},
		"its alarm":          func(e *risk.Evidence) { e.Now[signal.Alarm] = known(1) },
		"a failed self-test": func(e *risk.Evidence) { e.Now[signal.TestsFailed], e.Now[signal.TestsPassedSince] = known(1), known(0) },
		"spin-up retries":    func(e *risk.Evidence) { e.Now[signal.SpinUpRetries] = known(2) },
	} {
		e := one
		e.Now, e.Trends = signal.Set{}, map[signal.Name]trend.Trend{}
		for n, v := range one.Now {
			e.Now[n] = v
		}
		for n, v := range one.Trends {
			e.Trends[n] = v
		}
		change(&e)
		assert.Greater(t, of(t, e).Year, least, what)
	}
	once := one
	once.Trends = map[signal.Name]trend.Trend{signal.Reallocated: {Events: 1, Held: 3, Pace: 0.5, Grew: 1}}
	assert.InDelta(t, least, of(t, once).Year, 1e-9, "the published risk is that of a first rise, however fast it was")
	one.Reworked = true
	assert.Less(t, of(t, one).Year, least, "what a mend has dealt with may be over")
	assert.Greater(t, of(t, one).Year, of(t, spinning()).Year, "or come again")
}

func TestAFreshProofLowersItOnlyForADriveWithoutSigns(t *testing.T) {
	e := spinning()
	plain := of(t, e).Year
	e.Now[signal.WholeSweepAge], e.Now[signal.UnreadableFound] = known(10), known(0)
	assert.Less(t, of(t, e).Year, plain)
	e.Now[signal.WholeSweepAge] = known(721)
	assert.InDelta(t, plain, of(t, e).Year, 1e-9, "an old proof is none")
	e.Now[signal.WholeSweepAge], e.Now[signal.Alarm] = known(10), known(1)
	flawed := of(t, e)
	require.Len(t, flawed.Factors, 1)
}

func TestAChanceIsSaidAsPeopleSayIt(t *testing.T) {
	assert.Equal(t, "about 1 in 6, between 1 in 9 and 1 in 4", risk.Chance{Year: 0.17, Low: 0.11, High: 0.25}.Words())
	assert.Equal(t, "about 1 in 35, between under 1 in 1\u00a0000 and 7 in 10", risk.Chance{Year: 0.029, Low: 0.0005, High: 0.7}.Words())
	assert.Equal(t, "nearly certain, at least 5 in 10", risk.Chance{Year: 0.96, Low: 0.5, High: 0.99}.Words())
}

// fates are drives told a chance, of which a share fails.
func fates(n int, said, seen float64) []risk.Fate {
	all := make([]risk.Fate, n)
	for i := range all {
		all[i] = risk.Fate{{Said: said, Failed: math.Mod(float64(i)*0.618034, 1) < seen}}
	}
	return all
}

func TestAShopsOwnOutcomesMoveItWhereThereAreEnough(t *testing.T) {
	few := fates(risk.FewestOutcomes-1, 0.3, 0.5)
	k, ok := risk.Calibrate(few)
	assert.False(t, ok)
	assert.Contains(t, risk.Words(k, few), "too few outcomes: published rates only. Known for a year or to their end: 39 drives")
	c := risk.Chance{Year: 0.3, Low: 0.2, High: 0.4}
	assert.Equal(t, c, k.Apply(c), "and nothing is moved")
	_, ok = risk.Calibrate(fates(500, 0.3, 0.01))
	assert.False(t, ok, "too few failures")
	_, ok = risk.Calibrate(fates(500, 0.3, 0.99))
	assert.False(t, ok, "too few that lived")

	many := append(fates(400, 0.1, 0.4), fates(400, 0.4, 0.8)...)
	k, ok = risk.Calibrate(many)
	require.True(t, ok)
	assert.Equal(t, 800, k.Outcomes)
	moved := k.Apply(risk.Chance{Year: 0.1, Low: 0.05, High: 0.2})
	assert.InDelta(t, 0.4, moved.Year, 0.05)
	assert.InDelta(t, 0.8, k.Apply(risk.Chance{Year: 0.4}).Year, 0.05)
	assert.Less(t, moved.Low, moved.Year)
	assert.Equal(t, 800, moved.Calibrated)
	assert.InDelta(t, 1.6522, k.Shift, 1e-3)
	assert.InDelta(t, -0.0632, k.Slope, 1e-3)
	assert.InDelta(t, 0.0080, k.Apply(risk.Chance{Year: 0}).Year, 1e-4, "nothing is impossible")
	assert.InDelta(t, 0.9997, k.Apply(risk.Chance{Year: 1}).Year, 1e-4, "nor certain")
	shy, ok := risk.Calibrate(fates(40, 0.02, 0.4))
	require.True(t, ok)
	bold, ok := risk.Calibrate(fates(4000, 0.02, 0.4))
	require.True(t, ok)
	assert.InDelta(t, 0.4, bold.Apply(risk.Chance{Year: 0.02}).Year, 0.01)
	assert.Less(t, shy.Apply(risk.Chance{Year: 0.02}).Year, 0.37, "few outcomes, 17 of 40 failed, move less than many")

	often := fates(400, 0.1, 0.4)
	often[0] = make(risk.Fate, 0, 1000)
	for range 1000 {
		often[0] = append(often[0], risk.Outcome{Said: 0.1, Failed: true})
	}
	one, ok := risk.Calibrate(often)
	require.True(t, ok)
	assert.InDelta(t, 0.4, one.Apply(risk.Chance{Year: 0.1}).Year, 0.03, "a drive counts once, however often it was asked about")
}

func TestReliabilityTellsWhatIsSaidAgainstWhatIsSeen(t *testing.T) {
	raw := risk.Reliability(fates(20, 0.15, 0.5)) // too few: as published
	assert.InDelta(t, 20, raw[1].Drives, 1e-9)
	assert.InDelta(t, 0.15, raw[1].Said, 1e-9)
	assert.InDelta(t, 10, raw[1].Failed, 1)
	for _, tenth := range risk.Reliability(append(fates(400, 0.1, 0.4), fates(400, 0.4, 0.8)...)) {
		if tenth.Drives > 20 {
			assert.InDelta(t, tenth.Failed/tenth.Drives, tenth.Said, 0.1, "calibrated")
		}
	}
	assert.InDelta(
		t, 1, risk.Reliability([]risk.Fate{{{Said: 1}, {Said: 0}}})[9].Drives*2, 1e-9,
		"a chance of 1 is in the last tenth, and the drive is shared out",
	)
}
