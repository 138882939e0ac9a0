package verdict

import (
	"bytes"
	"maps"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/policy"
	"hylostat.example/internal/core/signal"
	"hylostat.example/internal/core/trend"
)

var once = sync.OnceValues(func() (*policy.Policy, error) { return policy.Parse(policy.Default) })

func shipped(t *testing.T) *policy.Policy {
	t.Helper()
	p, err := once()
	require.NoError(t, err)
	return p
}

// sound is a spinning drive with all the evidence for everyday use.
func sound() Evidence {
	e := Evidence{
		Identity:   drive.Identity{Interface: drive.ATA, Medium: drive.Spinning, FormFactor: "3.5 inch"},
		Duty:       drive.Everyday,
		Readings:   3,
		ReadingSeq: 3,
		Now:        signal.Set{},
		Trends:     map[signal.Name]trend.Trend{},
	}
	for _, d := range signal.Registry {
		if d.Name == signal.CapacityShown || d.Name == signal.CapacityLabel { // where they are, something differs
			continue
		}
		e.Now[d.Name] = signal.Value{Available: true}
		e.Trends[d.Name] = trend.Trend{Observations: 3}
	}
	e.set(signal.Temperature, 39)
	e.set(signal.PowerOnHours, 9_000)
	e.set(signal.ShortTestAge, 1)
	e.set(signal.ExtendedTestAge, 100)
	return e
}

func (e *Evidence) set(n signal.Name, x float64) {
	e.Now[n] = signal.Value{Number: x, Available: true}
	e.Trends[n] = trend.Trend{Observations: 3, Unexplained: x}
}

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
			e.Trends[signal.Pending] = trend.Trend{Grew: 2, Pace: 0.1, Observations: 4}
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
	e.Trends[signal.Reallocated] = trend.Trend{Observations: 9, Unexplained: 3, SteadyHours: 2110, Last: trend.Point{Hours: 20512}}
	v := Decide(shipped(t), e)
	assert.Equal(t, drive.Degrading, v.Grade)
	assert.Equal(t, "3 reallocated sectors, steady since 18\u00a0402 h", v.Findings[0].Sentence)
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

func TestARuleIsListedWithoutAnyDrivesValues(t *testing.T) {
	p := shipped(t)
	assert.Equal(t, "n sectors reallocated", InWords(p, "{reallocated} reallocated{steady}"))
	assert.Equal(t, "A self-test failed again", InWords(p, "A self-test failed again{lba}"))
	assert.Equal(t, "Hotter than the 60 °C it may reach", InWords(p, "Hotter than the {limit.heat} it may reach"))
}

// day makes a moment of a spinning drive that has all the evidence.
func day(seq int, days float64, signals map[signal.Name]float64) Moment {
	numbers := map[signal.Name]float64{
		signal.PowerOnHours:    9_000 + days*8,
		signal.Reallocated:     0,
		signal.Pending:         0,
		signal.UnreadableFound: 0,
		signal.TestsFailed:     0,
	}
	maps.Copy(numbers, signals)
	return Moment{
		Seq:     seq,
		At:      time.Date(2026, 9, 1, 8, 0, 0, 0, time.UTC).Add(time.Duration(days * 24 * float64(time.Hour))),
		Signals: values(numbers),
	}
}

func values(numbers map[signal.Name]float64) signal.Values {
	set := signal.Set{}
	for name, x := range numbers {
		set[name] = signal.Value{Number: x, Available: true}
	}
	return signal.ValuesOf(set)
}

// at judges a life as it is known at its last moment.
func at(t *testing.T, moments []Moment, reworks ...Rework) Verdict {
	t.Helper()
	e := sound()
	for d, v := range moments[len(moments)-1].Signals.All() {
		e.Now[d.Name] = signal.Value{Number: v, Available: true}
	}
	known := NewLife(moments, reworks).Evidence(e.Identity, e.Duty, e.Now, len(moments)-1)
	return Decide(shipped(t), known)
}

func TestAMendThatWorkedIsNoGrowthAndHasToHold(t *testing.T) {
	found := map[signal.Name]float64{signal.Pending: 8, signal.UnreadableFound: 8}
	mended := map[signal.Name]float64{signal.Reallocated: 8}
	unswept := map[signal.Name]float64{signal.Reallocated: 8, signal.UnreadableFound: 8} // no sweep has been made since
	life := []Moment{day(1, 0, nil), day(2, 30, found), day(3, 30.1, unswept)}
	w := Rework{Run: 7, Ended: life[2].At, After: 3}
	assert.Equal(t, drive.Degrading, at(t, life[:2]).Grade)
	v := at(t, life, w)
	assert.Equal(t, drive.Degrading, v.Grade)
	assert.Equal(t, "Reworked, and not swept on a later day", v.Findings[0].Sentence)
	require.Len(t, v.Findings, 2, "what the mend had reallocated is no finding, nor the growth before it")
	assert.Equal(t, "8 sectors unreadable, found by a sweep", v.Findings[1].Sentence, "the surface is to be swept anew")
	require.Contains(
		t, v.Missing,
		Missing{"rework-held", "a whole sweep on a later day than the rework, to know whether it held", "whole sweep", 240},
	)

	life = append(life, day(4, 40, mended))
	w.Held = life[3].At
	v = at(t, life, w)
	assert.Equal(t, drive.Healthy, v.Grade)
	require.Len(t, v.Notes, 1)
	assert.Equal(t, "8 reallocated sectors, some or all of them by a rework", v.Notes[0].Sentence)

	for name, again := range map[string]map[signal.Name]float64{
		"waiting again":       {signal.Reallocated: 8, signal.Pending: 1},
		"more reallocated":    {signal.Reallocated: 9},
		"a test failed again": {signal.Reallocated: 8, signal.TestsFailed: 1},
	} {
		v = at(t, append(life[:4:4], day(5, 50, again)), w)
		assert.Equal(t, drive.Replace, v.Grade, name)
	}
	w.Swept = []SweptThen{{life[3].At, 1}}
	assert.Equal(t, "bad-again", at(t, life, w).Findings[0].Rule, "a sweep after it found one")
}

// A drive away for months that is read twice on its return shows two rises; only what is sure to be fast is a reason to replace.
func TestGrowthCondemnsWhenItIsFastBeyondChance(t *testing.T) {
	seen := func(counts ...float64) Verdict {
		days := []float64{0, 240, 242}
		var life []Moment
		for i, n := range counts {
			life = append(life, day(i+1, days[i], map[signal.Name]float64{signal.Reallocated: n}))
		}
		return at(t, life)
	}
	assert.Equal(t, drive.Degrading, seen(0, 2, 3).Grade)
	grown := seen(0, 2, 10)
	assert.Equal(t, drive.Replace, grown.Grade)
	assert.Equal(
		t,
		"reallocated sectors: 0 at 9\u00a0000 h, first seen at 10\u00a0920 h, reading 2; 24.6 events or more in 60 days, with 99 "+
			"% confidence",
		grown.Findings[0].Detail,
	)
	assert.Equal(t, drive.Replace, seen(0, 0, 8).Grade, "one rise is enough when it is fast")
	assert.Equal(t, drive.Degrading, seen(0, 8, 8).Grade, "eight in the time of eight months are not")
	assert.Equal(t, drive.Replace, seen(0, 68, 68).Grade, "one that is large is, whenever it came")
	assert.Equal(t, drive.Degrading, seen(0, 0, 1).Grade)
}

func TestACourseIsToldInSentences(t *testing.T) {
	course := func(name signal.Name, limit *float64, m Marks, values ...float64) (Course, []string) {
		var life []Moment
		for i, x := range values {
			life = append(life, day(i+1, float64(10*i), map[signal.Name]float64{name: x}))
		}
		c, ok := NewLife(life, nil).Course(name, limit, m)
		require.True(t, ok)
		d, _ := signal.Lookup(name)
		return c, c.Words(d)
	}
	_, words := course(signal.Reallocated, nil, Marks{}, 8)
	assert.Equal(t, []string{"One reading so far: 8 sectors."}, words)
	_, words = course(signal.Reallocated, nil, Marks{}, 1, 1, 1)
	assert.Equal(t, []string{"1 sector in all 3 readings."}, words)
	marks := Marks{Intake: day(3, 25, nil).At, Check: day(4, 35, nil).At}
	c, words := course(signal.Reallocated, nil, marks, 0, 0, 0, 3, 9)
	assert.Equal(t, []string{
		"Still 0 at 9\u00a0160 h, reading 3; 3 sectors at 9\u00a0240 h, reading 4.",
		"It rose in 2 of the last 3 intervals of a day or more: 5.5 events or more in 60 days, with 99 % confidence.",
		"Last moved from 3 sectors to 9 sectors, between reading 4 and 5.",
	}, words)
	assert.EqualValues(t, 9, *c.SinceIntake)
	assert.EqualValues(t, 6, *c.SinceCheck)
	_, words = course(signal.Reallocated, nil, Marks{}, 9, 9, 4, 4)
	assert.Contains(t, words, "It fell by 5 sectors, and it can only grow.")

	limit := 100.0
	c, words = course(signal.PercentageUsed, &limit, Marks{}, 88, 89, 90, 91, 92, 93, 94, 95, 96)
	require.NotNil(t, c.Forecast)
	assert.Zero(t, c.Pace, "a share comes by use, not by chance")
	assert.NotContains(t, strings.Join(words, " "), "confidence")
	assert.Regexp(t, `It rises steadily, by 12.\d to 12.\d % in 1\x{a0}000 h\.`, strings.Join(words, " "))
	assert.InDelta(t, 9_000+12*80, c.Forecast.From, 1, "four more steps of 80 h")
	assert.InDelta(t, 9_000+12*80, c.Forecast.To, 1)
	_, words = course(signal.PercentageUsed, &limit, Marks{}, 10, 11, 12, 13, 14, 15, 16, 17, 18)
	assert.NotContains(t, strings.Join(words, " "), "Going on like this", "nobody looks ten times as far ahead as back")
}

// A reading in which nothing has moved takes nothing to a worse grade, whatever came before it.
func TestACleanReadingNeverMakesAGradeWorse(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		var life []Moment
		days := 0.0
		now := map[signal.Name]float64{}
		for i := range rapid.IntRange(1, 8).Draw(r, "readings") {
			for _, n := range []signal.Name{signal.Reallocated, signal.Pending, signal.CRCErrors, signal.SpinUpRetries} {
				now[n] += rapid.SampledFrom([]float64{0, 0, 0, 0, 1, 30}).Draw(r, string(n))
			}
			life = append(life, day(i+1, days, now))
			days += rapid.SampledFrom([]float64{0.01, 0.5, 1, 7}).Draw(r, "days")
		}
		before := at(t, life)
		after := at(t, append(life, day(len(life)+1, days, now)))
		if after.Grade > max(before.Grade, drive.Healthy) { // undecided and healthy are both no reproach
			r.Fatalf("%v after %v", after.Grade, before.Grade)
		}
	})
}

func TestContradictingClocksAreNeverHidden(t *testing.T) {
	e := sound()
	e.Contradictions = []trend.Contradiction{{Seq: 3, Says: "the self-test log is of hour 20500, attribute 9 says 12 h"}}
	v := Decide(shipped(t), e)
	require.Len(t, v.Notes, 1)
	assert.Contains(t, v.Notes[0].Sentence, "contradicts itself (reading 3: the self-test log is of hour 20500, attribute 9 says 12 h)")
}

func TestAWornOutDriveIsNoArchive(t *testing.T) {
	e := sound()
	e.Identity.Medium, e.Identity.Interface = drive.Flash, drive.NVMe
	e.set(signal.SpareMargin, 90)
	e.set(signal.PercentageUsed, 103)
	for _, f := range Decide(shipped(t), e).Duties {
		if f.Duty == drive.Archive || f.Duty == drive.Continuous {
			assert.Equal(t, policy.Not, f.Fitness, f.Duty)
		}
	}
}

func TestAFindingSaysWhereItsValuesAreFrom(t *testing.T) {
	e := sound()
	e.Now[signal.UnreadableFound] = signal.Value{Number: 3, Available: true, Source: "whole sweep, run 12", Run: 12}
	e.Now[signal.Pending] = signal.Value{
		Number:    2,
		Available: true,
		Source:    "SMART data, attribute 197",
		Page:      "ata/attributes",
		Offset:    55,
		Length:    6,
	}
	var rests []Rest
	for _, f := range Decide(shipped(t), e).Findings {
		rests = append(rests, f.Rests...)
	}
	assert.ElementsMatch(t, []Rest{
		{Signal: signal.UnreadableFound, Value: 3, Source: "whole sweep, run 12", Run: 12},
		{Signal: signal.Pending, Value: 2, Source: "SMART data, attribute 197", Page: "ata/attributes", Offset: 55, Length: 6},
	}, rests)
}

// The judge of replays is quick by leaving out what does not decide; its grade is Decide's.
func TestTheQuickJudgeAgrees(t *testing.T) {
	p := shipped(t)
	draft, err := policy.Parse(
		bytes.ReplaceAll(policy.Default, []byte("unexplained.reallocated > 0.0"), []byte("unexplained.reallocated > 20.0")),
	)
	require.NoError(t, err)
	replay := NewReplay(p, draft)
	differ := 0
	rapid.Check(t, func(r *rapid.T) {
		var life []Moment
		now := map[signal.Name]float64{signal.ShortTestAge: 1, signal.ExtendedTestAge: 2, signal.Alarm: 0, signal.Temperature: 40}
		for i := range rapid.IntRange(1, 6).Draw(r, "readings") {
			for _, n := range []signal.Name{signal.Reallocated, signal.Pending, signal.SpinUpRetries, signal.AttributesFailing} {
				now[n] += rapid.SampledFrom([]float64{0, 0, 0, 0, 0, 0, 1, 30}).Draw(r, string(n))
			}
			life = append(life, day(i+1, float64(i*9), now))
		}
		l, id := NewLife(life, nil), sound().Identity
		got, err := replay.Over(l, id, drive.Everyday, nil)
		require.NoError(r, err)
		set := signal.Set{}
		replaced := false
		for i := range life {
			life[i].Signals.Into(set)
			e := l.Evidence(id, drive.Everyday, set, i)
			was, would := grade(p, e, Facts(e), ask(p)).Grade, grade(draft, e, Facts(e), ask(draft)).Grade
			replaced = replaced || was == drive.Replace
			wants := len(got.Differs) > 0 &&
				slices.ContainsFunc(
					got.Differs, func(d Differs) bool { return d.Reading <= i+1 && d.Was.Grade == was && d.Would.Grade == would },
				)
			if was != would {
				differ++
				assert.True(r, wants, "reading %d: %v and %v, replayed %+v", i+1, was, would, got.Differs)
			}
		}
		assert.Equal(r, !got.Was.Replace.IsZero(), replaced)
	})
	assert.Positive(t, differ, "the draft is another one")
}

func TestAPolicyIsScoredByWhatBecameOfDrives(t *testing.T) {
	at := time.Date(2026, 9, 1, 0, 0, 0, 0, time.UTC)
	var s Score
	s.Count(Alarms{Replace: at}, Outcome{true, at.Add(240 * time.Hour)})
	s.Count(Alarms{Replace: at}, Outcome{true, at.Add(24 * time.Hour)})
	s.Count(Alarms{Degrading: at}, Outcome{true, at.Add(24 * time.Hour)})
	s.Count(Alarms{Replace: at.Add(48 * time.Hour)}, Outcome{true, at.Add(24 * time.Hour)}) // after the event
	s.Count(Alarms{Replace: at}, Outcome{false, at.Add(24 * time.Hour)})
	s.Count(Alarms{}, Outcome{false, at})
	assert.Equal(t, Score{Failed: 4, Sound: 2, Hits: 2, FalseAlarms: 1, Lead: []time.Duration{24 * time.Hour, 240 * time.Hour}}, s)
	assert.Equal(t, 24*time.Hour, s.Quantile(0.9))
}
