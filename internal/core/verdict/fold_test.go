package verdict

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/policy"
	"hylostat.example/internal/core/signal"
	"hylostat.example/internal/core/trend"
)

// hourly is a life of readings an hour apart, with whatever may happen in one.
func hourly(r *rand.Rand, n int) []Moment {
	now := says{
		signal.PowerOnHours: float64(r.IntN(30_000)), signal.Reallocated: 0, signal.Pending: 0, signal.CRCErrors: float64(r.IntN(3)),
		signal.ReportedUncorrectable: 0, signal.Alarm: 0, signal.AttributesFailing: 0, signal.BytesWritten: 1e12,
		signal.ShortTestAge: 100, signal.LastShortTest: 1, signal.ExtendedTestAge: 200, signal.LastExtendedTest: 1,
		signal.TemperatureHighest: 41, signal.TestsFailed: 0,
	}
	at, place := time.Date(2026, 1, 5, 9, 0, 0, 0, time.UTC), 1
	growing := r.IntN(3) > 0
	moments := make([]Moment, 0, n)
	for i := range n {
		now[signal.PowerOnHours]++
		now[signal.ShortTestAge]++
		now[signal.ExtendedTestAge]++
		now[signal.BytesWritten] += float64(r.IntN(1e9))
		now[signal.Temperature] = float64(30 + r.IntN(8))
		at = at.Add(time.Hour + time.Duration(r.IntN(400)-200)*time.Second)
		said := says{}
		if growing {
			switch r.IntN(90) {
			case 0:
				now[signal.Reallocated] += float64(1 + r.IntN(20))
			case 1:
				now[signal.Pending] = float64(r.IntN(9))
			case 2:
				now[signal.CRCErrors]++
			case 3:
				now[signal.ShortTestAge], now[signal.LastShortTest] = 0, float64(r.IntN(2))
			case 4:
				at = at.Add(time.Duration(r.IntN(70)) * time.Hour) // nobody read it
			case 5:
				place = 1 + r.IntN(2)
			}
		}
		for k, x := range now {
			said[k] = x
		}
		if growing {
			switch r.IntN(150) { // what one reading alone says
			case 0:
				said[signal.Reallocated] = float64(r.IntN(1000))
			case 1:
				delete(said, signal.Pending)
			case 2:
				said[signal.PowerOnHours] += float64(r.IntN(100) - 50)
			case 3:
				for k := range said {
					said[k] = float64(r.IntN(5))
				}
			}
		}
		moments = append(moments, Moment{Seq: i + 1, At: at, Place: drive.Bay{Number: place}, Signals: values(said)})
	}
	return moments
}

func TestNothingRestsOnWhatIsFolded(t *testing.T) {
	shipped, err := policy.Parse(policy.Default)
	require.NoError(t, err)
	seed := uint64(time.Now().UnixNano())
	r := rand.New(rand.NewPCG(seed, 1))
	readings, folded := 0, 0
	for life := range 25 {
		all := hourly(r, 24*12)
		left, old := all, all[len(all)-24*2].At
		for day := range 6 { // folded bit by bit, as time goes on
			var ranges [][2]int
			for i := 0; i+1 < len(left); {
				to := min(len(left)-1, i+4+r.IntN(40))
				if left[to].At.After(old.Add(time.Duration(day-6) * 24 * time.Hour)) {
					break
				}
				ranges = append(ranges, [2]int{i, to})
				i = to
			}
			drop := map[int]bool{}
			for _, i := range Foldable(left, ranges, nil) {
				drop[i] = true
			}
			var next []Moment
			gone := 0
			for i, m := range left {
				if drop[i] {
					gone += 1 + m.Folded
					continue
				}
				m.Folded += gone
				gone, next = 0, append(next, m)
			}
			left = next
		}
		readings, folded = readings+len(all), folded+len(all)-len(left)
		whole, thin := NewLife(all, nil).Walk(), NewLife(left, nil).Walk()
		for i, m := range left {
			what := fmt.Sprintf("seed %d, life %d, reading %d", seed, life, m.Seq)
			now := func() signal.Set { s := signal.Set{}; m.Signals.Into(s); return s }
			was := whole.Evidence(ataDisk, drive.Everyday, now(), m.Seq-1)
			is := thin.Evidence(ataDisk, drive.Everyday, now(), i)
			for name, tr := range was.Trends {
				if d, _ := signal.Lookup(name); d.Matters {
					require.Equal(t, tr, withoutFolds(is.Trends[name]), "%s, %s", what, name)
				}
			}
			require.Equal(t, was.Carried, is.Carried, what)
			require.Equal(t, []any{was.Readings, was.Doubtful, was.Suspect, was.OtherPort, was.Habit},
				[]any{is.Readings, is.Doubtful, is.Suspect, is.OtherPort, is.Habit}, what)
			require.Equal(t, Decide(shipped, was), Decide(shipped, is), what)
		}
	}
	require.Greater(t, float64(folded)/float64(readings), 0.3, "that it is worth the while")
}

func TestAReplayThatPassesOverQuietReadingsSaysTheSame(t *testing.T) {
	shipped, err := policy.Parse(policy.Default)
	require.NoError(t, err)
	draft, err := policy.Parse([]byte(strings.Replace(string(policy.Default), "when: now.pending > 0.0\n", "when: now.pending > 2.0\n", 1)))
	require.NoError(t, err)
	seed := uint64(time.Now().UnixNano())
	r := rand.New(rand.NewPCG(seed, 1))
	replay := NewReplay(shipped, draft)
	for life := range 25 {
		l := NewLife(hourly(r, 24*12), nil)
		what := fmt.Sprintf("seed %d, life %d", seed, life)
		replay.Every = true
		every, err := replay.Over(l, ataDisk, drive.Everyday, nil)
		require.NoError(t, err)
		replay.Every = false
		heard := 0
		some, err := replay.Over(l, ataDisk, drive.Everyday, func(m Moment, known func() Evidence, _, _ drive.Grade) {
			if r.IntN(8) == 0 {
				now := signal.Set{}
				m.Signals.Into(now)
				require.Equal(t, l.Evidence(ataDisk, drive.Everyday, now, heard), known(), "%s, reading %d", what, m.Seq)
			}
			heard++
		})
		require.NoError(t, err)
		require.Equal(t, len(l.Moments), heard, what)
		for _, at := range [][2]time.Time{
			{every.Was.Degrading, some.Was.Degrading},
			{every.Was.Replace, some.Was.Replace},
			{every.Would.Degrading, some.Would.Degrading},
			{every.Would.Replace, some.Would.Replace},
		} {
			require.Equal(t, at[0].IsZero(), at[1].IsZero(), what)
			require.WithinDuration(t, at[0], at[1], 24*time.Hour, what)
		}
		still := func(x Replayed) bool { n := len(x.Differs); return n > 0 && x.Differs[n-1].Still }
		require.Equal(t, still(every), still(some), what)
	}
}

// withoutFolds is a trend whose points do not know what lay between.
func withoutFolds(t trend.Trend) trend.Trend {
	t.First.Folded, t.Last.Folded = 0, 0
	if t.Onset != nil {
		t.Onset = &trend.Onset{Before: t.Onset.Before, First: t.Onset.First}
		t.Onset.Before.Folded, t.Onset.First.Folded = 0, 0
	}
	return t
}

func TestWhatStaysIsToldAsWhatMovesIs(t *testing.T) {
	seed := uint64(time.Now().UnixNano())
	r := rand.New(rand.NewPCG(seed, 2))
	still := 0
	for life := range 60 {
		moments := hourly(r, 24*(1+r.IntN(8)))
		for i := range moments {
			if r.IntN(40) == 0 {
				moments[i].Folded = r.IntN(30)
			}
		}
		l, limit := NewLife(moments, nil), 7.0
		at := func() time.Time {
			return moments[r.IntN(len(moments))].At.Add(time.Duration(r.IntN(3)-1) * time.Minute)
		}
		marks := Marks{Intake: at()}
		if r.IntN(2) == 0 {
			marks.Check = at()
		}
		for i := range signal.Registry {
			d := &signal.Registry[i]
			points := NewLife(moments, nil).All(d.Name)
			want, has := courseOf(d, points, &limit, marks)
			got, had := l.Course(d.Name, &limit, marks)
			what := fmt.Sprintf("seed %d, life %d, %s", seed, life, d.Name)
			require.Equal(t, has, had, what)
			require.Equal(t, want, got, what)
			require.Equal(t, trend.Drawn(points, 40), l.Drawn(d.Name, 40), what)
			if s, _ := l.stays(d); s != nil {
				still++
			}
		}
	}
	require.Greater(t, still, 60, "that it is worth the while")
}
