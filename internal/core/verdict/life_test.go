package verdict

import (
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/risk"
	"hylostat.example/internal/core/signal"
)

// last is what is known at the last moment of a life.
func last(l *Life) Evidence {
	set := signal.Set{}
	n := len(l.Moments) - 1
	l.Moments[n].Signals.Into(set)
	return l.Evidence(sound().Identity, drive.Everyday, set, n)
}

type says = map[signal.Name]float64

func TestWhatAReadingDoesNotGiveIsCarriedWithItsAge(t *testing.T) {
	e := last(
		NewLife([]Moment{day(1, 0, says{signal.GrownDefects: 5, signal.ExtendedTestAge: 3}), day(2, 30, says{signal.Pending: 1})}, nil),
	)
	assert.Equal(t, signal.Value{Number: 5, Available: true, Source: "reading 1", Carried: true}, e.Now[signal.GrownDefects])
	assert.Equal(t, Carried{Seq: 1, Days: 30}, e.Carried[signal.GrownDefects])
	assert.False(t, e.Now[signal.ExtendedTestAge].Available, "how long ago something was is not known any more")
	assert.NotContains(t, e.Carried, signal.Pending)
}

func TestAReadingThatContradictsSeveralWaitsForAnother(t *testing.T) {
	before := says{signal.Reallocated: 40, signal.ReportedUncorrectable: 12, signal.PowerOnHours: 9_000}
	zeros := says{signal.Reallocated: 0, signal.ReportedUncorrectable: 0, signal.PowerOnHours: 9_001}
	e := last(NewLife([]Moment{day(1, 0, before), day(2, 7, zeros)}, nil))
	assert.True(t, e.Doubtful)
	assert.EqualValues(t, 40, e.Now[signal.Reallocated].Number, "until then what stood before stands")
	e = last(NewLife([]Moment{day(1, 0, before), day(2, 7, zeros), day(3, 8, zeros)}, nil))
	assert.False(t, e.Doubtful, "two in a row are believed")
	assert.EqualValues(t, 0, e.Now[signal.Reallocated].Number)
	e = last(NewLife([]Moment{day(1, 0, before), day(2, 7, zeros), day(3, 8, before)}, nil))
	assert.False(t, e.Doubtful)
	assert.Zero(t, e.Trends[signal.Reallocated].Change, "one that is taken back moved nothing")
	e = last(
		NewLife(
			[]Moment{
				day(1, 0, before),
				day(2, 7, says{signal.Reallocated: 0, signal.ReportedUncorrectable: 12, signal.PowerOnHours: 9_001}),
			},
			nil,
		),
	)
	assert.False(t, e.Doubtful, "one counter alone is no reading in doubt")
	e = last(NewLife([]Moment{day(1, 0, before), day(2, 7, says{signal.PowerOnHours: 300_000})}, nil))
	assert.True(t, e.Doubtful, "no drive is so old")
}

func TestRecognizedGarbageHidesNothingAndAGapMay(t *testing.T) {
	grown := func(between says) float64 {
		m := []Moment{day(1, 0, says{signal.Reallocated: 0}), day(2, 20, between), day(3, 40, says{signal.Reallocated: 2})}
		return last(NewLife(m, nil)).Trends[signal.Reallocated].Events
	}
	plain := last(NewLife(
		[]Moment{day(1, 0, says{signal.Reallocated: 0}), day(3, 40, says{signal.Reallocated: 2})}, nil,
	)).Trends[signal.Reallocated].Events
	assert.InDelta(t, plain, grown(says{signal.DamagedPages: 1}), 1e-9)
	assert.InDelta(t, plain, grown(says{signal.AttributesFailing: 0}), 1e-9, "the page came, and its value was none")
	assert.GreaterOrEqual(t, grown(says{signal.DamagedPages: 0}), plain)
}

func TestAMendsEventsAreNoGrowth(t *testing.T) {
	ended := day(2, 1, nil).At
	mend := []Rework{{Run: 7, Ended: ended, After: 2, Cleared: 9}}
	for _, n := range []signal.Name{signal.Reallocated, signal.ReallocationEvents, signal.GrownDefects} {
		e := last(NewLife([]Moment{day(1, 0, says{n: 0, signal.Pending: 8}), day(2, 1, says{n: 9, signal.Pending: 0})}, mend))
		tr := e.Trends[n]
		assert.Zero(t, tr.Change, n)
		assert.Zero(t, tr.Unexplained, n)
		assert.Zero(t, tr.Grew, n)
		assert.Zero(t, tr.Pace, n)
		e = last(NewLife([]Moment{day(1, 0, says{n: 0, signal.Pending: 8}), day(2, 1, says{n: 12, signal.Pending: 0})}, mend))
		assert.EqualValues(t, 3, e.Trends[n].Unexplained, "%s: what came besides is", n)
	}
	e := last(NewLife([]Moment{day(1, 0, says{signal.CRCErrors: 0}), day(2, 1, says{signal.CRCErrors: 9})}, mend))
	assert.EqualValues(t, 9, e.Trends[signal.CRCErrors].Change, "a mend moves no link errors")
}

func TestATestTheBenchWatchedCountsWhateverItsStampSays(t *testing.T) {
	life := func(passed, extended bool, stamp float64) Evidence {
		l := NewLife(
			[]Moment{
				day(1, 0, says{signal.PowerOnHours: 1}),
				day(2, 1, says{signal.PowerOnHours: 3, signal.HoursStamp: stamp}),
				day(3, 2, says{signal.PowerOnHours: 20}),
			},
			nil,
		)
		l.Watched = []Watched{{Extended: extended, Passed: passed, Seq: 2}}
		return last(l)
	}
	e := life(true, false, 4660)
	assert.EqualValues(t, 17, e.Now[signal.ShortTestAge].Number)
	assert.False(t, e.Now[signal.ExtendedTestAge].Available)
	assert.Contains(t, e.Habit, "4\u00a0660")
	e = life(true, true, 3)
	assert.EqualValues(t, 17, e.Now[signal.ExtendedTestAge].Number)
	assert.EqualValues(t, 17, e.Now[signal.ShortTestAge].Number, "the longer one covers the shorter")
	assert.Empty(t, e.Habit)
	assert.False(t, life(false, false, 3).Now[signal.ShortTestAge].Available, "one that failed is no evidence")
}

func TestLinkErrorsThatStopElsewhereAreTheCables(t *testing.T) {
	at := func(seq int, days float64, bay int, errors float64) Moment {
		m := day(seq, days, says{signal.CRCErrors: errors})
		m.Place = drive.Bay{Number: bay}
		return m
	}
	grows := []Moment{at(1, 0, 3, 0), at(2, 1, 3, 9)}
	assert.False(t, last(NewLife(grows, nil)).OtherPort)
	assert.False(t, last(NewLife(append(grows, at(3, 2, 3, 9)), nil)).OtherPort, "it is at the same port")
	assert.False(t, last(NewLife(append(grows, at(3, 2, 5, 9)), nil)).OtherPort, "it has only just come to another")
	assert.True(t, last(NewLife(append(grows, at(3, 2, 5, 9), at(4, 3, 5, 9)), nil)).OtherPort)
	assert.False(t, last(NewLife(append(grows, at(3, 2, 5, 9), at(4, 3, 5, 11)), nil)).OtherPort, "they go on there")
}

func TestADriveThatWasLargerWasNotSweptWhole(t *testing.T) {
	m := []Moment{day(1, 0, says{signal.Capacity: 4e12}), day(2, 1, says{signal.Capacity: 2.2e12, signal.WholeSweepAge: 5})}
	assert.Contains(t, last(NewLife(m, nil)).Now[signal.WholeSweepAge].Reason, "no sweep reads the whole of it")
	m[0], m[1] = day(1, 0, says{signal.Capacity: 2.2e12}), day(2, 1, says{signal.Capacity: 4e12, signal.WholeSweepAge: 5})
	assert.True(t, last(NewLife(m, nil)).Now[signal.WholeSweepAge].Available)
}

// A sweep is told with every reading that follows; what the next one finds has come since it, not since the last reading.
func TestWhatASweepFindsIsAsOldAsTheSweep(t *testing.T) {
	at := func(seq int, days, hours, found, age float64) Moment {
		return day(seq, days, says{signal.PowerOnHours: hours, signal.UnreadableFound: found, signal.WholeSweepAge: age})
	}
	m := []Moment{at(1, 0, 100, 0, 0), at(2, 80, 900, 0, 800), at(3, 80.1, 902, 8, 0), at(4, 90, 950, 8, 48)}
	tr := last(NewLife(m, nil)).Trends[signal.UnreadableFound]
	assert.Equal(t, 2, tr.Observations)
	assert.Equal(t, 3, tr.Last.Seq)
	since := last(NewLife([]Moment{m[0], m[2]}, nil)).Trends[signal.UnreadableFound]
	assert.InDelta(t, since.Pace, tr.Pace, 1e-9, "as fast as since the sweep before")
	m = append(m, at(5, 91, 960, 8, 0))
	assert.Equal(t, 3, last(NewLife(m, nil)).Trends[signal.UnreadableFound].Observations, "another sweep that finds the same is another")
	m = append(m, day(6, 92, says{signal.PowerOnHours: 980, signal.UnreadableFound: 0, signal.WholeSweepAge: 20}))
	assert.Zero(t, last(NewLife(m, nil)).Trends[signal.UnreadableFound].Last.Value, "what a rework cleared is told without one")
	m = append(m, day(7, 93, says{signal.UnreadableFound: 0}), day(8, 94, says{signal.UnreadableFound: 0}))
	assert.Equal(t, 6, last(NewLife(m, nil)).Trends[signal.UnreadableFound].Observations, "without hours nobody knows")
}

func TestAFateIsAskedQuarterlyAndKnownForAYear(t *testing.T) {
	var m []Moment
	for i := range 70 {
		m = append(m, day(i+1, float64(i*10), says{signal.PowerOnHours: float64(9_000 + 100*i)}))
	}
	l, id := NewLife(m, nil), sound().Identity
	end := m[len(m)-1].At
	failed := Fate(l, id, drive.Everyday, Outcome{Failed: true, At: end})
	require.Len(t, failed, 8, "690 days by 90")
	for i, o := range failed {
		assert.Equal(t, i >= 4, o.Failed, "at day %d the year ends before the failure, or after it", i*90)
		assert.Positive(t, o.Said)
	}
	sound := Fate(l, id, drive.Everyday, Outcome{At: end})
	require.Len(t, sound, 4, "what became of it within a year of the others nobody knows")
	assert.False(t, sound.Failed())
	l.Risk = risk.Calibration{Shift: 2, Outcomes: 90}
	assert.Equal(
		t, failed, Fate(l, id, drive.Everyday, Outcome{Failed: true, At: end}),
		"a calibration never learns from what it said itself",
	)
	assert.Empty(t, Fate(l, id, drive.Everyday, Outcome{Failed: true, At: m[0].At.Add(-time.Hour)}))
}

// A reading is set aside by the next: of two counters or more, of hours that stray, of a drive that had not read its counters yet.
func TestWhichReadingsAreSetAside(t *testing.T) {
	suspect := func(readings ...says) int {
		var m []Moment
		for i, s := range readings {
			m = append(m, day(i+1, float64(i), s))
		}
		n := 0
		for _, is := range NewLife(m, nil).suspect {
			if is {
				n++
			}
		}
		return n
	}
	two := func(a, b float64) says { return says{signal.Reallocated: a, signal.ReportedUncorrectable: b} }
	assert.Equal(t, 1, suspect(two(4, 9), two(0, 0), two(4, 9)))
	assert.Equal(t, 1, suspect(two(4, 9), two(99, 99), two(4, 9)))
	assert.Zero(t, suspect(two(4, 9), two(0, 9), two(4, 9)), "one counter alone")
	assert.Zero(t, suspect(two(4, 9), two(0, 0), two(3, 9)), "the next one does not agree with the one before")
	assert.Zero(t, suspect(two(4, 9), two(5, 12), two(5, 12)), "growth")
	assert.Zero(
		t, suspect(two(4, 9), says{signal.Pending: 99, signal.Temperature: 99, signal.Reallocated: 4}, two(4, 9)),
		"levels come and go",
	)

	hours := func(h float64) says { return says{signal.PowerOnHours: h} }
	assert.Zero(t, suspect(hours(100), hours(124+24), hours(124)), "within a day")
	assert.Equal(t, 1, suspect(hours(100), hours(124+25), hours(124)))
	assert.Zero(t, suspect(hours(100), hours(76), hours(124)))
	assert.Equal(t, 1, suspect(hours(100), hours(75), hours(124)))
	assert.Zero(t, suspect(hours(100), hours(9_000), hours(99)), "they do not agree")
	assert.Equal(t, 1, suspect(hours(260_001), hours(100)))
	assert.Zero(t, suspect(hours(260_000), hours(100)))

	assert.Equal(
		t, 1,
		suspect(says{signal.PowerOnHours: 0, signal.PowerCycles: 3, signal.UnsafeShutdowns: 1, signal.Reallocated: 0}, hours(49)),
		"more hours than a day and its slack",
	)
	assert.Zero(t, suspect(hours(0), hours(48)))
	assert.Zero(t, suspect(hours(1), hours(500)))
	assert.Zero(t, suspect(says{signal.PowerOnHours: 0, signal.Reallocated: 1}, hours(500)), "it has counted something")
	unknown := []Moment{{Seq: 1, At: day(1, 0, nil).At, Signals: values(says{signal.Reallocated: 0})}, day(2, 1, hours(500))}
	assert.False(t, NewLife(unknown, nil).suspect[0], "its hours are not known")
	unknown[0], unknown[1] = day(1, 0, hours(0)), Moment{Seq: 2, At: day(2, 1, nil).At, Signals: values(says{signal.Reallocated: 0})}
	assert.False(t, NewLife(unknown, nil).suspect[0])
}

// Garbage zeros make of the rise before them an excursion; taken back, they leave it standing.
func TestGarbageThatIsTakenBackLeavesWhatStood(t *testing.T) {
	at := func(seq int, days, a, b float64) Moment {
		return day(seq, days, says{signal.PowerOnHours: 9_000 + days*8, signal.Reallocated: a, signal.ReportedUncorrectable: b})
	}
	m := []Moment{at(1, 0, 0, 7), at(2, 7, 6, 7), at(3, 10, 0, 0), at(4, 14, 12, 7), at(5, 21, 12, 7)}
	garbage := last(NewLife(m, nil))
	clean := last(NewLife([]Moment{m[0], m[1], m[3], m[4]}, nil))
	for _, n := range []signal.Name{signal.Reallocated, signal.ReportedUncorrectable} {
		a, b := garbage.Trends[n], clean.Trends[n]
		assert.Equal(t, [3]float64{b.Change, b.Held, b.Pace}, [3]float64{a.Change, a.Held, a.Pace}, n)
		assert.Equal(t, b.Grew, a.Grew, n)
		assert.Equal(t, 1, a.Suspect, n)
	}
}

func TestWhatACounterCountedBeforeAResetCounts(t *testing.T) {
	e := last(
		NewLife(
			[]Moment{
				day(1, 0, says{signal.Reallocated: 150}),
				day(2, 1, says{signal.Reallocated: 150}),
				day(3, 2, says{signal.Reallocated: 0}),
				day(4, 3, says{signal.Reallocated: 2}),
			},
			nil,
		),
	)
	assert.EqualValues(t, 152, e.counted(signal.Reallocated))
	assert.EqualValues(t, 152, Facts(e).Now["reallocated"])
	v := Decide(shipped(t), e)
	require.NotEmpty(t, v.Findings)
	assert.Equal(t, drive.Replace, v.Grade)
	assert.Contains(t, v.Findings[0].Sentence, "152 reallocated sectors")
}

func TestTheLatestReadingIsDoubtedForFallsToLessThanHalf(t *testing.T) {
	doubtful := func(before, is says) bool {
		return last(NewLife([]Moment{day(1, 0, before), day(2, 1, is)}, nil)).Doubtful
	}
	before := says{signal.Reallocated: 40, signal.ReportedUncorrectable: 10}
	assert.True(t, doubtful(before, says{signal.Reallocated: 19, signal.ReportedUncorrectable: 4}))
	assert.False(t, doubtful(before, says{signal.Reallocated: 20, signal.ReportedUncorrectable: 4}), "half is no garbage")
	assert.False(t, doubtful(before, says{signal.Reallocated: 19}), "one alone")
	assert.False(t, doubtful(says{signal.Pending: 40, signal.Temperature: 40}, says{signal.Pending: 0, signal.Temperature: 0}))
	assert.False(t, last(NewLife([]Moment{day(1, 0, says{signal.PowerOnHours: 300_000})}, nil)).Doubtful, "a first one has none before it")
}

func TestTwoDoubtfulReadingsInARowAreBelieved(t *testing.T) {
	before, low, lower := says{
		signal.Reallocated:           40,
		signal.ReportedUncorrectable: 10,
	}, says{
		signal.Reallocated:           9,
		signal.ReportedUncorrectable: 4,
	}, says{
		signal.Reallocated:           2,
		signal.ReportedUncorrectable: 1,
	}
	life := func(readings ...says) Evidence {
		var m []Moment
		for i, s := range readings {
			m = append(m, day(i+1, float64(i), s))
		}
		return last(NewLife(m, nil))
	}
	assert.True(t, life(before, low).Doubtful)
	assert.False(t, life(before, low, lower).Doubtful, "the second time")
	assert.True(t, life(low, lower).Doubtful, "of two there is no earlier doubt")
}

func TestAFallOfOneIsARollback(t *testing.T) {
	rollback := func(n signal.Name, by float64) int {
		return Facts(last(NewLife([]Moment{day(1, 0, says{n: 40}), day(2, 1, says{n: 40 - by})}, nil))).Rollback
	}
	assert.Equal(t, 1, rollback(signal.Reallocated, 1))
	assert.Zero(t, rollback(signal.Reallocated, 0))
	assert.Zero(t, rollback(signal.Pending, 1), "a level may fall")
	assert.Zero(t, rollback(signal.CRCErrors, 1), "a link's counters begin anew")
}

func TestAMendExplainsARiseBehindAReadingWithoutTheCounter(t *testing.T) {
	mend := []Rework{{Run: 7, Ended: day(2, 1, nil).At, After: 2, Cleared: 9}}
	m := []Moment{
		day(1, 0, says{signal.GrownDefects: 0, signal.Pending: 8}),
		day(2, 1, says{signal.Pending: 0}),
		day(3, 2, says{signal.GrownDefects: 9}),
	}
	assert.Equal(t, 2, len(NewLife(m, mend).All(signal.GrownDefects)))
	tr := last(NewLife(m, mend)).Trends[signal.Reallocated]
	assert.Zero(t, tr.Change)
}

func TestAWatchedTestsAgeIsInHoursOrByTheCalendar(t *testing.T) {
	age := func(then, now float64) float64 {
		readings := []says{{}, {}}
		for i, h := range []float64{then, now} {
			readings[i] = says{signal.PowerOnHours: h}
		}
		m := []Moment{day(1, 0, readings[0]), day(2, 2, readings[1])}
		for i, h := range []float64{then, now} {
			if h < 0 {
				m[i].Signals = values(says{signal.Pending: 0})
			}
		}
		l := NewLife(m, nil)
		l.Watched = []Watched{{Passed: true, Seq: 1}}
		return last(l).Now[signal.ShortTestAge].Number
	}
	assert.EqualValues(t, 7, age(0, 7))
	assert.EqualValues(t, 7, age(100, 107))
	assert.EqualValues(t, 0, age(100, 100))
	assert.EqualValues(t, 48, age(-1, 107), "by the calendar")
	assert.EqualValues(t, 48, age(100, -1))
	assert.EqualValues(t, 48, age(100, 90), "its clock went back")
}

func TestAStampMayStrayBySlack(t *testing.T) {
	habit := func(stamp float64) string {
		l := NewLife([]Moment{day(1, 0, says{signal.PowerOnHours: 100, signal.HoursStamp: stamp})}, nil)
		l.Watched = []Watched{{Passed: true, Seq: 1}}
		return last(l).Habit
	}
	assert.Empty(t, habit(148))
	assert.Equal(t, "hour 149 at hour 100", habit(149))
}

func TestTheWorstOfAReplayComeFirst(t *testing.T) {
	differs := func(was, would drive.Grade, still bool) Replayed {
		return Replayed{
			Differs: []Differs{
				{Was: Said{Grade: drive.Healthy}, Would: Said{Grade: drive.Replace}},
				{Was: Said{Grade: was}, Would: Said{Grade: would}, Still: still},
			},
		}
	}
	all := []Replayed{
		differs(drive.Replace, drive.Healthy, true),
		{},
		differs(drive.Healthy, drive.Replace, true),
		differs(drive.Healthy, drive.Replace, false),
		differs(drive.Degrading, drive.Replace, true),
	}
	slices.SortStableFunc(all, Worst)
	var order []string
	for _, r := range all {
		if n := len(r.Differs); n > 0 && r.Differs[n-1].Still {
			order = append(order, r.Differs[n-1].Was.Grade.String()+" "+r.Differs[n-1].Would.Grade.String())
		} else {
			order = append(order, "-")
		}
	}
	assert.Equal(t, []string{"healthy replace", "degrading replace", "-", "-", "replace healthy"}, order)
}

func TestWhatNothingMovedSinceHasNoChange(t *testing.T) {
	l := NewLife([]Moment{day(1, 0, says{signal.Pending: 1}), day(2, 1, says{signal.Pending: 4})}, nil)
	c, ok := l.Course(signal.Pending, nil, Marks{Intake: l.Moments[0].At, Check: l.Moments[1].At})
	require.True(t, ok)
	require.NotNil(t, c.SinceIntake)
	assert.EqualValues(t, 3, *c.SinceIntake)
	assert.Nil(t, c.SinceCheck, "the check was the latest reading")
	c, _ = l.Course(signal.Pending, nil, Marks{Intake: l.Moments[0].At.Add(-time.Hour)})
	assert.Nil(t, c.SinceIntake, "nothing is known before")
	assert.Nil(t, c.SinceCheck)
	_, ok = l.Course(signal.MediaErrors, nil, Marks{})
	assert.False(t, ok)
}

func TestErrorsAtAnotherPortCountAfterHalfAnHour(t *testing.T) {
	at := func(seq int, minutes float64, bay int, errors float64) Moment {
		m := day(seq, minutes/1440, says{signal.CRCErrors: errors})
		m.Place = drive.Bay{Number: bay}
		return m
	}
	grew := []Moment{at(1, 0, 3, 0), at(2, 60, 3, 9)}
	other := func(m ...Moment) bool { return last(NewLife(append(grew[:2:2], m...), nil)).OtherPort }
	assert.False(t, other(at(3, 90, 5, 9), at(4, 119, 5, 9)))
	assert.True(t, other(at(3, 90, 5, 9), at(4, 120, 5, 9)))
	assert.False(t, other(at(3, 90, 0, 9), at(4, 190, 0, 9)), "nobody knows where")
	assert.False(t, other(at(3, 90, 5, 9), at(4, 190, 7, 9)), "it was moved between")
	assert.False(
		t, last(NewLife([]Moment{at(1, 0, 0, 0), at(2, 60, 0, 9), at(3, 90, 5, 9), at(4, 190, 5, 9)}, nil)).OtherPort,
		"nor where they grew",
	)
}

func TestAlarmsAreTheFirstOfEachGrade(t *testing.T) {
	var a Alarms
	for i, g := range []drive.Grade{drive.Healthy, drive.Undecided, drive.Degrading, drive.Replace, drive.Degrading, drive.Replace} {
		a.hear(g, day(1, float64(i), nil).At)
	}
	assert.Equal(t, Alarms{Degrading: day(1, 2, nil).At, Replace: day(1, 3, nil).At}, a)
	var at Alarms
	at.hear(drive.Replace, day(1, 1, nil).At)
	assert.Equal(t, at.Replace, at.Degrading, "what is to be replaced is degrading, too")
}
