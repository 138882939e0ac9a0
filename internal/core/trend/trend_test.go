package trend

import (
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// life makes points a given number of hours apart, powered half of the time.
func life(step time.Duration, values ...float64) []Point {
	start := time.Date(2026, 9, 1, 8, 0, 0, 0, time.UTC)
	all := make([]Point, len(values))
	for i, v := range values {
		all[i] = Point{Seq: i + 1, At: start.Add(time.Duration(i) * step), Hours: float64(i) * step.Hours() / 2, Value: v}
	}
	return all
}

func TestGrowthIsCountedOverIntervalsOfADay(t *testing.T) {
	for name, row := range map[string]struct {
		points          []Point
		grew, intervals int
	}{
		"weekly growth":              {life(7*24*time.Hour, 0, 0, 2, 5, 9), 3, 3},
		"one burst":                  {life(7*24*time.Hour, 0, 0, 9, 9, 9), 1, 3},
		"readings minutes apart":     {life(time.Minute, 0, 1, 2, 3), 1, 1},
		"hours apart, over two days": {life(8*time.Hour, 0, 1, 2, 3, 4, 5), 2, 2},
		"steady":                     {life(48*time.Hour, 4, 4, 4, 4, 4), 0, 3},
	} {
		tr, ok := Of(row.points)
		require.True(t, ok)
		assert.Equal(t, row.grew, tr.Grew, name)
		assert.Equal(t, row.intervals, tr.Intervals, name)
	}
}

// One sector a day after another may be chance; so many in a day, or one each week, is not.
func TestThePaceIsWhatIsSure(t *testing.T) {
	day := 24 * time.Hour
	for name, row := range map[string]struct {
		points []Point
		in60   float64 // days
	}{
		"one, and one the next day":   {life(day, 0, 1, 2), 0.01005 * 60},
		"one, and eight the next day": {life(day, 0, 1, 9), 2.9061 * 60},
		"one a week, three times":     {life(7*day, 0, 1, 2, 3), 0.14855 / 14 * 60},
		"one a week, four times":      {life(7*day, 0, 1, 2, 3, 4), 0.43605 / 21 * 60},
		"fast, after years of little": {life(7*day, 0, 1, 2, 3, 4, 64), 43.4623 / 7 * 60},
		"three hundred the next day":  {life(day, 0, 1, 301), 261.18 * 60},
		"fast once, and still since":  {life(7*day, 0, 8, 16, 16, 16, 16), 0},
		"a burst":                     {life(time.Hour, 0, 8, 16, 32), 0},
	} {
		tr, _ := Of(row.points)
		assert.InDelta(t, row.in60, tr.Pace*60, max(0.001, row.in60/500), name)
	}
}

func TestOnsetSteadinessAndFalls(t *testing.T) {
	tr, _ := Of(life(24*time.Hour, 0, 0, 3, 3, 3))
	require.NotNil(t, tr.Onset)
	assert.Equal(t, 2, tr.Onset.Before.Seq)
	assert.Equal(t, 3, tr.Onset.First.Seq)
	assert.EqualValues(t, 24, tr.SteadyHours)
	assert.EqualValues(t, 3, tr.Change)
	fell, _ := Of(life(24*time.Hour, 9000, 120))
	assert.EqualValues(t, 8880, fell.FellBy)
	_, ok := Of(nil)
	assert.False(t, ok)
}

func TestWhatAReworkExplainsIsNoGrowth(t *testing.T) {
	points := life(48*time.Hour, 0, 8, 8)
	points[1].Reworked = 8 // eight waiting became eight reallocated under a mend
	tr, _ := Of(points)
	assert.Zero(t, tr.Grew)
	assert.Zero(t, tr.Change)
	assert.Zero(t, tr.Unexplained)
	assert.Equal(t, 2, tr.Onset.First.Seq, "it is not hidden")
	points = append(points, Point{Seq: 4, At: points[2].At.Add(Interval), Hours: 200, Value: 9})
	tr, _ = Of(points)
	assert.Equal(t, 1, tr.Grew)
	assert.EqualValues(t, 1, tr.Change)
	assert.EqualValues(t, 1, tr.Unexplained)
	since, from, ok := Since(points, points[2].At)
	assert.True(t, ok)
	assert.Equal(t, 3, from.Seq)
	assert.EqualValues(t, 1, since)
	assert.Equal(t, []Delta{{points[2], points[3], 1}, {points[0], points[1], 0}}, Deltas(points, 5))
}

// anyLife draws the life of a counter: readings minutes to weeks apart, mostly still, with steps.
func anyLife(t *rapid.T) []Point {
	at, value, hours := time.Date(2026, 9, 1, 8, 0, 0, 0, time.UTC), rapid.SampledFrom([]float64{0, 0, 4}).Draw(t, "first"), 100.0
	var all []Point
	for i := range rapid.IntRange(1, 24).Draw(t, "readings") {
		all = append(all, Point{Seq: i + 1, At: at, Hours: hours, Value: value})
		step := time.Duration(rapid.SampledFrom([]int{1, 30, 600, 1439, 1440, 1441, 10_080}).Draw(t, "minutes")) * time.Minute
		at, hours = at.Add(step), hours+step.Hours()/2
		value = max(0, value+rapid.SampledFrom([]float64{0, 0, 0, 1, 8, -2}).Draw(t, "step"))
	}
	return all
}

func TestACleanReadingNeverMakesADriveWorse(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		points := anyLife(t)
		before, _ := Of(points)
		at := rapid.IntRange(0, len(points)-1).Draw(t, "after")
		clean := points[at]
		clean.Reworked = 0
		clean.At = clean.At.Add(time.Duration(rapid.IntRange(1, 100_000).Draw(t, "later")) * time.Minute)
		if at+1 < len(points) && clean.At.After(points[at+1].At) {
			clean.At = points[at+1].At
		}
		after, _ := Of(slices.Insert(slices.Clone(points), at+1, clean))
		if after.Grew > before.Grew || after.Change > before.Change || after.Unexplained > before.Unexplained || after.Pace > before.Pace {
			t.Fatalf("%+v was %+v", after, before)
		}
	})
}

func TestTheFirstMovementIsNoticed(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		points := anyLife(t)
		level := rapid.SampledFrom([]float64{0, 7}).Draw(t, "level")
		for i := range points {
			points[i].Value = level
		}
		still, _ := Of(points)
		moved := points[len(points)-1]
		moved.At, moved.Value = moved.At.Add(time.Second), level+1
		now, _ := Of(append(points, moved))
		if still.Grew != 0 || now.Grew != 1 || now.Change != 1 || (level == 0) != (now.Onset != nil) {
			t.Fatalf("%+v after %+v", now, still)
		}
	})
}

func TestTheLineIsRobustAndItsForecastHonest(t *testing.T) {
	steady := life(7*24*time.Hour, 2, 4, 6, 8, 10, 12, 14, 16)
	steady[3].Value = 30 // one wild reading
	l, ok := Through(steady)
	require.True(t, ok)
	assert.InDelta(t, 2.0/84, l.Slope, 1e-9)
	assert.LessOrEqual(t, l.Low, l.Slope)
	assert.GreaterOrEqual(t, l.High, l.Slope)
	assert.Equal(t, Steady, l.Shape)
	from, to, ok := l.Forecast(steady, 26)
	require.True(t, ok)
	truth := steady[7].Hours + 5*84
	assert.LessOrEqual(t, from, truth)
	assert.GreaterOrEqual(t, to, truth)
	for name, row := range map[string]struct {
		points []Point
		shape  Shape
		limit  float64
	}{
		"just begun to move":       {life(168*time.Hour, 0, 0, 0, 0, 0, 0, 0, 3), Burst, 100},
		"one burst":                {life(168*time.Hour, 0, 0, 0, 40, 41, 41, 41, 41, 41, 41, 41, 41, 41, 41), Burst, 100},
		"never moved":              {life(168*time.Hour, 5, 5, 5, 5, 5, 5), Still, 10},
		"now and then":             {life(168*time.Hour, 0, 3, 3, 3, 3, 3, 3, 6), Uneven, 10},
		"a limit years away":       {life(168*time.Hour, 2, 4, 6, 8, 10, 12), Steady, 10_000},
		"a limit that is behind":   {life(168*time.Hour, 2, 4, 6, 8, 10, 12), Steady, 8},
		"five readings, two steps": {life(168*time.Hour, 0, 0, 1, 1, 1), Burst, 2},
	} {
		for i := range row.points {
			row.points[i].Hours += 9_000 // it was not new
		}
		l, ok := Through(row.points)
		require.True(t, ok, name)
		assert.Equal(t, row.shape, l.Shape, name)
		_, _, ok = l.Forecast(row.points, row.limit)
		assert.False(t, ok, name)
	}
	_, ok = Through(life(time.Hour, 1, 2))
	assert.False(t, ok)
	turned, _ := Through(life(168*time.Hour, 0, 0, 0, 0, 0, 0, 9, 9, 9, 9, 9, 9))
	require.NotNil(t, turned.Turn)
	assert.Equal(t, 7, turned.Turn.Seq)
}

func TestClocksThatContradictEachOther(t *testing.T) {
	at := time.Date(2026, 9, 1, 8, 0, 0, 0, time.UTC)
	tick := func(seq int, days float64, written float64, clocks ...Clock) Tick {
		return Tick{seq, at.Add(time.Duration(days * 24 * float64(time.Hour))), clocks, written}
	}
	hours, statistic := func(h float64) Clock { return Clock{Name: "attribute 9", Hours: h} }, func(h float64) Clock { return Clock{Name: "device statistics", Hours: h} }
	stamp := func(h float64) Clock { return Clock{Name: "self-test log", Hours: h, Stamp: true} }
	for name, row := range map[string]struct {
		ticks []Tick
		says  []string
	}{
		"in tune":                     {[]Tick{tick(1, 0, 1e12, hours(9000), statistic(9020), stamp(8000)), tick(2, 10, 2e12, hours(9200), statistic(9221), stamp(9199))}, nil},
		"half-minutes, perhaps":       {[]Tick{tick(1, 0, -1, Clock{Name: "attribute 9", Hours: 1_080_000, Loose: true}, statistic(9000)), tick(2, 10, -1, Clock{Name: "attribute 9", Hours: 1_094_400, Loose: true})}, nil},
		"seldom saved":                {[]Tick{tick(1, 0, -1, hours(20_000), statistic(19_200))}, nil},
		"an attribute was wiped":      {[]Tick{tick(1, 0, -1, hours(12), statistic(21_000), stamp(20_500))}, []string{"device statistics says 21\u00a0000 h, attribute 9 says 12 h", "self-test log is of hour 20\u00a0500, attribute 9 says 12 h"}},
		"wiped between two readings":  {[]Tick{tick(1, 0, -1, hours(21_000)), tick(2, 30, -1, hours(3))}, []string{"attribute 9 went back from 21\u00a0000 h to 3 h"}},
		"more hours than passed":      {[]Tick{tick(1, 0, -1, hours(100)), tick(2, 1, -1, hours(9_000))}, []string{"attribute 9 ran 8\u00a0900 h in the 24 h since reading 1"}},
		"too much for its few hours":  {[]Tick{tick(1, 0, 900e12, hours(2))}, []string{"more was written than attribute 9 leaves time for"}},
		"as much as fits":             {[]Tick{tick(1, 0, 3*3600*fastest, hours(2))}, nil},
		"a stamp measures no writing": {[]Tick{tick(1, 0, 900e12, hours(90_000), stamp(2))}, nil},
		"nobody knows what it wrote":  {[]Tick{tick(1, 0, -1, hours(0))}, nil},
		"a clock that lags an hour":   {[]Tick{tick(1, 0, -1, hours(100)), tick(2, 3, -1, hours(99))}, nil},
		"a day more than passed":      {[]Tick{tick(1, 0, -1, hours(100)), tick(2, 1, -1, hours(100+24+slackHours))}, nil},
		"two readings of one moment":  {[]Tick{tick(1, 0, -1, hours(100)), tick(2, 0, -1, hours(900))}, nil},
		"a shelf is not a wiped life": {[]Tick{tick(1, 0, -1, hours(100)), tick(2, 900, -1, hours(100))}, nil},
	} {
		var says []string
		for _, c := range Contradictions(row.ticks) {
			says = append(says, c.Says)
		}
		assert.Equal(t, row.says, says, name)
	}
}
