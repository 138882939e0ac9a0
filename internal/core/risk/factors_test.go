package risk_test

import (
	"math"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/risk"
	"hylostat.example/internal/core/signal"
	"hylostat.example/internal/core/trend"
)

// inYear is a relative risk of the 60 days after a sign, as one of the year, after so many quiet days.
func inYear(ratio, quiet float64) float64 {
	return 1 + (ratio-1)*math.Exp(-2*quiet/365)*(60.0/365)*(1-math.Exp(-365.0/60))
}

func TestEachSignHasThePublishedRisk(t *testing.T) {
	for medium, signs := range map[drive.Medium]map[signal.Name]float64{
		drive.Spinning: {
			signal.ScanFindings: 39, signal.UncorrectableOffline: 21, signal.Pending: 16, signal.Reallocated: 14,
			signal.GrownDefects: 14, signal.ReportedUncorrectable: 14, signal.UnreadableFound: 16,
		},
		drive.Flash: {
			signal.MediaErrors: 6, signal.ReportedUncorrectable: 6, signal.Reallocated: 4, signal.GrownDefects: 4,
			signal.ProgramFailures: 4, signal.EraseFailures: 6,
		},
	} {
		for _, d := range signal.Registry {
			ratio, is := signs[d.Name]
			if !is &&
				(d.Name == signal.Alarm || d.Name == signal.PercentageUsed || d.Name == signal.SpinUpRetries ||
					d.Name == signal.PowerOnHours ||
					strings.HasPrefix(string(d.Name), "tests_") ||
					d.Name == signal.AttributesFailing || d.Name == signal.SpareLow || d.Name == signal.ReliabilityDegraded ||
					d.Name == signal.ReadOnly || d.Name == signal.DamagedPages || strings.HasSuffix(string(d.Name), "_age")) {
				continue // the factors below
			}
			e := spinning()
			e.Medium, e.Now[d.Name], e.Trends[d.Name] = medium, known(1), trend.Trend{Events: 1, Held: 1, SteadyDays: 30}
			factors := of(t, e).Factors
			if !is {
				assert.Empty(t, factors, "%s of %s is no sign", d.Name, medium)
				continue
			}
			require.Len(t, factors, 1, d.Name)
			assert.InDelta(t, inYear(ratio, 30), factors[0].Ratio, 1e-9, "%s of %s", d.Name, medium)
			assert.Contains(t, factors[0].Words, ", moved 30 days ago")
		}
	}
}

func TestEachOfTheOtherFactorsHasItsSize(t *testing.T) {
	for name, row := range map[string]struct {
		now    map[signal.Name]float64
		trends map[signal.Name]trend.Trend
		ratio  float64 // 1: none
	}{
		"a failed test":              {now: map[signal.Name]float64{signal.TestsFailed: 1, signal.TestsPassedSince: 0}, ratio: 2.5},
		"one passed since":           {now: map[signal.Name]float64{signal.TestsFailed: 1, signal.TestsPassedSince: 1}, ratio: 1},
		"on mechanics":               {now: map[signal.Name]float64{signal.TestsFailedMechanics: 1}, ratio: 4},
		"on mechanics, passed since": {now: map[signal.Name]float64{signal.TestsFailedMechanics: 1, signal.TestsPassedSince: 1}, ratio: 1},
		"its alarm":                  {now: map[signal.Name]float64{signal.Alarm: 1}, ratio: 10},
		"a limit of its own":         {now: map[signal.Name]float64{signal.AttributesFailing: 1}, ratio: 6},
		"started twice":              {now: map[signal.Name]float64{signal.SpinUpRetries: 1}, ratio: 2},
		"once more": {
			now:    map[signal.Name]float64{signal.SpinUpRetries: 1},
			trends: map[signal.Name]trend.Trend{signal.SpinUpRetries: {Events: 1}},
			ratio:  3,
		},
		"more often": {
			now:    map[signal.Name]float64{signal.SpinUpRetries: 9},
			trends: map[signal.Name]trend.Trend{signal.SpinUpRetries: {Events: 7}},
			ratio:  9,
		},
		"damaged pages": {
			trends: map[signal.Name]trend.Trend{signal.DamagedPages: {Change: 1, HasBefore: true, Before: 1}}, ratio: 4,
		},
		"damaged once":             {trends: map[signal.Name]trend.Trend{signal.DamagedPages: {Change: 1, HasBefore: true}}, ratio: 1},
		"damaged from the first":   {trends: map[signal.Name]trend.Trend{signal.DamagedPages: {HasBefore: true, Before: 1}}, ratio: 1},
		"worn out":                 {now: map[signal.Name]float64{signal.PercentageUsed: 100}, ratio: 2.5},
		"nearly so":                {now: map[signal.Name]float64{signal.PercentageUsed: 99}, ratio: 1},
		"no spare":                 {now: map[signal.Name]float64{signal.SpareLow: 1}, ratio: 10},
		"not reliable":             {now: map[signal.Name]float64{signal.ReliabilityDegraded: 1}, ratio: 10},
		"read-only":                {now: map[signal.Name]float64{signal.ReadOnly: 1, signal.SpareLow: 1}, ratio: 10},
		"swept":                    {now: map[signal.Name]float64{signal.WholeSweepAge: 720, signal.UnreadableFound: 0}, ratio: 0.7},
		"swept long ago":           {now: map[signal.Name]float64{signal.WholeSweepAge: 721, signal.UnreadableFound: 0}, ratio: 1},
		"tested":                   {now: map[signal.Name]float64{signal.ExtendedTestAge: 720}, ratio: 0.8},
		"tested long ago":          {now: map[signal.Name]float64{signal.ExtendedTestAge: 721}, ratio: 1},
		"a flaw and a failed test": {now: map[signal.Name]float64{signal.Pending: 1, signal.TestsFailed: 1}, ratio: inYear(16, 0) * 1.3},
		"more of a flaw":           {now: map[signal.Name]float64{signal.Pending: 32}, ratio: inYear(16*4, 0)},
		"two signs": {
			now:   map[signal.Name]float64{signal.Pending: 1, signal.UncorrectableOffline: 1},
			ratio: inYear(21, 0) * math.Pow(inYear(16, 0), 0.25),
		},
		"held once, none now": {
			now:    map[signal.Name]float64{signal.Reallocated: 0},
			trends: map[signal.Name]trend.Trend{signal.Reallocated: {Held: 1}},
			ratio:  inYear(14, 60),
		},
		"growth": {
			now:    map[signal.Name]float64{signal.Pending: 1},
			trends: map[signal.Name]trend.Trend{signal.Pending: {Events: 2, Grew: 2, Pace: 3.0 / 60}}, ratio: inYear(16, 0) * 2,
		},
		"the fastest growth, and no more than six": {
			now: map[signal.Name]float64{signal.Pending: 1, signal.UncorrectableOffline: 1},
			trends: map[signal.Name]trend.Trend{
				signal.Pending: {Events: 2, Grew: 2, Pace: 3.0 / 60}, signal.UncorrectableOffline: {Events: 2, Grew: 2, Pace: 9},
			},
			ratio: inYear(21, 0) * math.Pow(inYear(16, 0), 0.25) * 6,
		},
		"growth that is none to speak of": {
			now:    map[signal.Name]float64{signal.Pending: 1},
			trends: map[signal.Name]trend.Trend{signal.Pending: {Events: 2, Grew: 2, Pace: 0.1 / 60}},
			ratio:  inYear(16, 0),
		},
	} {
		e := spinning()
		for n, x := range row.now {
			e.Now[n] = known(x)
		}
		for n, x := range row.trends {
			e.Trends[n] = x
		}
		c, all := of(t, e), 1.0
		for _, f := range c.Factors {
			all *= f.Ratio
		}
		assert.InDelta(t, row.ratio, all, 1e-9, name)
		// Four in five, by the uncertainty of the base and of each factor.
		variance := 0.16
		for _, f := range c.Factors {
			variance += math.Pow(0.35*math.Log(f.Ratio), 2)
		}
		reach := math.Exp(1.2816 * math.Sqrt(variance))
		assert.InDelta(t, 1-math.Exp(-c.Base*all*reach), c.High, 1e-9, name)
		assert.InDelta(t, 1-math.Exp(-c.Base*all/reach), c.Low, 1e-9, name)
		year, ok := risk.Year(e)
		assert.True(t, ok)
		assert.InDelta(t, c.Year, year.Year, 1e-12, "%s: with words or without", name)
	}
}

func TestAReworkMakesASignHalfOfIt(t *testing.T) {
	e := spinning()
	e.Now[signal.Pending], e.Reworked = known(1), true
	e.Now[signal.WholeSweepAge], e.Now[signal.ExtendedTestAge], e.Now[signal.TestsFailed] = known(1), known(1), known(1)
	c := of(t, e)
	require.Len(t, c.Factors, 1, "its proofs and failed tests are those before it, or its reason")
	assert.InDelta(t, math.Sqrt(inYear(16, 0)), c.Factors[0].Ratio, 1e-9)
	assert.Contains(t, c.Factors[0].Words, "; reworked since")
	e.Trends[signal.Pending] = trend.Trend{Events: 2, Grew: 2, Pace: 3.0 / 60}
	c = of(t, e)
	assert.InDelta(t, math.Sqrt(2), c.Factors[1].Ratio, 1e-9, "and of its growth")
	e.Since = map[signal.Name]float64{signal.Pending: 1}
	c = of(t, e)
	assert.InDelta(t, inYear(16, 0), c.Factors[0].Ratio, 1e-9, "what came since counts whole")
	assert.InDelta(t, 2, c.Factors[1].Ratio, 1e-9)
	assert.NotContains(t, c.Factors[0].Words, "reworked")
	assert.Equal(t, "pending sectors: 1", c.Factors[0].Sign)
}

func TestChancesInWords(t *testing.T) {
	for p, want := range map[float64]string{
		0.95: "nearly certain", 0.949: "9 in 10", 0.451: "5 in 10", 0.45: "1 in 2", 0.05: "1 in 20", 0.048: "1 in 20", 0.04: "1 in 25",
		0.00101: "1 in 990", 0.001: "under 1 in 1\u00a0000",
	} {
		assert.Equal(t, "about 1 in 2, between "+want+" and 1 in 2", risk.Chance{Year: 0.5 - 0.05, Low: p, High: 0.45}.Words(), p)
	}
	assert.Equal(t, "nearly certain, at least 1 in 5", risk.Chance{Year: 0.95, Low: 0.2}.Words())
	assert.Equal(t, "by 2 outcomes, 1 of them failures: what published rates call 1 in 10 is 1 in 4 here",
		risk.Words(risk.Calibration{Shift: 1.0986, Outcomes: 2}, []risk.Fate{{{Said: 0.1}}, {{Said: 0.1, Failed: true}}}))
	few := risk.Words(risk.Calibration{}, []risk.Fate{{{Said: 0.1}}, {}})
	assert.Contains(t, few, "Known for a year or to their end: 1 drive, 0 failed; it takes 40, 10 of each")
}
