package verdict

import (
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
	e := last(NewLife([]Moment{day(1, 0, says{signal.GrownDefects: 5, signal.ExtendedTestAge: 3}), day(2, 30, says{signal.Pending: 1})}, nil))
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
	e = last(NewLife([]Moment{day(1, 0, before), day(2, 7, says{signal.Reallocated: 0, signal.ReportedUncorrectable: 12, signal.PowerOnHours: 9_001})}, nil))
	assert.False(t, e.Doubtful, "one counter alone is no reading in doubt")
	e = last(NewLife([]Moment{day(1, 0, before), day(2, 7, says{signal.PowerOnHours: 300_000})}, nil))
	assert.True(t, e.Doubtful, "no drive is so old")
}

func TestRecognizedGarbageHidesNothingAndAGapMay(t *testing.T) {
	grown := func(between says) float64 {
		m := []Moment{day(1, 0, says{signal.Reallocated: 0}), day(2, 20, between), day(3, 40, says{signal.Reallocated: 2})}
		return last(NewLife(m, nil)).Trends[signal.Reallocated].Events
	}
	plain := last(NewLife([]Moment{day(1, 0, says{signal.Reallocated: 0}), day(3, 40, says{signal.Reallocated: 2})}, nil)).Trends[signal.Reallocated].Events
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
		l := NewLife([]Moment{day(1, 0, says{signal.PowerOnHours: 1}), day(2, 1, says{signal.PowerOnHours: 3, signal.HoursStamp: stamp}), day(3, 2, says{signal.PowerOnHours: 20})}, nil)
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
		m.Place = bay
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
	assert.Equal(t, failed, Fate(l, id, drive.Everyday, Outcome{Failed: true, At: end}), "a calibration never learns from what it said itself")
	assert.Empty(t, Fate(l, id, drive.Everyday, Outcome{Failed: true, At: m[0].At.Add(-time.Hour)}))
}
