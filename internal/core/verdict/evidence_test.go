package verdict

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/signal"
	"hylostat.example/internal/core/trend"
)

func TestMarginsAreTightestFirstAndEachSignalsOnce(t *testing.T) {
	e := sound()
	e.set(signal.Temperature, 52)
	e.set(signal.Reallocated, 30)
	e.Now[signal.Pending] = signal.Value{Reason: "it is not counted"}
	margins := Margins(shipped(t), e.Identity, e.Duty, e.Now)
	names := map[signal.Name]Margin{}
	for i, m := range margins {
		_, twice := names[m.Signal]
		assert.False(t, twice, m.Signal)
		names[m.Signal] = m.Margin
		if i > 0 {
			assert.LessOrEqual(t, m.Margin.Share(), margins[i-1].Margin.Share())
		}
	}
	assert.Equal(t, Margin{Used: 7, Of: 15, Words: "8 °C left"}, names[signal.Temperature], "counted from 45")
	assert.Equal(t, Margin{Used: 30, Of: 100, Words: "30 of 100 used"}, names[signal.Reallocated])
	assert.Equal(t, signal.Temperature, margins[0].Signal)
	assert.NotContains(t, names, signal.Pending, "what is not known has no margin")
	assert.NotContains(t, names, signal.PercentageUsed, "platters do not wear so")
	for celsius, want := range map[float64]Margin{44: {0, 15, "16 °C left"}, 60: {15, 15, "0 °C left"}, 71: {26, 15, "0 °C left"}} {
		e.set(signal.Temperature, celsius)
		all := Margins(shipped(t), e.Identity, e.Duty, e.Now)
		at := slices.IndexFunc(all, func(m SignalMargin) bool { return m.Signal == signal.Temperature })
		assert.Equal(t, want, all[at].Margin)
		assert.LessOrEqual(t, all[at].Margin.Share(), 1.0)
	}
	assert.InDelta(t, 1, Margin{Used: 0, Of: 0}.Share(), 0, "nothing is allowed, so nothing is left")
}

func TestAFindingSaysHowItsCounterCameToBe(t *testing.T) {
	for says, x := range map[string]trend.Trend{
		"reallocated sectors: 0 at 18\u00a0000 h, first seen at 18\u00a0400 h, reading 4": {
			Observations: 5,
			Last:         trend.Point{Value: 3},
			Onset:        &trend.Onset{Before: trend.Point{Hours: 18_000}, First: trend.Point{Seq: 4, Hours: 18_400}},
		},
		"reallocated sectors: +2 since reading 1": {
			Observations: 5,
			Change:       2,
			First:        trend.Point{Seq: 1},
			Last:         trend.Point{Value: 3},
			Onset:        &trend.Onset{First: trend.Point{Hours: -1}},
		},
		"reallocated sectors: unchanged since reading 1": {
			Observations: 2,
			First:        trend.Point{Seq: 1},
			Last:         trend.Point{Value: 3},
		},
		"": {Observations: 1, Last: trend.Point{Value: 3}},
	} {
		e := sound()
		e.set(signal.Reallocated, 3)
		x.Unexplained = 3
		e.Trends[signal.Reallocated] = x
		v := Decide(shipped(t), e)
		require.NotEmpty(t, v.Findings)
		assert.Equal(t, says, v.Findings[0].Detail)
	}
}

func TestAdviceFitsTheGrade(t *testing.T) {
	e := sound()
	assert.Equal(
		t, []string{"Nothing to do. If the trouble goes on, look at the system, the cable or the file system."},
		Decide(shipped(t), e).Advice,
	)
	e.Now[signal.ShortTestAge], e.Now[signal.ExtendedTestAge] = signal.Value{Reason: "none was run"}, signal.Value{Reason: "none was run"}
	e.Duty = drive.Continuous
	v := Decide(shipped(t), e)
	assert.Equal(t, drive.Undecided, v.Grade)
	for _, m := range v.Missing {
		assert.Contains(t, v.Advice, "Run: "+m.Run+".")
	}
	assert.Len(t, slices.Compact(slices.Sorted(slices.Values(v.Advice))), len(v.Advice), "nothing is advised twice")

	hot := sound()
	hot.set(signal.Temperature, 63)
	cooler := Decide(shipped(t), hot).Advice
	hot.set(signal.Alarm, 1)
	v = Decide(shipped(t), hot)
	assert.Equal(t, drive.Replace, v.Grade)
	assert.NotContains(t, v.Advice, cooler[len(cooler)-1], "nobody cools a drive that is to be replaced")
}

// What is known of an earlier moment is what was known then.
func TestEvidenceOfThePastDoesNotKnowWhatCame(t *testing.T) {
	eight := map[signal.Name]float64{signal.Pending: 8}
	moved := map[signal.Name]float64{signal.Reallocated: 8}
	eight[signal.CRCErrors] = 1 // at this moment and the last one alone
	life := []Moment{
		day(1, 0, nil),
		day(2, 10, eight),
		day(3, 11, moved),
		day(4, 20, moved),
		day(5, 30, map[signal.Name]float64{signal.Reallocated: 8, signal.CRCErrors: 4}),
	}
	w := Rework{
		Run:   7,
		Ended: life[1].At.Add(1),
		Held:  life[3].At,
		Swept: []SweptThen{{life[4].At, 2}},
	} // before its reading was told: by its end
	l := NewLife(life, []Rework{w})
	at := func(i int) Evidence { return l.Evidence(drive.Identity{}, drive.Everyday, nil, i) }
	assert.Zero(t, at(-1).ReadingSeq)
	assert.Zero(t, at(5).ReadingSeq, "there is no sixth")
	assert.Nil(t, at(1).Reworked, "it was not yet mended")
	require.NotNil(t, at(2).Reworked)
	assert.False(t, at(2).Reworked.Held)
	assert.True(t, at(3).Reworked.Held)
	assert.Zero(t, at(3).Reworked.Since[signal.UnreadableFound], "the sweep that found two was later")
	assert.EqualValues(t, 2, at(4).Reworked.Since[signal.UnreadableFound])
	assert.Zero(t, at(4).Trends[signal.Reallocated].Unexplained, "the mend explains it")
	assert.Equal(t, 3, at(2).Readings)
	assert.Equal(t, 1, at(0).Trends[signal.Reallocated].Observations)

	assert.NotContains(t, at(0).Trends, signal.CRCErrors)
	assert.Equal(t, 1, at(3).Trends[signal.CRCErrors].Observations)
	assert.EqualValues(t, 3, at(4).Trends[signal.CRCErrors].Change)

	again := Rework{Run: 9, Ended: life[3].At, After: 5}
	later := NewLife(life, []Rework{again, w})
	assert.EqualValues(t, 7, later.Evidence(drive.Identity{}, drive.Everyday, nil, 3).Reworked.Run)
	assert.EqualValues(
		t, 9, later.Evidence(drive.Identity{}, drive.Everyday, nil, 4).Reworked.Run,
		"the latest counts, in whatever order they come",
	)
}
