package trend

import (
	"math"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gonum.org/v1/gonum/stat/distuv"
)

const week = 7 * 24 * time.Hour

// holed makes points whose value is missing where it is negative.
func holed(step time.Duration, values ...float64) []Point {
	points := life(step, values...)
	for i := range points {
		if points[i].Value < 0 {
			points[i].Value, points[i].Missing = 0, true
		}
	}
	return points
}

// A rise across a gap may have come on either side of it: from two on, on both; all of it in the shorter.
func TestARiseAcrossAGapCountsAsFarAsItCouldBe(t *testing.T) {
	for name, row := range map[string]struct {
		points []Point
		grew   int
		in60   float64
	}{
		"one":               {holed(10*24*time.Hour, 0, -1, 1), 1, 0.14855 / 10 * 60},
		"two":               {holed(10*24*time.Hour, 0, -1, 2), 2, 0.43605 / 20 * 60},
		"none":              {holed(10*24*time.Hour, 3, -1, 3), 0, 0},
		"the gap ends soon": {holed(10*24*time.Hour, 0, -1, -1, -1, 1), 1, 0.14855 / 10 * 60},
		"sixteen, a day before now": {
			append(holed(10*24*time.Hour, 0, -1), Point{Seq: 3, At: life(0, 0)[0].At.Add(11 * 24 * time.Hour), Hours: -1, Value: 16}),
			2, 1.27911 * 60,
		},
	} {
		tr, _ := Of(row.points, Counter)
		assert.Equal(t, row.grew, tr.Grew, name)
		assert.InDelta(t, row.in60, 60*tr.Pace, row.in60/200, name)
	}
}

// The one may have come before the gap: what comes soon after it is another.
func TestARiseSoonAfterAGapIsAnother(t *testing.T) {
	points := holed(week, 0, -1, 1, 6)
	points[3].At = points[2].At.Add(30 * time.Minute)
	tr, _ := Of(points, Counter)
	assert.Equal(t, 2, tr.Grew)
	points[1].Missing = false
	tr, _ = Of(points, Counter)
	assert.Equal(t, 1, tr.Grew, "without one it is the same interval")
}

func TestEventsAreCountedInOneIntervalToo(t *testing.T) {
	tr, _ := Of(life(time.Minute, 0, 1, 2, 10), Counter)
	assert.InDelta(t, 1+1+4, tr.Events, 1e-9)
	assert.EqualValues(t, 8, tr.Jump)
	assert.Equal(t, 1, tr.Grew)
	tr, _ = Of(life(time.Minute, 0, 9, 10), Counter)
	assert.EqualValues(t, 9, tr.Jump, "the largest, not the last")
	tr, _ = Of(life(time.Minute, 0, 0.5), Counter)
	assert.InDelta(t, 0.5, tr.Events, 1e-9, "less than one is so many")
}

func TestThePaceOfManyEventsIsTheGammaQuantiles(t *testing.T) {
	for _, seen := range []float64{0.1, 1, 2.7, 64, 64.1, 90, 400} {
		want := distuv.Gamma{Alpha: math.Floor(seen*10+1e-9) / 10, Beta: 1}.Quantile(1 - Confidence)
		assert.InDelta(t, want, leastCount(seen), max(want/500, 1e-12), "%v", seen)
	}
}

// Only the last intervals of growth are looked at for the pace.
func TestThePaceForgetsAllButTheLastIntervals(t *testing.T) {
	values := []float64{0, 512}
	for range 8 {
		values = append(values, values[len(values)-1]+1)
	}
	tr, _ := Of(life(week, values...), Counter)
	assert.InDelta(t, 8+10, tr.Events, 1e-9)
	assert.InDelta(t, leastCount(8)/(8*7), tr.Pace, 1e-9, "the jump is nine weeks ago")
	tr, _ = Of(life(week, values[:len(values)-1]...), Counter)
	assert.InDelta(t, leastCount(17)/(8*7), tr.Pace, 1e-9, "and counts for eight")
}

func TestDaysAreThoseADriveCouldHaveRun(t *testing.T) {
	at := life(0, 0)[0].At
	then := at.Add(100 * 24 * time.Hour)
	for name, row := range map[string]struct{ from, to, days float64 }{
		"eight hours a day": {0, 80, 10},
		"day and night":     {0, 2400, 100},
		"not known then":    {-1, 80, 100},
		"not known now":     {0, -1, 100},
		"its clock is back": {90, 80, 100},
		"not at all":        {80, 80, 0},
	} {
		assert.InDelta(t, row.days, moment{then, row.to}.days(moment{at, row.from}), 1e-9, name)
	}
}

// What a rework explains is explained, too, when the reading after it is set aside, or lacks the value.
func TestAReworkExplainsTheRiseBehindAReadingThatIsSetAside(t *testing.T) {
	points := life(week, 0, 90, 8, 8)
	points[1].Reworked = 8
	tr, _ := Of(points, Counter)
	assert.Equal(t, 1, tr.Suspect)
	assert.Zero(t, tr.Change)
	assert.Zero(t, tr.Unexplained)
	late := life(week, 9, 4, 4)
	late[0].Late = true
	tr, _ = Of(late, Counter)
	assert.Zero(t, tr.Suspect, "what is first seen late was not the drive's first word")
	assert.EqualValues(t, 9+4, tr.Held)
	half, _ := Of(life(week, 8, 4, 4), Counter)
	assert.Zero(t, half.Suspect)
	assert.EqualValues(t, 8, half.Held, "half of it is a slip, less a reset")
	first, _ := Of(life(week, 40, 3, 4, 41), Counter)
	assert.Equal(t, 1, first.Suspect, "the first of all was wrong, and is no more asked")
	assert.EqualValues(t, 38, first.Change)
	tr, _ = Of(holed(week, 4, -1, 90, 4, 4), Counter)
	assert.Zero(t, tr.Suspect, "what the reading in between would have said nobody knows")
	tr, _ = Of(holed(week, 4, 90, -1, 4, 4), Counter)
	assert.Zero(t, tr.Suspect)
}

func TestALatestPointIsTakenBackWithItsReading(t *testing.T) {
	f := Follow(Counter)
	_, ok := f.Trend()
	assert.False(t, ok)
	f.TakeBack()
	points := life(week, 40, 3, 41)
	f.AddDoubtful(points[0])
	f.TakeBack()
	_, ok = f.Trend()
	assert.False(t, ok, "nothing is left")
	f = Follow(Counter)
	f.Add(points[0])
	f.AddDoubtful(points[1]) // sets the first aside
	tr, _ := f.Trend()
	assert.EqualValues(t, 3, tr.Last.Value)
	f.TakeBack() // and is garbage itself
	tr, _ = f.Trend()
	assert.EqualValues(t, 40, tr.Last.Value)
	f.AddDoubtful(points[2])
	tr, _ = f.Trend()
	assert.EqualValues(t, 1, tr.Change)
	f.TakeBack()
	tr, _ = f.Trend()
	assert.EqualValues(t, 0, tr.Change)
	assert.Equal(t, 2, tr.Suspect)
	assert.Equal(t, 3, tr.Observations)
	f.Add(points[2])
	f.TakeBack()
	tr, _ = f.Trend()
	assert.EqualValues(t, 1, tr.Change, "what nobody doubts stays")

	// A garbage zero makes of the rise before it an excursion, which stands again once the zero is taken back.
	f = Follow(Counter)
	points = life(week, 0, 6, 0, 12, 12)
	f.Add(points[0])
	f.Add(points[1])
	f.AddDoubtful(points[2])
	f.TakeBack()
	f.Add(points[3])
	f.Add(points[4])
	tr, _ = f.Trend()
	assert.Equal(t, 2, tr.Grew)
}

func TestALevelFallsToAThirtySecondAtOnce(t *testing.T) {
	suspect := func(values ...float64) int {
		tr, _ := Of(life(week, values...), Level)
		return tr.Suspect
	}
	assert.Equal(t, 1, suspect(0, 64, 2, 2))
	assert.Zero(t, suspect(0, 64, 3, 3))
	assert.Zero(t, suspect(0, 8, 8, 0), "two said so")
	assert.Zero(t, suspect(7, 0, 6), "it came back as another")
	assert.Zero(t, suspect(7, 1, 7))
	assert.Zero(t, suspect(0, 0, 0))
	tr, _ := Of(life(week, 9, 5), Level)
	assert.EqualValues(t, -4, tr.Change)
	assert.EqualValues(t, 4, tr.FellBy)
	assert.EqualValues(t, 5, tr.Held)
}

func TestAnOnsetIsTheFirstOnly(t *testing.T) {
	tr, _ := Of(life(week, 0, 2, 2, 0, 0, 3), Counter)
	require.NotNil(t, tr.Onset)
	assert.Equal(t, 2, tr.Onset.First.Seq)
	assert.EqualValues(t, 2+3, tr.Held)
	never, _ := Of(life(week, 2, 3), Counter)
	assert.Nil(t, never.Onset)
	assert.True(t, never.HasBefore)
	assert.EqualValues(t, 2, never.Before)
	one, _ := Of(life(week, 2), Counter)
	assert.False(t, one.HasBefore)
	assert.Zero(t, one.SteadyDays)
	still, _ := Of(life(week, 2, 2, 2), Counter)
	assert.EqualValues(t, 14, still.SteadyDays)
	assert.EqualValues(t, 168, still.SteadyHours, "since hour 0")
}

func TestAnIntervalIsADayLong(t *testing.T) {
	for step, want := range map[time.Duration][2]int{Interval: {2, 2}, Interval - time.Minute: {1, 1}} {
		tr, _ := Of(life(step, 0, 1, 2), Counter)
		assert.Equal(t, want, [2]int{tr.Grew, tr.Intervals}, step)
		tr, _ = Of(life(step, 0, 1, 1, 1), Counter)
		assert.Equal(t, 1, tr.Grew)
		assert.Equal(t, map[bool]int{true: 3, false: 2}[step == Interval], tr.Intervals, step)
	}
}

// noisy is a rise of one in two hours with noise, not in order of its values.
func noisy(n int) []Point {
	r := rand.New(rand.NewPCG(7, uint64(n)))
	values := make([]float64, n)
	for i := range values {
		values[i] = float64(i) + 9*r.Float64()
	}
	return life(time.Hour, values...)
}

func TestTheIntervalOfALineIsKendalls(t *testing.T) {
	three := life(week, 0, 1, 10)
	l, ok := Through(three)
	require.True(t, ok)
	assert.InDelta(t, 1.0/84, l.Low, 1e-9, "of three points nothing is sure but the ends")
	assert.InDelta(t, 9.0/84, l.High, 1e-9)
	for _, n := range []int{20, 41, 77} {
		l, _ := Through(noisy(n))
		below, above := 0.0, 0.0
		points := noisy(n)
		for i := range points {
			for j := range i {
				slope := (points[i].Value - points[j].Value) / (points[i].Hours - points[j].Hours)
				if slope < l.Low {
					below++
				}
				if slope > l.High {
					above++
				}
			}
		}
		x := float64(n)
		pairs, reach := x*(x-1)/2, 1.959964*math.Sqrt(x*(x-1)*(2*x+5)/18)
		assert.InDelta(t, math.Round((pairs-reach)/2-1), below, 0, "%d points", n)
		assert.InDelta(t, pairs-1-math.Round((pairs+reach)/2), above, 0, "%d points", n)
	}
	long := noisy(300)
	all, _ := Through(long)
	few, _ := Through(thin(long))
	assert.Equal(t, few, all, "of many points, 128")
}

func TestALineNeedsHoursThatRunOn(t *testing.T) {
	at := func(hours ...float64) []Point {
		points := life(week, 1, 5, 9)
		for i := range points {
			points[i].Hours = hours[i]
		}
		return points
	}
	_, ok := Through(at(7, 8, 7))
	assert.False(t, ok, "it ends where it began")
	_, ok = Through(at(9, 8, 7))
	assert.False(t, ok, "its clock ran backwards")
	back, ok := Through(at(9, 7, 8))
	require.True(t, ok, "two of them run on")
	assert.InDelta(t, 4, back.Slope, 1e-9)
	_, ok = Through(at(7, -1, 8))
	assert.False(t, ok, "two are no line")
	mended := life(week, 0, 9, 9, 9)
	mended[1].Reworked = 9
	l, ok := Through(mended)
	require.True(t, ok)
	assert.Equal(t, Still, l.Shape, "a mend's sectors are no rise")
	burst := func(hours float64) Shape {
		points := life(week, 0, 0, 0, 5, 10, 10, 10, 10, 10)
		for i := range points {
			points[i].Hours = float64(i) * 100
		}
		points[4].Hours = 300 + hours
		points[8].Hours = 1000
		l, _ := Through(points)
		return l.Shape
	}
	assert.Equal(t, Burst, burst(100), "a tenth")
	assert.NotEqual(t, Burst, burst(101))
}

func TestATurnIsPlainForElevenReadingsToo(t *testing.T) {
	split := func(n int, high float64) *Point {
		values := make([]float64, n)
		for i := n / 2; i < n; i++ {
			values[i] = high
		}
		l, _ := Through(life(week, values...))
		return l.Turn
	}
	assert.NotNil(t, split(11, 9), "p 0.048")
	assert.NotNil(t, split(12, 0.5), "by however little")
	assert.Nil(t, split(7, 9))
}

func TestAForecastThatIsNoneIsZero(t *testing.T) {
	points := life(week, 2, 4, 6, 8, 10)
	l, _ := Through(points)
	for _, limit := range []float64{10, 9, 10_000} {
		from, to, ok := l.Forecast(points, limit)
		assert.False(t, ok)
		assert.Zero(t, from)
		assert.Zero(t, to)
	}
	unknown := append([]Point{{Hours: -1, Value: 99}}, points...)
	from, _, ok := l.Forecast(unknown, 12)
	require.True(t, ok, "what has no hours is not looked at")
	assert.InDelta(t, 5*84, from, 1e-9)
	first, _, ok := l.Forecast(points, 18)
	require.True(t, ok, "from hour 0 on")
	assert.InDelta(t, 8*84, first, 1e-9)
}

func TestSiblingsAreComparedInAnyUnit(t *testing.T) {
	rates := []float64{0.010, 0.012, 0.011, 0.009, 0.010, 0.011, 0.3}
	assert.Equal(t, []int{6}, apart(rates, 0.01))
	scored := Siblings(rates, 0.01)
	assert.InDelta(t, 0.3/0.011, scored[6].Times(), 1e-9)
	assert.InDelta(t, 0.011, scored[0].Median, 1e-12)
	assert.InDelta(t, -2, Siblings([]float64{-2}, 1)[0].Median, 0)
	assert.Zero(t, Siblings([]float64{-2}, 1)[0].Times())
	edge := []float64{96.5, 100, 103.5, 96.5, 103.5, 100, 100, 100 + 3.5*3.5/0.6745} // a score of 3.5 to the digit
	assert.Empty(t, apart(edge, 1))
	edge[7] += 0.01
	assert.Equal(t, []int{7}, apart(edge, 1))
}

func TestClocksAreHeldToTheirBounds(t *testing.T) {
	at := life(0, 0)[0].At
	a, b := func(h float64) Clock { return Clock{Name: "a", Hours: h} }, func(h float64) Clock { return Clock{Name: "b", Hours: h} }
	one := func(written float64, clocks ...Clock) int {
		return len(Contradictions([]Tick{{1, at, clocks, written}}))
	}
	two := func(days float64, before, after Clock) int {
		return len(
			Contradictions(
				[]Tick{{1, at, []Clock{before}, -1}, {2, at.Add(time.Duration(days * 24 * float64(time.Hour))), []Clock{after}, -1}},
			),
		)
	}
	assert.Zero(t, one(-1, a(148), b(100)))
	assert.Equal(t, 1, one(-1, a(149), b(100)))
	assert.Zero(t, one(-1, a(20_000), b(19_000)), "a twentieth")
	assert.Equal(t, 1, one(-1, a(20_000), b(18_999)))
	assert.Zero(t, one(3*3600*fastest, a(2)))
	assert.Equal(t, 1, one(3*3600*fastest*1.0001, a(2)))
	assert.Zero(t, one(0, a(-5)), "nothing was written")
	assert.Zero(t, two(1, a(100), a(99)))
	assert.Equal(t, 1, two(1, a(100), a(98.9)))
	assert.Zero(t, two(1, a(100), a(172)))
	assert.Equal(t, 1, two(1, a(100), a(173)))
	assert.Zero(t, two(1, a(100), b(900)), "another clock")
	ticks := []Tick{
		{1, at, []Clock{a(900), b(10)}, -1},
		{2, at.Add(time.Hour), []Clock{a(5_000), b(11)}, -1},
		{3, at.Add(2 * time.Hour), []Clock{a(9_000), b(12)}, -1},
	}
	assert.Len(t, Contradictions(ticks), 2, "each is said once: they differ, and it ran ahead")
}
