package trend

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
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
		"weekly growth":                {life(7*24*time.Hour, 0, 0, 2, 5, 9), 3, 3},
		"one burst":                    {life(7*24*time.Hour, 0, 0, 9, 9, 9), 1, 3},
		"readings minutes apart":       {life(time.Minute, 0, 1, 2, 3), 0, 0},
		"a burst of readings in a day": {append(life(24*time.Hour, 0, 3), life(24*time.Hour, 0, 0)[1]), 0, 1},
		"steady":                       {life(48*time.Hour, 4, 4, 4, 4, 4), 0, 3},
	} {
		tr, ok := Of(row.points)
		require.True(t, ok)
		assert.Equal(t, row.grew, tr.Grew, name)
		assert.Equal(t, row.intervals, tr.Intervals, name)
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
