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
		tr, ok := Of(row.points, Counter)
		require.True(t, ok)
		assert.Equal(t, row.grew, tr.Grew, name)
		assert.Equal(t, row.intervals, tr.Intervals, name)
	}
}

// The limits are quantiles of the gamma distribution: 0.01005 of one event, 0.14855 of two, 0.43605, 0.82325, 1.27911, ... A rise of n in
// one interval comes to 1 + log2(n) events.
func TestThePaceIsWhatIsSure(t *testing.T) {
	day := 24 * time.Hour
	for name, row := range map[string]struct {
		points []Point
		in60   float64 // days
	}{
		"one":                          {life(day, 0, 1), 0.01005 * 60},
		"one, and one the next day":    {life(day, 0, 1, 2), 0.14855 / 2 * 60},
		"one, and eight the next day":  {life(day, 0, 1, 9), 0.82325 * 60},
		"eight in a year":              {life(365*day, 0, 8), 0.82325 / 365 * 60},
		"eight in forty minutes":       {life(40*time.Minute, 4, 12), 0.82325 * 60},
		"eight, at rest for a month":   {life(30*day, 0, 8, 8), 0.82325 / 60 * 60},
		"one a week, three times":      {life(7*day, 0, 1, 2, 3), 0.43605 / 21 * 60},
		"one a week, four times":       {life(7*day, 0, 1, 2, 3, 4), 0.82325 / 28 * 60},
		"fast, after years of little":  {life(7*day, 0, 1, 2, 3, 4, 64), 2.2734 / 7 * 60},
		"64 in one interval, 7 events": {life(7*day, 0, 64), 2.3302 / 7 * 60},
		"still":                        {life(day, 4, 4, 4), 0},
	} {
		tr, _ := Of(row.points, Counter)
		assert.InDelta(t, row.in60, tr.Pace*60, max(0.001, row.in60/400), name)
	}
	shelf := life(100*day, 0, 8)
	shelf[0].Hours, shelf[1].Hours = 9000, 9080 // it ran for ten days of eight hours, and lay on a shelf
	tr, _ := Of(shelf, Counter)
	assert.InDelta(t, 0.82325/10*60, tr.Pace*60, 0.01, "time on a shelf is no time")
}

// What one reading says alone, and the next takes back, is no growth and hides none.
func TestGrowthSurvivesNoise(t *testing.T) {
	const ones = 65535
	day := 24 * time.Hour
	for name, row := range map[string]struct {
		kind                Kind
		values              []float64
		change, held, jump  float64
		grew, suspect, last int
	}{
		"quiet":                               {Counter, []float64{4, 4, 4}, 0, 4, 0, 0, 0, 3},
		"a wild first reading":                {Counter, []float64{ones, 0, 2, 5}, 5, 5, 3, 2, 1, 4},
		"the second of all is wrong":          {Counter, []float64{40, 0, 40, 41}, 1, 41, 1, 1, 1, 4},
		"a zero in the middle":                {Counter, []float64{40, 40, 0, 40, 41}, 1, 41, 1, 1, 1, 5},
		"a wild reading in the middle":        {Counter, []float64{4, ones, 4, 4}, 0, 4, 0, 0, 1, 4},
		"a wild reading, and growth past it":  {Counter, []float64{4, ones, 6, 9}, 5, 9, 3, 2, 1, 4},
		"two in a row are believed":           {Counter, []float64{4, 12, 12}, 8, 12, 8, 1, 0, 3},
		"the latest is taken at its word":     {Counter, []float64{4, 4, 72}, 68, 72, 68, 1, 0, 3},
		"wiped, and growing again":            {Counter, []float64{40, 40, 0, 0, 3}, 3, 43, 3, 1, 0, 5},
		"a slip of a few is none":             {Counter, []float64{40, 38, 38, 39}, 0, 40, 0, 0, 0, 4},
		"a slip that goes on":                 {Counter, []float64{40, 38, 39, 42}, 2, 42, 2, 1, 1, 4},
		"a link counter that begins anew":     {Restarting, []float64{9, 0, 4, 0, 2}, 6, 2, 4, 2, 0, 5},
		"waiting sectors that were cleared":   {Level, []float64{0, 8, 8, 0}, 0, 0, 8, 1, 0, 4},
		"waiting sectors, once and not again": {Level, []float64{0, 68, 0, 0}, 0, 0, 0, 0, 1, 4},
		"a lone zero of a level":              {Level, []float64{7, 0, 7, 9}, 2, 9, 2, 1, 1, 4},
		"garbage after a lone zero":           {Level, []float64{7, 0, 65_002, 7, 9}, 2, 9, 2, 1, 2, 5},
		"garbage zeros after a rise":          {Counter, []float64{4, 6, 0, 6, 6}, 2, 6, 2, 1, 1, 5},
		"two highs in a row, one higher":      {Level, []float64{0, 61, 63, 0}, 0, 0, 61, 1, 1, 4},
	} {
		tr, ok := Of(life(2*day, row.values...), row.kind)
		require.True(t, ok, name)
		assert.Equal(t, [3]float64{row.change, row.held, row.jump}, [3]float64{tr.Change, tr.Held, tr.Jump}, name)
		assert.Equal(t, [3]int{row.grew, row.suspect, row.last}, [3]int{tr.Grew, tr.Suspect, tr.Last.Seq}, name)
	}
	back, _ := Of(life(day, 40, 0, 40), Counter)
	assert.Zero(t, back.FellBy)
}

// A reading that does not give the value leaves open on which side of it the value rose: it counts as the shorter.
func TestAMissingValueHidesNoGrowth(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		points := anyLife(t)
		for i := 1; i < len(points); i++ { // counters that only rise
			points[i].Value = max(points[i].Value, points[i-1].Value)
		}
		if len(points) < 3 {
			return
		}
		whole, _ := Of(points, Counter)
		n := rapid.IntRange(1, len(points)-2).Draw(t, "missing")
		holed := slices.Clone(points)
		holed[n].Missing, holed[n].Value = true, 0
		hidden, _ := Of(holed, Counter)
		if hidden.Held < whole.Held || hidden.Change < whole.Change || hidden.Pace < whole.Pace-1e-9 && hidden.Grew < whole.Grew {
			t.Fatalf("%+v without reading %d, %+v with it", hidden, n+1, whole)
		}
	})
}

func TestOnsetSteadinessAndFalls(t *testing.T) {
	tr, _ := Of(life(24*time.Hour, 0, 0, 3, 3, 3), Counter)
	require.NotNil(t, tr.Onset)
	assert.Equal(t, 2, tr.Onset.Before.Seq)
	assert.Equal(t, 3, tr.Onset.First.Seq)
	assert.EqualValues(t, 24, tr.SteadyHours)
	assert.EqualValues(t, 3, tr.Change)
	fell, _ := Of(life(24*time.Hour, 9000, 9000, 120), Counter)
	assert.EqualValues(t, 8880, fell.FellBy)
	_, ok := Of(nil, Counter)
	assert.False(t, ok)
}

func TestWhatAReworkExplainsIsNoGrowth(t *testing.T) {
	points := life(48*time.Hour, 0, 8, 8)
	points[1].Reworked = 8 // eight waiting became eight reallocated under a mend
	tr, _ := Of(points, Counter)
	assert.Zero(t, tr.Grew)
	assert.Zero(t, tr.Change)
	assert.Zero(t, tr.Unexplained)
	assert.Equal(t, 2, tr.Onset.First.Seq, "it is not hidden")
	points = append(points, Point{Seq: 4, At: points[2].At.Add(Interval), Hours: 200, Value: 9})
	tr, _ = Of(points, Counter)
	assert.Equal(t, 1, tr.Grew)
	assert.EqualValues(t, 1, tr.Change)
	assert.EqualValues(t, 1, tr.Unexplained)
	since, from, ok := Since(points, points[2].At, Counter)
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
		before, _ := Of(points, Counter)
		clean := points[len(points)-1]
		clean.Reworked = 0
		clean.At = clean.At.Add(time.Duration(rapid.IntRange(1, 100_000).Draw(t, "later")) * time.Minute)
		after, _ := Of(append(slices.Clone(points), clean), Counter)
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
		still, _ := Of(points, Counter)
		moved := points[len(points)-1]
		moved.At, moved.Value = moved.At.Add(time.Second), level+1
		now, _ := Of(append(points, moved), Counter)
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
	hours, statistic := func(h float64) Clock {
		return Clock{
			Name:  "attribute 9",
			Hours: h,
		}
	}, func(h float64) Clock { return Clock{Name: "device statistics", Hours: h} }
	stamp := func(h float64) Clock { return Clock{Name: "self-test log", Hours: h, Stamp: true} }
	for name, row := range map[string]struct {
		ticks []Tick
		says  []string
	}{
		"in tune": {
			[]Tick{
				tick(1, 0, 1e12, hours(9000), statistic(9020), stamp(8000)),
				tick(2, 10, 2e12, hours(9200), statistic(9221), stamp(9199)),
			},
			nil,
		},
		"half-minutes, perhaps": {
			[]Tick{
				tick(1, 0, -1, Clock{Name: "attribute 9", Hours: 1_080_000, Loose: true}, statistic(9000)),
				tick(2, 10, -1, Clock{Name: "attribute 9", Hours: 1_094_400, Loose: true}),
			},
			nil,
		},
		"seldom saved": {[]Tick{tick(1, 0, -1, hours(20_000), statistic(19_200))}, nil},
		"an attribute was wiped": {
			[]Tick{tick(1, 0, -1, hours(12), statistic(21_000), stamp(20_500))},
			[]string{
				"device statistics says 21\u00a0000 h, attribute 9 says 12 h",
				"self-test log is of hour 20\u00a0500, attribute 9 says 12 h",
			},
		},
		"wiped between two readings": {
			[]Tick{tick(1, 0, -1, hours(21_000)), tick(2, 30, -1, hours(3))},
			[]string{"attribute 9 went back from 21\u00a0000 h to 3 h"},
		},
		"more hours than passed": {
			[]Tick{tick(1, 0, -1, hours(100)), tick(2, 1, -1, hours(9_000))},
			[]string{"attribute 9 ran 8\u00a0900 h in the 24 h since reading 1"},
		},
		"too much for its few hours": {
			[]Tick{tick(1, 0, 900e12, hours(2))}, []string{"more was written than attribute 9 leaves time for"},
		},
		"as much as fits":             {[]Tick{tick(1, 0, 3*3600*fastest, hours(2))}, nil},
		"a stamp measures no writing": {[]Tick{tick(1, 0, 900e12, hours(90_000), stamp(2))}, nil},
		"nobody knows what it wrote":  {[]Tick{tick(1, 0, -1, hours(0))}, nil},
		"a clock that lags an hour":   {[]Tick{tick(1, 0, -1, hours(100)), tick(2, 3, -1, hours(99))}, nil},
		"a day more than passed":      {[]Tick{tick(1, 0, -1, hours(100)), tick(2, 1, -1, hours(100+24+SlackHours))}, nil},
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
